package compare_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/compare"
	"testbench/internal/document"
)

func tree(t testing.TB, text string) *document.Node {
	t.Helper()
	if strings.HasPrefix(text, "<") {
		n, err := document.ReadXML([]byte(text), "")
		require.NoError(t, err)
		return n
	}
	n, err := document.ReadJSON([]byte(text))
	require.NoError(t, err, text)
	return n
}

func text(differences []compare.Difference) string {
	var out []string
	for _, d := range differences {
		show := func(n *document.Node) string {
			if n == nil {
				return "-"
			}
			return document.WriteJSON(n, document.Style{})
		}
		line := fmt.Sprintf("%s %s %s>%s", d.Kind, d.Path, show(d.A), show(d.B))
		if d.Kind == compare.Moved {
			line = fmt.Sprintf("moved %s %d>%d", d.Path, d.From, d.To)
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

func TestTrees(t *testing.T) {
	for _, c := range []struct {
		a, b    string
		options compare.Options
		want    string
	}{
		{`{"a": 1, "b": "x"}`, `{"b": "x", "a": 1.0}`, compare.Options{}, ""},
		{
			`{"a": 1, "c": null}`, `{"a": "1", "b": []}`,
			compare.Options{},
			`kind a 1>"1"; removed c null>-; added b ->[]`,
		},
		{
			`{"at": "2026-11-23T08:30:00Z", "on": "2026-11-23"}`,
			`{"at": "2026-11-23T09:30:00+01:00", "on": "2026-11-24"}`,
			compare.Options{},
			`changed on "2026-11-23">"2026-11-24"`,
		},
		{
			`[{"id": 1, "g": "A"}, {"id": 2, "g": "B"}, {"id": 3, "g": "C"}]`,
			`[{"id": 3, "g": "C"}, {"id": 1, "g": "A"}, {"id": 2, "g": "D"}, {"id": 4, "g": "E"}]`,
			compare.Options{},
			`changed [id=2].g "B">"D"; moved [id=3] 2>0; added [id=4] ->{"id":4,"g":"E"}`,
		},
		{
			`{"l": [{"lot": "x 1", "n": 1}, {"lot": "y", "n": 1}]}`,
			`{"l": [{"lot": "y", "n": 1}, {"lot": "x 1", "n": 2}]}`,
			compare.Options{Keys: map[string]string{"l": "lot"}},
			`changed l[lot="x 1"].n 1>2; moved l[lot="x 1"] 0>1`,
		},
		{
			`[{"a": 1, "b": 2, "c": 3}, {"a": 5, "b": 6, "c": 7}]`, `[{"a": 5, "b": 6, "c": 8}]`,
			compare.Options{},
			`removed [0] {"a":1,"b":2,"c":3}>-; changed [1].c 7>8`,
		},
		{`[1, 2, 3, 2]`, `[2, 3, 2]`, compare.Options{}, `removed [0] 1>-`},
		{`["a", "b", "c", "d"]`, `["d", "a", "b", "c"]`, compare.Options{}, `moved [3] 3>0`},
		{
			`{"lots": [{"id": 1, "seen": "2026-11-23T08:30:00Z", "x": {"y": 1}}], "token": "a"}`,
			`{"lots": [{"id": 1, "seen": "2026-11-24T08:30:00Z", "x": {"y": 2}}], "token": "b"}`,
			compare.Options{Ignore: []string{"lots[*].x", "token"}, Kinds: []string{"datetime"}},
			"",
		},
		{
			`<w><lot n="1"><k>12.50</k></lot><lot n="2"/></w>`, `<w><lot n="2"/><lot n="1"><k>12.5</k></lot></w>`,
			compare.Options{Keys: map[string]string{"lot": "n"}},
			`moved lot[n=1] 0>1`,
		},
		{`<w><lot><k>12.50</k></lot><t>yes</t></w>`, `{"lot": [{"k": 12.5}], "t": "yes"}`, compare.Options{}, ""},
		{`<w x="1"><x>2</x></w>`, `<w x="1"><x>3</x></w>`, compare.Options{}, `changed x 2>3`},
		{`5`, `{"a": 5}`, compare.Options{}, `changed answer 5>{"a":5}`},
	} {
		assert.Equal(t, c.want, text(compare.Trees(tree(t, c.a), tree(t, c.b), c.options)), "%s\n%s", c.a, c.b)
	}
}

// large is a document of about so many bytes whose last lots differ.
func large(size int, changed bool) string {
	var out strings.Builder
	out.WriteString(`{"lots": [`)
	for n := 0; out.Len() < size; n++ {
		if n > 0 {
			out.WriteString(", ")
		}
		grade := "A"
		if changed && n%1000 == 7 {
			grade = "B"
		}
		fmt.Fprintf(&out, `{"id": "L-%d", "grade": %q, "moisture": %d.%d, "keeper": {"name": "Bryony Marl"}, "on": "2026-11-23T08:30:00Z"}`, n, grade, n%30, n%10)
	}
	out.WriteString(`]}`)
	return out.String()
}

// Many differences of a kind: what belongs together is looked for among a bounded number of them.
func BenchmarkRelated(b *testing.B) {
	many := func(lead string) string {
		var out strings.Builder
		for i := range 20_000 {
			fmt.Fprintf(&out, `, "%s%d": {"name": "%s crate %d", "kilos": %d.5}`, lead, i, lead, i, i)
		}
		return `{"a": 1` + out.String() + `}`
	}
	one, other := tree(b, many("old")), tree(b, many("new"))
	for b.Loop() {
		if len(compare.Related(one, other, compare.Options{})) < 20_000 {
			b.Fatal("too few")
		}
	}
}

func BenchmarkTrees(b *testing.B) {
	one, other := large(50<<20, false), large(50<<20, true)
	b.SetBytes(int64(len(one)))
	b.ReportAllocs()
	for b.Loop() {
		if len(compare.Trees(tree(b, one), tree(b, other), compare.Options{})) == 0 {
			b.Fatal("no difference")
		}
	}
}
