package xsd

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// loadAll loads the first of several documents, which refer to one another.
func loadAll(documents map[string]string) (*Schema, error) {
	l := &Loader{Fetch: func(base, location string) (string, []byte, error) {
		if text, ok := documents[location]; ok {
			return location, []byte(text), nil
		}
		return "", nil, errors.New("no such file")
	}}
	if err := l.Load("main.xsd"); err != nil {
		return nil, err
	}
	return l.Schema()
}

func schemaText(namespace, inside string) string {
	target := ""
	if namespace != "" {
		target = fmt.Sprintf(` targetNamespace=%q xmlns:m=%q`, namespace, namespace)
	}
	return `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:o="urn:other" xmlns:a="urn:a" elementFormDefault="qualified"` + target + `>` + inside + `</xs:schema>`
}

func TestDocuments(t *testing.T) {
	for _, c := range []struct {
		name      string
		documents map[string]string
		valid     []string
		invalid   []string
		warning   string
	}{
		{"include", map[string]string{
			"main.xsd": schemaText("urn:a", `<xs:include schemaLocation="b.xsd"/><xs:element name="e" type="a:T"/>`),
			"b.xsd":    schemaText("urn:a", `<xs:simpleType name="T"><xs:restriction base="xs:int"/></xs:simpleType>`),
		}, []string{`<e xmlns="urn:a">1</e>`}, []string{`<e xmlns="urn:a">x</e>`}, ""},
		{
			"include in a circle, chameleon",
			map[string]string{
				"main.xsd": schemaText("urn:a",
					`<xs:include schemaLocation="b.xsd"/><xs:element name="e" type="a:T"/>`),
				"b.xsd": schemaText("",
					`<xs:include schemaLocation="c.xsd"/><xs:complexType name="T"><xs:sequence><xs:element name="i" type="U"/></xs:sequence></xs:complexType>`),
				"c.xsd": schemaText("",
					`<xs:include schemaLocation="b.xsd"/><xs:simpleType name="U"><xs:restriction base="xs:int"/></xs:simpleType>`),
			},
			[]string{`<e xmlns="urn:a"><i>1</i></e>`},
			[]string{`<e xmlns="urn:a"><i xmlns="">1</i></e>`, `<e xmlns="urn:a"><i>x</i></e>`},
			"",
		},
		{"import in a circle", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:import namespace="urn:other" schemaLocation="other.xsd"/><xs:element name="e" type="o:T"/><xs:simpleType name="I"><xs:restriction base="xs:int"/></xs:simpleType>`),
			"other.xsd": schemaText("urn:other",
				`<xs:import namespace="urn:a" schemaLocation="main.xsd"/><xs:complexType name="T"><xs:sequence><xs:element name="i" type="a:I"/></xs:sequence></xs:complexType>`),
		}, []string{`<e xmlns="urn:a"><i xmlns="urn:other">1</i></e>`}, []string{`<e xmlns="urn:a"><i>1</i></e>`}, ""},
		{
			"redefine",
			map[string]string{
				"main.xsd": schemaText("urn:a", `<xs:redefine schemaLocation="b.xsd"><xs:simpleType name="T"><xs:restriction base="a:T"><xs:maxInclusive value="5"/></xs:restriction></xs:simpleType>
<xs:complexType name="C"><xs:complexContent><xs:extension base="a:C"><xs:sequence><xs:element name="more" type="xs:int"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType></xs:redefine>
<xs:element name="e" type="a:T"/><xs:element name="c" type="a:C"/>`),
				"b.xsd": schemaText("urn:a",
					`<xs:simpleType name="T"><xs:restriction base="xs:int"/></xs:simpleType><xs:complexType name="C"><xs:sequence><xs:element name="one" type="a:T"/></xs:sequence></xs:complexType>`),
			},
			[]string{`<e xmlns="urn:a">5</e>`, `<c xmlns="urn:a"><one>1</one><more>1</more></c>`},
			[]string{
				`<e xmlns="urn:a">6</e>`, `<c xmlns="urn:a"><one>1</one></c>`,
				`<c xmlns="urn:a"><one>6</one><more>1</more></c>`,
			},
			"",
		},
		{
			"an import that cannot be reached",
			map[string]string{
				"main.xsd": schemaText("urn:a",
					`<xs:import namespace="urn:other" schemaLocation="gone.xsd"/><xs:element name="e" type="xs:int"/><xs:element name="f" type="o:T"/>`),
			},
			[]string{`<e xmlns="urn:a">5</e>`, `<f xmlns="urn:a"><any/></f>`},
			[]string{`<e xmlns="urn:a">x</e>`},
			"gone.xsd could not be loaded: no such file",
		},
		{
			"well-known without a location",
			map[string]string{
				"main.xsd": schemaText("urn:a",
					`<xs:import namespace="http://www.w3.org/XML/1998/namespace"/><xs:import namespace="http://schemas.xmlsoap.org/soap/encoding/" schemaLocation="http://nowhere.example/e.xsd"/><xs:element name="e"><xs:complexType><xs:attribute ref="xml:lang" use="required"/></xs:complexType></xs:element>`),
			},
			[]string{`<e xmlns="urn:a" xml:lang="de"/>`, `<e xmlns="urn:a" xml:lang=""/>`},
			[]string{`<e xmlns="urn:a"/>`, `<e xmlns="urn:a" xml:lang="no language"/>`},
			"",
		},
		{
			"a draft of 2000",
			map[string]string{
				"main.xsd": `<s:schema xmlns:s="http://www.w3.org/2000/10/XMLSchema" targetNamespace="urn:a"><s:element name="e" type="s:timeInstant"/><s:element name="f" type="s:uriReference"/></s:schema>`,
			},
			[]string{`<e xmlns="urn:a">2026-05-04T08:30:00</e>`},
			[]string{`<e xmlns="urn:a">2026</e>`},
			"it is written in the draft",
		},
		{"a schema that includes itself", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:include schemaLocation="main.xsd"/><xs:element name="e" type="xs:int"/>`),
		}, []string{`<e xmlns="urn:a">5</e>`}, []string{`<e xmlns="urn:a">x</e>`}, ""},
		{"ambiguous", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:element name="e"><xs:complexType><xs:sequence><xs:element name="x" minOccurs="0"/><xs:element name="x"/></xs:sequence></xs:complexType></xs:element>`),
		}, nil, nil, "x could belong to two places of the content model (unique particle attribution)"},
		{"all with a name twice", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:element name="e"><xs:complexType><xs:all><xs:element name="x" type="xs:int"/><xs:element name="x" type="xs:date"/></xs:all></xs:complexType></xs:element>`),
		}, nil, nil, "x is in all twice"},
		{"wildcards that cannot be united", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:complexType name="B"><xs:anyAttribute namespace="##other"/></xs:complexType><xs:complexType name="E"><xs:complexContent><xs:extension base="a:B"><xs:anyAttribute namespace="##local urn:o"/></xs:extension></xs:complexContent></xs:complexType>`),
		}, nil, nil, "come to none that could be written"},
		{"a restriction that allows more", map[string]string{
			"main.xsd": schemaText("urn:a",
				`<xs:complexType name="B"><xs:sequence><xs:element name="x"/></xs:sequence></xs:complexType><xs:complexType name="R"><xs:complexContent><xs:restriction base="a:B"><xs:sequence><xs:element name="x" minOccurs="0"/></xs:sequence></xs:restriction></xs:complexContent></xs:complexType>`),
		}, nil, nil, "R allows less than its base B asks for: it may end too early"},
	} {
		t.Run(c.name, func(t *testing.T) {
			schema, err := loadAll(c.documents)
			require.NoError(t, err)
			for _, instance := range c.valid {
				faults, err := FaultsOf(schema, instance)
				require.NoError(t, err)
				assert.Empty(t, faults, instance)
			}
			for _, instance := range c.invalid {
				faults, err := FaultsOf(schema, instance)
				require.NoError(t, err)
				assert.NotEmpty(t, faults, instance)
			}
			if c.warning == "" {
				assert.Empty(t, schema.Warnings())
			} else if assert.NotEmpty(t, schema.Warnings()) {
				assert.Contains(t, fmt.Sprint(schema.Warnings()), c.warning)
			}
		})
	}
}

func TestBrokenSchemas(t *testing.T) {
	for _, c := range []struct{ inside, want string }{
		{`<xs:element name="e" type="a:Missing"/>`, "main.xsd:1:163: there is no type {urn:a}Missing"},
		{
			`<xs:element name="e" type="a:Lott"/><xs:complexType name="Lot"/>`,
			`there is no type {urn:a}Lott; did you mean "Lot"?`,
		},
		{
			`<xs:element name="e" type="xs:integr"/>`,
			`there is no type {http://www.w3.org/2001/XMLSchema}integr; did you mean "integer"?`,
		},
		{`<xs:element name="e" type="o:T"/>`, "there is no type {urn:other}T; its namespace is not imported"},
		{`<xs:element name="e" type="z:T"/>`, "the prefix of z:T is not declared there"},
		{`<xs:elemnt name="e"/>`, `elemnt is not allowed in schema; did you mean "element"?`},
		{`<xs:element name="e" minOcurs="0"/>`, `element has no attribute minOcurs; did you mean "minOccurs"?`},
		{`<xs:element name="e"/><xs:element name="e"/>`, "element e is declared twice, first at main.xsd:1"},
		{`<xs:element/>`, "element at the top of a schema needs a name"},
		{`<xs:simpleType name="T"><xs:restriction base="a:T"/></xs:simpleType>`, "the type T is derived from itself"},
		{
			`<xs:complexType name="T"><xs:complexContent><xs:extension base="a:T"/></xs:complexContent></xs:complexType>`,
			"the type T is derived from itself",
		},
		{`<xs:complexType name="T"><xs:complexContent><xs:extension base="a:U"/></xs:complexContent></xs:complexType><xs:complexType name="U"><xs:complexContent><xs:extension base="a:T"/></xs:complexContent></xs:complexType>`, "is derived from itself"},
		{`<xs:group name="g"><xs:sequence><xs:group ref="a:g"/></xs:sequence></xs:group>`, "the group g holds itself"},
		{
			`<xs:attributeGroup name="g"><xs:attributeGroup ref="a:g"/></xs:attributeGroup>`,
			"the attribute group g holds itself",
		},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:pattern value="[a"/></xs:restriction></xs:simpleType>`, "at character 3 of the pattern: [ is not closed"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:maxInclusive value="x"/></xs:restriction></xs:simpleType>`, `maxInclusive: "x" is not a decimal number`},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:minInclusive value="5"/><xs:maxInclusive value="4"/></xs:restriction></xs:simpleType>`, "the least value 5 is not under the most, 4"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:length value="5"/></xs:restriction></xs:simpleType>`, "the facet length cannot be used with this type"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:enumeration value="a"/></xs:restriction></xs:simpleType>`, "the value is not allowed in the enumeration"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:maxLength value="5"/></xs:restriction></xs:simpleType><xs:simpleType name="U"><xs:restriction base="a:T"><xs:maxLength value="6"/></xs:restriction></xs:simpleType>`, "maxLength 6 is over the 5 of the base type"},
		{`<xs:element name="e" type="xs:int" default="x"/>`, "the default of the element e is not a value of its type"},
		{`<xs:element name="e" type="xs:int" default="1" fixed="1"/>`, "default and fixed are not allowed together"},
		{`<xs:complexType name="T"><xs:sequence><xs:element name="x" minOccurs="3" maxOccurs="2"/></xs:sequence></xs:complexType>`, "maxOccurs is under minOccurs"},
		{
			`<xs:complexType name="T"><xs:sequence><xs:element name="x" maxOccurs="many"/></xs:sequence></xs:complexType>`,
			`maxOccurs is a number, not "many"`,
		},
		{
			`<xs:complexType name="T"><xs:attribute name="x"/><xs:attribute name="x"/></xs:complexType>`,
			"the attribute x is declared twice",
		},
		{`<xs:simpleType name="F" final="restriction"><xs:restriction base="xs:int"/></xs:simpleType><xs:simpleType name="T"><xs:restriction base="a:F"/></xs:simpleType>`, "the type F is final: it cannot be restricted"},
		{`<xs:complexType name="F" final="extension"/><xs:complexType name="T"><xs:complexContent><xs:extension base="a:F"/></xs:complexContent></xs:complexType>`, "the type F is final: extension of it is not allowed"},
		{
			`<xs:element name="h" type="xs:int"/><xs:element name="m" type="xs:string" substitutionGroup="a:h"/>`,
			"m cannot replace h: its type is not derived from that one's",
		},
		{`<xs:element name="e"><xs:complexType/><xs:key name="k"><xs:selector xpath="a//b"/><xs:field xpath="@x"/></xs:key></xs:element>`, `selector: "a//b": "" is not a step that a key can use`},
		{`<xs:element name="e"><xs:complexType/><xs:keyref name="k" refer="a:none"><xs:selector xpath="x"/><xs:field xpath="@x"/></xs:keyref></xs:element>`, "k refers to none, which is not a key"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:maxInclusive value="5" fixed="true"/></xs:restriction></xs:simpleType><xs:simpleType name="U"><xs:restriction base="a:T"><xs:maxInclusive value="4"/></xs:restriction></xs:simpleType>`, "the facet maxInclusive is fixed in T and cannot be changed"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:minLength value="2" fixed="true"/></xs:restriction></xs:simpleType><xs:simpleType name="U"><xs:restriction base="a:T"><xs:minLength value="3"/></xs:restriction></xs:simpleType>`, "the facet minLength is fixed in T and cannot be changed"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:token"><xs:whiteSpace value="preserve"/></xs:restriction></xs:simpleType>`, "whiteSpace cannot be preserve where the base type has more done to spaces"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:whiteSpace value="trim"/></xs:restriction></xs:simpleType>`, `whiteSpace can be preserve, replace or collapse, not "trim"`},
		{`<xs:simpleType name="T"><xs:restriction base="xs:int"><xs:whiteSpace value="replace"/></xs:restriction></xs:simpleType>`, "the facet whiteSpace is fixed in int and cannot be changed"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:maxLength value="3"/><xs:maxLength value="4"/></xs:restriction></xs:simpleType>`, "the facet maxLength is there twice"},
		{
			`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:maxLength/></xs:restriction></xs:simpleType>`,
			"the facet maxLength has no value",
		},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:minInclusive value="a"/></xs:restriction></xs:simpleType>`, "the facet minInclusive cannot be used with this type"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:decimal"><xs:totalDigits value="2"/><xs:fractionDigits value="3"/></xs:restriction></xs:simpleType>`, "fractionDigits 3 is over totalDigits 2"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:decimal"><xs:totalDigits value="0"/></xs:restriction></xs:simpleType>`, `totalDigits is a number, not "0"`},
		{`<xs:simpleType name="T"><xs:restriction base="xs:string"><xs:length value="3"/><xs:minLength value="4"/></xs:restriction></xs:simpleType>`, "length 3 contradicts minLength or maxLength"},
		{`<xs:simpleType name="T"><xs:restriction base="xs:NOTATION"><xs:enumeration value="a:none"/></xs:restriction></xs:simpleType>`, "there is no notation {urn:a}none"},
		{`<xs:simpleType name="T"/>`, "simpleType needs restriction, list or union"},
		{`<xs:simpleType name="T"><xs:list/></xs:simpleType>`, "list needs an itemType or a simpleType inside"},
		{`<xs:simpleType name="T"><xs:union/></xs:simpleType>`, "union needs memberTypes or a simpleType inside"},
		{
			`<xs:simpleType name="T"><xs:list itemType="xs:NMTOKENS"/></xs:simpleType>`,
			"a list cannot have lists as its items",
		},
		{
			`<xs:simpleType name="T"><xs:restriction base="a:C"/></xs:simpleType><xs:complexType name="C"/>`,
			"a:C is a complex type; a simple one is needed",
		},
		{`<xs:complexType name="C"><xs:simpleContent><xs:restriction base="xs:int"/></xs:simpleContent></xs:complexType>`, "a simple type cannot be restricted in simpleContent"},
		{`<xs:complexType name="C"><xs:complexContent><xs:extension base="xs:int"/></xs:complexContent></xs:complexType>`, "complexContent needs a complex type to derive from; for the simple type int write simpleContent"},
		{`<xs:complexType name="C"><xs:simpleContent><xs:extension base="a:D"/></xs:simpleContent></xs:complexType><xs:complexType name="D"><xs:sequence><xs:element name="x"/></xs:sequence></xs:complexType>`, "D has no simple content to derive from"},
		{
			`<xs:complexType name="C"><xs:complexContent/></xs:complexType>`,
			"complexContent needs extension or restriction",
		},
		{`<xs:complexType name="C"><xs:complexContent><xs:restriction base="a:D"><xs:attribute name="x"/></xs:restriction></xs:complexContent></xs:complexType><xs:complexType name="D"><xs:attribute name="x" use="required"/></xs:complexType>`, "the attribute x is required in D and cannot be optional here"},
		{`<xs:complexType name="C"><xs:complexContent><xs:restriction base="a:D"><xs:attribute name="x" use="prohibited"/></xs:restriction></xs:complexContent></xs:complexType><xs:complexType name="D"><xs:attribute name="x" use="required"/></xs:complexType>`, "the attribute x is required in D and cannot be prohibited"},
		{`<xs:complexType name="C"><xs:complexContent><xs:extension base="a:D"><xs:attribute name="x"/></xs:extension></xs:complexContent></xs:complexType><xs:complexType name="D"><xs:attribute name="x"/></xs:complexType>`, "the attribute x is in D already"},
		{`<xs:complexType name="C"><xs:attribute name="x" type="xs:ID"/><xs:attribute name="y" type="xs:ID"/></xs:complexType>`, "a type cannot have two attributes of type ID"},
		{
			`<xs:complexType name="C"><xs:attribute name="x" use="required" default="1"/></xs:complexType>`,
			"a required attribute cannot have a default",
		},
		{
			`<xs:complexType name="C"><xs:attribute name="x" use="maybe"/></xs:complexType>`,
			`use can be optional, required or prohibited, not "maybe"`,
		},
		{
			`<xs:complexType name="C"><xs:sequence><xs:any processContents="loose"/></xs:sequence></xs:complexType>`,
			`processContents can be strict, lax or skip, not "loose"`,
		},
		{`<xs:complexType name="C"><xs:sequence><xs:group ref="a:all"/></xs:sequence></xs:complexType><xs:group name="all"><xs:all><xs:element name="x"/></xs:all></xs:group>`, "all is allowed only alone as the content of a type"},
		{
			`<xs:complexType name="C"><xs:all><xs:element name="x" maxOccurs="2"/></xs:all></xs:complexType>`,
			"an element of all can occur once at most",
		},
		{`<xs:complexType name="C"><xs:complexContent><xs:extension base="a:D"><xs:sequence><xs:element name="y"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType><xs:complexType name="D"><xs:all><xs:element name="x"/></xs:all></xs:complexType>`, "a type whose content is all cannot be extended"},
		{`<xs:element name="e" substitutionGroup="a:e"/>`, "e is in its own substitution group"},
		{`<xs:element name="e" substitutionGroup="a:none"/>`, "there is no element {urn:a}none"},
		{`<xs:element name="e" type="xs:int"><xs:simpleType><xs:restriction base="xs:int"/></xs:simpleType></xs:element>`, "the element e has both a type attribute and a type inside"},
		{`<xs:element name="e" nillable="yes"/>`, `nillable can be true or false, not "yes"`},
		{`<xs:element name="e" block="all"/>`, `"all" is not allowed in block`},
		{`<xs:element name="e"><xs:complexType><xs:sequence/></xs:complexType><xs:key name="k"><xs:selector xpath="x"/><xs:field xpath="@a/b"/></xs:key></xs:element>`, "an attribute is allowed only at the end of a field"},
		{`<xs:element name="e"><xs:complexType/><xs:key name="k"><xs:selector xpath="x"/><xs:field xpath="@a"/></xs:key><xs:keyref name="r" refer="a:k"><xs:selector xpath="x"/><xs:field xpath="@a"/><xs:field xpath="@b"/></xs:keyref></xs:element>`, "r has 2 fields, the key k has 1"},
		{
			`<xs:element name="e"><xs:complexType/><xs:key name="k"><xs:selector xpath="x"/></xs:key></xs:element>`,
			"key needs a selector and at least one field",
		},
		{`<xs:element name="e" type="xs:ID" default="x"/>`, "is an ID and cannot have a default"},
		{`<xs:element name="e" default="x"><xs:complexType><xs:sequence><xs:element name="y"/></xs:sequence></xs:complexType></xs:element>`, "the element e has a default, but its type holds no text"},
		{`<xs:include/>`, "include needs a schemaLocation"},
		{`<xs:include schemaLocation="other.xsd"/>`, "other.xsd has the namespace"},
		{`<xs:redefine schemaLocation="same.xsd"><xs:simpleType name="None"><xs:restriction base="a:None"/></xs:simpleType></xs:redefine>`, "simpleType None is not in what is redefined"},
		{`text`, `the text "text" is not allowed in schema`},
	} {
		_, err := loadAll(map[string]string{
			"main.xsd":  schemaText("urn:a", c.inside),
			"other.xsd": schemaText("urn:other", ""), "same.xsd": schemaText("urn:a", ""),
		})
		var broken *SchemaError
		if assert.ErrorAs(t, err, &broken, c.inside) {
			assert.Contains(t, err.Error(), c.want, c.inside)
			assert.NotZero(t, broken.Problems[0].Line, c.inside)
		}
	}
	for text, want := range map[string]string{
		"<a/>":                            "main.xsd:1:1: <a> is not a schema",
		"no":                              "main.xsd:1:1: not well-formed XML",
		"<!DOCTYPE a []><a/>":             "DOCTYPE",
		strings.Repeat("<a>", 100_000):    "nested deeper than 1000",
		`<schema xmlns="urn:something"/>`: "is not a schema",
	} {
		_, err := loadAll(map[string]string{"main.xsd": text})
		assert.ErrorContains(t, err, want)
	}
}
