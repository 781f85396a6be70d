// The race detector has nothing to find here, and makes it take ten times as long: scripts/test runs it without.

//go:build !race

package rule_test

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/rule"
	"testbench/internal/value"
)

// grown is an answer with a list of objects, one of numbers, one of texts, and a long text.
func grown(t *testing.T, size int) *document.Node {
	t.Helper()
	var lots, numbers, words strings.Builder
	for i := range size {
		comma := map[bool]string{true: "", false: ","}[i == 0]
		fmt.Fprintf(&lots, `%s{"id": "L-%d", "kilos": %d.5, "tags": ["a", "b"]}`, comma, i, i%90)
		fmt.Fprintf(&numbers, "%s%d", comma, i)
		fmt.Fprintf(&words, `%s"w%06d"`, comma, i)
	}
	root, err := document.ReadJSON(fmt.Appendf(nil, `{"lots": [%s], "numbers": [%s], "words": [%s], "text": %q}`,
		lots.String(), numbers.String(), words.String(), strings.Repeat("word ", size)))
	require.NoError(t, err)
	return root
}

// linear runs something over ten times as much, and holds what it allocates against ten times as much.
func linear(t *testing.T, roots []*document.Node, name string, run func(root *document.Node)) {
	t.Helper()
	var bytes []uint64
	run(roots[0]) // what is made once
	for _, root := range roots {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		run(root)
		runtime.ReadMemStats(&after)
		bytes = append(bytes, after.TotalAlloc-before.TotalAlloc)
	}
	for i := range bytes[1:] {
		assert.LessOrEqual(t, bytes[i+1], 20*bytes[i]+1<<16, "%s: %v bytes, each time for ten times as much", name, bytes)
	}
}

// Rules, conditions, paths and filters take as much more as there is more to judge.
func TestGrowth(t *testing.T) {
	var roots []*document.Node
	for _, size := range []int{1_000, 10_000, 100_000}[:map[bool]int{true: 2, false: 3}[testing.Short()]] {
		roots = append(roots, grown(t, size))
	}
	find := func(source string, root *document.Node) path.Selection {
		compiled, err := path.Compile(source)
		require.NoError(t, err)
		found, err := compiled.Find(path.Roots{Answer: root}, nil)
		require.NoError(t, err)
		return found
	}
	for _, source := range []string{
		"lots", "lots[*].id", "lots[*].tags[*]", "numbers", "numbers[*]", "words", "words[*]", "text",
		"lots[id=L-77].kilos", "lots[-1].id",
	} {
		linear(t, roots, "path "+source, func(root *document.Node) { find(source, root) })
		found := map[*document.Node]path.Selection{}
		for _, root := range roots {
			found[root] = find(source, root)
		}
		for _, text := range append([]string{"matches ^(w[0-9]+ ?)+$", "contains word", "if any 5"}, crossedRules...) {
			parsed, err := rule.Parse(text, false)
			if err != nil {
				continue
			}
			linear(t, roots, source+": "+text, func(root *document.Node) {
				_, _ = parsed.Judge(found[root], path.Roots{Answer: root}, lookup)
			})
		}
	}
	for _, source := range []string{
		"answer.lots.all(l, l.kilos >= 0)", "answer.lots.exists(l, l.id == 'x')",
		"answer.lots.exists_one(l, l.id == 'L-1')", "answer.lots.map(l, l.kilos) != []",
		"answer.lots.filter(l, l.kilos > 3) != []", "sum(answer.lots.map(l, l.kilos)) > 0",
		"avg(answer.numbers) > 0", "min(answer.numbers) == 0", "max(answer.numbers) > 0",
		"first(answer.lots).id == 'L-0'", "last(answer.lots).id != ''", "least(answer.lots, 'kilos').id == 'L-0'",
		"most(answer.lots, 'kilos').id != ''",
		"placed(answer.numbers).all(p, absent(p.previous) || p.it > p.previous)", "size(answer.numbers) > 0",
		"5 in answer.numbers", "'w000005' in answer.words", "answer.numbers == answer.numbers",
		"answer.lots == answer.lots", "answer.text.contains('nothing')", "answer.text.matches('^(word )+$')",
		"answer.text.size() > 0", "answer.numbers + answer.numbers != []", "text(answer.text) != ''",
		"answer.words.map(w, w + 'x') != []",
		"answer.numbers.map(n, n * 2).filter(n, n > 5).map(n, string(n)) != []",
		"answer.lots.map(l, l.tags.map(t, t)) != []", "present(answer.lots[0])", "answer.text + answer.text != ''",
	} {
		compiled, err := rule.CompileCondition(source)
		require.NoError(t, err, source)
		linear(t, roots, source, func(root *document.Node) {
			data := &rule.Data{Roots: path.Roots{Answer: root}, Kept: document.NewObject(), Scope: lookup}
			_ = compiled.Judge(data)
		})
	}
	for _, name := range value.FilterNames() {
		_, _, example := value.FilterHelp(name)
		template, err := value.Parse(example)
		require.NoError(t, err)
		for _, member := range []string{"lots", "numbers", "text"} {
			linear(t, roots, member+": "+example, func(root *document.Node) {
				_, _ = template.Node(one{root.Get(member)}, true)
			})
		}
	}
}

// one is a scope in which every name is one value.
type one struct{ node *document.Node }

func (o one) Lookup(_, _ string) (*document.Node, error) { return o.node, nil }

func (o one) Hide(string) {}
