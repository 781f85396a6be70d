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

// Pair is one instance with the schema that it is held against, and the verdict that the
// Recommendation gives.
type Pair struct {
	Name, Schema, Instance string
	Valid                  bool
	Message                string // a part of it, where the case says one
}

const SchemaHead = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" elementFormDefault="qualified">`

// AllPairs are all cases: those of the tables, and those of testdata/cases, where a
// file holds a schema and, after lines that begin with ==, instances.
func AllPairs(t testing.TB) []Pair {
	var pairs []Pair
	add := func(name, schema, holds, falls string) {
		for verdict, texts := range map[bool]string{true: holds, false: falls} {
			if texts == "" && verdict == false {
				continue
			}
			for _, text := range strings.Split(texts, "|") {
				escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;", "\t", "&#9;", "\n", "&#10;").Replace(text)
				pairs = append(pairs, Pair{
					Name: name + " " + text, Schema: schema, Valid: verdict,
					Instance: `<t:v xmlns:t="urn:t" xmlns:xs="http://www.w3.org/2001/XMLSchema">` + escaped + `</t:v>`,
				})
			}
		}
	}
	prefixed := func(s string) string {
		return strings.NewReplacer("</", "</xs:", "<", "<xs:").Replace(s)
	}
	for _, c := range simpleCases {
		add(c.base+" "+c.facets,
			SchemaHead+`<xs:element name="v"><xs:simpleType><xs:restriction base="xs:`+c.base+`">`+prefixed(c.facets)+
				`</xs:restriction></xs:simpleType></xs:element></xs:schema>`, c.holds, c.falls)
	}
	for _, c := range listCases {
		add(c.definition, SchemaHead+`<xs:element name="v"><xs:simpleType>`+prefixed(c.definition)+
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
			p := Pair{
				Name:   fmt.Sprintf("%s %d", filepath.Base(file), i+1),
				Schema: SchemaHead + parts[0] + "</xs:schema>", Instance: strings.TrimSpace(instance),
				Valid: verdict == "valid",
			}
			if !p.Valid {
				_, p.Message, _ = strings.Cut(verdict, "invalid: ")
				require.NotEmpty(t, p.Message, "%s: %s", p.Name, verdict)
			}
			pairs = append(pairs, p)
		}
	}
	return pairs
}

func LoadText(t testing.TB, text string) *Schema {
	t.Helper()
	l := &Loader{}
	require.NoError(t, l.AddText("case.xsd", []byte(text)))
	schema, err := l.Schema()
	require.NoError(t, err, text)
	return schema
}

func FaultsOf(schema *Schema, text string) ([]string, error) {
	var faults []string
	v := NewValidator(schema)
	v.Report = func(f Fault) { faults = append(faults, f.String()) }
	err := v.Validate(strings.NewReader(text), "")
	return faults, err
}

func TestPairs(t *testing.T) {
	schemas := map[string]*Schema{}
	pairs := AllPairs(t)
	for _, p := range pairs {
		if schemas[p.Schema] == nil {
			schemas[p.Schema] = LoadText(t, p.Schema)
		}
		faults, err := FaultsOf(schemas[p.Schema], p.Instance)
		require.NoError(t, err, p.Name)
		if p.Valid {
			assert.Empty(t, faults, p.Name)
		} else if assert.NotEmpty(t, faults, p.Name) {
			assert.Contains(t, strings.Join(faults, "\n"), p.Message, p.Name)
		}
	}
	t.Logf("%d pairs", len(pairs))
	assert.GreaterOrEqual(t, len(pairs), 300)
}
