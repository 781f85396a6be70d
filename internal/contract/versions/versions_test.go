package versions_test

import (
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/versions"
)

const (
	nobody  = "breaks nobody"
	callers = "breaks callers"
	readers = "breaks readers"
	both    = "breaks both"
)

// A stores service, in two halves so that each change is one replacement.
const stores = `openapi: 3.1.0
info: {title: Stores, version: "1"}
servers:
  - url: https://services.heatherfold.example/stores
paths:
  /lots/{no}:
    get:
      operationId: read
      parameters:
        - {name: no, in: path, required: true, schema: {type: string, pattern: "L-[0-9]+"}}
        - {name: view, in: query, schema: {type: string, enum: [short, full]}}
        - {name: page, in: query, schema: {type: integer, minimum: 1, maximum: 50, default: 1}}
        - {name: tags, in: query, schema: {type: array, items: {type: string}}}
        - {name: X-Depot, in: header, required: true, schema: {type: string}}
      responses:
        "200":
          description: a lot
          headers:
            X-Served-By: {required: true, schema: {type: string}}
          content:
            application/json:
              schema: {$ref: "#/components/schemas/Lot"}
        "404": {description: none}
  /lots:
    post:
      operationId: create
      security: [{key: []}]
      requestBody:
        content:
          application/json:
            schema: {$ref: "#/components/schemas/NewLot"}
          text/csv: {schema: {type: string}}
      responses:
        "201": {description: made}
      callbacks:
        graded:
          "{$request.body#/tell}":
            post: {responses: {"200": {description: heard}}}
components:
  securitySchemes:
    key: {type: apiKey, in: header, name: X-Key}
    clerk: {type: http, scheme: basic}
  schemas:
    Lot:
      type: object
      required: [no, kilos]
      properties:
        no: {type: string, maxLength: 10}
        kilos: {type: number, minimum: 0}
        grade: {type: string, enum: [A, B]}
        remark: {type: [string, "null"]}
        readings:
          type: array
          minItems: 1
          items: {type: integer, format: int32}
        inside: {$ref: "#/components/schemas/Lot"}
        maker:
          oneOf: [{$ref: "#/components/schemas/Keeper"}, {$ref: "#/components/schemas/Firm"}]
    Keeper: {title: Keeper, type: object, properties: {name: {type: string}}}
    Firm: {title: Firm, type: object, properties: {firm: {type: string}}}
    NewLot:
      type: object
      additionalProperties: false
      required: [kilos]
      properties:
        kilos: {type: number, minimum: 0, maximum: 100, multipleOf: 0.5}
        grade: {type: string, enum: [A, B]}
        no: {type: string, minLength: 2, maxLength: 10, pattern: "L.*"}
        day: {type: string, format: date}
        tags: {type: array, maxItems: 5, items: {type: string}}
        note: {type: [string, "null"], default: none}
`

// Each change of one thing has a known verdict.
func TestOpenAPIChanges(t *testing.T) {
	for _, c := range []struct{ name, from, to, verdict, says string }{
		{"same", "", "", "", ""},
		{"operation gone", "      operationId: read\n", "      operationId: look\n", nobody, "has another name"},
		{"path moved", "  /lots:\n", "  /batches:\n", callers, "asked for in another way"},
		{
			"method changed", "    post:\n      operationId: create", "    put:\n      operationId: create", callers,
			"asked for in another way",
		},
		{
			"path parameter renamed",
			"/lots/{no}:\n    get:\n      operationId: read\n      parameters:\n        - {name: no,",
			"/lots/{lot}:\n    get:\n      operationId: read\n      parameters:\n        - {name: lot,", nobody, "",
		},
		{"address gone", "heatherfold.example/stores", "heatherfold.example/v2/stores", callers, "is gone"},
		{
			"deprecated", "      operationId: read\n", "      operationId: read\n      deprecated: true\n", nobody,
			"deprecated",
		},
		{
			"query parameter added, optional", "        - {name: view,",
			"        - {name: sort, in: query, schema: {type: string}}\n        - {name: view,", nobody,
			"may be left out",
		},
		{
			"query parameter added, mandatory", "        - {name: view,",
			"        - {name: sort, in: query, required: true, schema: {type: string}}\n        - {name: view,",
			callers, "has to be given",
		},
		{
			"query parameter gone", "        - {name: view, in: query, schema: {type: string, enum: [short, full]}}\n",
			"",
			callers, "query.view is gone",
		},
		{
			"query parameter mandatory now", "{name: view, in", "{name: view, required: true, in", callers,
			"has to be given now",
		},
		{
			"header optional now", "in: header, required: true, schema", "in: header, schema", nobody,
			"may be left out now",
		},
		{
			"parameter to another place", "{name: X-Depot, in: header, required: true",
			"{name: X-Depot, in: query, required: true", callers, "header.X-Depot is gone",
		},
		{
			"parameter of another kind", "{name: X-Depot, in: header, required: true, schema: {type: string}",
			"{name: X-Depot, in: header, required: true, schema: {type: integer}", callers, "another kind",
		},
		{
			"values of a parameter fewer", "enum: [short, full]", "enum: [short]", callers,
			"does not take this value any more: it was full",
		},
		{
			"values of a parameter more", "enum: [short, full]", "enum: [short, full, raw]", nobody,
			"one more value: raw",
		},
		{"least value raised", "minimum: 1, maximum: 50", "minimum: 2, maximum: 50", callers, "the least value"},
		{"greatest value raised", "minimum: 1, maximum: 50", "minimum: 1, maximum: 500", nobody, "the greatest value"},
		{"default another", "maximum: 50, default: 1", "maximum: 50, default: 2", callers, "stands for something else"},
		{
			"list written in another way", "{name: tags, in: query, schema",
			"{name: tags, in: query, explode: false, schema", callers, "written in another way",
		},
		{"pattern of a path parameter", `pattern: "L-[0-9]+"`, `pattern: "L-[0-9]{4}"`, callers, "another pattern"},
		{
			"login asked for", "      operationId: read\n", "      operationId: read\n      security: [{key: []}]\n",
			callers, "is asked for now",
		},
		{"login not asked for", "      security: [{key: []}]\n", "", nobody, "not asked for any more"},
		{"one more way in", "security: [{key: []}]", "security: [{key: []}, {clerk: []}]", nobody, "another way in"},
		{"another way in alone", "security: [{key: []}]", "security: [{clerk: []}]", callers, "this way in is gone"},
		{
			"body mandatory now", "      requestBody:\n", "      requestBody:\n        required: true\n", callers,
			"has to be given now",
		},
		{
			"content of a request gone", "          text/csv: {schema: {type: string}}\n", "", callers,
			"this content is gone",
		},
		{
			"content of a request more", "          text/csv:",
			"          text/plain: {schema: {type: string}}\n          text/csv:", nobody, "another content is there",
		},
		{
			"field of a request mandatory now", "      required: [kilos]\n", "      required: [kilos, grade]\n",
			callers,
			"grade has to be given now",
		},
		{"field of a request optional now", "      required: [kilos]\n", "", nobody, "kilos may be left out now"},
		{
			"field of a request new", "        day: {type", "        color: {type: string}\n        day: {type", nobody,
			"color is new and may be left out",
		},
		{"field of a request gone", "        day: {type: string, format: date}\n", "", callers, "day is gone"},
		{"format of a request", "format: date}", "format: date-time}", callers, "another type"},
		{
			"request longer", "minLength: 2, maxLength: 10, pattern", "minLength: 2, maxLength: 20, pattern", nobody,
			"greatest length",
		},
		{
			"request shorter", "minLength: 2, maxLength: 10, pattern", "minLength: 2, maxLength: 8, pattern", callers,
			"greatest length",
		},
		{
			"request least length", "minLength: 2, maxLength: 10, pattern", "maxLength: 10, pattern", nobody,
			"not bounded any more",
		},
		{"pattern of a request gone", `, pattern: "L.*"`, "", nobody, "another pattern"},
		{"fewer items", "maxItems: 5", "maxItems: 3", callers, "number of items"},
		{"finer multiple", "multipleOf: 0.5", "multipleOf: 0.25", nobody, "multiple"},
		{"coarser multiple", "multipleOf: 0.5", "multipleOf: 1", callers, "multiple"},
		{
			"null not taken", "note: {type: [string, \"null\"]", "note: {type: [string]", callers,
			"may not be null any more",
		},
		{"other members taken", "      additionalProperties: false\n", "", nobody, "not described now"},
		{
			"number to integer in a request", "kilos: {type: number, minimum: 0, maximum: 100, multipleOf: 0.5}",
			"kilos: {type: integer, minimum: 0, maximum: 100, multipleOf: 0.5}", callers,
			"another kind: number before, integer now",
		},
		{"field of an answer gone", "        remark: {type: [string, \"null\"]}\n", "", readers, "remark is gone"},
		{
			"field of an answer new", "        remark: {type", "        weight: {type: number}\n        remark: {type",
			nobody, "weight is new",
		},
		{
			"field of an answer may be missing", "required: [no, kilos]", "required: [no]", readers,
			"kilos may be missing now",
		},
		{
			"field of an answer always there", "required: [no, kilos]", "required: [no, kilos, grade]", nobody,
			"grade is always there now",
		},
		{
			"value of an answer more", "        grade: {type: string, enum: [A, B]}\n        remark",
			"        grade: {type: string, enum: [A, B, C]}\n        remark", readers, "one more value: C",
		},
		{
			"value of an answer fewer", "        grade: {type: string, enum: [A, B]}\n        remark",
			"        grade: {type: string, enum: [A]}\n        remark", nobody, "does not take this value",
		},
		{
			"null in an answer", "no: {type: string, maxLength: 10}\n        kilos: {type: number, minimum: 0}",
			"no: {type: string, maxLength: 10}\n        kilos: {type: [number, \"null\"], minimum: 0}", readers,
			"kilos may be null now",
		},
		{
			"no null in an answer", "remark: {type: [string, \"null\"]}", "remark: {type: string}", nobody,
			"may not be null any more",
		},
		{
			"text becomes number in an answer", "no: {type: string, maxLength: 10}", "no: {type: integer}", readers,
			"no is of another kind",
		},
		{
			"answer longer", "no: {type: string, maxLength: 10}", "no: {type: string, maxLength: 12}", readers,
			"greatest length",
		},
		{
			"integers of an answer longer", "items: {type: integer, format: int32}",
			"items: {type: integer, format: int64}", readers, "readings[*] has a wider type",
		},
		{"list of an answer may be empty", "          minItems: 1\n", "", readers, "number of items"},
		{
			"one more alternative", "{$ref: \"#/components/schemas/Firm\"}]",
			"{$ref: \"#/components/schemas/Firm\"}, {title: State, type: object}]", readers,
			"one more alternative: State",
		},
		{
			"within an alternative", "properties: {firm: {type: string}}", "properties: {firm: {type: boolean}}",
			readers,
			"maker.firm is of another kind",
		},
		{
			"status of success new", "        \"404\": {description: none}\n",
			"        \"404\": {description: none}\n        \"206\": {description: a part}\n", readers,
			"answer 206 is new",
		},
		{
			"status of failure new", "        \"404\": {description: none}\n",
			"        \"404\": {description: none}\n        \"429\": {description: later}\n", nobody,
			"answer 429 is new",
		},
		{"status gone", "        \"404\": {description: none}\n", "", nobody, "not given any more"},
		{
			"header of an answer gone", "            X-Served-By: {required: true, schema: {type: string}}\n",
			"            X-Other: {schema: {type: string}}\n", readers, "header.X-Served-By is gone",
		},
		{
			"header of an answer may be missing", "X-Served-By: {required: true, ", "X-Served-By: {", readers,
			"may be missing",
		},
		{
			"content of an answer another",
			"          content:\n            application/json:\n              schema: {$ref: \"#/components/schemas/Lot\"}", "          content:\n            application/xml:\n              schema: {$ref: \"#/components/schemas/Lot\"}", readers, "this content is gone",
		},
		{"callback gone", "        graded:\n", "        weighed:\n", readers, "callback graded is gone"},
		{
			"what cannot be told", "        grade: {type: string, enum: [A, B]}\n        no:",
			"        grade: {type: string, enum: [A, B], not: {const: B}}\n        no:", callers, "cannot be told",
		},
	} {
		t.Run(c.name, func(t *testing.T) { check(t, "stores.yaml", stores, c.from, c.to, c.verdict, c.says) })
	}
}

const scale = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:heatherfold:scale" targetNamespace="urn:heatherfold:scale">
<types><x:schema targetNamespace="urn:heatherfold:scale" elementFormDefault="qualified">
<x:element name="Weigh"><x:complexType><x:sequence><x:element name="lot" type="t:Lot"/><x:element name="unit" type="x:string" minOccurs="0"/><x:choice><x:element name="desk" type="x:int"/><x:element name="hall" type="x:int"/></x:choice></x:sequence><x:attribute name="urgent" type="x:boolean"/></x:complexType></x:element>
<x:element name="Weighed"><x:complexType><x:sequence><x:element name="kilos" type="x:decimal"/><x:element name="step" type="x:int" maxOccurs="3"/><x:element name="seen" type="x:dateTime" minOccurs="0"/></x:sequence></x:complexType></x:element>
<x:element name="Broken"><x:complexType><x:sequence><x:element name="code" type="x:string"/></x:sequence></x:complexType></x:element>
<x:element name="Ticket" type="x:string"/>
<x:simpleType name="Lot"><x:restriction base="x:string"><x:pattern value="L-[0-9]{4}"/></x:restriction></x:simpleType>
</x:schema></types>
<message name="In"><part name="p" element="t:Weigh"/></message><message name="Out"><part name="p" element="t:Weighed"/></message><message name="Fault"><part name="p" element="t:Broken"/></message><message name="Head"><part name="h" element="t:Ticket"/></message>
<portType name="Scale"><operation name="Weigh"><input message="t:In"/><output message="t:Out"/><fault name="Broken" message="t:Fault"/></operation></portType>
<binding name="B" type="t:Scale"><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Weigh"><s:operation soapAction="urn:weigh"/><input><s:body use="literal"/></input><output><s:body use="literal"/></output><fault name="Broken"><s:fault name="Broken" use="literal"/></fault></operation></binding>
<service name="S"><port name="P" binding="t:B"><s:address location="http://127.0.0.1:1/scale"/></port></service></definitions>`

func TestWSDLChanges(t *testing.T) {
	for _, c := range []struct{ name, from, to, verdict, says string }{
		{"same", "", "", "", ""},
		{"action", `soapAction="urn:weigh"`, `soapAction="urn:weigh2"`, callers, "another action"},
		{"address", "127.0.0.1:1/scale", "127.0.0.1:1/scales", callers, "another address"},
		{"namespace", "urn:heatherfold:scale", "urn:heatherfold:scale:2", both, "is another element"},
		{"operation renamed", `name="Weigh"><input`, `name="Weight"><input`, callers, "is gone"},
		{
			"element of a request new, optional", `<x:element name="unit"`,
			`<x:element name="by" type="x:string" minOccurs="0"/><x:element name="unit"`, nobody,
			"by is new and may be left out",
		},
		{
			"element of a request new, mandatory", `<x:element name="unit"`,
			`<x:element name="by" type="x:string"/><x:element name="unit"`, callers, "by is new and has to be given",
		},
		{
			"element of a request mandatory now", `name="unit" type="x:string" minOccurs="0"`,
			`name="unit" type="x:string"`, callers, "has to be given now",
		},
		{"order of a request", `<x:element name="lot" type="t:Lot"/><x:element name="unit" type="x:string" minOccurs="0"/>`, `<x:element name="unit" type="x:string" minOccurs="0"/><x:element name="lot" type="t:Lot"/>`, callers, "in another order"},
		{
			"type of a request wider", `name="desk" type="x:int"`, `name="desk" type="x:long"`, nobody,
			"a wider type: int before, long now",
		},
		{
			"type of a request narrower", `name="hall" type="x:int"`, `name="hall" type="x:short"`, callers,
			"a narrower type",
		},
		{"choice left", `<x:element name="hall" type="x:int"/>`, ``, callers, "hall is gone"},
		{
			"choice more", `<x:element name="hall" type="x:int"/>`,
			`<x:element name="hall" type="x:int"/><x:element name="yard" type="x:int"/>`, nobody, "yard is new",
		},
		{
			"attribute mandatory now", `name="urgent" type="x:boolean"`,
			`name="urgent" type="x:boolean" use="required"`,
			callers, "@urgent has to be given now",
		},
		{"attribute gone", `<x:attribute name="urgent" type="x:boolean"/>`, ``, callers, "@urgent is gone"},
		{"pattern", `L-[0-9]{4}`, `L-[0-9]{5}`, callers, "another pattern"},
		{
			"element of an answer new", `<x:element name="seen"`,
			`<x:element name="by" type="x:string" minOccurs="0"/><x:element name="seen"`, readers, "by is new",
		},
		{
			"element of an answer may be missing", `name="kilos" type="x:decimal"`,
			`name="kilos" type="x:decimal" minOccurs="0"`, readers, "kilos may be missing now",
		},
		{
			"element of an answer more often", `maxOccurs="3"`, `maxOccurs="unbounded"`, readers,
			"another number of times: 1 to 3 before, 1 or more now",
		},
		{"element of an answer less often", `maxOccurs="3"`, `maxOccurs="2"`, nobody, "another number of times"},
		{
			"element of an answer nil", `name="kilos" type="x:decimal"`,
			`name="kilos" type="x:decimal" nillable="true"`,
			readers, "may be null now",
		},
		{
			"type of an answer narrower", `name="kilos" type="x:decimal"`, `name="kilos" type="x:integer"`, nobody,
			"a narrower type",
		},
		{
			"type of an answer another", `name="seen" type="x:dateTime"`, `name="seen" type="x:date"`, readers,
			"another type",
		},
		{"fault gone", `<fault name="Broken" message="t:Fault"/>`, ``, nobody, "not declared any more"},
		{
			"detail of a fault", `name="code" type="x:string"`, `name="code" type="x:string" minOccurs="0"`, readers,
			"code may be missing now",
		},
		{
			"header block", `<input><s:body use="literal"/>`,
			`<input><s:header message="t:Head" part="h" use="literal"/><s:body use="literal"/>`, callers,
			"a header block that is new",
		},
		{
			"SOAP 1.2", `http://schemas.xmlsoap.org/wsdl/soap/`, `http://schemas.xmlsoap.org/wsdl/soap12/`, both,
			"another protocol",
		},
		{
			"one-way", `<output message="t:Out"/><fault name="Broken" message="t:Fault"/>`, ``, readers,
			"is not given any more",
		},
	} {
		t.Run(c.name, func(t *testing.T) { check(t, "scale.wsdl", scale, c.from, c.to, c.verdict, c.says) })
	}
}

const books = `<edmx:Edmx Version="4.0" xmlns:edmx="http://docs.oasis-open.org/odata/ns/edmx"><edmx:DataServices><Schema Namespace="Books" xmlns="http://docs.oasis-open.org/odata/ns/edm">
<EnumType Name="State"><Member Name="open"/><Member Name="shut"/></EnumType>
<EntityType Name="Order"><Key><PropertyRef Name="no"/></Key><Property Name="no" Type="Edm.String" Nullable="false" MaxLength="10"/><Property Name="total" Type="Edm.Decimal" Precision="9" Scale="2" Nullable="false"/><Property Name="pieces" Type="Edm.Int32"/><Property Name="state" Type="Books.State"/></EntityType>
<EntityContainer Name="C"><EntitySet Name="Orders" EntityType="Books.Order"/><EntitySet Name="Old" EntityType="Books.Order"/></EntityContainer></Schema></edmx:DataServices></edmx:Edmx>`

func TestODataChanges(t *testing.T) {
	for _, c := range []struct{ name, from, to, verdict, says string }{
		{"same", "", "", "", ""},
		{"entity set gone", `<EntitySet Name="Old" EntityType="Books.Order"/>`, ``, callers, "is gone"},
		{
			"entity set new", `<EntitySet Name="Old"`,
			`<EntitySet Name="New" EntityType="Books.Order"/><EntitySet Name="Old"`, nobody, "is new",
		},
		{
			"property new", `<Property Name="state"`, `<Property Name="by" Type="Edm.String"/><Property Name="state"`,
			nobody, "by is new",
		},
		{
			"property new, mandatory", `<Property Name="state"`,
			`<Property Name="by" Type="Edm.String" Nullable="false"/><Property Name="state"`, callers,
			"by is new and has to be given",
		},
		{"property gone", `<Property Name="pieces" Type="Edm.Int32"/>`, ``, both, "pieces is gone"},
		{"property longer", `MaxLength="10"`, `MaxLength="20"`, readers, "greatest length"},
		{"type wider", `Type="Edm.Int32"`, `Type="Edm.Int64"`, readers, "a wider type"},
		{
			"no null any more", `Name="pieces" Type="Edm.Int32"`, `Name="pieces" Type="Edm.Int32" Nullable="false"`,
			callers, "may not be null any more",
		},
		{"null", `Scale="2" Nullable="false"`, `Scale="2"`, readers, "may be null now"},
		{
			"one more value", `<Member Name="shut"/>`, `<Member Name="shut"/><Member Name="lost"/>`, readers,
			"one more value: lost",
		},
		{"more digits", `Precision="9"`, `Precision="12"`, readers, "number of digits"},
	} {
		t.Run(c.name, func(t *testing.T) { check(t, "books.xml", books, c.from, c.to, c.verdict, c.says) })
	}
}

// check makes the change, both ways of asking, and holds what is said against what is
// known.
func check(t *testing.T, name, text, from, to, verdict, says string) {
	require.Contains(t, text, from)
	changed := text
	if from != "" {
		changed = strings.ReplaceAll(text, from, to)
	}
	changes, err := versions.Compare(read(t, name, text), read(t, name, changed))
	require.NoError(t, err)
	if verdict == "" || verdict == nobody && says == "" {
		assert.Empty(t, changes)
		return
	}
	total := versions.Change{}
	var lines []string
	for _, c := range changes {
		total.Callers, total.Readers = total.Callers || c.Callers, total.Readers || c.Readers
		line := strings.Join(strings.Fields(strings.Join([]string{c.Where, c.Path, c.What}, " ")), " ")
		switch {
		case c.Before != "" && c.After != "":
			line += ": " + c.Before + " before, " + c.After + " now"
		case c.After != "":
			line += ": " + c.After
		case c.Before != "":
			line += ": it was " + c.Before
		}
		lines = append(lines, c.Operation+" "+line+" ("+c.Verdict()+")")
	}
	assert.Equal(t, verdict, total.Verdict(), strings.Join(lines, "\n"))
	assert.Contains(t, strings.Join(lines, "\n"), says)
}

func read(t testing.TB, name, text string) contract.Contract {
	c, err := formats.Read(name, []byte(text), func(string, string) (string, []byte, error) {
		return "", nil, errors.New("nothing is fetched")
	})
	require.NoError(t, err)
	return c
}

// Schemas alone go both ways.
func TestSchemaChanges(t *testing.T) {
	const json = `{"$schema": "https://json-schema.org/draft/2020-12/schema", "type": "object", "properties": {"a": {"type": "string", "maxLength": 5}, "b": {"$ref": "#"}}}`
	check(t, "a.json", json, `5`, `6`, readers, "greatest length")
	check(t, "a.json", json, `5`, `4`, callers, "greatest length")
	check(t, "a.json", json, `"string"`, `"boolean"`, both, "another kind")
	const schema = `<x:schema xmlns:x="http://www.w3.org/2001/XMLSchema"><x:element name="a" type="x:int"/><x:element name="b" type="x:int"/></x:schema>`
	check(t, "a.xsd", schema, `<x:element name="b" type="x:int"/>`, ``, callers, "element b is gone")
	_, err := versions.Compare(read(t, "a.xsd", schema), read(t, "a.json", json))
	assert.ErrorContains(t, err, "the first is XML Schema and the second is JSON Schema")
}

// The demo's contracts are the same as themselves, and as a version that is written anew.
func TestSame(t *testing.T) {
	for _, file := range []string{"../../standin/demo/lab.wsdl", "../../standin/scale/scale.wsdl"} {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		read := func() contract.Contract {
			c, err := formats.Read(file, data, func(_, location string) (string, []byte, error) {
				data, err := os.ReadFile("../../standin/" + location)
				return location, data, err
			})
			require.NoError(t, err)
			return c
		}
		changes, err := versions.Compare(read(), read())
		require.NoError(t, err)
		assert.Empty(t, changes)
	}
}
