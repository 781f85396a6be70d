// Command mutants breaks the judging core in one place at a time and runs the tests that
// should notice. It takes places at random from a seed, prints those that no test noticed,
// and fails where more than one in twenty was missed. It changes no file: the compiler is
// given the files with all their places breakable, and an environment variable says which
// one is broken.
//
//	go run ./scripts/mutants -n 100 -seed 1
//	go run ./scripts/mutants -at internal/rule/judge.go:349,internal/judge/waiting.go:84
package main

import (
	"cmp"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// subjects are what is broken, in the order of what is tried first.
var subjects = []struct {
	folder string
	files  []string // all of the folder where there are none
}{
	{"internal/rule", nil},
	{"internal/mapping", []string{"read", "rules", "values"}},
	{"internal/bench", []string{"together", "operation", "check"}},
	{"internal/sheet", []string{"expect", "stepfile", "kind", "step", "rows"}},
	{"internal/session", []string{"operation"}},
	{"internal/judge", nil},
	{"internal/vet", nil},
	{"internal/step", nil},
	{"internal/run", []string{"row", "times"}},
	{"internal/reply", []string{"error"}},
	{"internal/history", []string{"limits", "merge"}},
}

// testsOf are the tests that should notice what is broken in a folder: those beside it, then
// those of what is built on it, the quick ones first.
func testsOf(folder string) []string {
	tests := []string{folder}
	for _, other := range []string{
		"internal/judge", "internal/step", "internal/vet", "internal/session",
		"internal/bench", "internal/run",
	} {
		if other != folder {
			tests = append(tests, other)
		}
	}
	return tests
}

// sessions run the whole program; they are slow, and so are for what the tests beside the
// code missed.
const sessions = "cmd/testbench"

// place is where something is broken, and what is done there; its number is what the
// environment variable says.
type place struct {
	number     int
	file, what string
	line       int
	tests      []string
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	count := flag.Int("n", 100, "how many places are broken")
	seed := flag.Uint64("seed", 1, "decides which")
	places := flag.String("at", "",
		"break what is at these lines in place of random ones: FILE:LINE, with commas between")
	beside := flag.Bool("beside", false, "run only the tests beside the code, to see where they are thin")
	limit := flag.Duration("limit", time.Minute,
		"how long the tests of one may take beside the code; the sessions may take ten times as long")
	flag.Parse()
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		fail(err)
	}
	defer func() { _ = os.RemoveAll(dir) }()
	all, tests, err := build(ctx, dir)
	if err != nil {
		fail(err)
	}
	if *places != "" {
		at := strings.Split(*places, ",")
		all = slices.DeleteFunc(all, func(p place) bool {
			return !slices.Contains(at, fmt.Sprintf("%s:%d", p.file, p.line))
		})
	} else {
		r := rand.New(rand.NewPCG(*seed, 0))
		r.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:min(*count, len(all))]
	}
	// Tests that fail anyway would notice everything.
	for folder := range tests.binaries {
		if *beside && folder == sessions {
			continue
		}
		if tests.notice(ctx, place{}, folder, 10**limit) {
			fail(fmt.Errorf("with nothing broken the tests of %s do not pass", folder))
		}
	}
	tried := len(all)
	missed := round(all, func(p place) bool {
		return slices.ContainsFunc(p.tests, func(folder string) bool { return tests.notice(ctx, p, folder, *limit) })
	})
	fmt.Printf("%d were missed by the tests beside them\n", len(missed))
	if *beside {
		return
	}
	missed = round(missed, func(p place) bool { return tests.notice(ctx, p, sessions, 10**limit) })
	fmt.Printf("%d of %d were noticed\n", tried-len(missed), tried)
	if len(missed)*20 > tried || ctx.Err() != nil {
		os.Exit(1)
	}
}

func fail(err error) {
	fmt.Fprintln(os.Stderr, err)
	os.Exit(2)
}

// round gives those of the places that nothing noticed.
func round(all []place, noticed func(place) bool) (missed []place) {
	for i, p := range all {
		came := "noticed"
		if !noticed(p) {
			came, missed = "MISSED", append(missed, p)
		}
		fmt.Printf("%3d %s %s:%d %s\n", i+1, came, p.file, p.line, p.what)
	}
	return missed
}

// built are the compiled tests of each folder, with all places of the subjects in them.
type built struct {
	binaries map[string]string
}

// build finds the places and compiles the tests.
func build(ctx context.Context, dir string) ([]place, built, error) {
	types, err := exports(ctx)
	if err != nil {
		return nil, built{}, err
	}
	var all []place
	replace := map[string]string{}
	out := built{binaries: map[string]string{sessions: ""}}
	for _, s := range subjects {
		found, files, err := breakable(types, s.folder, s.files, len(all)+1)
		if err != nil {
			return nil, built{}, err
		}
		for i := range found {
			found[i].tests = testsOf(s.folder)
		}
		all = append(all, found...)
		for name, text := range files {
			full, err := filepath.Abs(name)
			if err != nil {
				return nil, built{}, err
			}
			replace[full] = filepath.Join(dir, strings.ReplaceAll(name, "/", "_"))
			if err := os.WriteFile(replace[full], text, 0o600); err != nil {
				return nil, built{}, err
			}
		}
		for _, folder := range testsOf(s.folder) {
			out.binaries[folder] = ""
		}
	}
	list, err := json.Marshal(map[string]map[string]string{"Replace": replace})
	if err != nil {
		return nil, built{}, err
	}
	overlay := filepath.Join(dir, "overlay.json")
	if err := os.WriteFile(overlay, list, 0o600); err != nil {
		return nil, built{}, err
	}
	for folder := range out.binaries {
		binary := filepath.Join(dir, strings.ReplaceAll(folder, "/", "_")+".test")
		compile := exec.CommandContext(ctx, "go", "test", "-c", "-overlay", overlay, "-o", binary, "./"+folder)
		if said, err := compile.CombinedOutput(); err != nil {
			return nil, built{}, fmt.Errorf("%s: %w\n%s", folder, err, said)
		}
		if _, err := os.Stat(binary); err == nil {
			out.binaries[folder] = binary
		} else {
			delete(out.binaries, folder) // there are no tests
		}
	}
	slices.SortFunc(all, func(a, b place) int { return cmp.Compare(a.number, b.number) })
	return all, out, nil
}

// notice says whether the tests of a folder fail with a place broken. Tests that hang have
// noticed.
func (b built) notice(ctx context.Context, p place, folder string, limit time.Duration) bool {
	binary, ok := b.binaries[folder]
	if !ok {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	run := exec.CommandContext(ctx, binary, "-test.failfast")
	run.Dir, run.Env = folder, append(os.Environ(), "BROKEN="+strconv.Itoa(p.number))
	run.WaitDelay = time.Second
	return run.Run() != nil
}
