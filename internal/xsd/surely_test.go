package xsd

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is taken at a glance is valid at a closer look too.
func TestSurely(t *testing.T) {
	glanced := 0
	for _, c := range simpleCases {
		schema := LoadText(t, SchemaHead+`<xs:element name="v"><xs:simpleType><xs:restriction base="xs:`+c.base+`">`+
			strings.NewReplacer("</", "</xs:", "<", "<xs:").Replace(c.facets)+
			`</xs:restriction></xs:simpleType></xs:element></xs:schema>`)
		typ := schema.Element("urn:t", "v").Type.(*SimpleType)
		for _, text := range strings.Split(c.holds+"|"+c.falls, "|") {
			for _, blanks := range []string{text, " " + text, text + "\n", text + "  x"} {
				if typ.surely([]byte(blanks)) {
					glanced++
					assert.NoError(t, typ.Check(blanks, nil), "%s %s %q", c.base, c.facets, blanks)
				}
			}
		}
	}
	assert.Greater(t, glanced, 50)
}
