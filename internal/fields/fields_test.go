package fields_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/fields"
	"testbench/internal/path"
)

func read(t testing.TB, text string) []fields.Field {
	t.Helper()
	mediaType := "application/json"
	if text[0] != '{' && text[0] != '[' && text[0] != '"' && text != "null" && !document.IsNumber(text) {
		mediaType = ""
	}
	g, _, err := fields.Read(strings.NewReader(text), mediaType)
	require.NoError(t, err, text)
	return g.Fields()
}

func lines(found []fields.Field) string {
	var out strings.Builder
	for _, f := range found {
		fmt.Fprintf(&out, "%s: %s, %d of %d, %s\n", f.Path, f.Kind, f.Count, f.Of, f.Span())
	}
	return out.String()
}

func TestFields(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{
			`{"lots": [{"id": "L-1", "moisture": 17.40, "on": "2026-11-23", "tags": ["a", "b"]}, {"id": "L-2", "moisture": 9, "note": null, "on": "2026-11-22"}], "total": 2, "odd key": {}, "none": []}`,
			`lots: list, 1 of 1, 2 elements
lots[*].id: text, 2 of 2, "L-1", "L-2"
lots[*].moisture: number, 2 of 2, 17.40, 9
lots[*].on: date, 2 of 2, "2026-11-23", "2026-11-22"
lots[*].tags: list, 1 of 2, 2 elements
lots[*].tags[*]: text, 2 of 2, "a", "b"
lots[*].note: null, 1 of 2, 
total: integer, 1 of 1, 2
["odd key"]: object, 1 of 1, 
none: list, 1 of 1, 0 elements
`,
		},
		{`[[1, 2], [3]]`, `answer: list, 1 of 1, 2 elements
answer[*]: list, 2 of 2, 1 to 2 elements
answer[*][*]: integer, 3 of 3, 1, 2, 3
`},
		{`[{"a": "x"}, {"a": 5}, "y", null]`, `answer: list, 1 of 1, 4 elements
answer[*]: object or text or null, 4 of 4, "y"
answer[*].a: integer or text, 2 of 4, "x", "5"
`},
		{`<week n="7"><lot id="1"><kilos>12.50</kilos></lot><lot id="2"/><keeper><name>Bryony</name></keeper></week>`, `n: integer, 1 of 1, 7
lot: list, 1 of 1, 2 elements
lot[*].id: integer, 2 of 2, 1, 2
lot[*].kilos: number, 1 of 2, 12.50
keeper: object, 1 of 1, 
keeper.name: text, 1 of 1, "Bryony"
`},
		{`<e:Envelope xmlns:e="http://www.w3.org/2003/05/soap-envelope"><e:Header><x>1</x></e:Header><e:Body><a><b>true</b></a></e:Body></e:Envelope>`, "b: boolean, 1 of 1, true\n"},
		{"lot,kilos\nL-1,12.5\nL-2,7\n", "answer: text, 1 of 1, \"lot,kilos L-1,12.5 L-2,7\"\n"},
	} {
		assert.Equal(t, c.want, lines(read(t, c.text)), c.text)
	}
	for text, wrong := range map[string]string{
		`{"a": 1`: "ends too early", `{"a": 01}`: "not well-formed JSON",
		`{} {}`: "something after", "": "there is nothing in it", "<a><b></a>": "line 1", "\x00\x01": "binary",
		`{"a": 1, "a": 2}`: "duplicate",
	} {
		_, _, err := fields.Read(strings.NewReader(text), "")
		assert.ErrorContains(t, err, wrong, text)
	}
}

// random makes a value with odd names, missing members and mixed kinds.
func random(r *rand.Rand, depth int) *document.Node {
	switch kind := r.IntN(7); {
	case kind < 2 && depth > 0:
		n := document.NewObject()
		for _, name := range []string{"a", "b c", "0", "d.e", "@f", "answer", `g"h`, "ä", "", "$", "x-y", "[*]"} {
			if r.IntN(3) == 0 {
				n.Set(name, random(r, depth-1))
			}
		}
		return n
	case kind < 4 && depth > 0:
		n := document.NewList()
		for range r.IntN(4) {
			n.AppendItems(random(r, depth-1))
		}
		return n
	case kind == 4:
		return document.NewNumber([]string{"1", "1.50", "-2e3"}[r.IntN(3)])
	case kind == 5:
		return &document.Node{Kind: document.Null}
	}
	return document.NewText([]string{"x", "", "2026-11-23", "a@b.example"}[r.IntN(4)])
}

// Every path that is told leads to as much as is told of it, whatever the names are.
func TestPathsLeadThere(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 26))
	for range 2_000 {
		root := random(r, 4)
		text := document.WriteJSON(root, document.Style{})
		for _, f := range read(t, text) {
			p, err := path.Compile(f.Path)
			require.NoError(t, err, "%s in %s", f.Path, text)
			found, err := p.Find(path.Roots{Answer: root}, nil)
			require.NoError(t, err)
			count := 0
			for _, m := range found.Matches {
				if m.Node != nil {
					count++
				}
			}
			require.Equal(t, f.Count, count, "%s in %s", f.Path, text)
		}
	}
}

// What goes by token by token is what is in the tree.
func TestAsInTheTree(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 26))
	for range 500 {
		root := random(r, 4)
		g := fields.NewGatherer()
		g.Tree(root)
		require.Equal(t, lines(read(t, document.WriteJSON(root, document.Style{}))), lines(g.Fields()))
	}
	const text = `<w a="1"><l>x<!-- c --></l><l b="2">y</l><m><n/></m> </w>`
	root, err := document.ReadXML([]byte(text), "")
	require.NoError(t, err)
	g := fields.NewGatherer()
	g.Tree(root)
	assert.Equal(t, lines(read(t, text)), lines(g.Fields()))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"a": [1, {"b": null}]}`))
	f.Add([]byte(`<a b="c"><d/><d>e</d></a>`))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if g, _, err := fields.Read(bytes.NewReader(data), ""); err == nil {
			for _, one := range g.Fields() {
				_, _ = path.Compile(one.Path)
				_ = one.Span()
			}
		}
	})
}

// large is an answer of about so many bytes.
func large(size int, xml bool) []byte {
	var out bytes.Buffer
	out.WriteString(map[bool]string{true: "<lots>", false: `{"lots": [`}[xml])
	for n := 0; out.Len() < size; n++ {
		if xml {
			fmt.Fprintf(&out, `<lot id="L-%d"><grade>A</grade><moisture>%d.%d</moisture><keeper><name>Bryony Marl</name></keeper><on>2026-11-23T08:30:00Z</on></lot>`, n, n%30, n%10)
			continue
		}
		if n > 0 {
			out.WriteByte(',')
		}
		fmt.Fprintf(&out, `{"id": "L-%d", "grade": "A", "moisture": %d.%d, "keeper": {"name": "Bryony Marl"}, "on": "2026-11-23T08:30:00Z"}`, n, n%30, n%10)
	}
	out.WriteString(map[bool]string{true: "</lots>", false: `]}`}[xml])
	return out.Bytes()
}

func BenchmarkRead(b *testing.B) {
	for _, xml := range []bool{false, true} {
		data := large(50<<20, xml)
		b.Run(map[bool]string{true: "XML", false: "JSON"}[xml], func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			b.ReportAllocs()
			for b.Loop() {
				if _, _, err := fields.Read(bytes.NewReader(data), ""); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
