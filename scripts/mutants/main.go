// Command mutants breaks the judging core in one place at a time and runs the tests that
// should notice. It takes places at random from a seed, prints those that no test noticed,
// and fails where more than one in twenty was missed. It changes no file: the compiler is
// given the broken one in place of the right one.
//
//	go run ./scripts/mutants -n 100 -seed 1
//	go run ./scripts/mutants -at internal/rule/judge.go:349,internal/run/again.go:84
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/format"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// subjects are what is broken, with the tests that should notice.
var subjects = []struct {
	files []string
	tests []string
}{
	{[]string{"internal/rule/*.go"}, []string{"./internal/rule", "./internal/run"}},
	{append(within("run", "judge", "waiting", "again", "times"), "internal/sheet/expect.go", "internal/reply/error.go", "internal/history/limits.go", "internal/history/gather.go"),
		[]string{"./internal/run", "./internal/reply", "./internal/history"}},
	{slices.Concat(within("bench", "read", "together", "operation", "check"), within("sheet", "stepfile", "stepkinds", "rows"), within("run", "vet", "arguments")), []string{"./internal/run"}},
}

func within(folder string, names ...string) []string {
	for i, name := range names {
		names[i] = "internal/" + folder + "/" + name + ".go"
	}
	return names
}

// mutant is one place, and what is done there.
type mutant struct {
	file, what string
	line       int
	tests      []string
	source     []byte
}

var swapped = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.LAND: token.LOR, token.LOR: token.LAND, token.ADD: token.SUB, token.SUB: token.ADD,
}

func main() {
	count := flag.Int("n", 100, "how many places are broken")
	seed := flag.Uint64("seed", 1, "decides which")
	places := flag.String("at", "", "break what stands at these lines in place of random ones: FILE:LINE, with commas between")
	limit := flag.Duration("limit", 3*time.Minute, "how long the tests of one may take")
	flag.Parse()
	all, err := find()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	if *places != "" {
		at := strings.Split(*places, ",")
		all = slices.DeleteFunc(all, func(m *mutant) bool { return !slices.Contains(at, fmt.Sprintf("%s:%d", m.file, m.line)) })
		*count = len(all)
	} else {
		r := rand.New(rand.NewPCG(*seed, 0))
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
	}
	// Tests that fail anyway would notice everything.
	whole := &mutant{file: all[0].file}
	if whole.source, err = os.ReadFile(whole.file); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	for _, tests := range []string{"./internal/rule", "./internal/run", "./internal/reply", "./internal/history", sessions} {
		if came, err := whole.try(*limit, tests); err != nil || came != lost {
			fmt.Fprintf(os.Stderr, "with nothing broken %s does not pass: %s %v\n", tests, came, err)
			os.Exit(2)
		}
	}
	tried, missed := round(all, *count, func(m *mutant) (outcome, error) { return m.try(*limit, m.tests...) })
	fmt.Printf("%d were missed by the tests beside them; the sessions follow\n", len(missed))
	_, missed = round(missed, len(missed), func(m *mutant) (outcome, error) { return m.try(*limit, sessions) })
	fmt.Printf("%d of %d were noticed\n", tried-len(missed), tried)
	if len(missed)*20 > tried {
		os.Exit(1)
	}
}

// outcome is what came of the tests of a mutant. One that the compiler refuses says nothing
// of them, and is not counted.
type outcome string

const (
	noticed outcome = "noticed"
	lost    outcome = "MISSED"
	unbuilt outcome = "unbuilt"
)

// sessions run the whole program; they are slow, and so are for what the tests beside the
// code missed.
const sessions = "./cmd/testbench"

// round tries mutants until there are as many as wanted, and gives those that nothing
// noticed.
func round(all []*mutant, wanted int, try func(*mutant) (outcome, error)) (tried int, missed []*mutant) {
	for _, m := range all {
		if tried == wanted {
			break
		}
		came, err := try(m)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		if came == unbuilt {
			continue
		}
		if tried++; came == lost {
			missed = append(missed, m)
		}
		fmt.Printf("%3d %s %s:%d %s\n", tried, came, m.file, m.line, m.what)
	}
	return tried, missed
}

// find lists every place of the subjects that can be broken.
func find() ([]*mutant, error) {
	var all []*mutant
	for _, s := range subjects {
		for _, pattern := range s.files {
			names, err := filepath.Glob(pattern)
			if err != nil {
				return nil, err
			}
			for _, name := range names {
				if strings.HasSuffix(name, "_test.go") {
					continue
				}
				found, err := inFile(name)
				if err != nil {
					return nil, err
				}
				for _, m := range found {
					m.tests = s.tests
				}
				all = append(all, found...)
			}
		}
	}
	return all, nil
}

// inFile breaks a file in each place that it has, one after the other.
func inFile(name string) ([]*mutant, error) {
	source, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	files := token.NewFileSet()
	tree, err := parser.ParseFile(files, name, source, parser.ParseComments)
	if err != nil {
		return nil, err
	}
	var out []*mutant
	var failed error
	take := func(at token.Pos, what string, change, back func()) {
		change()
		var text bytes.Buffer
		if err := format.Node(&text, files, tree); err != nil && failed == nil {
			failed = err
		}
		back()
		out = append(out, &mutant{file: name, what: what, line: files.Position(at).Line, source: text.Bytes()})
	}
	ast.Inspect(tree, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if to, ok := swapped[n.Op]; ok && !isText(n) {
				from := n.Op
				take(n.OpPos, from.String()+" became "+to.String(), func() { n.Op = to }, func() { n.Op = from })
			}
		case *ast.IfStmt:
			cond := n.Cond
			take(n.Pos(), "a condition became its opposite", func() { n.Cond = &ast.UnaryExpr{Op: token.NOT, X: &ast.ParenExpr{X: cond}} }, func() { n.Cond = cond })
		case *ast.Ident:
			if (n.Name == "true" || n.Name == "false") && n.Obj == nil {
				from := n.Name
				to := map[string]string{"true": "false", "false": "true"}[from]
				take(n.Pos(), from+" became "+to, func() { n.Name = to }, func() { n.Name = from })
			}
		case *ast.BlockStmt:
			for i, statement := range n.List {
				call, ok := statement.(*ast.ExprStmt)
				if !ok {
					continue
				}
				list := n.List
				take(call.Pos(), "a call was left out", func() { n.List = slices.Concat(list[:i:i], list[i+1:]) }, func() { n.List = list })
			}
		}
		return true
	})
	return out, failed
}

// isText says whether an expression joins texts, of which there is no difference.
func isText(n *ast.BinaryExpr) bool {
	text := func(e ast.Expr) bool {
		l, ok := e.(*ast.BasicLit)
		return ok && l.Kind == token.STRING
	}
	inner, ok := n.X.(*ast.BinaryExpr)
	return n.Op == token.ADD && (text(n.X) || text(n.Y) || ok && isText(inner)) || n.Op == token.SUB && (text(n.X) || text(n.Y))
}

// try runs the tests on the broken file. Tests that hang have noticed.
func (m *mutant) try(limit time.Duration, tests ...string) (outcome, error) {
	dir, err := os.MkdirTemp("", "mutant")
	if err != nil {
		return "", err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	full, err := filepath.Abs(m.file)
	if err != nil {
		return "", err
	}
	broken, overlay := filepath.Join(dir, "broken.go"), filepath.Join(dir, "overlay.json")
	replace, err := json.Marshal(map[string]map[string]string{"Replace": {full: broken}})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(broken, m.source, 0o600); err != nil {
		return "", err
	}
	if err := os.WriteFile(overlay, replace, 0o600); err != nil {
		return "", err
	}
	for _, test := range tests {
		ctx, cancel := context.WithTimeout(context.Background(), limit)
		said, err := exec.CommandContext(ctx, "go", "test", "-short", "-failfast", "-overlay", overlay, test).CombinedOutput()
		cancel()
		switch {
		case bytes.Contains(said, []byte("[build failed]")):
			return unbuilt, nil
		case err != nil:
			return noticed, nil
		}
	}
	return lost, nil
}
