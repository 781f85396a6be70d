package sheet_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/value"
)

func read(t *testing.T, text string) *sheet.Sheet {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rows.csv"), []byte("n\n1\n2\n"), 0o600))
	b := bench.Read(dir, "bench.yaml", []byte("bench: b\nservices: {s: {address: http://127.0.0.1:1}}\ndatabases: {d: {kind: sqlite, address: a.db}}\n"))
	require.Empty(t, b.Problems().Serious())
	s := sheet.Read(b, filepath.Join(dir, "s.yaml"), []byte("sheet: s\n"+text), step.Kinds)
	require.Empty(t, s.Source.Problems.Serious(), text)
	return s
}

// Rows come from a file of their own, or from elsewhere; how many there are is known but for those of a database.
func TestWhereRowsComeFrom(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]struct {
		isFile  bool
		count   int
		columns []string
	}{
		"":                                   {false, 0, nil},
		"rows: rows.csv\n":                   {true, 2, []string{"n"}},
		"rows: {from: rows.csv, limit: 1}\n": {true, 2, []string{"n"}},
		"rows: [{a: 1}, {a: 2}, {a: 3}]\n":   {false, 3, []string{"a"}},
		"rows: {numbers: 1 to 4}\n":          {false, 4, []string{"number"}},
		"rows: {days: 2026-01-01 to 2026-01-03}\n":              {false, 3, []string{"day"}},
		"rows: {database: d, sql: select 1, columns: [x, y]}\n": {false, 0, []string{"x", "y"}},
		"rows: {database: d, sql: select 1}\n":                  {false, 0, nil},
	} {
		t.Run(text, func(t *testing.T) {
			s := read(t, text+"steps:\n  - step: a\n    pause: 1 ms\n")
			if s.Rows != nil {
				assert.Equal(t, want.isFile, s.Rows.IsFile())
			}
			assert.Equal(t, want.columns, s.Rows.Columns())
			assert.Equal(t, want.count, s.RowCount())
		})
	}
}

// A sheet and a step have their own tags and those of what is within them.
func TestTags(t *testing.T) {
	t.Parallel()
	s := read(t, `tags: [night]
steps:
  - step: plain
    pause: 1 ms
  - step: outer
    tags: [slow]
    steps:
      - step: inner
        tags: [weekly]
        pause: 1 ms
`)
	for tag, want := range map[string][]bool{ // the sheet, the plain step, the outer one
		"night": {true, false, false}, "slow": {true, false, true}, "weekly": {true, false, true}, "other": {false, false, false},
	} {
		assert.Equal(t, want, []bool{s.HasTag([]string{tag}), s.Steps[0].HasTag([]string{tag}), s.Steps[1].HasTag([]string{tag})}, tag)
	}
	assert.Equal(t, []string{"slow", "weekly"}, s.Steps[1].AllTags())
	assert.True(t, s.HasTag([]string{"other", "weekly"}), "one of them is enough")
}

// scope knows one name.
type scope struct{}

func (scope) Lookup(space, name string) (*document.Node, error) {
	if space == "" && name == "there" {
		return document.NewText("201"), nil
	}
	return nil, value.ErrNothing
}

func (scope) Hide(string) {}

// What is expected may be said by values, which are read when a reply is judged.
func TestExpectedByValues(t *testing.T) {
	t.Parallel()
	of := func(expect string) *sheet.Expect {
		return &read(t, "steps:\n  - step: a\n    request: s GET /\n    expect: "+expect+"\n").Steps[0].Expect
	}
	plain := of("{status: 200}")
	same, err := plain.FilledIn(scope{})
	require.NoError(t, err)
	assert.Same(t, plain, same)
	filled, err := of(`{status: "${there}"}`).FilledIn(scope{})
	require.NoError(t, err)
	assert.True(t, filled.Status.Holds(201))
	assert.False(t, filled.Status.Holds(200))
	for expect, want := range map[string]string{
		`{status: "${gone}"}`: "status: ", `{status: "x${there}"}`: "write it like 201, 200 or 201, 2xx, not 5xx",
		`{refused: "${gone}"}`: "refused: ", `{refused: "${there}"}`: `refused: "201" is not a kind of refusal`,
	} {
		_, err := of(expect).FilledIn(scope{})
		assert.ErrorContains(t, err, want, expect)
	}
}

// The names that a step asks for are those of its request, of its addressing, and of what it does.
func TestWhatAStepAsksFor(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"request: s POST /x/${a}\n    soap: 1.1\n    action: ${b}\n    text: <x/>":                         "b a",
		"request: s POST /x\n    soap: 1.1\n    addressing: {reply to: \"http://x/${c}\"}\n    text: <x/>": "c",
		"set: {v: \"${d}\"}": "d",
		"request: s POST /x\n    parts: [{name: a, value: \"${e}\", headers: {X: \"${f}\"}}]": "e f",
		"pause: 1 ms": "",
	} {
		var names []string
		for _, p := range read(t, "steps:\n  - step: a\n    "+text+"\n").Steps[0].Placeholders() {
			names = append(names, p.Name)
		}
		assert.Equal(t, want, strings.Join(names, " "), text)
	}
}
