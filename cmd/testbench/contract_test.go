package main_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSurveyAndDraft(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	steady := strings.NewReplacer(server.Address, "HOST", p.dir, "DIR")
	var all strings.Builder
	for _, args := range [][]string{
		{"survey", "lab", "-logins"},
		{"survey", "lab", "RegisterAnalysis"},
		{"survey", "convoy/WeighAll"},
		{"survey", "lab", "-find", "hives"},
		{"survey", "lab", "RegisterAnalysis", "-depth", "1", "-find", "by"},
		{"survey", "contracts/lab.xsd", "LabFault"},
		{"survey", "http://" + server.Address + "/scale?wsdl"},
		{"draft", "lab", "RegisterAnalysis"},
		{"draft", "lab", "GradeLot", "-only", "required", "-soap", "1.2"},
		{"draft", "lab/RegisterAnalysis", "-as", "step"},
		{"draft", "lab", "RegisterAnalysis", "-as", "json", "-only", "required"},
		{"draft", "convoy", "WeighAll"},
		{"draft", "lab", "GradeLot", "-answer"},
		{"draft", "contracts/lab.xsd", "finding"},
	} {
		o := p.run(args...)
		require.Equal(t, 0, o.status, o.all())
		all.WriteString("$ testbench " + strings.Join(args, " ") + "\n" + o.stdout)
	}
	golden(t, "contract.txt", steady.Replace(all.String()))

	var survey struct {
		Operations []struct{ Name string }
		Fill       []struct {
			Path     string
			Required bool
		}
	}
	o := p.run("survey", "lab", "-json")
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &survey), o.all())
	assert.Len(t, survey.Operations, 4)
	o = p.run("survey", "lab", "RegisterAnalysis", "-json")
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &survey), o.all())
	required := map[string]bool{}
	for _, row := range survey.Fill {
		required[row.Path] = row.Required
	}
	assert.True(t, required["value[0].of"])
	assert.False(t, required["value[0].unit"])
	assert.Contains(t, required, "sentBy.hives", "a field of a derived type")
}

// A step that was drafted runs as it is.
func TestDraftedStepRuns(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	for _, target := range []string{"lab/RegisterAnalysis", "lab/GradeLot", "scale/Weigh", "convoy/WeighAll"} {
		step := p.run("draft", target, "-as", "step")
		require.Equal(t, 0, step.status, step.all())
		o := p.sheet("sheet: drafted\nsteps:\n  " + strings.ReplaceAll(strings.TrimSpace(step.stdout), "\n", "\n  ") +
			"\n")
		assert.Equal(t, 0, o.status, "%s\n%s", o.all(), step.stdout)
	}
}

func TestValidate(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("call", "lab/RegisterAnalysis", "lot=L-2201", "takenOn=2026-05-04", "sentBy.@xsi:type=Shop",
		"sentBy.name=Corner shop", "value.0.of=hmf", "value.0..=3", "diastase=8", "-save", "answer.xml")
	require.Equal(t, 0, o.status, o.all())
	o = p.run("validate", "lab", "answer.xml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, "valid: an envelope of SOAP 1.1 with the answer of RegisterAnalysis\n", o.stdout)

	draft := p.run("draft", "lab", "RegisterAnalysis").stdout
	p.stdin = strings.NewReplacer("2026-05-04", "2026-02-30", "<hives>1", "<hives>none", `of="moisture"`,
		`off="moisture"`).Replace(draft)
	o = p.run("validate", "contracts/lab.wsdl", "-")
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, `standard input:6:7: takenOn: "2026-02-30" is not a date like 2026-05-04: that month has 28 days
standard input:9:9: sentBy.hives: "none" is not an integer from 1 up
standard input:12:14: value[0]: value has no attribute off; did you mean "of"?
standard input:12:7: value[0]: the attribute of is missing
not valid: an envelope of SOAP 1.1 with the request of RegisterAnalysis, 4 faults
`, o.stdout)
	var result struct {
		Valid  bool
		Total  int
		Faults []struct {
			Line int
			Path string
		}
	}
	o = p.run("validate", "lab", "-", "-json")
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &result), o.all())
	assert.False(t, result.Valid)
	assert.Equal(t, "sentBy.hives", result.Faults[1].Path)

	// Of very many faults the first are shown, and the rest counted.
	p.write("many.xml", `<finding xmlns="urn:heatherfold:lab">`+strings.Repeat("<x/>", 500)+`</finding>`)
	o = p.run("validate", "contracts/lab.xsd", "many.xml")
	assert.Equal(t, 1, o.status)
	assert.Equal(t, 21, strings.Count(o.stdout, "\n"))
	assert.Contains(t, o.stdout, "500 faults")
	assert.Contains(t, o.stderr, "480 faults more; -all shows them")
}

func TestBadContracts(t *testing.T) {
	slow(t)
	t.Parallel()
	silent, err := net.Listen("tcp", "127.0.0.1:0") // takes connections and never answers
	require.NoError(t, err)
	defer silent.Close()
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusNotFound)
	}))
	defer other.Close()
	p, _ := newBench(t)
	wsdl := p.read("contracts/lab.wsdl")
	p.write("c/doctype.wsdl", "<!DOCTYPE definitions [<!ENTITY a '&b;&b;'>]>"+wsdl)
	p.write("c/deep.wsdl", strings.Repeat("<a>", 100_000))
	p.write("c/token.wsdl", `<a b="`+strings.Repeat("x", 100<<20))
	p.write("c/plain.wsdl", "moisture,hmf\n17.4,12\n")
	p.write("c/empty.wsdl", "")
	p.write("c/lab.xsd", p.read("contracts/lab.xsd"))
	p.write("c/noservice.wsdl", wsdl[:strings.Index(wsdl, "<service")]+"</definitions>")
	p.write("c/elsewhere.wsdl",
		strings.Replace(wsdl, "lab.xsd", strings.Replace(other.URL, "127.0.0.1", "localhost", 1)+"/lab.xsd", 1))
	p.write("c/self.xsd", `<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:a"><include schemaLocation="self.xsd"/><import namespace="urn:b" schemaLocation="self.xsd"/><element name="e" type="int"/></schema>`)
	p.write("c/broken.xsd",
		`<schema xmlns="http://www.w3.org/2001/XMLSchema"><element name="e" type="nothing"/></schema>`)
	p.write("wrong.xml", `<Envelope xmlns="urn:other"/>`)
	p.write("cut.xml", `<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"><soap:Body>`)
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"survey c/doctype.wsdl", 2, "c/doctype.wsdl:1:1: not well-formed XML: it has a DOCTYPE, which is refused"},
		{"survey c/deep.wsdl", 2, "elements are nested deeper than 1000"},
		{"survey c/token.wsdl", 2, "larger than 64 MiB"},
		{
			"survey c/plain.wsdl", 2,
			`c/plain.wsdl is not a contract (WSDL, XML Schema, OpenAPI, WADL, OData metadata or JSON Schema): it begins with "moisture,hmf\n17.4,12"`,
		},
		{"survey c/empty.wsdl", 2, "c/empty.wsdl:1:1: not well-formed XML: it is empty"},
		{"survey c/noservice.wsdl", 0, "it has no service, so it says no address"},
		{"draft c/noservice.wsdl GradeLot", 0, "<lot>"},
		{"survey c/elsewhere.wsdl", 0, "-allow localhost lets it"},
		{"survey c/self.xsd", 0, "{urn:a}e"},
		{"survey c/broken.xsd", 2, "c/broken.xsd:1:"},
		{"survey nowhere.wsdl", 2, `there is no service, and no file, "nowhere.wsdl"`},
		{"survey labb", 2, `did you mean "lab"`},
		{"survey lab GradLot", 2, `did you mean "GradeLot"`},
		{"survey mishaps", 2, "the service mishaps has no contract, and no operations are described"},
		{"survey http://" + silent.Addr().String() + "/x?wsdl -timeout 300ms", 3, "300ms"},
		{"survey " + other.URL + "/x?wsdl", 3, "404"},
		{"survey", 2, "survey what?"},
		{"draft lab", 2, "draft which operation?"},
		{"draft lab GradeLot -as yaml", 2, "-as yaml is not a form of a draft"},
		{"draft lab GradeLot -soap 2", 2, "-soap 2 is not a version of SOAP"},
		{"validate lab", 2, "validate what?"},
		{"validate - -", 2, "cannot both come from the standard input"},
		{"validate lab gone.xml", 2, "there is no file gone.xml"},
		{"validate lab wrong.xml", 2, `the namespace "urn:other" of the envelope is that of no version of SOAP`},
		{"validate lab cut.xml", 1, "not well-formed XML: it ends before </soap:Body>"},
		{"validate contracts/lab.xsd c/deep.wsdl", 1, "elements are nested deeper than 1000"},
		{"validate contracts/lab.xsd c/token.wsdl", 1, "longer than 16 MiB and cannot be taken in pieces"},
		{"call lab/GradLot", 2, `did you mean "GradeLot"`},
		{"call lab/GradeLot lot=1", 2, "does not match the pattern L-[0-9]{4}"},
		{"call lab/GradeLot lot=L-2201 moisture=1 -contract maybe", 2, "-contract maybe is unknown"},
		{"call scale/Weigh load.plate=HF-1", 2, "load.gross is missing: it is mandatory, integer"},
		{"call scale/Wiegh", 2, `there is no operation of scale "Wiegh"; did you mean "Weigh"?`},
		{"draft contracts/lab.xsd Gradelot", 2, `there is no element "Gradelot"; did you mean "GradeLot"?`},
		{"survey lab GradeLot -soap 3", 2, "-soap 3 is not a version of SOAP"},
		{"validate lab c/plain.wsdl", 1, "no envelope, 1 fault"},
		{"validate lab c/self.xsd", 1, "<schema> is not an envelope, and no element of the contract either"},
	} {
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, "%s\n%s", c.args, o.all())
		assert.Contains(t, o.all(), c.want, c.args)
		assert.Less(t, len(o.all()), 4000, c.args)
	}
}

// What a step says of its contract is checked before and after.
func TestStepsByContract(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("wrong.yaml", `sheet: wrong
steps:
  - step: unknown, wrong and missing
    call: lab/GradeLot
    fill:
      moisture: 45
      remrk: x
      hmf: ${row.hmf}
  - step: a placeholder may be anything
    call: lab/GradeLot
    fill:
      lot: ${depot}
      moisture: ${depot}
  - step: not there
    call: lab/GradLot
  - step: on purpose
    call: lab/GradeLot
    contract: off
    fill:
      colour: amber
  - step: switch
    call: lab/GradeLot
    contract: maybe
`)
	o := p.run("vet", "wrong.yaml")
	assert.Equal(t, 2, o.status)
	for _, want := range []string{
		`wrong.yaml:6:7: moisture "45" is over the most allowed, 30`,
		`wrong.yaml:7:7: remrk is unknown; did you mean "remark"?`,
		"wrong.yaml:4:11: lot is missing: it is mandatory, text, matches L-[0-9]{4}",
		`there is no operation of lab "GradLot"`, `"maybe" is not a part of an exchange`,
	} {
		assert.Contains(t, o.stdout, want)
	}
	assert.NotContains(t, o.stdout, "colour")
	assert.NotContains(t, o.stdout, "wrong.yaml:12", "a placeholder is not judged before it is filled in")

	// A service that answers against its contract.
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		_, _ = w.Write([]byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><GradeLotResponse xmlns="urn:heatherfold:lab"><lot>2201</lot><grade>D</grade></GradeLotResponse></e:Body></e:Envelope>`))
	}))
	defer server.Close()
	bench := strings.Replace(p.read("bench.yaml"), "address: ${base}/lab", "address: "+server.URL, 1)
	p.write("bench.yaml", bench)
	call := `sheet: t
steps:
  - step: one
    call: lab/GradeLot
    fill:
      lot: L-2201
      moisture: 17
`
	o = p.sheet(call)
	assert.Equal(t, 1, o.status, o.all())
	flat := strings.Join(strings.Fields(o.stdout), " ")
	assert.Contains(t, flat,
		`the answer breaks the contract: lot: "2201" does not match the pattern L-[0-9]{4}; grade: "D" is not one of A, B, C; GradeLotResponse is not complete: after grade, gradedAt expected`)
	o = p.sheet(call + "    contract: request\n")
	assert.Equal(t, 0, o.status, o.all())
}

// Servers depart from the books; each departure is said, and the answer can
// be checked all the same.
func TestDepartures(t *testing.T) {
	slow(t)
	t.Parallel()
	const e11, e12 = "http://schemas.xmlsoap.org/soap/envelope/", "http://www.w3.org/2003/05/soap-envelope"
	envelope := func(space, inside string) string {
		return `<e:Envelope xmlns:e="` + space + `"><e:Body>` + inside + `</e:Body></e:Envelope>`
	}
	fault := func(code, rest string) string {
		return envelope(e11, `<e:Fault><faultcode>`+code+`</faultcode><faultstring>too moist</faultstring>`+rest+
			`</e:Fault>`)
	}
	const anyFault = "    expect:\n      fault:\n        text: too moist\n"
	cases := []struct {
		name, contentType, body string
		status                  int
		expect, want            string
		exit                    int
	}{
		{
			"fault under 200", "text/xml", fault("e:Client", ""), 200, anyFault,
			"a fault came under the status 200; SOAP 1.1 gives it 500", 0,
		},
		{"fault under 202", "text/xml", fault("e:Client", ""), 202, anyFault, "a fault came under the status 202", 0},
		{"fault under 401", "text/xml", fault("e:Client", ""), 401, anyFault, "a fault came under the status 401", 0},
		{
			"unbound prefix", "text/xml", fault("srv:Client", ""), 500, anyFault + "        code: Client\n",
			"the prefix of the fault code srv:Client is not declared", 0,
		},
		{
			"own prefix", "text/xml",
			strings.Replace(fault("o:Moist", ""), "<e:Fault", `<e:Fault xmlns:o="urn:own"`, 1),
			500, anyFault, "is a name of the service's own, in urn:own", 0,
		},
		{
			"dotted", "text/xml", fault("e:Client.Moisture", ""), 500, anyFault + "        code: Client.Moisture\n", "",
			0,
		},
		{
			"text in the detail", "text/xml", fault("e:Client", "<detail>see log</detail>"), 500, anyFault,
			"the detail of the fault is bare text, not an element: see log", 0,
		},
		{
			"another detail", "text/xml", fault("e:Client", "<detail><x/></detail>"), 500, anyFault,
			"the detail holds x; the contract declares for GradeLot: LabFault", 0,
		},
		{
			"shape of 1.2", "text/xml",
			envelope(e11, `<e:Fault><e:Code><e:Value>e:Client</e:Value></e:Code><e:Reason><e:Text>too moist</e:Text></e:Reason></e:Fault>`), 500, anyFault, "the fault in it has the shape of 1.2", 0,
		},
		{
			"other version", "application/soap+xml",
			envelope(e12, `<e:Fault><e:Code><e:Value>e:Sender</e:Value></e:Code><e:Reason><e:Text>too moist</e:Text></e:Reason></e:Fault>`), 400, anyFault, "SOAP 1.1 was sent, and SOAP 1.2 came back", 0,
		},
		{
			"content type", "application/soap+xml", fault("e:Client", ""), 500, anyFault,
			"the content type application/soap+xml does not go with an envelope of SOAP 1.1", 0,
		},
		{
			"HTML", "text/html", "<!doctype html><p>maintenance", 200, "", "the answer is not a SOAP envelope, but HTML",
			1,
		},
		{"plain text", "text/plain", "out of honey", 200, "", "the answer is not a SOAP envelope, but text", 1},
		{"other XML", "text/xml", "<oops/>", 200, "", "the answer is not a SOAP envelope, but the XML element oops", 1},
		{"empty", "text/xml", "", 200, "", "the answer is not a SOAP envelope, but empty", 1},
		{"empty body", "text/xml", envelope(e11, ""), 200, "", "the Body is empty; GradeLotResponse expected", 1},
		{
			"another payload", "text/xml", envelope(e11, "<x/>"), 200, "",
			"the Body holds x, and the contract says {urn:heatherfold:lab}GradeLotResponse", 1,
		},
		{
			"202 with a body", "text/xml", envelope(e11, "<x/>"), 202, "",
			"the status 202 says that nothing is answered, and here is x", 1,
		},
	}
	var current atomic.Int64
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := cases[current.Load()]
		w.Header().Set("Content-Type", c.contentType)
		w.WriteHeader(c.status)
		_, _ = w.Write([]byte(c.body))
	}))
	defer server.Close()
	p, _ := newBench(t)
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "address: ${base}/lab", "address: "+server.URL, 1))
	for i, c := range cases {
		current.Store(int64(i))
		o := p.sheet(`sheet: t
steps:
  - step: one
    call: lab/GradeLot
    fill:
      lot: L-2201
      moisture: 17
` + c.expect)
		assert.Equal(t, c.exit, o.status, "%s: %s", c.name, o.all())
		flat := strings.Join(strings.Fields(o.stdout), " ")
		assert.Contains(t, flat, c.want, c.name)
		if c.want == "" {
			assert.NotContains(t, flat, "note:", c.name)
		}
	}
}

func TestAddressing(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	step := `sheet: t
steps:
  - step: one
    call: lab/GradeLot
    addressing: true
    fill:
      lot: L-2201
      moisture: 17
`
	o := p.sheet(step+`    keep:
      relation: reply.soap.header.RelatesTo
    fields:
      reply.soap.header.RelatesTo: starts with "urn:uuid:"
`, "-show", "sent")
	assert.Equal(t, 0, o.status, o.all())
	for _, want := range []string{
		`<To xmlns="http://www.w3.org/2005/08/addressing">http://127.0.0.1`,
		`>urn:heatherfold:lab:GradeLot</Action>`, `>urn:uuid:`,
		`<Address>http://www.w3.org/2005/08/addressing/anonymous</Address>`,
	} {
		assert.Contains(t, o.stdout, want)
	}
	var answer atomic.Value
	answer.Store(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Header><RelatesTo xmlns="http://www.w3.org/2005/08/addressing">urn:uuid:of-another</RelatesTo></e:Header><e:Body/></e:Envelope>`)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		_, _ = w.Write([]byte(answer.Load().(string)))
	}))
	defer server.Close()
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "address: ${base}/lab", "address: "+server.URL, 1))
	o = p.sheet(step + "    contract: request\n")
	assert.Equal(t, 1, o.status, o.all())
	assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "), "got urn:uuid:of-another")
	answer.Store(strings.Replace(answer.Load().(string), "RelatesTo", "Other", 2))
	o = p.sheet(step + "    contract: request\n")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "), "does not say which message it relates to")
}

func TestAttachments(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	content := "certificate of lot L-2201 \x00\xff\r\n--x"
	p.write("data/certificate.pdf", content)
	sum := sha256.Sum256([]byte(content))
	step := func(soap, rest string) string {
		return "  - step: by " + soap + rest[:4] + "\n    call: lab/FileCertificate\n    soap: " + soap +
			`
    attach:
      - file: data/certificate.pdf
        type: application/pdf
        name: paper
    fill:
      lot: L-2201
` + rest[4:] +
			"    fields:\n      size: " + strconv.Itoa(len(content)) + "\n      sha256: " + hex.EncodeToString(sum[:]) +
			`
      reply.attachments: count 1
      reply.attachments[0].type: text/plain
      reply.attachments[0].size: 28
      reply.attachments[0].sha256: matches [0-9a-f]{64}
      stamp: is base64
`
	}
	mtom := " mto      certificate:\n        attached: paper\n"
	along := " swa      certificate: \"\"\n"
	o := p.sheet("sheet: t\nsteps:\n"+step("1.1", mtom)+step("1.2", mtom)+step("1.1", along)+step("1.2", along),
		"-show", "all")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout,
		`<Include xmlns="http://www.w3.org/2004/08/xop/include" href="cid:part1@attached.invalid"/>`)
	assert.Contains(t, o.stdout, "(attached: stamp.txt, text/plain, 28 B)")
	assert.Contains(t, o.stdout, "(attached: paper, application/pdf, "+strconv.Itoa(len(content))+" bytes)")
	assert.Contains(t, o.stdout, "multipart/related")
	o = p.sheet(`sheet: t
steps:
  - step: one
    call: lab/FileCertificate
    fill:
      lot: L-2201
      certificate:
        attached: nothing
`)
	assert.Equal(t, 2, o.status, o.all())
	assert.Contains(t, o.all(), "asks for the attachment nothing, which the step does not attach")
}

// A contract's address is asked once a run; what it imports from elsewhere only
// when that is allowed. An HTTP binding is called without an envelope; an answer in UTF-16 is read.
func TestContractFromAddress(t *testing.T) {
	t.Parallel()
	var mutex sync.Mutex
	var asked []string
	ask := func(what string) {
		mutex.Lock()
		defer mutex.Unlock()
		asked = append(asked, what)
	}
	taken := func() []string {
		mutex.Lock()
		defer mutex.Unlock()
		list := asked
		asked = nil
		return list
	}
	p, _ := newBench(t)
	types := p.read("contracts/lab.xsd")
	schema := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ask("schema")
		_, _ = w.Write([]byte(types))
	}))
	defer schema.Close()
	server := httptest.NewUnstartedServer(nil)
	base := "http://" + server.Listener.Addr().String()
	contract := p.read("contracts/lab.wsdl")
	server.Config.Handler = http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Query().Has("wsdl"):
			ask("wsdl")
			text := strings.ReplaceAll(contract, "lab.xsd",
				strings.Replace(schema.URL, "127.0.0.1", "localhost", 1)+"/lab.xsd")
			text = strings.Replace(text, `<service name="Lab">`,
				`<binding name="Plain" type="lab:Lab" xmlns:h="http://schemas.xmlsoap.org/wsdl/http/"><h:binding verb="GET"/><operation name="ConvertIndex"><h:operation location="/convert"/><input><h:urlEncoded/></input></operation></binding><service name="Lab">`, 1)
			text = strings.Replace(text, `<service name="Lab">`,
				`<binding name="Posted" type="lab:Lab" xmlns:h="http://schemas.xmlsoap.org/wsdl/http/"><h:binding verb="POST"/><operation name="ConvertIndex"><h:operation location="/convert"/></operation></binding><service name="Lab">`, 1)
			text = strings.Replace(text, `</service>`,
				`<port name="PostPort" binding="lab:Posted"><h:address xmlns:h="http://schemas.xmlsoap.org/wsdl/http/" location="`+base+`"/></port></service>`, 1)
			text = strings.Replace(text, `</service>`,
				`<port name="PlainPort" binding="lab:Plain"><h:address xmlns:h="http://schemas.xmlsoap.org/wsdl/http/" location="`+base+`"/></port></service>`, 1)
			_, _ = w.Write([]byte(regexp.MustCompile(`(soap1?2?:address location=")[^"]*`).ReplaceAllString(text,
				"${1}"+base+"/soap")))
		case r.URL.Path == "/convert" && r.Method == "POST":
			w.Header().Set("Content-Type", "application/xml")
			_, _ = w.Write([]byte("<moisture>" + r.PostFormValue("refractiveIndex") + "</moisture>"))
		case r.URL.Path == "/convert":
			w.Header().Set("Content-Type", "application/xml")
			_, _ = w.Write([]byte("<moisture>" + r.URL.Query().Get("refractiveIndex") + "</moisture>"))
		default:
			w.Header().Set("Content-Type", "text/xml; charset=utf-16")
			answer := `<?xml version="1.0" encoding="UTF-16"?><e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><ConvertIndexResponse xmlns="urn:heatherfold:lab"><refractiveIndex>1.4940</refractiveIndex><moisture>17.02</moisture></ConvertIndexResponse></e:Body></e:Envelope>`
			out := []byte{0xFF, 0xFE}
			for _, c := range []byte(answer) {
				out = append(out, c, 0)
			}
			_, _ = w.Write(out)
		}
	})
	server.Start()
	defer server.Close()
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      base: "+base+
		`
services:
  lab: ${base}/x?wsdl
  plain:
    contract: ${base}/x?wsdl
    port: PlainPort
  posted:
    contract: ${base}/x?wsdl
    port: PostPort
`)
	sheet := "sheet: t\nsteps:\n"
	for _, name := range []string{"one", "two"} {
		sheet += "  - step: " + name +
			`
    call: lab/ConvertIndex
    fill:
      refractiveIndex: 1.4940
    fields:
      moisture: 17.02
`
	}
	sheet += `  - step: plain
    call: plain/ConvertIndex
    fill:
      refractiveIndex: 1.5
    fields:
      .: 1.5
`
	sheet += `  - step: posted
    call: posted/ConvertIndex
    fill:
      refractiveIndex: 1.5
    where:
      - answer == 1.5
`
	o := p.sheet(strings.Replace(sheet, "    fields:\n      .: 1.5\n", "    where:\n      - answer == 1.5\n", 1),
		"-allow", "localhost")
	assert.Equal(t, 0, o.status, o.all())
	assert.Equal(t, []string{"wsdl", "schema"}, taken())
	o = p.run("survey", "lab")
	assert.Equal(t, 0, o.status, o.all())
	assert.Empty(t, taken(), "what was fetched a moment ago is good enough")
	assert.Contains(t, strings.Join(strings.Fields(o.stdout), " "), "the contract leads to another host")
}

func TestSurveyOfTheWholeBench(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	o := p.run("survey", "-find", "plate")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "scale/Weigh\n  load.plate")
	assert.Contains(t, o.stdout, "convoy/WeighAll\n")
	assert.NotContains(t, o.stdout, "GradeLot")
	assert.Contains(t, p.run("survey", "-find", "zebra").stdout, `no operation of this bench has "zebra"`)
}

// A description of REST is surveyed, drafted from, and checked against messages, like
// any contract.
func TestOpenAPI(t *testing.T) {
	slow(t)
	t.Parallel()
	p, _ := newBench(t)
	p.write("contracts/open.json", `{"openapi": "3.1.0", "info": {"title": "Open"}}`)
	p.write("contracts/broken.yaml", "openapi: [\n")
	p.write("contracts/lot.schema.json",
		`{"$schema": "http://json-schema.org/draft-07/schema#", "title": "Lot", "type": "object", "required": ["id"], "properties": {"id": {"type": "string", "pattern": "^L-"}, "kilos": {"type": "number", "exclusiveMinimum": 0}}}`)
	p.write("good.json", "{\n  \"id\": \"L-1\"\n}")
	p.write("bad.json", "{\n  \"id\": 1,\n  \"kilos\": 0\n}")
	p.write("lot.json", `{"id": "L-2201", "keeper": "a", "kind": "moss"}`)
	for _, c := range []struct {
		args   string
		status int
		says   []string
	}{
		{
			"survey contracts/stores.yaml -logins", 0,
			[]string{"scopes: stores.read, stores.write", "/gate/token\n", "search  GET   /lots"},
		},
		{"survey stores -json", 0, []string{`"format": "OpenAPI 3.1.0"`, `"path": "/lots/{id}"`}},
		{
			"survey stores/search", 0,
			[]string{
				"page    integer, 1 or more; may be left out; default 1", "answer 401, 403",
				"request line  GET /lots", "login  clerk (stores.read)",
			},
		},
		{"survey stores move -json", 0, []string{`"in": "header"`, `"required": true`}},
		{"survey stores -find barrels", 0, []string{"lot     GET  /lots/{id}"}},
		{"survey stores lots", 2, []string{`there is no operation "lots"; did you mean "lot"?`}},
		{"survey -find barrels", 0, []string{"lots[0].barrels  a list of objects"}},
		{"survey contracts/open.json", 0, []string{"Open · OpenAPI 3.1.0"}},
		{"survey contracts/broken.yaml", 2, []string{"not well-formed YAML at line 2"}},
		{
			"survey contracts/lot.schema.json", 0,
			[]string{"Lot · JSON Schema", "kilos  number, over 0; may be left out"},
		},
		{"draft stores move", 0, []string{`"lot": "L-2201"`, "POST /moves\n"}},
		{"draft stores search -only required", 0, []string{"GET /lots\nX-Depot: north\n"}},
		{"draft stores lot -as step", 0, []string{"  call: stores/lot\n", "    id: L-2201  # text, matches"}},
		{"draft stores move -as json", 0, []string{`"lot": "L-2201"`}},
		{"draft stores move -as xml", 2, []string{"move takes no XML; it takes application/json"}},
		{"draft stores move -soap 1.2", 2, []string{"-soap and -port go with a WSDL"}},
		{
			"survey stores -port X", 2,
			[]string{"-port has no effect in survey of a whole contract", "survey of an operation"},
		},
		{"survey stores lot -port X", 2, []string{"-soap and -port go with a WSDL"}},
		{"survey lab GradeLot -find nothing-like-it", 0, []string{`no field has "nothing-like-it"`}},
		{"survey contracts/lot.schema.json Lot", 2, []string{"a JSON Schema, which is one type and has no Lot"}},
		{"draft contracts/lot.schema.json Lot", 2, []string{"a JSON Schema, which is one type and has no Lot"}},
		{
			"draft contracts/lot.schema.json -as step", 2,
			[]string{"is a schema alone, and a step calls an operation", "leave -as out"},
		},
		{"draft contracts/lot.schema.json -as xml", 2, []string{"is a JSON Schema, and is drafted as JSON"}},
		{"draft contracts/lot.schema.json -answer", 2, []string{"-answer has no effect in draft of a schema"}},
		{"draft contracts/lab.xsd LabFault -as step", 2, []string{"is a schema alone, and a step calls an operation"}},
		{"validate lab good.json -status 404", 2, []string{"go with descriptions of REST"}},
		{"validate stores/lot lot.json -status 404 -request", 2, []string{"exclude one another"}},
		{"validate stores/lot lot.json -status 99", 2, []string{"-status 99 is not a status"}},
		{"draft contracts/lot.schema.json", 0, []string{`"id": "L-"`}},
		{"validate contracts/lot.schema.json good.json", 0, []string{"valid: an instance of the schema"}},
		{
			"validate contracts/lot.schema.json bad.json", 1,
			[]string{
				"bad.json:2:9: id must be text, and is 1\n", "bad.json:3:12: kilos must be over 0, and is 0\n",
				"2 faults",
			},
		},
		{
			"validate stores/lot lot.json", 1,
			[]string{
				`lot.json:1:41: kind must be one of heather, clover, linden, and is "moss"`,
				"barrels is missing",
			},
		},
		{"validate stores/lot lot.json -status 404", 1, []string{"error is missing"}},
		{"validate stores/lot lot.json -status 204", 2, []string{"lot declares no answer of status 204"}},
		{"validate stores lot.json", 2, []string{"of which operation is it?"}},
		{"validate stores/lot lot.json -request", 2, []string{"lot says nothing of such a body"}},
		{"validate stores/lot bench.yaml", 1, []string{"not well-formed JSON"}},
		{
			"survey lab GradeLot -logins", 2,
			[]string{"-logins has no effect in survey of an operation", "survey with -logins"},
		},
		{
			"call stores/move lot=L-22 to=south", 2,
			[]string{`lot must match ^L-[0-9]{4}$, and is "L-22"`, "-contract answer"},
		},
		{"call stores/move lot=L-2299 to=south -login clerk_in_person", 1, []string{"404", "there is no lot L-2299"}},
		{
			"call stores/move lot=L-22 to=south -login clerk_in_person -contract answer", 1,
			[]string{"404", "sent against the contract: lot must match"},
		},
		{"call stores/move lot=L-2201 to=south on=2026-11-23 -login clerk_in_person -pick lot", 0, []string{"L-2201"}},
		{"call stores/lot id=L-2201 -in header.X-Depot=south -pick depot", 0, []string{"south"}},
	} {
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		for _, says := range c.says {
			assert.Contains(t, o.all(), says, c.args)
		}
	}
	// A value that is wrong and secret is not shown, however short.
	p.env = append(p.env, "TESTBENCH_SEALED_SHORT=qxz7")
	for _, args := range []string{
		"call stores/move lot=${sealed.short} to=south",
		"call stores/search kind=${sealed.short}", "call ledger/Suppliers.list top=${sealed.short}",
		"call ledger/PurchaseOrders.create supplierNumber=S-1 orderedOn=${sealed.short}",
	} {
		o := p.run(strings.Fields(args)...)
		assert.Contains(t, o.all(), "a secret value", args)
		assert.NotContains(t, o.all(), "qxz7", args)
	}
	p.write("sheets/typo.yaml",
		`sheet: typo
steps:
  - step: move
    call: stores/move
    fill:
      lott: L-2201
      to: sideways
      on: ${today}
`)
	o := p.run("vet")
	assert.Contains(t, o.all(), "sheets/typo.yaml:6:7: move has no field \"lott\"")
	assert.Contains(t, o.all(), `sheets/typo.yaml:7:11: to must be one of north, south, and is "sideways"`)
	assert.Contains(t, o.all(), "stores/move needs lot")
}
