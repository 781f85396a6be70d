package xsd

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// pair is one instance with the schema that it is held against, and the verdict that the
// Recommendation gives.
type pair struct {
	name, schema, instance string
	valid                  bool
	message                string // a part of it, where the case says one
}

const schemaHead = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" elementFormDefault="qualified">`

// allPairs are all cases: those of the tables, and those of testdata/cases, where a
// file holds a schema and, behind lines that begin with ==, instances.
func allPairs(t testing.TB) []pair {
	var pairs []pair
	add := func(name, schema, holds, falls string) {
		for verdict, texts := range map[bool]string{true: holds, false: falls} {
			if texts == "" && verdict == false {
				continue
			}
			for _, text := range strings.Split(texts, "|") {
				escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;", "\t", "&#9;", "\n", "&#10;").Replace(text)
				pairs = append(pairs, pair{
					name: name + " " + text, schema: schema, valid: verdict,
					instance: `<t:v xmlns:t="urn:t" xmlns:xs="http://www.w3.org/2001/XMLSchema">` + escaped + `</t:v>`,
				})
			}
		}
	}
	prefixed := func(s string) string {
		return strings.NewReplacer("</", "</xs:", "<", "<xs:").Replace(s)
	}
	for _, c := range simpleCases {
		add(c.base+" "+c.facets,
			schemaHead+`<xs:element name="v"><xs:simpleType><xs:restriction base="xs:`+c.base+`">`+prefixed(c.facets)+
				`</xs:restriction></xs:simpleType></xs:element></xs:schema>`, c.holds, c.falls)
	}
	for _, c := range listCases {
		add(c.definition, schemaHead+`<xs:element name="v"><xs:simpleType>`+prefixed(c.definition)+
			`</xs:simpleType></xs:element></xs:schema>`, c.holds, c.falls)
	}
	files, err := filepath.Glob("testdata/cases/*.txt")
	require.NoError(t, err)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		parts := strings.Split("\n"+string(text), "\n== ")
		for i, part := range parts[1:] {
			verdict, instance, _ := strings.Cut(part, "\n")
			p := pair{
				name:   fmt.Sprintf("%s %d", filepath.Base(file), i+1),
				schema: schemaHead + parts[0] + "</xs:schema>", instance: strings.TrimSpace(instance),
				valid: verdict == "valid",
			}
			if !p.valid {
				_, p.message, _ = strings.Cut(verdict, "invalid: ")
				require.NotEmpty(t, p.message, "%s: %s", p.name, verdict)
			}
			pairs = append(pairs, p)
		}
	}
	return pairs
}

func load(t testing.TB, text string) *Schema {
	t.Helper()
	l := &Loader{}
	require.NoError(t, l.AddText("case.xsd", []byte(text)))
	schema, err := l.Schema()
	require.NoError(t, err, text)
	return schema
}

func faultsOf(schema *Schema, instance string) ([]string, error) {
	var faults []string
	v := NewValidator(schema)
	v.Report = func(f Fault) { faults = append(faults, f.String()) }
	err := v.Validate(strings.NewReader(instance), "")
	return faults, err
}

func TestPairs(t *testing.T) {
	schemas := map[string]*Schema{}
	pairs := allPairs(t)
	for _, p := range pairs {
		if schemas[p.schema] == nil {
			schemas[p.schema] = load(t, p.schema)
		}
		faults, err := faultsOf(schemas[p.schema], p.instance)
		require.NoError(t, err, p.name)
		if p.valid {
			assert.Empty(t, faults, p.name)
		} else if assert.NotEmpty(t, faults, p.name) {
			assert.Contains(t, strings.Join(faults, "\n"), p.message, p.name)
		}
	}
	t.Logf("%d pairs", len(pairs))
	assert.GreaterOrEqual(t, len(pairs), 300)
}
