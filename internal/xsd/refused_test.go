package xsd

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// refusedCase is a schema that is forbidden in one place, and read all the same.
type refusedCase struct {
	name, inside, want string
	libxml             bool // libxml2 refuses it too
}

var refusedCases = []refusedCase{
	{"unique particle attribution", `<element name="r"><complexType><sequence><element name="a" type="string" minOccurs="0"/><element name="a" type="string"/></sequence></complexType></element>`, "the content of a type is ambiguous: a could belong to two places of the content model (unique particle attribution)", true},
	{"consistent elements", `<element name="r"><complexType><sequence><element name="a" type="string"/><element name="b"/><element name="a" type="int"/></sequence></complexType></element>`, "a is in a type with two types", false},
	{"twice in all", `<element name="r"><complexType><all><element name="a" type="string"/><element name="a" type="string"/></all></complexType></element>`, "the content of a type is ambiguous: a is in all twice (unique particle attribution)", true},
	{"both lower bounds", `<simpleType name="s"><restriction base="int"><minInclusive value="1"/><minExclusive value="0"/></restriction></simpleType>`, "a restriction has minInclusive and minExclusive, and may have one of them", true},
	{"both upper bounds", `<simpleType name="s"><restriction base="int"><maxExclusive value="9"/><maxInclusive value="8"/></restriction></simpleType>`, "a restriction has maxInclusive and maxExclusive, and may have one of them", true},
	{"length beside minLength", `<simpleType name="s"><restriction base="string"><length value="1"/><minLength value="0"/></restriction></simpleType>`, "a restriction has length and minLength, and may have one of them", true},
	{"final for unions", `<simpleType name="s" final="union"><restriction base="int"/></simpleType><simpleType name="u"><union memberTypes="t:s string"/></simpleType>`, "the type s is final, and cannot be a member of a union", true},
	{"minOccurs at the top", `<element name="r" minOccurs="0" type="string"/>`, "minOccurs is not allowed at the top of a schema, and has no effect", true},
	{"use at the top", `<attribute name="r" use="required" type="string"/>`, "use is not allowed at the top of a schema, and has no effect", true},
	{"attribute before the particle", `<complexType name="c"><attribute name="a" type="string"/><sequence><element name="b" type="string"/></sequence></complexType>`, "sequence is after attribute, and must be before it", true},
	{"attributeGroup before the particle", `<attributeGroup name="g"/><complexType name="c"><complexContent><extension base="anyType"><attributeGroup ref="t:g"/><choice/></extension></complexContent></complexType>`, "choice is after attributeGroup, and must be before it", true},
}

func (c refusedCase) schema() string {
	return `<schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:t" xmlns:t="urn:t">` + c.inside +
		`<element name="ok" type="string"/></schema>`
}

// What others refuse a schema for is told, once, and the rest of the schema is used.
func TestRefused(t *testing.T) {
	for _, c := range refusedCases {
		t.Run(c.name, func(t *testing.T) {
			s, err := loadAll(map[string]string{"main.xsd": c.schema()})
			require.NoError(t, err)
			refused := s.Refused()
			require.Len(t, refused, 1)
			assert.Equal(t, c.want, refused[0].Message)
			assert.Contains(t, refused[0].String(), "; other toolkits refuse the schema because of it")
			assert.NotNil(t, s.Element("urn:t", "ok"))
		})
	}
	s, err := loadAll(map[string]string{"main.xsd": refusedCase{inside: `<simpleType name="s"><restriction base="int"><minInclusive value="1"/><maxExclusive value="9"/></restriction></simpleType><complexType name="c"><sequence minOccurs="0"><element name="b" type="string" form="qualified"/></sequence><attribute name="a" use="required"/></complexType>`}.schema()})
	require.NoError(t, err)
	assert.Empty(t, s.Refused())
}
