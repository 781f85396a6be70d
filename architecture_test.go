package testbench_test

import (
	"flag"
	"go/ast"
	"go/build"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the map of packages in CONTRIBUTING.md anew")

// The map of packages in CONTRIBUTING.md is in the order in which they may import each other, from the
// top: an arrow upward fails here. What a package is for is the first sentence of its comment.
func TestMapOfPackages(t *testing.T) {
	packages := map[string]*build.Package{}
	require.NoError(t, filepath.WalkDir(".", func(dir string, entry fs.DirEntry, err error) error {
		if err != nil || !entry.IsDir() {
			return err
		}
		if name := entry.Name(); name == "node_modules" || name == "testdata" ||
			dir != "." && strings.HasPrefix(name, ".") || dir == "scripts" {
			return fs.SkipDir
		}
		p, err := build.ImportDir(dir, 0)
		if err == nil {
			packages[path.Join("testbench", filepath.ToSlash(dir))] = p
		}
		return nil
	}))
	guide, err := os.ReadFile("CONTRIBUTING.md")
	require.NoError(t, err)
	row := regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (.*) \\|$")
	var order []string
	text := row.ReplaceAllStringFunc(string(guide), func(line string) string {
		name := row.FindStringSubmatch(line)[1]
		p := packages[path.Join("testbench", name)]
		if p == nil {
			return line // a row of another table
		}
		order = append(order, path.Join("testbench", name))
		return "| `" + name + "` | " + p.Doc + " |"
	})
	if *update {
		require.NoError(t, os.WriteFile("CONTRIBUTING.md", []byte(text), 0o644))
	} else {
		assert.Equal(t, text, string(guide), "go test . -run TestMapOfPackages -update writes it anew")
	}
	for name, p := range packages {
		at := slices.Index(order, name)
		assert.GreaterOrEqual(t, at, 0, "%s is not in the map", name)
		assert.NotEmpty(t, p.Doc, "%s has no comment", name)
		for _, imported := range p.Imports {
			if packages[imported] != nil {
				assert.Greater(t, slices.Index(order, imported), at, "%s imports %s, which is above it", name,
					imported)
			}
		}
	}
}

// The files that design.md and CONTRIBUTING.md name are there.
func TestNamedFiles(t *testing.T) {
	named := regexp.MustCompile("`([a-z/]+/[a-z_]+\\.go)`")
	for _, doc := range []string{"CONTRIBUTING.md", filepath.Join("docs", "design.md")} {
		text, err := os.ReadFile(doc)
		require.NoError(t, err)
		for _, m := range named.FindAllStringSubmatch(string(text), -1) {
			_, here := os.Stat(m[1])
			_, below := os.Stat(filepath.Join("internal", m[1]))
			assert.True(t, here == nil || below == nil, "%s names %s, which is not there", doc, m[1])
		}
	}
}

// What the library takes and gives has names outside of the module: nothing of it is internal.
func TestLibraryIsItsOwn(t *testing.T) {
	for _, dir := range []string{".", "benchtest"} {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		for _, name := range files {
			if strings.HasSuffix(name, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
			require.NoError(t, err)
			internal := map[string]bool{}
			for _, one := range file.Imports {
				if imported := strings.Trim(one.Path.Value, `"`); strings.Contains(imported, "/internal/") {
					internal[path.Base(imported)] = true
				}
			}
			ast.FileExports(file) // leaves what is exported, without what functions do
			ast.Inspect(file, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.GenDecl:
					return n.Tok == token.TYPE || n.Tok == token.IMPORT // the values of constants show nothing
				case *ast.BlockStmt:
					return false
				case *ast.SelectorExpr:
					of, ok := n.X.(*ast.Ident)
					assert.False(t, ok && internal[of.Name], "%s shows %v.%s", name, n.X, n.Sel)
				}
				return true
			})
		}
	}
}

// Regular expressions are compiled when they are first asked for, and those of the code are right.
func TestRegularExpressions(t *testing.T) {
	files, err := filepath.Glob("internal/*/*.go")
	require.NoError(t, err)
	deeper, err := filepath.Glob("internal/*/*/*.go")
	require.NoError(t, err)
	type expression struct {
		dir  string
		text ast.Expr
	}
	var expressions []expression
	texts := map[string]ast.Expr{} // of constants, by folder and name
	for _, name := range slices.Concat(files, deeper) {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		dir := filepath.Dir(name)
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, decl := range file.Decls {
			general, ok := decl.(*ast.GenDecl)
			if !ok {
				continue
			}
			for _, spec := range general.Specs {
				values, ok := spec.(*ast.ValueSpec)
				if !ok {
					continue
				}
				for i, value := range values.Values {
					texts[dir+" "+values.Names[i].Name] = value
					call, ok := value.(*ast.CallExpr)
					if !ok || len(call.Args) != 1 {
						continue
					}
					switch nameOfCall(call) {
					case "regexp.MustCompile":
						t.Errorf("%s: %s is compiled at each start; lazy.Regexp is not", name, values.Names[i].Name)
					case "lazy.Regexp":
						expressions = append(expressions, expression{dir, call.Args[0]})
					}
				}
			}
		}
	}
	for _, one := range expressions {
		_, err := regexp.Compile(constant(one.text, one.dir, texts))
		assert.NoError(t, err)
	}
	assert.Greater(t, len(expressions), 50)
}

// nameOfCall is what a call calls, package.Name.
func nameOfCall(call *ast.CallExpr) string {
	if s, ok := call.Fun.(*ast.SelectorExpr); ok {
		if x, ok := s.X.(*ast.Ident); ok {
			return x.Name + "." + s.Sel.Name
		}
	}
	return ""
}

// constant is the text of an expression of literals and of constants of a folder.
func constant(e ast.Expr, dir string, texts map[string]ast.Expr) string {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, _ := strconv.Unquote(e.Value)
		return text
	case *ast.BinaryExpr:
		return constant(e.X, dir, texts) + constant(e.Y, dir, texts)
	case *ast.Ident:
		return constant(texts[dir+" "+e.Name], dir, texts)
	case *ast.CallExpr:
		return "made" // when the program runs
	}
	return "("
}
