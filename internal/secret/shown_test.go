package secret_test

import (
	"cmp"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/secret"
)

// plainHere are the places that call a text harmless by themselves, with what it is made of.
// Everywhere else a secret.Text comes out of a Masker.
var plainHere = map[string]string{
	"internal/history/gather.go":  "the number of a share",
	"internal/history/limits.go":  "limits as the sheet writes them, and times",
	"internal/history/run.go":     "the protocol and the status",
	"internal/run/times.go":       "numbers of rows",
	"internal/report/html.go":     "numbers of bytes, methods, and names of fields that were recorded masked",
	"internal/report/report.go":   "the kind of a check, and why a run is not whole",
	"internal/result/recorded.go": "numbers of bytes",
	"internal/cli/printer.go":     "the end of a text that was masked",
	"internal/secret/mask.go":     "the Masker itself",
}

// A text that may be shown is made by the Masker alone: nobody else turns a string into one.
func TestWhoMakesShownTexts(t *testing.T) {
	root := filepath.Join("..", "..")
	used := map[string]bool{}
	require.NoError(t, filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && slices.Contains([]string{".git", "node_modules", "testdata"}, d.Name()) {
			return cmp.Or(err, fs.SkipDir)
		}
		if d.IsDir() || !strings.HasSuffix(name, ".go") || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		files := token.NewFileSet()
		file, err := parser.ParseFile(files, name, nil, 0)
		if err != nil {
			return err
		}
		short, _ := filepath.Rel(root, name)
		short = filepath.ToSlash(short)
		own := file.Name.Name == "secret"
		ast.Inspect(file, func(n ast.Node) bool {
			call, ok := n.(*ast.CallExpr)
			if !ok || len(call.Args) != 1 || !makesText(call.Fun, own) {
				return true
			}
			if literal, ok := call.Args[0].(*ast.BasicLit); ok && literal.Kind == token.STRING {
				return true
			}
			used[short] = true
			assert.Contains(t, plainHere, short, "%s makes a text that may be shown past the Masker",
				files.Position(call.Pos()))
			return true
		})
		return nil
	}))
	for name := range plainHere {
		assert.True(t, used[name], "%s needs no leave", name)
	}
}

// makesText says whether a call is a conversion to Text or one of Plain.
func makesText(fun ast.Expr, own bool) bool {
	switch f := fun.(type) {
	case *ast.SelectorExpr:
		of, ok := f.X.(*ast.Ident)
		return ok && of.Name == "secret" && (f.Sel.Name == "Text" || f.Sel.Name == "Plain")
	case *ast.Ident:
		return own && (f.Name == "Text" || f.Name == "Plain")
	}
	return false
}

func TestShownText(t *testing.T) {
	m := &secret.Masker{}
	m.Hide("the sealed text")
	body := strings.Repeat("x", 90) + "the sealed text" + strings.Repeat("y", 200<<10)
	start, more := m.ShowStart([]byte(body), 100)
	assert.True(t, more)
	assert.Equal(t, secret.Text(strings.Repeat("x", 90)+"[masked]yy"), start, "masked before it is cut")
	whole, more := m.ShowStart([]byte("the sealed text"), 100)
	assert.False(t, more)
	assert.Equal(t, secret.Text("[masked]"), whole)
	// However much of it is masked, what was cut off is never shown.
	start, _ = m.ShowStart([]byte(strings.Repeat("the sealed text", 20<<10)), 100)
	assert.NotContains(t, strings.ReplaceAll(string(start), "[masked]", ""), "the")
	assert.Equal(t, secret.Text(`got "`+strings.Repeat("x", 60)+`…"`),
		m.Message(`got "`+strings.Repeat("x", 90)+`the sealed text"`))
	assert.Equal(t, secret.Text("a [mask…"), m.Show("a the sealed text").Cut(8))
	assert.Equal(t, secret.Text("a b"), m.Show(" a\n\tb ").OneLine())
	assert.Nil(t, m.Messages(nil))
	assert.Equal(t, []secret.Text{"a", "[masked]"}, m.ShowAll([]string{"a", "the sealed text"}))
	assert.Equal(t, secret.Text("one, two"), secret.Join([]secret.Text{"one", "two"}, ", "))
}
