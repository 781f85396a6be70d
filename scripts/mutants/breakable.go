package main

import (
	"bytes"
	"context"
	"fmt"
	"go/ast"
	"go/importer"
	"go/parser"
	"go/token"
	"go/types"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// helpers are in each package with places that can be broken.
const helpers = `package %s

import (
	"cmp"
	"os"
	"strconv"
)

var brokenPlace, _ = strconv.Atoi(os.Getenv("BROKEN"))

func brokenLess[T cmp.Ordered](n int, a, b T) bool    { return a < b || n == brokenPlace && a == b }
func brokenAtMost[T cmp.Ordered](n int, a, b T) bool  { return a < b || n != brokenPlace && a == b }
func brokenOver[T cmp.Ordered](n int, a, b T) bool    { return a > b || n == brokenPlace && a == b }
func brokenAtLeast[T cmp.Ordered](n int, a, b T) bool { return a > b || n != brokenPlace && a == b }
func brokenAnd(n int, a bool, b func() bool) bool {
	return (n != brokenPlace || a || b()) && (n == brokenPlace || a && b())
}

func brokenOr(n int, a bool, b func() bool) bool {
	return (n == brokenPlace || a || b()) && (n != brokenPlace || a && b())
}


type brokenNumber interface {
	~int | ~int8 | ~int16 | ~int32 | ~int64 | ~uint | ~uint8 | ~uint16 | ~uint32 | ~uint64 | ~float32 | ~float64
}

func brokenSum[T brokenNumber](n int, a, b T) T {
	if n == brokenPlace {
		return a - b
	}
	return a + b
}

func brokenDifference[T brokenNumber](n int, a, b T) T {
	if n == brokenPlace {
		return a + b
	}
	return a - b
}
`

// operators are those that can be broken: what they become, and the function that does both.
var operators = map[token.Token]struct {
	to   token.Token
	does string
}{
	token.EQL:  {token.NEQ, ""},
	token.NEQ:  {token.EQL, ""},
	token.LSS:  {token.LEQ, "brokenLess"},
	token.LEQ:  {token.LSS, "brokenAtMost"},
	token.GTR:  {token.GEQ, "brokenOver"},
	token.GEQ:  {token.GTR, "brokenAtLeast"},
	token.LAND: {token.LOR, "brokenAnd"},
	token.LOR:  {token.LAND, "brokenOr"},
	token.ADD:  {token.SUB, "brokenSum"},
	token.SUB:  {token.ADD, "brokenDifference"},
}

// exports gives the types of the packages that the project uses, as the compiler wrote them.
func exports(ctx context.Context) (types.Importer, error) {
	list, err := exec.CommandContext(ctx, "go", "list", "-export", "-deps", "-f", "{{.ImportPath}}\t{{.Export}}",
		"./internal/...").Output()
	if err != nil {
		return nil, fmt.Errorf("go list -export: %w", err)
	}
	files := map[string]string{}
	for line := range strings.Lines(string(list)) {
		path, file, _ := strings.Cut(strings.TrimSpace(line), "\t")
		files[path] = file
	}
	return importer.ForCompiler(token.NewFileSet(), "gc", func(path string) (io.ReadCloser, error) {
		return os.Open(files[path])
	}), nil
}

// edit is a text that is put into a file at an offset, in place of so many bytes that go.
type edit struct {
	at, gone int
	text     string
	closes   bool
}

// breakable gives the files of a folder with every place breakable, and the places; the
// first has the number next. Files that are not named stay as they are.
func breakable(from types.Importer, folder string, names []string, next int) ([]place, map[string][]byte, error) {
	files := token.NewFileSet()
	paths, err := filepath.Glob(folder + "/*.go")
	if err != nil {
		return nil, nil, err
	}
	var trees []*ast.File
	for _, path := range paths {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(files, path, nil, 0)
		if err != nil {
			return nil, nil, err
		}
		trees = append(trees, tree)
	}
	info := &types.Info{Types: map[ast.Expr]types.TypeAndValue{}, Uses: map[*ast.Ident]types.Object{}}
	config := types.Config{Importer: from}
	if _, err := config.Check("testbench/"+folder, files, trees, info); err != nil {
		return nil, nil, err
	}
	var all []place
	out := map[string][]byte{filepath.Join(folder, "broken_place.go"): fmt.Appendf(nil, helpers, trees[0].Name.Name)}
	for _, tree := range trees {
		path := files.Position(tree.Pos()).Filename
		if names != nil && !slices.Contains(names, strings.TrimSuffix(filepath.Base(path), ".go")) {
			continue
		}
		b := &breaker{info: info, files: files, path: path, next: next + len(all), besideErrors: map[ast.Expr]bool{}}
		ast.Inspect(tree, b.visit)
		source, err := os.ReadFile(path)
		if err != nil {
			return nil, nil, err
		}
		out[path] = apply(source, b.edits)
		all = append(all, b.found...)
	}
	return all, out, nil
}

// breaker collects the places of a file, outer ones before those within them.
type breaker struct {
	info  *types.Info
	files *token.FileSet
	path  string
	next  int
	edits []edit
	found []place
	// besideErrors are values that are returned beside an error, and so mean nothing.
	besideErrors map[ast.Expr]bool
}

func (b *breaker) visit(n ast.Node) bool {
	switch n := n.(type) {
	case *ast.BinaryExpr:
		b.operator(n)
	case *ast.IfStmt:
		b.errorReturned(n)
		number := b.place(n.Pos(), "a condition became its opposite")
		b.around(n.Cond, "(", fmt.Sprintf(") != (brokenPlace == %d)", number))
	case *ast.Ident:
		if b.besideErrors[n] {
			break
		}
		if object := b.info.Uses[n]; object == types.Universe.Lookup("true") ||
			object == types.Universe.Lookup("false") {
			number := b.place(n.Pos(), n.Name+" became its opposite")
			b.around(n, "(", fmt.Sprintf(" != (brokenPlace == %d))", number))
		}
	case *ast.ExprStmt:
		if call, ok := n.X.(*ast.CallExpr); ok {
			if name, ok := call.Fun.(*ast.Ident); ok && name.Name == "panic" {
				break
			}
			number := b.place(n.Pos(), "a call was left out")
			b.around(n, fmt.Sprintf("if brokenPlace != %d { ", number), " }")
		}
	}
	return true
}

// errorReturned notes what is returned beside an error where there is one: nobody looks at it.
func (b *breaker) errorReturned(n *ast.IfStmt) {
	check, ok := n.Cond.(*ast.BinaryExpr)
	if !ok || check.Op != token.NEQ || !isNamed(check.X, "err") || !isNamed(check.Y, "nil") {
		return
	}
	for _, s := range n.Body.List {
		if given, ok := s.(*ast.ReturnStmt); ok && len(given.Results) > 1 &&
			isNamed(given.Results[len(given.Results)-1], "err") {
			for _, value := range given.Results {
				b.besideErrors[value] = true
			}
		}
	}
}

func isNamed(e ast.Expr, name string) bool {
	named, ok := e.(*ast.Ident)
	return ok && named.Name == name
}

// operator makes an expression of two sides breakable; of constants and texts there is
// nothing to break.
func (b *breaker) operator(n *ast.BinaryExpr) {
	with, ok := operators[n.Op]
	is := b.info.Types[n]
	if !ok || is.Value != nil || (n.Op == token.ADD || n.Op == token.SUB) && !isNumber(is.Type) {
		return
	}
	number := b.place(n.OpPos, n.Op.String()+" became "+with.to.String())
	if with.does == "" {
		b.around(n, "((", fmt.Sprintf(") != (brokenPlace == %d))", number))
		return
	}
	open, end := ", ", ")"
	if n.Op == token.LAND || n.Op == token.LOR {
		open, end = ", func() bool { return (", ") })" // the parenthesis keeps a line that goes on
	}
	b.around(n, fmt.Sprintf("%s(%d, ", with.does, number), end)
	b.edits = append(b.edits, edit{at: b.files.Position(n.OpPos).Offset, gone: len(n.Op.String()), text: open})
}

func isNumber(t types.Type) bool {
	basic, ok := t.Underlying().(*types.Basic)
	return ok && basic.Info()&(types.IsInteger|types.IsFloat) != 0
}

func (b *breaker) place(at token.Pos, what string) int {
	number := b.next + len(b.found)
	b.found = append(b.found, place{number: number, file: b.path, line: b.files.Position(at).Line, what: what})
	return number
}

func (b *breaker) around(n ast.Node, before, after string) {
	b.edits = append(b.edits,
		edit{at: b.files.Position(n.Pos()).Offset, text: before},
		edit{at: b.files.Position(n.End()).Offset, text: after, closes: true})
}

// apply puts the edits into a text. At one offset, what ends comes before what begins, and
// of what ends the inner comes first.
func apply(source []byte, edits []edit) []byte {
	closing := slices.DeleteFunc(slices.Clone(edits), func(e edit) bool { return !e.closes })
	slices.Reverse(closing)
	opening := slices.DeleteFunc(edits, func(e edit) bool { return e.closes })
	all := append(closing, opening...)
	slices.SortStableFunc(all, func(a, b edit) int { return a.at - b.at })
	var out bytes.Buffer
	done := 0
	for _, e := range all {
		out.Write(source[done:e.at])
		out.WriteString(e.text)
		done = e.at + e.gone
	}
	out.Write(source[done:])
	return out.Bytes()
}
