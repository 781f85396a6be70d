package wsdl_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/soap"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// definitions writes a WSDL around what stands inside.
func definitions(inside string) string {
	return `<definitions name="Press" targetNamespace="urn:p" xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:s12="http://schemas.xmlsoap.org/wsdl/soap12/" xmlns:h="http://schemas.xmlsoap.org/wsdl/http/" xmlns:mime="http://schemas.xmlsoap.org/wsdl/mime/" xmlns:p="urn:p" xmlns:xs="http://www.w3.org/2001/XMLSchema">` + inside + `</definitions>`
}

const pressTypes = `<types><xs:schema targetNamespace="urn:p" elementFormDefault="qualified">
<xs:element name="Start"><xs:complexType><xs:sequence><xs:element name="lot" type="xs:token"/></xs:sequence></xs:complexType></xs:element>
<xs:element name="Started" type="xs:int"/><xs:element name="Trace" type="xs:string"/><xs:element name="Jam"><xs:complexType><xs:sequence><xs:element name="where" type="xs:string"/></xs:sequence></xs:complexType></xs:element>
</xs:schema></types>
<message name="In"><part name="body" element="p:Start"/><part name="trace" element="p:Trace"/></message>
<message name="Out"><part name="body" element="p:Started"/></message>
<message name="Text"><part name="text" type="xs:string"/><part name="times" type="xs:int"/></message>
<message name="Jam"><part name="jam" element="p:Jam"/></message>
<message name="None"/>`

func body(use string) string { return `<s:body use="` + use + `"/>` }

func read(documents map[string]string) (*wsdl.Contract, error) {
	return wsdl.Load("main.wsdl", func(_, location string) (string, []byte, error) {
		if text, ok := documents[location]; ok {
			return location, []byte(text), nil
		}
		return "", nil, errors.New("no such file")
	})
}

func TestContract(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": definitions(`<documentation>The press hall.</documentation>` + pressTypes + `
<portType name="Press">
  <operation name="Start"><documentation>Starts a job.</documentation><input message="p:In"/><output message="p:Out"/><fault name="Jam" message="p:Jam"/></operation>
  <operation name="Tell"><input name="TellOnce" message="p:Text"/></operation>
  <operation name="Tell"><input name="TellTwice" message="p:Text"/><output message="p:None"/></operation>
</portType>
<binding name="B11" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="Start"><s:operation soapAction="urn:start"/><input><s:header message="p:In" part="trace" use="literal"/>` + body("literal") + `</input><output>` + body("literal") + `</output></operation>
  <operation name="Tell"><s:operation style="rpc"/><input name="TellOnce"><s:body use="literal" namespace="urn:rpc"/></input></operation>
  <operation name="Tell"><s:operation style="rpc"/><input name="TellTwice"><s:body use="literal" namespace="urn:rpc"/></input><output><s:body use="literal" namespace="urn:rpc"/></output></operation>
</binding>
<binding name="BGet" type="p:Press"><h:binding verb="GET"/><operation name="Tell"><h:operation location="/tell"/><input name="TellOnce"><h:urlEncoded/></input></operation></binding>
<service name="Hall"><port name="P11" binding="p:B11"><s:address location="http://hall.example/p"/></port><port name="PGet" binding="p:BGet"><h:address location="http://hall.example/get"/></port></service>`)})
	require.NoError(t, err)
	assert.Equal(t, "The press hall.", c.Documentation)
	port, err := c.Port("", "")
	require.NoError(t, err)
	assert.Equal(t, "P11", port.Name)
	assert.Equal(t, []string{"Start", "Tell(TellOnce)", "Tell(TellTwice)"}, port.Binding.OperationNames())

	start := port.Binding.Operation("Start")
	assert.Equal(t, "Starts a job.", start.Documentation)
	assert.Equal(t, "urn:start", start.Action)
	require.Len(t, start.Input.Payload, 1, "the part in the header is not in the Body")
	assert.Equal(t, xsd.Name{Space: "urn:p", Local: "Start"}, start.Input.Wrapper().Name)
	assert.Equal(t, "Trace", start.Input.Headers[0].Element.Name.Local)
	assert.Equal(t, "Jam", start.Faults[0].Detail.Name.Local)

	tell := port.Binding.Operation("Tell(TellOnce)")
	assert.True(t, tell.IsRPC())
	assert.Nil(t, tell.Output, "one way")
	assert.Equal(t, xsd.Name{Space: "urn:rpc", Local: "Tell"}, tell.Input.Wrapper().Name)
	answer := port.Binding.Operation("Tell(TellTwice)").Output
	assert.Equal(t, "TellResponse", answer.Wrapper().Name.Local)
	get, err := c.Port("PGet", "")
	require.NoError(t, err)
	assert.Equal(t, wsdl.HTTPGet, get.Binding.Protocol)
	assert.Equal(t, "/tell", get.Binding.Operations[0].Location)

	notes := fmt.Sprint(c.Notes())
	assert.Contains(t, notes, "Tell is rpc in a binding that is document (Basic Profile 1.1, R2705)")
	assert.Contains(t, notes, "several operations are called Tell (Basic Profile 1.1, R2304)")
	_, err = c.Port("P12", "")
	assert.EqualError(t, err, `the contract has no port "P12"; did you mean "P11"?`)
	_, err = c.Port("", soap.V12)
	assert.EqualError(t, err, "the contract has no port that speaks SOAP 1.2; its ports are: P11, PGet")
}

// A MIME binding says which parts travel beside the envelope; header faults are
// known with their headers; an HTTP binding may post a form.
func TestOtherBindings(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": definitions(pressTypes + `
<message name="Paper"><part name="body" element="p:Start"/><part name="scan" type="xs:base64Binary"/></message>
<portType name="Press"><operation name="Start"><input message="p:Paper"/><output message="p:Out"/></operation></portType>
<portType name="Form"><operation name="Tell"><input message="p:Text"/></operation></portType>
<binding name="B" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Start">
  <input><mime:multipartRelated><mime:part><s:body use="literal" parts="body"/><s:header message="p:In" part="trace" use="literal"><s:headerfault message="p:Jam" part="jam" use="literal"/></s:header></mime:part>
    <mime:part><mime:content part="scan" type="image/png"/><mime:content part="scan" type="application/pdf"/></mime:part></mime:multipartRelated></input>
  <output>` + body("literal") + `</output></operation></binding>
<binding name="F" type="p:Form"><h:binding verb="POST"/><operation name="Tell"><h:operation location="/tell"/><input><mime:content type="application/x-www-form-urlencoded"/></input></operation></binding>
<service name="Hall"><port name="P" binding="p:B"/><port name="F" binding="p:F"/></service>`)})
	require.NoError(t, err)
	input := c.Services[0].Ports[0].Binding.Operation("Start").Input
	require.Len(t, input.Payload, 1)
	assert.Equal(t, []wsdl.Attachment{{Part: "scan", Types: []string{"image/png", "application/pdf"}}},
		input.Attachments)
	require.Len(t, input.Headers, 1)
	assert.Equal(t, "Jam", input.Headers[0].Faults[0].Name.Local)
	form, err := c.Port("F", "")
	require.NoError(t, err)
	assert.Equal(t, wsdl.HTTPPost, form.Binding.Protocol)
	group := form.Binding.Operations[0].Input.Wrapper().Type.(*xsd.ComplexType).Particle.Term.(*xsd.Group)
	assert.Len(t, group.Particles, 2, "the fields of the form")
}

func TestImports(t *testing.T) {
	c, err := read(map[string]string{
		"main.wsdl": definitions(
			`<import namespace="urn:p" location="types.wsdl"/><import namespace="urn:gone" location="gone.wsdl"/><import namespace="urn:s" location="plain.xsd"/><service name="Hall"><port name="P" binding="p:B"><s:address location="http://hall.example/"/></port></service>`),
		"types.wsdl": definitions(`<import namespace="urn:p" location="main.wsdl"/>` + pressTypes +
			`<portType name="Press"><operation name="Start"><input message="p:In"/></operation></portType><binding name="B" type="p:Press"><s:binding transport="urn:smoke"/><operation name="Start"><input>` + body("literal") + `</input></operation></binding>`),
		"plain.xsd": `<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:s"><element name="e"/></schema>`,
	})
	require.NoError(t, err)
	assert.Equal(t, []string{"Start"}, c.Services[0].Ports[0].Binding.OperationNames())
	notes := fmt.Sprint(c.Notes())
	assert.Contains(t, notes, "gone.wsdl could not be loaded: no such file")
	assert.Contains(t, notes, "a schema is imported as if it were a WSDL (Basic Profile 1.1, R2001)")
	assert.Contains(t, notes, `has the transport "urn:smoke"`)
	assert.Contains(t, notes, "Start has several elements in its Body (Basic Profile 1.1, R2210)")
}

func TestRefused(t *testing.T) {
	for text, want := range map[string]string{
		"not XML": "main.wsdl:1:1: not well-formed XML",
		"<a/>":    "main.wsdl:1:1: <a> is not a WSDL",
		`<description xmlns="http://www.w3.org/ns/wsdl"/>`: "this is WSDL 2.0; WSDL 1.1 can be read",
		"<!DOCTYPE definitions>" + definitions(""):         "it has a DOCTYPE, which is refused",
		definitions(`<binding name="B" type="z:T"/>`):      "the prefix of z:T is not declared there",
	} {
		_, err := read(map[string]string{"main.wsdl": text})
		assert.ErrorContains(t, err, want, text)
	}
}

// A unusable type costs only the operations that need it, however far away it is; the rest can be used, and what is wrong
// is told.
func TestUnusableTypes(t *testing.T) {
	operation := func(name string) (message, abstract, bound string) {
		return `<message name="` + name + `"><part name="p" element="p:` + name + `"/></message>`,
			`<operation name="` + name + `"><input message="p:` + name + `"/></operation>`,
			`<operation name="` + name + `"><input>` + body("literal") + `</input></operation>`
	}
	var messages, abstracts, bound string
	names := []string{"Good", "Direct", "Far", "ByGroup", "Heir", "Twice", "Data"}
	for _, name := range names {
		m, a, b := operation(name)
		messages, abstracts, bound = messages+m, abstracts+a, bound+b
	}
	c, err := read(map[string]string{"main.wsdl": definitions(`<types><xs:schema targetNamespace="urn:p" elementFormDefault="qualified">
<xs:element name="Good" type="p:Fine"/><xs:complexType name="Fine"><xs:sequence><xs:element name="n" type="xs:int"/></xs:sequence></xs:complexType>
<xs:element name="Direct" type="xs:nothing"/>
<xs:element name="Far"><xs:complexType><xs:sequence><xs:element name="inner" type="p:Between"/></xs:sequence></xs:complexType></xs:element>
<xs:complexType name="Between"><xs:sequence><xs:element ref="p:Direct" minOccurs="0"/></xs:sequence></xs:complexType>
<xs:group name="Broken"><xs:sequence><xs:element/></xs:sequence></xs:group>
<xs:element name="ByGroup"><xs:complexType><xs:group ref="p:Broken"/></xs:complexType></xs:element>
<xs:complexType name="Base"><xs:all><xs:element name="a" maxOccurs="2"/></xs:all></xs:complexType>
<xs:element name="Heir"><xs:complexType><xs:complexContent><xs:extension base="p:Base"/></xs:complexContent></xs:complexType></xs:element>
<xs:element name="Twice" type="xs:int"/><xs:element name="Twice" type="xs:string"/>
<xs:element name="Instead" type="xs:nothing" substitutionGroup="p:Open"/><xs:element name="Open"/>
<xs:element name="Data"><xs:complexType><xs:sequence><xs:element ref="xs:schema"/><xs:any/></xs:sequence></xs:complexType></xs:element>
<xs:import location="x.xsd"/></xs:schema></types>` + messages + `<portType name="T">` + abstracts + `</portType>
<binding name="B" type="p:T"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/>` + bound + `</binding>
<service name="S"><port name="P" binding="p:B"><s:address location="http://hall.example/"/></port></service>`)})
	require.NoError(t, err)
	wrong := map[string]string{
		"Direct": "there is no type {http://www.w3.org/2001/XMLSchema}nothing", "Far": "there is no type",
		"ByGroup": "an element needs a name or a ref", "Heir": "an element of all can occur once at most",
		"Twice": "element Twice is declared twice",
	}
	for _, name := range names {
		b, err := c.Bind(name, "", "")
		if want := wrong[name]; want != "" {
			assert.ErrorContains(t, err, name+" cannot be used, for the contract is wrong in what it needs: main.wsdl:",
				name)
			assert.ErrorContains(t, err, want, name)
			continue
		}
		require.NoError(t, err, name)
		require.NotNil(t, b)
		_, err = b.Draft(contract.DraftOptions{})
		assert.NoError(t, err, name)
	}
	var lines []string
	for _, line := range c.Overview().Operations {
		lines = append(lines, line.Name+" "+strings.Join(line.Notes, ", "))
	}
	assert.Contains(t, lines, "Far cannot be used, not answered")
	assert.Contains(t, lines, "Good not answered")
	notes := fmt.Sprint(c.Notes())
	assert.Contains(t, notes, "ByGroup cannot be used: main.wsdl:")
	assert.Contains(t, notes, "import has no attribute location", "what is in no type is told all the same")
	assert.Empty(t, c.Schema.Substitutes(c.Schema.Element("urn:p", "Open")))
}

// A WSDL without a binding shows its port types, and one without a service has its bindings for ports.
func TestAbstract(t *testing.T) {
	const described = `<message name="In"/><portType name="Press"><documentation>Presses.</documentation><operation name="Start"><documentation>Starts.</documentation><input message="p:In"/></operation></portType>`
	c, err := read(map[string]string{"main.wsdl": definitions(described)})
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(c.Notes()), "it has no binding, so nothing in it can be called")
	assert.Contains(t, c.Overview().Places, contract.Table{
		Title: "port type Press", About: "Presses.", Rows: [][]string{{"Start", "Starts."}},
	})
	_, err = c.Bind("Start", "", "")
	assert.ErrorContains(t, err, "has no service with a port")
	c, err = read(map[string]string{"main.wsdl": definitions(described + `<binding name="B" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Start"><input>` + body("literal") + `</input></operation></binding>`)})
	require.NoError(t, err)
	b, err := c.Bind("Start", "", "")
	require.NoError(t, err)
	assert.Empty(t, b.Port.Address)
}

// Operations of one name are told apart by their action, and by what is in the Body.
func TestOverloads(t *testing.T) {
	operation := func(name, action string) string {
		return `<operation name="Grade"><s:operation soapAction="` + action + `"/><input name="` + name + `"><s:body use="literal" namespace="urn:p"/></input></operation>`
	}
	c, err := read(map[string]string{"main.wsdl": definitions(`<message name="ByCode"><part name="code" type="xs:string"/></message>
<message name="ByLot"><part name="lot" type="xs:int"/></message><message name="None"/>
<portType name="T"><operation name="Grade"><input name="ByCode" message="p:ByCode"/></operation><operation name="Grade"><input name="ByLot" message="p:ByLot"/></operation></portType>
<portType name="E"><operation name="Empty"><input message="p:None"/></operation></portType>
<binding name="B" type="p:T"><s:binding style="rpc" transport="http://schemas.xmlsoap.org/soap/http"/>` + operation("ByCode", "urn:code") + operation("ByLot", "urn:lot") + `</binding>
<binding name="C" type="p:E"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Empty"><input><s:body use="literal"/></input></operation></binding>
<service name="S"><port name="P" binding="p:B"/><port name="Q" binding="p:C"/></service>`)})
	require.NoError(t, err)
	names := func(operations []*wsdl.Operation) (all []string) {
		for _, o := range operations {
			all = append(all, o.Name)
		}
		return all
	}
	grade := xsd.Name{Space: "urn:p", Local: "Grade"}
	assert.Equal(t, []string{"Grade(ByCode)", "Grade(ByLot)"}, names(c.Requested(grade, "")))
	assert.Equal(t, []string{"Grade(ByLot)"}, names(c.Requested(grade, "urn:lot")))
	assert.Equal(t, []string{"Grade(ByCode)", "Grade(ByLot)"}, names(c.Requested(grade, "urn:other")))
	assert.Equal(t, []string{"Empty"}, names(c.Requested(xsd.Name{}, "")))
	assert.Empty(t, c.Requested(xsd.Name{Local: "Grade"}, ""))
	for body, want := range map[string]string{
		"<code>x</code>": "Grade(ByCode) 0", "<lot>7</lot>": "Grade(ByLot) 0", "<lot>x</lot>": "Grade(ByLot) 1",
	} {
		v, err := c.Judge(strings.NewReader(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><p:Grade xmlns:p="urn:p">`+
			body+`</p:Grade></e:Body></e:Envelope>`), func(xsd.Fault) {})
		require.NoError(t, err)
		assert.Equal(t, want, fmt.Sprint(v.Operation.Name, " ", v.Faults), body)
	}
}

// An operation that the first port does not have is called at the one that has it.
func TestOperationsOfSeveralPorts(t *testing.T) {
	binding := func(name, protocol, operation string) string {
		return `<portType name="T` + name + `"><operation name="` + operation + `"><input message="p:In"/></operation></portType><binding name="` +
			name + `" type="p:T` + name + `"><` + protocol + `:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="` + operation +
			`"><input><` + protocol + `:body use="literal"/></input></operation></binding>`
	}
	c, err := read(map[string]string{"main.wsdl": definitions(`<message name="In"/>` + binding("A", "s", "Start") + binding("B", "s", "Stop") +
		binding("C", "s12", "Stop") + `<service name="S"><port name="P" binding="p:A"><s:address location="http://a.example/"/></port><port name="Q" binding="p:B"><s:address location="http://b.example/"/></port></service>
<service name="R"><port name="P" binding="p:C"><s:address location="http://c.example/"/></port></service>`)})
	require.NoError(t, err)
	for version, address := range map[soap.Version]string{
		"": "http://b.example/", soap.V11: "http://b.example/",
		soap.V12: "http://c.example/",
	} {
		b, err := c.Bind("Stop", "", version)
		require.NoError(t, err)
		require.NotNil(t, b)
		assert.Equal(t, address, b.Port.Address, version)
		p, err := c.Port(c.PortName(b.Port), "")
		require.NoError(t, err)
		assert.Same(t, b.Port, p, "two ports may have one name")
	}
	b, err := c.Bind("Stop", "S/P", "")
	require.NoError(t, err)
	assert.Nil(t, b, "the port that is asked for does not have it")
}

// What is missing is noted, and what does not need it can be called.
func TestHalfOfAContract(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": definitions(pressTypes + `
<message name="Odd"><part name="a" element="p:Gone"/><part name="b"/></message>
<portType name="Press"><operation name="Start"><input message="p:Nowhere"/></operation><operation name="Odd"><input xmlns:z="urn:z" message="z:Odd"/></operation></portType>
<binding name="B" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="Start"><input>` + body("literal") + `</input></operation><operation name="Odd"><input>` + body("literal") + `</input></operation><operation name="Extra"/></binding>
<binding name="C" type="p:NoType"/>
<service name="Hall"><port name="P" binding="p:B"/><port name="Q" binding="p:Missing"/></service>`)})
	require.NoError(t, err)
	notes := fmt.Sprint(c.Notes())
	for _, want := range []string{
		"the message {urn:p}Nowhere is not declared", "the message {urn:z}Odd is not declared; {urn:p}Odd is taken for it",
		"the part a is the element {urn:p}Gone, which is not declared",
		"the part b has neither an element nor a type",
		"the binding has the operation Extra, which its port type has not",
		"the port Q has the binding Missing, which is not declared", "the binding C is of the port type NoType",
	} {
		assert.Contains(t, notes, want)
	}
}

func validated(t *testing.T, c *wsdl.Contract, message string) (string, []string) {
	var faults []string
	verdict, err := c.Judge(strings.NewReader(message), func(f xsd.Fault) { faults = append(faults, f.String()) })
	require.NoError(t, err)
	return verdict.String(), faults
}

func TestValidateEnvelopes(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": definitions(pressTypes + `
<portType name="Press"><operation name="Start"><input message="p:In"/><output message="p:Out"/></operation></portType>
<binding name="B" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Start"><input><s:body use="literal" parts="body"/></input><output>` + body("literal") + `</output></operation></binding>
<service name="Hall"><port name="P" binding="p:B"/></service>`)})
	require.NoError(t, err)
	envelope := func(inside string) string {
		return `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/" xmlns:p="urn:p">` + inside +
			`</e:Envelope>`
	}
	for message, want := range map[string]string{
		envelope(`<e:Body><p:Start><p:lot>L</p:lot></p:Start></e:Body>`):                                                                 "an envelope of SOAP 1.1 with the request of Start []",
		envelope(`<e:Header><p:Trace>x</p:Trace><p:Other><x/>text</p:Other></e:Header><e:Body><p:Started>1</p:Started></e:Body>`):        "an envelope of SOAP 1.1 with the answer of Start []",
		envelope(`<e:Body><p:Started>x</p:Started></e:Body>`):                                                                            `an envelope of SOAP 1.1 with the answer of Start [line 1, column 89: Started: "x" is not an integer]`,
		envelope(`<e:Body><e:Fault><faultcode>e:Client</faultcode><detail><p:Jam><p:when/></p:Jam></detail></e:Fault></e:Body>`):         `an envelope of SOAP 1.1 with a fault [line 1, column 144: when: where expected, found when line 1, column 153: Jam is empty: where expected]`,
		envelope(`<e:Body><p:Stop/></e:Body>`):                                                                                           "an envelope of SOAP 1.1 [line 1, column 89: {urn:p}Stop is the payload of no operation of the contract]",
		envelope(`<e:Body/>`):                                                                                                            "an envelope of SOAP 1.1 [line 1, column 81: the Body is empty, and every message of the contract has a payload]",
		envelope(`<e:Body><p:Started>1</p:Started></e:Body><x/>`):                                                                        "an envelope of SOAP 1.1 with the answer of Start [line 1, column 122: x is not allowed there: an envelope holds a Header and a Body]",
		`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Body><Started xmlns="urn:p">1</Started></e:Body></e:Envelope>`: "an envelope of SOAP 1.2 with the answer of Start [line 1, column 1: the envelope is SOAP 1.2, which no port of the contract speaks]",
	} {
		what, faults := validated(t, c, message)
		assert.Equal(t, want, fmt.Sprint(what, " ", faults), message)
	}
	_, err = c.Judge(strings.NewReader(`<Envelope/>`), func(xsd.Fault) {})
	assert.EqualError(t, err, `the namespace "" of the envelope is that of no version of SOAP`)
}

// Large writes a WSDL with so many operations, each with elements and a type of its own.
func large(operations int) string {
	var types, messages, portType, binding strings.Builder
	for i := range operations {
		fmt.Fprintf(&types, `<xs:element name="Do%[1]d"><xs:complexType><xs:sequence><xs:element name="lot" type="xs:token"/><xs:element name="thing" type="p:Thing%[1]d" maxOccurs="unbounded"/><xs:element name="when" type="xs:dateTime" minOccurs="0"/></xs:sequence></xs:complexType></xs:element><xs:element name="Done%[1]d" type="p:Thing%[1]d"/>
<xs:complexType name="Thing%[1]d"><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="amount" type="xs:decimal"/><xs:choice><xs:element name="kilos" type="xs:int"/><xs:element name="jars" type="xs:int"/></xs:choice></xs:sequence><xs:attribute name="id" type="xs:NCName" use="required"/></xs:complexType>
`, i)
		fmt.Fprintf(&messages, `<message name="In%[1]d"><part name="b" element="p:Do%[1]d"/></message><message name="Out%[1]d"><part name="b" element="p:Done%[1]d"/></message>
`, i)
		fmt.Fprintf(&portType, `<operation name="Do%[1]d"><documentation>Operation %[1]d of the press hall.</documentation><input message="p:In%[1]d"/><output message="p:Out%[1]d"/></operation>
`, i)
		fmt.Fprintf(&binding, `<operation name="Do%[1]d"><s:operation soapAction="urn:do:%[1]d"/><input>`+body("literal")+`</input><output>`+body("literal")+`</output></operation>
`, i)
	}
	return definitions(`<types><xs:schema targetNamespace="urn:p" elementFormDefault="qualified">` + types.String() +
		`</xs:schema></types>` + messages.String() +
		`<portType name="Press">` + portType.String() +
		`</portType><binding name="B" type="p:Press"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/>` +
		binding.String() +
		`</binding><service name="Hall"><port name="P" binding="p:B"><s:address location="http://hall.example/"/></port></service>`)
}

// Every draft of a large contract is valid by it.
func TestLarge(t *testing.T) {
	c, err := read(map[string]string{"main.wsdl": large(300)})
	require.NoError(t, err)
	require.Len(t, c.Operations(), 300)
	for _, o := range c.Operations() {
		for _, required := range []bool{true, false} {
			d, err := c.Draft(c.Bindings[0], o, wsdl.DraftOptions{Required: required})
			require.NoError(t, err)
			what, faults := validated(t, c, d.XML())
			require.Equal(t, "an envelope of SOAP 1.1 with the request of "+o.Name, what)
			require.Empty(t, faults, d.XML())
		}
	}
}

func BenchmarkLoad1500(b *testing.B) {
	text := large(1500)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := read(map[string]string{"main.wsdl": text}); err != nil {
			b.Fatal(err)
		}
	}
}

// A contract of 5 MB with 2,000 operations, as large systems write them.
func BenchmarkLoad5MB(b *testing.B) {
	text := strings.ReplaceAll(large(2000), "of the press hall.",
		"of the press hall. "+strings.Repeat("It is explained at length, as generated contracts do. ", 28))
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		if _, err := read(map[string]string{"main.wsdl": text}); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkDraft1500(b *testing.B) {
	c, err := read(map[string]string{"main.wsdl": large(1500)})
	require.NoError(b, err)
	for b.Loop() {
		for _, o := range c.Operations() {
			d, err := c.Draft(c.Bindings[0], o, wsdl.DraftOptions{})
			if err != nil {
				b.Fatal(err)
			}
			_ = d.XML()
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(large(1), `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Do0 xmlns="urn:p"/></e:Body></e:Envelope>`)
	f.Add(definitions(pressTypes+
		`<portType name="P"><operation name="O"><input message="p:Text"/></operation></portType><binding name="B" type="p:P"><s:binding style="rpc"/><operation name="O"><input><s:body use="encoded" namespace="n"/></input></operation></binding>`), "<a/>")
	f.Fuzz(func(t *testing.T, text, message string) {
		c, err := wsdl.Read("fuzz.wsdl", []byte(text), nil)
		if err != nil {
			return
		}
		_, _ = c.Judge(strings.NewReader(message), func(xsd.Fault) {})
		for _, b := range c.Bindings {
			for _, o := range b.Operations {
				if d, err := c.Draft(b, o, wsdl.DraftOptions{}); err == nil {
					_ = d.XML()
				}
				instance.Fill(c.Schema, &xsd.Element{Type: xsd.AnyType()}, document.NewObject(), instance.FillOptions{})
			}
		}
	})
}
