package yamlfile_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/yamlfile"
)

func TestReadKeepsSourceText(t *testing.T) {
	f := yamlfile.Read("x.yaml",
		[]byte(`a: 00123
b: 1.10
c: 1_000
d: yes
e: "7"
f: ${x} # note
g: |
  two
  lines
h: ~x
i: 0x1F
j: [1, 2]
`))
	require.Empty(t, f.Problems)
	want := map[string]string{
		"a": "00123", "b": "1.10", "c": "1_000", "d": "yes", "e": "7", "f": "${x}",
		"g": "two\nlines\n", "h": "~x", "i": "0x1F",
	}
	for key, text := range want {
		assert.Equal(t, text, f.Root.Get(key).Text, key)
	}
	assert.True(t, f.Root.Get("e").Quoted)
	assert.Equal(t, "# note", f.Root.Get("f").CutOff)
	assert.Len(t, f.Root.Get("j").Items, 2)
	assert.Equal(t, 2, f.Root.Get("b").Line)
	assert.Equal(t, 4, f.Root.Get("b").Column)
}

func TestTraps(t *testing.T) {
	cases := []struct {
		name, source string
		line, column int
		message, try string
	}{
		{"empty value", "a: 1\ngrade:\nb: 2\n", 2, 7, "there is no value", `write ""`},
		{"tag swallows", "where: !has(x)\nb: 1\n", 1, 8, "takes !has(x) for a tag", `write: where: "!has(x)"`},
		{"repeated key", "a: 1\na: 2\n", 2, 1, `"a" is here a second time (first in line 1)`, "one key"},
		{"anchor that nothing uses", "a: &x 1\nb: 2\n", 1, 4, "takes &x for an anchor, which nothing uses", "quotes"},
		{"alias without an anchor", "a: *x\n", 1, 4, "needs quotes (unknown anchor 'x' referenced)", `write: a: "*x"`},
		{"alias inside its own value", "a: &x\n  b: *x\n", 2, 6, "the alias *x stands inside the value it stands for", ""},
		{"folded", "a: >5\nb: 1\n", 1, 4, "start of a text of several lines", `write: a: ">5"`},
		{"at sign", "a: @x\n", 1, 4, "needs quotes", `write: a: "@x"`},
		{"star", "a: * 3\n", 1, 4, "needs quotes", `write: a: "* 3"`},
		{"colon", "a: b: c\n", 1, 4, "needs quotes", `write: a: "b: c"`},
		{"bracket open, the next line has its own", "a: {b: c\nd: {e: f}\n", 1, 4, "the bracket { is opened and never closed", `write } at its end; or, where it is a part of the value, a: "{b: c"`},
		{"bracket in a bracket", "a: {b: [c, d}\n", 1, 8, "the bracket [ is opened and never closed", "write ] at its end"},
		{"quote in braces", "ä: {ö: \"A}\nb: {e: f}\n", 1, 8, "the quote \" is opened and never closed", `write " at its end`},
		{"quote that another closes", "a: \"x\nb: \"y\"\n", 1, 4, `the quote " is opened and not closed on its line`, `write " at its end`},
		{"inches", "a: 5\" wide\nb: c\nd: @e\n", 3, 4, "needs quotes", `write: d: "@e"`},
		{"inches above a mapping that is wrong", "a: 5\" wide\nb: c\n d: e\n", 3, 2, "it is indented by 1", "indent it by"},
		{"item whose quote another closes", "- \"x\n- \"y\"\n", 1, 3, `the quote " is opened and not closed on its line`, `write " at its end`},
		{"no comma", "a: {b: c d: e}\n", 1, 11, "did not find expected ','", "by commas"},
		{"comparison in braces", "a: {b: > 5}\n", 1, 8, "cannot start any token", "over 5"},
		{"quote in quotes", "a: 'it's'\n", 1, 8, "did not find expected key", `a: "it's"`},
		{"bracket", "a: [0].x\nb: 1\n", 1, 4, "needs quotes", `write: a: "[0].x"`},
		{
			"placeholder in braces", "a: {b: x/${c}.json, d: [${e}, \"${f}\"]}\nb: 1\n", 1, 4, "in braces and brackets a value with ${...} needs quotes",
			`write: a: {b: "x/${c}.json", d: ["${e}", "${f}"]}`,
		},
		{
			"two merge keys", "a: &a {x: 1}\nb: &b {x: 2}\nc:\n  <<: *a\n  <<: *b\n", 5, 3,
			`"<<" is here a second time`, "one key",
		},
		{"brace key", "{a}: 1\n", 1, 1, "a key must be a single word", "write: "},
		{"control character", "a: 1\nb: x\vy\n", 2, 5, "a control character (U+000B) is here", `write "\u000B"`},
		{"tab", "a:\n\tb: 1\n", 2, 1, "not valid YAML", "tabs"},
		{"bytes", "a: 1\nb: \xff\n", 2, 4, "not UTF-8", "save the file as UTF-8"},
		{"empty file", "# only a comment\n", 1, 1, "the file is empty", ""},
		{"merge of a value", "a: 1\n<<: 2\n", 2, 5, "a mapping or a list of mappings, and this is a single value", "<<: *NAME"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			f := yamlfile.Read("x.yaml", []byte(c.source))
			require.NotEmpty(t, f.Problems)
			p := f.Problems[0]
			assert.Contains(t, p.Message, c.message)
			assert.Contains(t, p.Try, c.try)
			assert.Equal(t, []int{c.line, c.column}, []int{p.Line, p.Column}, p.String())
		})
	}
}

// Of a long line the part around the place is shown.
func TestLongLine(t *testing.T) {
	f := yamlfile.Read("x.yaml", []byte("a: ["+strings.Repeat("x, ", 200)+"{b}: 1]"))
	require.Len(t, f.Problems, 1)
	lines := strings.Split(f.Problems[0].String(), "\n")
	caret := strings.Index(lines[2], "^")
	assert.Equal(t, '{', []rune(lines[1])[caret])
	assert.Less(t, len(lines[1]), 180)
}

func TestAliases(t *testing.T) {
	f := yamlfile.Read("x.yaml", []byte(`
a: &good {status: 200, type: json}
b: &quick
  took: under 1 s
  type: xml
c: *good
d:
  <<: [*good, *quick]
  status: 201
e: [*good, "*good", "<<"]
`))
	require.Empty(t, f.Problems)
	var entries []string
	for _, entry := range f.Root.Get("d").Entries {
		entries = append(entries, entry.Key.Text+" "+entry.Value.Text)
	}
	assert.Equal(t, []string{"type json", "took under 1 s", "status 201"}, entries)
	assert.Equal(t, "200", f.Root.Get("c").Get("status").Text)
	assert.Equal(t, 2, f.Root.Get("c").Get("status").Line, "a mistake in it is told where it is")
	assert.Equal(t, "json", f.Root.Get("e").Items[0].Get("type").Text)
	assert.Equal(t, "*good", f.Root.Get("e").Items[1].Text)

	// A bomb: each list holds the one before it ten times.
	bomb := "a0: &a0 [x]\n"
	for i := range 9 {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d, ", i), 9)+fmt.Sprintf("*a%d", i))
	}
	f = yamlfile.Read("x.yaml", []byte(bomb+"z: *a9\n"))
	require.NotEmpty(t, f.Problems)
	assert.Contains(t, f.Problems[0].Message, "stand for more than 100000 values")
	assert.Less(t, len(f.Problems), 100)
}

func TestAppendItem(t *testing.T) {
	source := "sheet: x\nsteps:\n  # first\n  - step: a\n    call: lab/A\n\n# the end\nfinally:\n  - step: z\n"
	got, err := yamlfile.AppendItem([]byte(source), "steps", "step: b\nfill:\n  x: 1")
	require.NoError(t, err)
	assert.Equal(t, `sheet: x
steps:
  # first
  - step: a
    call: lab/A
  - step: b
    fill:
      x: 1

# the end
finally:
  - step: z
`, string(got))
	_, err = yamlfile.AppendItem([]byte("steps: []\n"), "steps", "step: b")
	assert.ErrorContains(t, err, "write the item yourself")
	for _, text := range []string{
		"", "a: b", "- x", "00123", "it's", "${x}", "x #y", "line\nbreak", "@x", "-5",
		"\u2028",
	} {
		f := yamlfile.Read("x", []byte("a: "+yamlfile.ScalarText(text)+"\n"))
		require.Empty(t, f.Problems, text)
		assert.Equal(t, text, f.Root.Get("a").Text)
	}
}

// What is added to a file ends its lines as the file does.
func TestLineEnds(t *testing.T) {
	for _, source := range []string{
		"sheet: x\nsteps:\n  - step: a\n    fields:\n      x: 1\n", "sheet: x\nsteps:\n  - step: a\n    fields:\n      x: 1",
		"sheet: x\n",
	} {
		for name, edit := range map[string]func(source []byte) ([]byte, error){
			"append": func(source []byte) ([]byte, error) {
				return yamlfile.AppendItem(source, "steps", "step: b\nfill:\n  x: 1")
			},
			"insert": func(source []byte) ([]byte, error) {
				return yamlfile.InsertEntry(source, []string{"set", "more"}, "a: 1")
			},
			"insert into": func(source []byte) ([]byte, error) {
				return yamlfile.InsertInto(source, yamlfile.Read("x", source).Root, "finally", "- step: c\n  pause: 1 s")
			},
		} {
			expected, err := edit([]byte(source))
			require.NoError(t, err, name)
			got, err := edit([]byte(strings.ReplaceAll(source, "\n", "\r\n")))
			require.NoError(t, err, name)
			assert.Equal(t, strings.ReplaceAll(string(expected), "\n", "\r\n"), string(got), name)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"a: 1", "a: [", "- a\n- b: c", "a: |\n  x", "{a: 1}", "a: !x y", "a: &b 1", "\xff"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		file := yamlfile.Read("x", data)
		if file.Root == nil && len(file.Problems) == 0 {
			t.Fatal("neither a tree nor a problem")
		}
		for _, p := range file.Problems {
			_ = p.String()
		}
	})
}

// Entries go to the end of a mapping inside a list, and nothing else changes.
func TestInsertInto(t *testing.T) {
	for _, c := range []struct{ name, source, becomes, says string }{
		{
			"key is there", `steps:
  - step: a
    fields:
      x: is text # why
      # more

    # end
  - step: b
`,
			`steps:
  - step: a
    fields:
      x: is text # why
      # more
      y: count 1
      z:
        - is list

    # end
  - step: b
`, "",
		},
		{
			"key is missing", "steps:\n- step: a\n  body: |\n    text\n\n    more\n\n- step: b",
			`steps:
- step: a
  body: |
    text

    more
  fields:
    y: count 1
    z:
      - is list

- step: b`, "",
		},
		{
			"no line break at the end", "steps:\n  - step: a",
			"steps:\n  - step: a\n    fields:\n      y: count 1\n      z:\n        - is list\n", "",
		},
		{"braces", "steps:\n  - {step: a}\n", "", "write the entries yourself"},
		{"braces of the key", "steps:\n  - step: a\n    fields: {x: is text}\n", "", "write the entries yourself"},
		{"braces below the key", "steps:\n  - step: a\n    fields:\n      {x: is text}\n", "", "write the entries yourself"},
		{"no mapping", "steps:\n  - step: a\n    fields: none\n", "", "write the entries yourself"},
	} {
		t.Run(c.name, func(t *testing.T) {
			step := yamlfile.Read("x.yaml", []byte(c.source)).Root.Get("steps").Items[0]
			changed, err := yamlfile.InsertInto([]byte(c.source), step, "fields", "y: count 1\nz:\n  - is list\n")
			if c.says != "" {
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.becomes, string(changed))
		})
	}
}
