package main_test

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What a contract, or an answer, may cost: processor time and memory of the whole process.
const (
	mostTime   = 5 * time.Second
	mostMemory = 512 << 10 // KiB, as Linux counts them
)

func ringsOfXSD(n int, one func(i int) string, last string) string {
	var out strings.Builder
	for i := range n {
		out.WriteString(one(i))
	}
	return out.String() + last
}

func wsdlOf(schema string) string {
	return `<w:definitions xmlns:w="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" name="N">
<w:types><x:schema targetNamespace="urn:t" elementFormDefault="qualified">` + schema + `</x:schema></w:types>
<w:message name="m"><w:part name="p" element="t:E"/></w:message>
<w:portType name="P"><w:operation name="Op"><w:input message="t:m"/><w:output message="t:m"/></w:operation></w:portType>
<w:binding name="B" type="t:P"><s:binding style="document" transport="http://schemas.xmlsoap.org/soap/http"/><w:operation name="Op"><s:operation soapAction="a"/><w:input><s:body use="literal"/></w:input><w:output><s:body use="literal"/></w:output></w:operation></w:binding>
<w:service name="S"><w:port name="Port" binding="t:B"><s:address location="http://127.0.0.1:1/x"/></w:port></w:service></w:definitions>`
}

// openAPIOf describes an operation that takes and gives the schema R.
func openAPIOf(t *testing.T, schemas map[string]any) string {
	t.Helper()
	content := map[string]any{"application/json": map[string]any{"schema": ref("R")}}
	data, err := json.Marshal(map[string]any{
		"openapi": "3.1.0", "info": map[string]any{"title": "t", "version": "1"},
		"servers": []any{map[string]any{"url": "http://127.0.0.1:1"}},
		"paths": map[string]any{"/a": map[string]any{"post": map[string]any{
			"operationId": "Op", "requestBody": map[string]any{"required": true, "content": content},
			"responses": map[string]any{"200": map[string]any{"description": "x", "content": content}},
		}}}, "components": map[string]any{"schemas": schemas},
	})
	require.NoError(t, err)
	return string(data)
}

func ref(name string) map[string]any { return map[string]any{"$ref": "#/components/schemas/" + name} }

// chain makes schemas of which each holds two of the next.
func chain(n int, one func(next map[string]any) map[string]any, last map[string]any) map[string]any {
	all := map[string]any{"R": ref("S0"), fmt.Sprintf("S%d", n): last}
	for i := range n {
		all[fmt.Sprintf("S%d", i)] = one(ref(fmt.Sprintf("S%d", i+1)))
	}
	return all
}

// Contracts of a few lines that unfold to a number without end cost little: there is a verdict, a
// draft that says where it was cut, or a clear message.
func TestHostileContracts(t *testing.T) {
	slow(t)
	t.Parallel()
	object := func(properties map[string]any) map[string]any {
		var names []string
		for name := range properties {
			names = append(names, name)
		}
		return map[string]any{"type": "object", "required": names, "properties": properties}
	}
	of := func(keyword string) map[string]any {
		return chain(30, func(next map[string]any) map[string]any {
			return map[string]any{keyword: []any{next, next}}
		}, object(map[string]any{"z": map[string]any{"type": "string"}}))
	}
	items := make([]string, 100_000)
	for i := range items {
		items[i] = fmt.Sprintf(`{"i":%d,"x":"yyyyy"}`, i)
	}
	list := `{"l":[` + strings.Join(items, ",") + `]}`
	const isCut, unfolds = "the draft is cut at 20000 parts", "unfolds to more than 100000 parts"
	for name, c := range map[string]struct {
		contract string
		answer   string // checked against it; empty for none
		survey   string // what each says
		draft    string
		validate string
	}{
		"a type that holds itself": {wsdlOf(
			`<x:element name="E" type="t:T"/><x:complexType name="T"><x:sequence><x:element name="a" type="t:T"/><x:element name="b" type="t:T"/></x:sequence></x:complexType>`), "", "Op", isCut, ""},
		"many of many": {
			wsdlOf(`<x:element name="E" type="t:T0"/>` + ringsOfXSD(4, func(i int) string {
				return fmt.Sprintf(`<x:complexType name="T%d"><x:sequence><x:element name="a" type="t:T%d" minOccurs="100000" maxOccurs="unbounded"/></x:sequence></x:complexType>`, i, i+1)
			}, `<x:complexType name="T4"><x:sequence><x:element name="z" type="x:string"/></x:sequence></x:complexType>`)),
			"", "Op", isCut, "",
		},
		"groups that double": {
			wsdlOf(
				`<x:element name="E"><x:complexType><x:sequence><x:group ref="t:G0"/></x:sequence></x:complexType></x:element>` + ringsOfXSD(30, func(i int) string {
					return fmt.Sprintf(`<x:group name="G%d"><x:sequence><x:group ref="t:G%d"/><x:group ref="t:G%d"/></x:sequence></x:group>`, i, i+1, i+1)
				}, `<x:group name="G30"><x:sequence><x:element name="a" type="x:string"/></x:sequence></x:group>`)), "",
			unfolds, unfolds, "",
		},
		"types that double": {
			wsdlOf(`<x:element name="E" type="t:T0"/>` + ringsOfXSD(30, func(i int) string {
				return fmt.Sprintf(`<x:complexType name="T%d"><x:sequence><x:element name="a" type="t:T%d"/><x:element name="b" type="t:T%d"/></x:sequence></x:complexType>`, i, i+1, i+1)
			}, `<x:complexType name="T30"><x:sequence><x:element name="z" type="x:string"/></x:sequence></x:complexType>`)),
			"", "Op", isCut, "",
		},
		"unions that double": {wsdlOf(`<x:element name="E" type="t:S0"/>` + ringsOfXSD(30, func(i int) string {
			return fmt.Sprintf(`<x:simpleType name="S%d"><x:union memberTypes="t:S%d t:S%d"/></x:simpleType>`, i, i+1,
				i+1)
		}, `<x:simpleType name="S30"><x:restriction base="x:int"/></x:simpleType>`)), "", "Op", "Envelope", ""},
		"attributes that double": {
			wsdlOf(
				`<x:element name="E"><x:complexType><x:attributeGroup ref="t:A0"/></x:complexType></x:element>` +
					ringsOfXSD(30, func(i int) string {
						return fmt.Sprintf(`<x:attributeGroup name="A%d"><x:attributeGroup ref="t:A%d"/><x:attributeGroup ref="t:A%d"/></x:attributeGroup>`, i, i+1, i+1)
					}, `<x:attributeGroup name="A30"><x:attribute name="a" type="x:string"/></x:attributeGroup>`)), "",
			"",
			"", "",
		},
		"counts of counts": {wsdlOf(
			`<x:element name="E"><x:complexType><x:sequence minOccurs="0" maxOccurs="100000"><x:sequence minOccurs="0" maxOccurs="100000"><x:element name="a" type="x:string" minOccurs="0" maxOccurs="100000"/><x:element name="b" type="x:string" minOccurs="0" maxOccurs="100000"/></x:sequence></x:sequence></x:complexType></x:element>`), "", "Op", "Envelope", ""},
		"a length without end": {wsdlOf(
			`<x:element name="E"><x:simpleType><x:restriction base="x:string"><x:minLength value="2000000000"/></x:restriction></x:simpleType></x:element>`), "", "Op", "Envelope", ""},
		"a schema that holds itself": {
			openAPIOf(t,
				map[string]any{"R": object(map[string]any{"a": ref("R"), "b": ref("R")})}), `{"z":1}`, "Op", isCut,
			"a is missing",
		},
		"anyOf that doubles": {openAPIOf(t, of("anyOf")), `{"z":1}`, "Op", "", unfolds},
		"allOf that doubles": {openAPIOf(t, of("allOf")), `{"z":1}`, "Op", "", unfolds},
		"oneOf that doubles": {openAPIOf(t, of("oneOf")), `{"z":1}`, "Op", "", unfolds},
		"properties that double": {openAPIOf(t, chain(30, func(next map[string]any) map[string]any {
			return object(map[string]any{"a": next, "b": next})
		}, map[string]any{"type": "string"})), `{"z":1}`, "Op", isCut, "is missing"},
		"lists of lists": {openAPIOf(t, chain(4, func(next map[string]any) map[string]any {
			return map[string]any{"type": "array", "minItems": 100_000, "items": next}
		}, map[string]any{"type": "string"})), `[]`, "Op", isCut, "at least 100000 items"},
		"items that differ": {
			openAPIOf(t,
				map[string]any{"R": map[string]any{
					"type":       "object",
					"properties": map[string]any{"l": map[string]any{"type": "array", "uniqueItems": true}},
				}}), list,
			"no item twice", "", "valid",
		},
		"items of which two are the same": {
			openAPIOf(t,
				map[string]any{"R": map[string]any{
					"type":       "object",
					"properties": map[string]any{"l": map[string]any{"type": "array", "uniqueItems": true}},
				}}),
			strings.Replace(list, `"i":99999`, `"i":1.0`, 1), "no item twice", "",
			"holds the same item twice: [1] and [99999]",
		},
		"a pattern": {
			openAPIOf(t,
				map[string]any{"R": object(map[string]any{"l": map[string]any{
					"type":    "string",
					"pattern": "^(a+)+$",
				}})}),
			`{"l":"` + strings.Repeat("a", 60) + `!"}`, "Op", "", "must match",
		},
		"a ring of names": {openAPIOf(t, map[string]any{"R": ref("Q"), "Q": ref("R")}), `{"z":1}`, "Op", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			file := "c.json"
			if c.contract[0] == '<' {
				file = "c.wsdl"
			}
			p.write(file, c.contract)
			p.write("answer.json", c.answer)
			for _, try := range [][]string{
				{c.survey, "survey", file, "Op"},
				{c.draft, "draft", file, "Op"},
				{c.validate, "validate", file, "answer.json", "-operation", "Op"},
			} {
				if try[1] == "validate" && c.answer == "" {
					continue
				}
				costsLittle(t, p, try[0], try[1:]...)
			}
		})
	}
}

// costsLittle runs a command and looks at what it said and took.
func costsLittle(t *testing.T, p *place, says string, args ...string) {
	t.Helper()
	factor := 1
	if raceEnabled {
		factor = 12 // the detector takes so much more of both
	}
	cmd := exec.Command(built, args...)
	cmd.Dir, cmd.Env = p.dir, p.env
	ended := time.AfterFunc(time.Duration(4*factor)*mostTime, func() { _ = cmd.Process.Kill() })
	said, _ := cmd.CombinedOutput()
	ended.Stop()
	assert.Less(t, userTimeOf(cmd.ProcessState), time.Duration(factor)*mostTime, "%q", args)
	assert.Less(t, mostMemoryOf(cmd.ProcessState), int64(factor*mostMemory), "%q", args)
	assert.Contains(t, string(said), says, "%q", args)
	assert.Contains(t, []int{0, 1, 2}, cmd.ProcessState.ExitCode(), "%q: %.300s", args, said)
}

// The same for OData and WADL: sets times navigation, types that hold types, resource types that
// name resource types. Vet says what it could not read.
func TestHostileDescriptions(t *testing.T) {
	slow(t)
	t.Parallel()
	edmx := func(inside string) string {
		return `<edmx:Edmx xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx" Version="4.0"><edmx:DataServices><Schema xmlns="http://docs.oasis-open.org/odata/ns/edm" Namespace="T">` + inside + `</Schema></edmx:DataServices></edmx:Edmx>`
	}
	entity := func(types string) string {
		return edmx(types + `<EntityType Name="E"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.String" Nullable="false"/><Property Name="c" Type="T.C0" Nullable="false"/></EntityType><EntityContainer Name="X"><EntitySet Name="Es" EntityType="T.E"/></EntityContainer>`)
	}
	wadl := func(inside string) string {
		return `<application xmlns="http://wadl.dev.java.net/2009/02"><resources base="http://127.0.0.1:1/"><resource path="a" type="#t0"/></resources>` + inside + `</application>`
	}
	double := func(last string, one func(i int) string) string { return ringsOfXSD(40, one, last) }
	const draftIsCut, tooManyOperations, unfolds = "the draft is cut at 20000 parts", "give more than 300000 operations", "unfold to more than 200000 methods and parameters"
	for name, c := range map[string]struct{ contract, survey, draft, vet string }{
		"OData types that double": {entity(
			double(`<ComplexType Name="C40"><Property Name="x" Type="Edm.String"/></ComplexType>`, func(i int) string {
				return fmt.Sprintf(`<ComplexType Name="C%d"><Property Name="a" Type="T.C%d" Nullable="false"/><Property Name="b" Type="T.C%d" Nullable="false"/></ComplexType>`, i, i+1, i+1)
			})), "POST /Es", draftIsCut, "no mistakes"},
		"OData types in a circle": {entity(
			`<ComplexType Name="C0" BaseType="T.C1"><Property Name="a" Type="T.C0" Nullable="false"/></ComplexType><ComplexType Name="C1" BaseType="T.C0"/>`), "POST /Es", `"c": {}`, "no mistakes"},
		"OData types of many properties": {entity(`<ComplexType Name="C0">` + ringsOfXSD(50_000, func(i int) string {
			return fmt.Sprintf(`<Property Name="p%d" Type="Edm.String"/>`, i)
		}, `</ComplexType>`)), "POST /Es", "", "no mistakes"},
		"OData sets times navigation": {edmx(
			`<EntityType Name="E"><Key><PropertyRef Name="id"/></Key><Property Name="id" Type="Edm.String" Nullable="false"/>` + ringsOfXSD(1000, func(i int) string {
				return fmt.Sprintf(`<NavigationProperty Name="n%d" Type="Collection(T.E)"/>`, i)
			}, `</EntityType><EntityContainer Name="X">`) + ringsOfXSD(5000, func(i int) string {
				return fmt.Sprintf(`<EntitySet Name="S%d" EntityType="T.E"/>`, i)
			}, `</EntityContainer>`)), tooManyOperations, tooManyOperations, tooManyOperations},
		"WADL resource types in a circle": {wadl(
			`<resource_type id="t0"><resource path="x" type="#t1"/><resource path="y" type="#t1"/></resource_type><resource_type id="t1"><resource path="x" type="#t0"/><resource path="y" type="#t0"/></resource_type>`), unfolds, unfolds, unfolds},
		"WADL resource types that double": {wadl(double(`<resource_type id="t40"><method name="GET"/></resource_type>`,
			func(i int) string {
				return fmt.Sprintf(`<resource_type id="t%d"><resource path="x" type="#t%d"/><resource path="y" type="#t%d"/></resource_type>`, i, i+1, i+1)
			})), unfolds, unfolds, unfolds},
		"WADL methods of the same name": {wadl(`<resource_type id="t0">` + strings.Repeat(`<method name="GET" id="m"/>`,
			50_000) + `</resource_type>`), "there is no operation", "", "no mistakes"},
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			p.write("c.xml", c.contract)
			p.write("bench.yaml", "services:\n  s: {address: \"http://127.0.0.1:1\", contract: c.xml}\n")
			costsLittle(t, p, c.survey, "survey", "s", "Es.create")
			costsLittle(t, p, c.draft, "draft", "s", "Es.create")
			costsLittle(t, p, c.vet, "vet")
		})
	}
}
