package xpath_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path/xpath"
)

func TestMistakes(t *testing.T) {
	for source, want := range map[string]string{
		"//x)":                   "3: \")\" is not allowed here",
		"a b":                    "2: \"b\" found where an operator or the end is expected",
		"//":                     "2: it ends where a name or another step should follow",
		"a[1":                    "3: ] is missing after a condition; there is the end",
		"a[":                     "2: it ends where a name or another step should follow",
		"'open":                  "0: the text that begins with ' has no end",
		"$lot":                   "0: variables cannot be used here; put a value in with ${name}",
		"namespace::*":           "0: the namespace axis cannot be used",
		"anscestor::a":           "0: there is no axis anscestor; did you mean \"ancestor\"?",
		"id('x')":                "0: id() cannot be used: without a DTD nothing says what an id is; write //*[@id='...']",
		"matches(a, 'b')":        "0: XPath 1.0 has no function matches",
		"cuont(//a)":             "0: XPath 1.0 has no function cuont; did you mean \"count\"?",
		"count('a')":             "0: count takes nodes, not a text",
		"count()":                "0: count takes 1 argument, not 0",
		"concat('a')":            "0: concat takes at least 2 arguments, not 1",
		"substring('a')":         "0: substring takes 2 to 3 arguments, not 1",
		"'a'/b":                  "3: / can follow nodes, and this is a text",
		"1 | //a":                "2: | joins nodes, and one side of it is a number",
		"a/count(b)":             "2: the function count is not allowed as a step",
		"a # b":                  "2: '#' means nothing in XPath",
		"lot[@id=='L']":          "8: \"=\" found where a name or another step is expected",
		"p:/a":                   "0: a name is missing after p:",
		strings.Repeat("(", 500): "200: it is nested deeper than 200",
	} {
		_, err := xpath.Compile(source)
		var mistake *xpath.Error
		require.ErrorAs(t, err, &mistake, source)
		assert.Equal(t, want, fmt.Sprintf("%d: %s", mistake.Offset, mistake.Error()), source)
	}
}

func evaluate(t *testing.T, document *document.Node, source string, prefixes map[string]string) (xpath.Value, error) {
	compiled, err := xpath.Compile(source)
	require.NoError(t, err, source)
	return compiled.Evaluate(xpath.NewTree(document), prefixes)
}

func TestPrefixes(t *testing.T) {
	root, err := document.ReadXML([]byte(`<g:a xmlns:g="urn:one"><g:b xmlns:g="urn:two">2</g:b><g:b>1</g:b></g:a>`), "")
	require.NoError(t, err)
	for source, want := range map[string]string{"string(//g:b)": "1", "string(//h:b)": "2", "count(//b)": "0"} {
		value, err := evaluate(t, root, source, map[string]string{"h": "urn:two"})
		require.NoError(t, err)
		assert.Equal(t, want, value.Single.Text, source)
	}
	_, err = evaluate(t, root, "//nobody:b", nil)
	assert.EqualError(t, err,
		"the prefix nobody is not declared; declare it under names:, or use a prefix of the message")
}

// All 301 expressions must be read and evaluated the same way after their
// blanks were changed.
func TestBlanksDoNotMatter(t *testing.T) {
	for file, list := range expressions {
		data, err := os.ReadFile("testdata/" + file)
		require.NoError(t, err)
		root, err := document.ReadXML(data, "")
		require.NoError(t, err)
		prefixes := map[string]string{
			"g": "urn:heatherfold:lab", "p": "urn:heatherfold:plain",
			"u": "urn:heatherfold:units",
		}
		for _, source := range list {
			want, err := evaluate(t, root, source, prefixes)
			require.NoError(t, err, source)
			if strings.ContainsAny(source, "'") {
				continue
			}
			spaced := strings.NewReplacer("(", " (\n", "[", " [\t", "]", " ] ", ")", " ) ", "|", " | ").Replace(source)
			got, err := evaluate(t, root, spaced, prefixes)
			require.NoError(t, err, spaced)
			assert.Equal(t, want, got, spaced)
		}
	}
}

// What would take for ever is refused; what can be done in one pass is done.
func TestWork(t *testing.T) {
	root, err := document.ReadXML([]byte("<r>"+strings.Repeat("<a><b>1</b><c>x</c></a>", 5_000)+"</r>"), "")
	require.NoError(t, err)
	tree := xpath.NewTree(root)
	for source, done := range map[string]bool{
		"//a[count(//b) > 1]": true, "//a[b = //a/b]": true, "//*[//*[//*]]": true,
		"//a/ancestor::*/descendant::*/ancestor::*/descendant::*":            true,
		"//a[position() = last()]/following-sibling::*[position() = last()]": true, "count(//*//*//*//*//*)": true,
		"//a[count(.//preceding::b) > 1]": false, "//a[. < //b]": false, "//a[string(/) = 'x']": false,
		"//a[concat(/, /, /) = 'x']":     false,
		"//a[(//a | //b)[last()] = 'x']": false, "//a[translate(/r, 'x', 'y') = //a]": false,
		"//a[sum(//b) = 1]": false,
		"//b[../following-sibling::a/b = ../preceding-sibling::a/b]": false,
	} {
		compiled, err := xpath.Compile(source)
		require.NoError(t, err, source)
		_, err = compiled.EvaluateWithin(2_500_000, tree)
		if done {
			assert.NoError(t, err, source)
			continue
		}
		assert.ErrorContains(t, err, "it takes too long on a document of this size", source)
	}
}

func FuzzCompile(f *testing.F) {
	for _, list := range expressions {
		for _, source := range list {
			f.Add(source)
		}
	}
	root, err := document.ReadXML([]byte(`<a x="1"><b>2</b><!--c--><b y="3"><c/></b></a>`), "")
	require.NoError(f, err)
	tree := xpath.NewTree(root)
	f.Fuzz(func(t *testing.T, source string) {
		if len(source) > 200 {
			return
		}
		if compiled, err := xpath.Compile(source); err == nil {
			_, _ = compiled.Evaluate(tree, nil)
		}
	})
}

func BenchmarkEvaluate(b *testing.B) {
	var text strings.Builder
	text.WriteString("<lots>")
	for i := range 50_000 {
		fmt.Fprintf(&text, `<lot id="L-%d"><keeper>K %d</keeper><moisture>%d.5</moisture></lot>`, i, i%97, 15+i%6)
	}
	text.WriteString("</lots>")
	root, err := document.ReadXML([]byte(text.String()), "")
	require.NoError(b, err)
	tree := xpath.NewTree(root)
	for _, source := range []string{
		"count(//moisture)", "count(//lot[moisture > 18])", "//lot[@id='L-49999']/keeper",
		"count(//moisture/ancestor::lot)", "count(//lot[last()]/preceding::*)", "count(//lot/following-sibling::lot)",
		"count(//lot[keeper = //lot[7]/keeper])",
	} {
		compiled, err := xpath.Compile(source)
		require.NoError(b, err)
		b.Run(source, func(b *testing.B) {
			for b.Loop() {
				_, _ = compiled.Evaluate(tree, nil)
			}
		})
	}
}
