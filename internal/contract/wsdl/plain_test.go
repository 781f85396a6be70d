package wsdl_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
)

// plainHTTP has an operation for each way in which an HTTP binding sends and answers.
const plainHTTP = `<types><xs:schema targetNamespace="urn:p" elementFormDefault="qualified" attributeFormDefault="qualified">
<xs:element name="Lot"><xs:complexType><xs:sequence><xs:element name="kilos" type="xs:decimal"/></xs:sequence><xs:attribute name="unit" type="xs:string" use="required"/></xs:complexType></xs:element></xs:schema></types>
<message name="Key"><part name="lot" type="xs:string"/><part name="year" type="xs:int"/></message><message name="Lot"><part name="body" element="p:Lot"/></message><message name="Name"><part name="name" type="xs:string"/></message>
<portType name="G"><operation name="Look"><input message="p:Key"/><output message="p:Lot"/></operation><operation name="Find"><input message="p:Key"/><output message="p:Name"/></operation></portType>
<portType name="F"><operation name="Tell"><input message="p:Key"/><output message="p:Name"/></operation><operation name="Put"><input message="p:Lot"/><output message="p:Name"/></operation><operation name="Weigh"><input message="p:Lot"/><output message="p:Lot"/></operation></portType>
<binding name="GB" type="p:G"><h:binding verb="GET"/>
 <operation name="Look"><h:operation location="/lots/(lot)/of-(year)"/><input><h:urlReplacement/></input><output><mime:mimeXml part="body"/></output></operation>
 <operation name="Find"><h:operation location="/find"/><input><h:urlEncoded/></input><output><mime:content type="text/plain"/><mime:content type="text/*"/></output></operation></binding>
<binding name="FB" type="p:F"><h:binding verb="POST"/>
 <operation name="Tell"><h:operation location="/tell"/><input><mime:content type="application/x-www-form-urlencoded"/></input><output><mime:mimeXml part="name"/></output></operation>
 <operation name="Put"><h:operation location="/put"/><input><mime:mimeXml part="body"/></input><output/></operation>
 <operation name="Weigh"><h:operation location="/weigh"/><input><mime:content type="application/x-www-form-urlencoded"/></input><output><mime:content type="text/xml"/></output></operation></binding>
<service name="Hall"><port name="G" binding="p:GB"><h:address location="http://hall.example/h"/></port><port name="F" binding="p:FB"><h:address location="http://hall.example/h"/></port></service>`

// An HTTP binding sends its parts in the query, in the path, as a form or as XML, checked by
// their types, and its answers are checked too (WSDL 1.1, 4 and 5).
func TestPlainHTTP(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": definitions(plainHTTP)})
	require.NoError(t, err)
	assert.Empty(t, c.Notes())
	bind := func(name string) *wsdl.Bound {
		b, err := c.Bind(name, map[bool]string{true: "G", false: "F"}[name == "Look" || name == "Find"], "")
		require.NoError(t, err)
		return b
	}
	for _, c := range []struct{ operation, fields, want string }{
		{"Look", `{"lot": "A 1/(year)", "year": 2026}`, "GET /lots/A%201%2F%28year%29/of-2026"},
		{"Look", `{"lot": "A", "yer": 2026}`, `year is missing: it is mandatory, integer; yer is unknown; did you mean "year"?`},
		{"Look", `{"lot": "A", "year": "soon"}`, `year "soon" is not an integer`},
		{"Find", `{"year": 2026, "lot": "A/1"}`, "GET /find?year=2026&lot=A%2F1"},
		{"Find", `{"lot": "A"}`, "year is missing: it is mandatory, integer"},
		{"Tell", `{"lot": "A", "year": 7}`, "POST /tell lot=A year=7"},
		{"Weigh", `{"kilos": 7.5, "unit": "kg"}`, "POST /weigh kilos=7.5 unit=kg"},
		{"Weigh", `{"kilo": 7.5, "unit": "kg"}`, `kilos is missing: it is mandatory, decimal number; kilo is unknown; did you mean "kilos"?`},
		{"Put", `{"kilos": 7.5, "@unit": "kg"}`, `POST /put text/xml <Lot xmlns="urn:p" xmlns:p="urn:p" p:unit="kg"><kilos>7.5</kilos></Lot>`},
		{"Put", `{"kilos": "much"}`, `unit is missing: it is mandatory, text; kilos "much" is not a decimal number`},
	} {
		fields, err := document.ReadJSON([]byte(c.fields))
		require.NoError(t, err)
		r, problems := bind(c.operation).Build(fields, contract.BuildOptions{})
		words := []string{r.Method + " " + r.Path}
		if len(r.Query) > 0 {
			words[0] = r.Line()
		}
		for _, p := range r.Form {
			words = append(words, p.Text())
		}
		if r.Body != nil {
			words = append(words, r.Type, document.WriteXML(r.Body, document.Style{}))
		}
		got := strings.Join(words, " ")
		if len(problems) > 0 {
			words = words[:0]
			for _, p := range problems {
				words = append(words, p.Message)
			}
			got = strings.Join(words, "; ")
		}
		assert.Equal(t, c.want, got, c.fields)
	}
	given := document.NewObject().Set("lot", document.NewText("A")).Set("year", document.NewUntyped("7"))
	for operation, want := range map[string]string{
		"Look": "GET /lots/A/of-7", "Find": "GET /find?lot=A&year=7",
		"Tell": "lot is a field of the body, and has no effect beside text:",
	} { // a body from elsewhere takes the place of fields that are one, and of no others
		r, problems := bind(operation).Build(given, contract.BuildOptions{Body: "text"})
		got := r.Line()
		if len(problems) > 0 {
			got = problems[0].Message
		}
		assert.Equal(t, want, got)
	}
	for _, c := range []struct{ operation, mediaType, body, want string }{
		{"Look", "text/xml", `<Lot xmlns="urn:p" xmlns:p="urn:p" p:unit="kg"><kilos>7</kilos></Lot>`, ""},
		{"Look", "text/xml", `<Lot xmlns="urn:p" unit="kg"><kilos>7</kilos></Lot>`, "unit"},
		{"Look", "text/xml", `<Lot xmlns="urn:q"/>`, "the answer is {urn:q}Lot, and the contract says {urn:p}Lot"},
		{"Look", "text/plain", ``, "the answer is not XML, but text"},
		{"Find", "text/csv", ``, ""},
		{"Find", "image/png", ``, `the content type is "image/png", and the contract says text/plain or text/*`},
		{"Weigh", "application/xml; charset=utf-8", `<Lot/>`, ""},
		{"Weigh", "application/json", ``, `the content type is "application/json", and the contract says text/xml`},
		{"Tell", "text/xml", `<name>North</name>`, ""},
		{"Tell", "text/xml", `<nom>North</nom>`, "the answer is nom, and the contract says name"},
	} {
		got := contract.Got{Status: 200, Header: http.Header{"Content-Type": {c.mediaType}}, What: "text"}
		if c.body != "" {
			got.Body, err = document.ReadXML([]byte(c.body), "")
			require.NoError(t, err)
		}
		judged := bind(c.operation).Judge(got)
		assert.True(t, judged.Judged)
		if c.want == "" {
			assert.Empty(t, judged.Wrong, c.body)
		} else {
			assert.Contains(t, strings.Join(judged.Wrong, "; "), c.want)
		}
		got.Status = 404
		assert.False(t, bind(c.operation).Judge(got).Judged, "what an error looks like is not said")
	}
	assert.False(t, bind("Put").Judge(contract.Got{Status: 200}).Judged, "nothing is said of it")
	for operation, want := range map[string]string{
		"Look": "GET /lots/text/of-1", "Find": "GET /find?lot=text&year=1", "Tell": "POST /telllot=text&year=1", "Put": `<Lot xmlns="urn:p" a1:unit="text" xmlns:a1="urn:p">`,
	} {
		d, err := bind(operation).Draft(contract.DraftOptions{})
		require.NoError(t, err)
		assert.Contains(t, strings.Join(d.Lines, "\n")+d.Text, want)
	}
	d, err := bind("Look").Draft(contract.DraftOptions{As: "step", Target: "h/Look"})
	require.NoError(t, err)
	assert.Contains(t, d.Text, "call: h/Look\n  fill:\n    lot: text\n")
	d, err = bind("Look").Draft(contract.DraftOptions{Answer: true})
	require.NoError(t, err)
	assert.Contains(t, d.Text, "<kilos>")
	_, err = bind("Put").Draft(contract.DraftOptions{Answer: true})
	assert.EqualError(t, err, "Put says nothing of what is in its body")
}
