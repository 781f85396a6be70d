package jsonschema

import (
	"embed"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"testbench/internal/document"
)

// draft is a version of JSON Schema; a later one is greater.
type draft int

const (
	draft4 draft = iota + 4
	draft6 draft = iota + 5
	draft7
	draft2019
	draft2020
)

// drafts are those that a schema can say it is written in, by their addresses without the scheme.
var drafts = map[string]draft{
	"json-schema.org/draft-04/schema": draft4, "json-schema.org/draft-06/schema": draft6,
	"json-schema.org/draft-07/schema": draft7, "json-schema.org/draft/2019-09/schema": draft2019,
	"json-schema.org/draft/2020-12/schema": draft2020, "json-schema.org/schema": draft2020,
}

// draftOf is the draft of an address of $schema; 0 for one that is not known.
func draftOf(address string) draft {
	_, rest, _ := strings.Cut(strings.TrimSuffix(address, "#"), "://")
	return drafts[rest]
}

// idKey is the keyword by which a schema of a draft says its address.
func (d draft) idKey() string {
	if d == draft4 {
		return "id"
	}
	return "$id"
}

// metaschemas are the schemas of JSON Schema itself, as its authors publish them.
//
//go:embed metaschemas
var metaschemas embed.FS

// metaschema is the document at an address of json-schema.org; nil for others.
func metaschema(address string) *document.Node {
	_, path, ok := strings.Cut(address, "://json-schema.org/")
	if !ok {
		return nil
	}
	data, err := metaschemas.ReadFile("metaschemas/" + path + ".json")
	if err != nil {
		return nil
	}
	root, err := document.ReadJSON(data)
	if err != nil {
		return nil
	}
	return root
}

// rules are the schemas of the drafts themselves, each compiled when it is first asked for.
var rules = map[draft]func() (*Schema, error){
	draft4:    rulesAt("http://json-schema.org/draft-04/schema"),
	draft6:    rulesAt("http://json-schema.org/draft-06/schema"),
	draft7:    rulesAt("http://json-schema.org/draft-07/schema"),
	draft2019: rulesAt("https://json-schema.org/draft/2019-09/schema"),
	draft2020: rulesAt("https://json-schema.org/draft/2020-12/schema"),
}

func rulesAt(address string) func() (*Schema, error) {
	return sync.OnceValues(func() (*Schema, error) {
		set := NewSet(&Documents{}, Alone, Both)
		compiled, err := set.compileAt(Location{Location: address, Node: metaschema(address)})
		if err == nil {
			err = set.settle(compiled)
		}
		return &Schema{set: set, compiled: compiled}, err
	})
}

// keepsRules holds the documents of the set against the schemas of their drafts, which say more than what is read of
// them, and of parts that nothing refers to.
func (s *Set) keepsRules() error {
	for _, key := range slices.Sorted(maps.Keys(s.roots)) {
		r := s.roots[key]
		if r.root.Pointer != "" || metaschema(r.root.Location) != nil {
			continue
		}
		rules, err := rules[r.draft]()
		if err != nil {
			return err
		}
		if faults := rules.judge(r.root.Node); len(faults) > 0 {
			return fmt.Errorf("the schema at %s breaks its own rules: %s", r.root, faults[0].Message)
		}
	}
	return nil
}

// places are the keywords whose values are schemas, lists of them, or schemas by name.
var (
	singleSchemas = []string{
		"additionalItems", "additionalProperties", "contains", "else", "if", "items", "not", "propertyNames", "then",
		"unevaluatedItems", "unevaluatedProperties", "contentSchema",
	}
	listsOfSchemas = []string{"allOf", "anyOf", "oneOf", "prefixItems", "items"}
	namedSchemas   = []string{
		"properties", "patternProperties", "$defs", "definitions", "dependentSchemas", "dependencies",
	}
)

// subschemas calls each for the schemas right within a schema.
func subschemas(at Location, each func(Location)) {
	for _, m := range at.Node.Members() {
		switch {
		case m.Value.Kind == document.Object && slices.Contains(namedSchemas, m.Key):
			below := at.Member(m)
			for _, one := range m.Value.Members() {
				each(below.Member(one))
			}
		case m.Value.Kind == document.List && slices.Contains(listsOfSchemas, m.Key):
			below := at.Member(m)
			for i := range m.Value.Items() {
				each(below.Below(fmt.Sprint(i)))
			}
		case slices.Contains(singleSchemas, m.Key):
			each(at.Member(m))
		}
	}
}
