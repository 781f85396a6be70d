package request_test

import (
	"bytes"
	"io"
	"mime"
	"mime/multipart"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/soap"
	"testbench/internal/value"
)

type scope map[string]*document.Node

func (s scope) Lookup(_, name string) (*document.Node, error) {
	if node, ok := s[name]; ok {
		return node, nil
	}
	return nil, value.ErrNothing
}
func (scope) Hide(string) {}

var values = scope{
	"lot": document.NewUntyped("L-2201"), "zip": document.NewText("00123"), "none": document.NewUntyped(""),
	"list": document.NewList(document.NewUntyped("a"), document.NewUntyped("b")),
	"pin":  {Kind: document.Text, Text: "9#a", Secret: true},
	"null": {Kind: document.Null},
	"deep": document.NewObject().Set("x", document.NewNumber("1.50")),
}

func template(t *testing.T, text string) *value.Template {
	t.Helper()
	parsed, err := value.Parse(text)
	require.NoError(t, err)
	return parsed
}

func address(t *testing.T, text string) *value.Template {
	t.Helper()
	parsed, err := value.ParseAddress(text)
	require.NoError(t, err)
	return parsed
}

func text(t *testing.T, s string) *request.Tree { return request.Text(template(t, s), false) }

func tree(t *testing.T, fields ...any) *request.Tree {
	t.Helper()
	object := &request.Tree{}
	for i := 0; i < len(fields); i += 2 {
		v, ok := fields[i+1].(*request.Tree)
		if !ok {
			v = text(t, fields[i+1].(string))
		}
		object.Fields = append(object.Fields, request.Field{Name: fields[i].(string), Value: v})
	}
	return object
}

func TestBuild(t *testing.T) {
	names := map[string]string{"l": "urn:lab", "o": "urn:other"}
	cases := []struct {
		name    string
		spec    request.Spec
		address string // of what is sent, if not http://h/x
		headers map[string]string
		body    string
		shown   string // of the body, if it differs
		err     string
	}{
		{
			name: "query", spec: request.Spec{
				Method: "GET", Address: address(t, "http://h/x?a=${lot}"),
				Query: []request.Pair{
					{Name: "b c", Value: text(t, "${list}")},
					{Name: "d", Value: text(t, "${none}")},
				},
			},
			address: "http://h/x?a=L-2201&b%20c=a&b%20c=b&d=",
		},
		{
			name: "query without empty ones",
			spec: request.Spec{
				Method: "GET", DropEmpty: true, Address: address(t, "http://h/x"),
				Query: []request.Pair{{Name: "d", Value: text(t, "${none}")}},
			},
		},
		{
			name: "null is left out", spec: request.Spec{
				Address: address(t, "http://h/x"),
				Query:   []request.Pair{{Name: "a", Value: &request.Tree{Null: true}}, {Name: "b", Value: text(t, "${null}")}},
				Headers: []request.Pair{{Name: "X-A", Value: text(t, "${null}")}},
				Cookies: []request.Pair{{Name: "c", Value: text(t, "${null}")}, {Name: "d", Value: text(t, "2")}},
				Form:    []request.Pair{{Name: "f", Value: text(t, "${null}")}, {Name: "g", Value: text(t, "${none}")}},
			},
			headers: map[string]string{"X-A": "", "Cookie": "d=2"}, body: "g=",
		},
		{
			name: "a tree is not allowed in a query",
			spec: request.Spec{
				Address: address(t, "http://h/x"),
				Query:   []request.Pair{{Name: "d", Value: text(t, "${deep}")}},
			}, err: "query d",
		},
		{name: "no address", spec: request.Spec{Address: address(t, "${lot}/x")}, err: "must begin with http://"},
		{name: "unknown name", spec: request.Spec{Address: address(t, "http://h/${nothing}")}, err: "${nothing}"},
		{
			name: "headers", spec: request.Spec{
				Address: address(t, "http://h/x"),
				Headers: []request.Pair{{Name: "X-Pin", Value: text(t, "a ${pin} b")}},
				Cookies: []request.Pair{{Name: "c", Value: text(t, "1")}, {Name: "d", Value: text(t, "2")}},
			},
			headers: map[string]string{"X-Pin": "a 9#a b", "Cookie": "c=1; d=2"},
		},
		{name: "header twice", spec: request.Spec{
			Address: address(t, "http://h/x"),
			Headers: []request.Pair{{Name: "Content-Length", Value: text(t, "3")}},
		}, err: "is set by the program"},
		{
			name: "JSON", spec: request.Spec{
				Address: address(t, "http://h/x"),
				Body: tree(t, "lot", "${lot}", "zip", "${zip}", "n", "1.10", "deep", "${deep}", "null",
					&request.Tree{Null: true}),
			},
			headers: map[string]string{"Content-Type": "application/json"},
			body:    `{"lot":"L-2201","zip":"00123","n":1.10,"deep":{"x":1.50},"null":null}`,
		},
		{
			name: "JSON with a short secret",
			spec: request.Spec{Address: address(t, "http://h/x"), Body: tree(t, "pin", "${pin}")},
			body: `{"pin":"9#a"}`, shown: `{"pin":"[masked]"}`,
		},
		{
			name: "JSON without empty ones",
			spec: request.Spec{
				Address: address(t, "http://h/x"), DropEmpty: true,
				Body: tree(t, "a", "${none}", "b", tree(t, "c", "${none}"), "d", "1"),
			}, body: `{"d":1}`,
		},
		{
			name: "form", spec: request.Spec{
				Address: address(t, "http://h/x"),
				Form:    []request.Pair{{Name: "a&", Value: text(t, "b c")}, {Name: "l", Value: text(t, "${list}")}},
			},
			headers: map[string]string{"Content-Type": "application/x-www-form-urlencoded"}, body: "a%26=b+c&l=a&l=b",
		},
		{
			name: "XML", spec: request.Spec{
				Address: address(t, "http://h/x"), Names: names,
				Headers: []request.Pair{{Name: "Content-Type", Value: text(t, "application/xml")}},
				Body: tree(t, "l:order",
					tree(t, "@id", "7", "@o:x", "y", "line",
						&request.Tree{IsList: true, Items: []*request.Tree{text(t, "a"), text(t, "<b>")}}, "o:note",
						&request.Tree{Null: true})),
			},
			body: `<order xmlns="urn:lab" id="7" o:x="y" xmlns:o="urn:other"><line>a</line><line>&lt;b&gt;</line><note xmlns="urn:other" xsi:nil="true" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"/></order>`,
		},
		{
			name: "XML with two roots",
			spec: request.Spec{
				Address: address(t, "http://h/x"),
				Headers: []request.Pair{{Name: "Content-Type", Value: text(t, "text/xml")}},
				Body:    tree(t, "a", "1", "b", "2"),
			}, err: "one root element",
		},
		{
			name: "XML without the prefix",
			spec: request.Spec{
				Address: address(t, "http://h/x"),
				Headers: []request.Pair{{Name: "Content-Type", Value: text(t, "text/xml")}}, Body: tree(t, "q:a", "1"),
			},
			err: "the prefix q of q:a is not declared",
		},
		{
			name: "XML with a bad name",
			spec: request.Spec{
				Address: address(t, "http://h/x"),
				Headers: []request.Pair{{Name: "Content-Type", Value: text(t, "text/xml")}}, Body: tree(t, "a b", "1"),
			},
			err: "cannot be the name",
		},
		{
			name: "SOAP 1.1", spec: request.Spec{
				Address: address(t, "http://h/x"), Names: names,
				SOAP: &request.SOAP{Version: soap.V11, Action: template(t, "urn:${lot}"), Payload: "l:Grade"},
				Body: tree(t, "lot", "${lot}"),
			},
			headers: map[string]string{"Content-Type": "text/xml; charset=utf-8", "SOAPAction": `"urn:L-2201"`},
			body: `<?xml version="1.0" encoding="UTF-8"?>
<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/">
  <soap:Body>
    <Grade xmlns="urn:lab">
      <lot>L-2201</lot>
    </Grade>
  </soap:Body>
</soap:Envelope>`,
		},
		{
			name: "SOAP 1.2", spec: request.Spec{
				Address: address(t, "http://h/x"), Names: names,
				SOAP: &request.SOAP{Version: soap.V12, Action: template(t, "urn:a"), Payload: "l:Grade"},
			},
			headers: map[string]string{
				"Content-Type": `application/soap+xml; charset=utf-8; action="urn:a"`,
				"SOAPAction":   "",
			},
			body: `<?xml version="1.0" encoding="UTF-8"?>
<soap:Envelope xmlns:soap="http://www.w3.org/2003/05/soap-envelope">
  <soap:Body>
    <Grade xmlns="urn:lab"/>
  </soap:Body>
</soap:Envelope>`,
		},
		{
			name: "an envelope of the other version",
			spec: request.Spec{
				Address: address(t, "http://h/x"), SOAP: &request.SOAP{Version: soap.V12},
				Text: template(t, `<e:Envelope xmlns:e="`+soap.Namespace11+`"><e:Body/></e:Envelope>`),
			},
			err: "set soap: 1.1",
		},
		{
			name: "a payload that is not XML",
			spec: request.Spec{
				Address: address(t, "http://h/x"), SOAP: &request.SOAP{Version: soap.V11},
				Text: template(t, `<a>`),
			}, err: "not well-formed XML",
		},
		{
			name: "bytes", spec: request.Spec{
				Address: address(t, "http://h/x"), HasBytes: true,
				Bytes: []byte("\x00${lot}"),
			}, headers: map[string]string{"Content-Type": "application/octet-stream"},
			body: "\x00${lot}",
		},
		{
			name: "text", spec: request.Spec{
				Address: address(t, "http://h/x"), Text: template(t, "pin ${pin}"),
				TextFormat: document.Plain,
			}, headers: map[string]string{"Content-Type": "text/plain; charset=utf-8"},
			body: "pin 9#a", shown: "pin [masked]",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, err := c.spec.Build(values)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			want := c.address
			if want == "" {
				want = "http://h/x"
			}
			assert.Equal(t, want, got.URL.String())
			for name, text := range c.headers {
				assert.Equal(t, text, got.GetHeader(name), name)
			}
			assert.Equal(t, c.body, string(got.Body))
			if c.shown == "" {
				c.shown = c.body
			}
			assert.Equal(t, c.shown, got.BodyShown())
			assert.NotContains(t, got.ShownField("X-Pin", "9#a"),
				map[bool]string{true: "9#a", false: "nothing"}[got.GetHeader("X-Pin") != ""])
		})
	}
}

func TestMultipart(t *testing.T) {
	file := filepath.Join(t.TempDir(), "certificate of analysis.pdf")
	require.NoError(t, os.WriteFile(file, []byte("%PDF-\x00"), 0o600))
	spec := request.Spec{Method: "POST", Address: address(t, "http://h/x"), Parts: []request.Part{
		{Name: `no"te`, Value: text(t, "${lot}")},
		{Name: "deep", Value: text(t, "${deep}")},
		{Name: "paper", File: file, Type: "application/pdf"},
	}}
	got, err := spec.Build(values)
	require.NoError(t, err)
	mediaType, parameters, err := mime.ParseMediaType(got.GetHeader("Content-Type"))
	require.NoError(t, err)
	assert.Equal(t, "multipart/form-data", mediaType)
	reader := multipart.NewReader(bytes.NewReader(got.Body), parameters["boundary"])
	for _, want := range [][4]string{
		{`no%22te`, "", "", "L-2201"},
		{"deep", "", "application/json", `{"x":1.50}`},
		{"paper", "certificate of analysis.pdf", "application/pdf", "%PDF-\x00"},
	} {
		part, err := reader.NextPart()
		require.NoError(t, err)
		data, err := io.ReadAll(part)
		require.NoError(t, err)
		assert.Equal(t, want, [4]string{
			part.FormName(), part.FileName(), part.Header.Get("Content-Type"),
			string(data),
		})
	}
	spec.Parts = []request.Part{{Name: "gone", File: file + ".not"}}
	_, err = spec.Build(values)
	assert.ErrorContains(t, err, "part gone")
}

func TestTreeSet(t *testing.T) {
	root := &request.Tree{}
	for path, v := range map[string]string{"lot": "L-1", "buyer.name": "Della"} {
		require.NoError(t, root.Set(path, text(t, v)))
	}
	require.NoError(t, root.Set("lines.0.sku", text(t, "HON-1")))
	require.NoError(t, root.Set("lines.1.sku", text(t, "HON-2")))
	require.NoError(t, root.Set("lines.0.kilos", text(t, "5")))
	node, err := root.Get("lines").Node(values)
	require.NoError(t, err)
	assert.Equal(t, `[{"sku":"HON-1","kilos":5},{"sku":"HON-2"}]`, document.WriteJSON(node, document.Style{}))
	for _, path := range []string{"lines.5.sku", "lines.x", "lot.deeper"} {
		assert.Error(t, root.Set(path, text(t, "x")), path)
	}
}

// An address is sent as it is written: what is escaped stays so, and what cannot be there is escaped.
func TestAddressesAsWritten(t *testing.T) {
	t.Parallel()
	for written, sent := range map[string]string{
		"http://h":                         "http://h",
		"http://[::1]:80?a=ä":              "http://[::1]:80?a=%C3%A4",
		"http://h/a%2Fb%20c/é":             "http://h/a%2Fb%20c/%C3%A9",
		"http://h/a//b/../c/./d/":          "http://h/a//b/../c/./d/",
		"http://h/a[1]/%c3%a4/(p)*!$":      "http://h/a[1]/%c3%a4/(p)*!$",
		"http://h/{x} \"<>|":               "http://h/%7Bx%7D%20%22%3C%3E%7C",
		"http://h/x?q=a+b%20c%2B&r=1%&s=;": "http://h/x?q=a+b%20c%2B&r=1%25&s=;",
		"http://h/x?u=http://k/p?x=[y]":    "http://h/x?u=http://k/p?x=[y]",
	} {
		u, err := request.ParseAddress(written)
		require.NoError(t, err, written)
		assert.Equal(t, sent, u.String(), written)
	}
	for wrong, why := range map[string]string{
		"http://h/a%zz": "invalid URL escape", "h/a": "it must begin with http://", "http://h/a#b": "never sent",
		"http://anna@h/": "the address holds a user",
	} {
		_, err := request.ParseAddress(wrong)
		assert.ErrorContains(t, err, why, wrong)
	}
}
