package mapping_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// hive is what a file of these tests describes.
type hive struct {
	name    string
	words   []string
	yes     bool
	pause   time.Duration
	limit   time.Duration
	text    *value.Template
	secret  *value.Template
	address *value.Template
	tree    *request.Tree
	path    *path.Path
	count   int
	list    []string
	headers []request.Pair
	names   map[string]string
	rule    *rule.Rule
	order   *rule.Rule
	when    *rule.Condition
	status  *rule.Status
	file    string
	part    struct{ on, off bool }
}

var partKeys = []mapping.Key[struct{ on, off bool }]{
	mapping.YesKey("on", "whether it is on", func(p *struct{ on, off bool }) *bool { return &p.on }),
	mapping.YesKey("off", "whether it is off", func(p *struct{ on, off bool }) *bool { return &p.off }),
}

var hiveKeys = append([]mapping.Key[hive]{
	mapping.TextKey("name", "its name", func(h *hive) *string { return &h.name }),
	mapping.TextsKey("words", "some words", func(h *hive) *[]string { return &h.words }),
	mapping.YesKey("yes", "yes or no", func(h *hive) *bool { return &h.yes }),
	mapping.DurationKey("pause", "a time", func(h *hive) *time.Duration { return &h.pause }),
	mapping.TimeoutKey("limit", "a time over 0", func(h *hive) *time.Duration { return &h.limit }),
	mapping.TemplateKey("text", "a text", func(h *hive) **value.Template { return &h.text }),
	mapping.SecretKey("secret", "a credential", func(h *hive) **value.Template { return &h.secret }),
	mapping.AddressKey("address", "an address", func(h *hive) **value.Template { return &h.address }),
	mapping.TreeKey("tree", "anything", func(h *hive) **request.Tree { return &h.tree }),
	mapping.PathKey("path", "a path", func(h *hive) **path.Path { return &h.path }),
	mapping.NewKey("count", "how many",
		func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.count = r.Whole(n, "count") }),
	mapping.NewKey("list", "one or more", func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.list = r.Words(n) }),
	mapping.NewKey("headers", "headers", func(r *mapping.Reader, h *hive, n *yamlfile.Node) {
		h.headers = r.Pairs(n, "headers")
	}),
	mapping.NewKey("names", "prefixes", func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.names = r.Names(n) }),
	mapping.NewKey("rule", "a rule", func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.rule = r.Rule(n) }),
	mapping.NewKey("order", "a rule for a time", func(r *mapping.Reader, h *hive, n *yamlfile.Node) {
		h.order = r.OrderRule(n, rule.Durations)
	}),
	mapping.NewKey("when", "a condition",
		func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.when = r.Condition(n) }),
	mapping.NewKey("status", "statuses", func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.status = r.Status(n) }),
	mapping.NewKey("file", "a file", func(r *mapping.Reader, h *hive, n *yamlfile.Node) { h.file = r.BenchFile(n) }),
	mapping.NewKey("kind", "wood or straw", func(r *mapping.Reader, _ *hive, n *yamlfile.Node) {
		r.Choice(n, "kind of hive", "wood", "straw")
	}),
	mapping.NewKey("id", "an identifier", func(r *mapping.Reader, _ *hive, n *yamlfile.Node) {
		r.Identifier(&yamlfile.Node{Text: r.Text(n), Line: n.Line, Column: n.Column}, "a hive")
	}),
}, mapping.NewKey("part", "a part", func(r *mapping.Reader, h *hive, n *yamlfile.Node) {
	mapping.Read(r, "a part", n, &h.part, partKeys)
	r.Needs(n, "on")
	r.NotEmpty(n, "part")
	r.Together(n, []mapping.Together{{Key: "off", With: []string{"on"}}, {Key: "on", Without: []string{"neither"}}})
}))

// read reads a file of hives in a folder with one file, hives.txt.
func read(t *testing.T, text string) (*hive, string) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "hives.txt"), []byte("twelve"), 0o600))
	file := yamlfile.Read("hives.yaml", []byte(text))
	h := &hive{}
	if file.Root != nil {
		mapping.Read(&mapping.Reader{File: file, Dir: dir, Uses: new([]mapping.Use)}, "a hive", file.Root, h, hiveKeys)
	}
	var told []string
	for _, p := range file.Problems {
		told = append(told, p.String())
	}
	return h, strings.Join(told, "\n")
}

func TestRead(t *testing.T) {
	h, told := read(t, `
name: Alder
words: [a, b]
yes: true
pause: 5 s
limit: 2 min
text: from ${depot}
secret: ${sealed.gate}
address: http://127.0.0.1/${lot}
tree: {a: [1, "2", null], b: {as json text: {c: 3}}}
path: lots[0].grade
count: 12
list: one
headers: {X-Hive: Alder}
names: {h: "urn:hives"}
rule: [over 5, not equals 7, {one of: [8, 9]}]
order: under 2 s
when: reply.status == 200
status: [200, 201]
file: hives.txt
kind: straw
id: alder_1
part: {on: true}
`)
	assert.Empty(t, told)
	assert.Equal(t, "Alder a,b true 5s 2m0s 12 one hives.txt true", strings.Join([]string{
		h.name, strings.Join(h.words, ","), document.NewBoolean(h.yes).Text, h.pause.String(), h.limit.String(),
		document.NewNumber("12").Text, strings.Join(h.list, ","), h.file, document.NewBoolean(h.part.on).Text,
	}, " "))
	assert.Equal(t, 12, h.count)
	assert.True(t, h.status.Holds(201))
	assert.False(t, h.status.Holds(202))
	assert.Equal(t, map[string]string{"h": "urn:hives"}, h.names)
	tree, err := h.tree.Node(nil)
	require.NoError(t, err)
	assert.Equal(t, `{"a":[1,"2",null],"b":"{\"c\":3}"}`, document.WriteJSON(tree, document.Style{}))
	for text, holds := range map[string]bool{"8": true, "7": false, "10": false} {
		verdict, err := h.rule.Judge(path.Selection{Matches: []path.Match{{Node: document.NewNumber(text)}}},
			path.Roots{}, nil)
		require.NoError(t, err)
		assert.Equal(t, holds, verdict.Passed, text)
	}
}

// Each mistake is told where it is, with what to write.
func TestMistakes(t *testing.T) {
	for name, c := range map[string]struct{ text, told string }{
		"a key that is nearly one":      {"nmae: x", `2:1: a hive has no key "nmae"`},
		"a key that is none":            {"zzz: x", "there are: name, words, yes"},
		"what people bring along":       {"part: {enabled: 1}", `a part has no key "enabled"`},
		"a list for a value":            {"name: [a]", "a single value is expected here, and this is a list"},
		"a value for a mapping":         {"part: x", "part must be a mapping, and is a single value"},
		"a missing space":               {"part: on:true", "a space is missing after on: write on: true"},
		"a placeholder in plain text":   {"name: a${b}", "2:8: a placeholder is not allowed here"},
		"a word that is not there":      {"kind: strow", `did you mean "straw"?`},
		"neither yes nor no":            {"yes: maybe", "there are: true, false"},
		"no duration":                   {"pause: soon", "write it like 800 ms, 5 s or 2 min"},
		"a duration below nothing":      {"pause: -5 s", "is less than nothing"},
		"a limit of nothing":            {"limit: 0 s", "a timeout must be over 0"},
		"no whole number":               {"count: 0", "count must be a whole number from 1"},
		"an empty list":                 {"list: []", "it is empty"},
		"a mapping in headers":          {"headers: {A: {b: c}}", "headers A cannot be a mapping"},
		"a header name with a space":    {`headers: {"A B": c}`, "A B"},
		"an open placeholder":           {"text: a${b", "2:8: "},
		"a credential":                  {"secret: hunter2", "a credential is in the file"},
		"no credential":                 {`secret: ""`, ""},
		"a named credential":            {"tree: {password: hunter2}", "password looks like a credential"},
		"a path that is none":           {"path: a[", "2:"},
		"a rule that is none":           {"rule: overr 5", "2:7: "},
		"a rule of two keys":            {"rule: {over: 1, under: 2}", "exactly one key, and this one has 2"},
		"a rule's key that is none":     {"rule: {ovr: 1}", `did you mean "over"?`},
		"an empty list of rules":        {"rule: []", "a list of rules cannot be empty"},
		"an empty list of values":       {"rule: {one of: []}", "a list of values cannot be empty"},
		"a word under its key":          {"rule: {over: x y}", "2:14: "},
		"a rule that is cut off":        {"rule: is 5 # and 6", `ends before "# and 6"`},
		"a quoted rule is not cut off":  {`rule: "over 5" # and 6`, ""},
		"a rule that no time can meet":  {"order: under 5 MB", "2:8: "},
		"a condition that is none":      {"when: reply.status ==", "2:22: "},
		"a condition that is cut off":   {"when: row.a # == b", `the condition ends before "# == b"`},
		"a status that is none":         {"status: 99", `"99" is not a status`},
		"a list with a status too many": {"status: [200, 999]", `"999" is not a status`},
		"a file that is not there":      {"file: none.txt", "there is no file none.txt in the bench folder"},
		"a file that is elsewhere":      {"file: ../x", "2:7: "},
		"no identifier":                 {"id: 1x", "a name has letters (A to Z"},
		"a reserved identifier":         {"id: row", "means something else"},
		"an empty part":                 {"part: {}", "part is empty, and has no effect"},
		"a key without its other":       {"part: {off: true}", "off: has no effect without on:"},
	} {
		t.Run(name, func(t *testing.T) {
			_, told := read(t, "\n"+c.text+"\n")
			if c.told == "" {
				assert.Empty(t, told)
			}
			assert.Contains(t, told, c.told)
		})
	}
}

// A mistake of a small language is told at its place, any other at the value.
func TestMistakeOfAnotherKind(t *testing.T) {
	file := yamlfile.Read("hives.yaml", []byte("name: Alder\n"))
	(&mapping.Reader{File: file}).Mistake(file.Root.Get("name"), 2, errors.New("it fell over"))
	require.Len(t, file.Problems, 1)
	assert.Equal(t, "it fell over", file.Problems[0].Message)
	assert.Equal(t, 7, file.Problems[0].Column)
}

// A file that requests are made of is read whole or not at all.
func TestReadInside(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a.txt"), []byte("a"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o700))
	large, err := os.Create(filepath.Join(dir, "large"))
	require.NoError(t, err)
	require.NoError(t, large.Truncate(256<<20+1))
	require.NoError(t, large.Close())
	data, err := mapping.ReadInside(dir, "a.txt")
	require.NoError(t, err)
	assert.Equal(t, "a", string(data))
	for name, told := range map[string]string{
		"none": "there is no file " +
			"none", "folder": "folder is a folder", "../a.txt": "..", "large": "larger than 256 MiB",
	} {
		_, err := mapping.ReadInside(dir, name)
		assert.ErrorContains(t, err, told)
	}
}

// The schema of a mapping is what its readers take.
func TestKeySchema(t *testing.T) {
	schema := mapping.KeySchema(hiveKeys, nil)
	of := func(key string) string {
		one := document.NewObject()
		for _, m := range schema.Get("properties").Get(key).Members() {
			if m.Key != "description" {
				one.AppendMembers(m)
			}
		}
		return document.WriteJSON(one, document.Style{})
	}
	for key, want := range map[string]string{
		"name":  `{"type":["string","number","boolean"]}`,
		"yes":   `{"enum":["true",true,"false",false]}`,
		"kind":  `{"enum":["wood","straw"]}`,
		"tree":  `{}`,
		"rule":  `{"anyOf":[{"type":["string","number","boolean","null"]},{"type":"array","items":{"anyOf":[{"type":["string","number","boolean","null"]},{"type":["array"]},{"type":"object","minProperties":1,"maxProperties":1,"propertyNames":{"enum":["equals","one of","all of","any of","not","all","some","count","length","optional","if any","null or","over","under","at least","at most","contains","starts with","ends with","matches","is","same as","between","about"]}}]}},{"type":"object","minProperties":1,"maxProperties":1,"propertyNames":{"enum":["equals","one of","all of","any of","not","all","some","count","length","optional","if any","null or","over","under","at least","at most","contains","starts with","ends with","matches","is","same as","between","about"]}}]}`,
		"words": `{"anyOf":[{"type":["string","number","boolean"]},{"type":"array","items":{"type":["string","number","boolean"]}}]}`,
	} {
		assert.Equal(t, want, of(key), key)
	}
	assert.Contains(t, of("part"), `"required":["on"]`)
	assert.Contains(t, of("count"), `"type":"integer","minimum":1`)
	n := &yamlfile.Node{Kind: yamlfile.Mapping}
	assert.Equal(t, []string{"on"}, mapping.NeedsOf(n, func(r *mapping.Reader) { r.Needs(n, "on") }))
}

// A rule as a mapping says what the same rule says in words.
func TestKeyedRules(t *testing.T) {
	for text, want := range map[string]string{
		"{count: 3}": "count 3", "{count: {over: 3}}": "count over 3", "{length: 2}": "length 2", "{not: 5}": "not 5",
		"{optional: is text}": "optional is text", "{over: 3}": "over 3", "{between: 1 and 2}": "between 1 and 2",
		"{all: {over: 1}}": "all over 1", "{some: starts with x}": "some starts with x", "[over 1, under 3]": "over 1 and under 3",
		"{all of: [over 1, under 3]}": "over 1 and under 3", "{any of: [1, 2]}": "1, or 2", "{count: '3'}": "count 3",
	} {
		h, told := read(t, "rule: "+text+"\n")
		assert.Empty(t, told, text)
		if assert.NotNil(t, h.rule, text) {
			assert.Equal(t, want, h.rule.Source, text)
		}
	}
}
