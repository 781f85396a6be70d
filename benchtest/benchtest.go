// Package benchtest runs the sheets of a bench within the tests of a Go program: every
// sheet, row and step is a subtest of its own.
//
//	func TestPartner(t *testing.T) {
//		benchtest.Run(t, "testdata/bench", "sheets/intake.yaml")
//	}
//
// What is asked may change though no file does, so such a test is never taken from Go's test
// cache: it reads a file in the folder .testbench of the bench that is always new. Where the
// bench lies outside of the module, go test does not look there: run it with -count=1.
package benchtest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"testbench"
)

// Run runs sheets of the bench in a folder, all of its sheets where none are named, and
// gives what came of them. A step that failed fails its subtest with what was expected,
// what came, and what to try; one that was not run is skipped with the reason. Nothing of
// it is recorded in the history of the bench.
func Run(t *testing.T, dir string, sheets ...string) *testbench.Result {
	t.Helper()
	return RunWith(t, dir, testbench.RunOptions{}, sheets...)
}

// RunWith is Run with options: a site, values, a clock.
func RunWith(t *testing.T, dir string, o testbench.RunOptions, sheets ...string) *testbench.Result {
	t.Helper()
	bench, err := testbench.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if len(sheets) == 0 {
		if sheets, err = bench.Sheets(); err != nil {
			t.Fatal(err)
		}
	}
	if err := neverCached(dir); err != nil {
		t.Logf("go test may take this from its cache (%v): run it with -count=1", err)
	}
	o.Unrecorded = true
	result, err := bench.Run(t.Context(), sheets, o)
	if err != nil {
		t.Fatal(err)
	}
	tell(t, result)
	return result
}

// neverCached reads a file that was changed in the future. go test keeps no result of a
// test that read one that is new: see hashOpen in cmd/go/internal/test.
func neverCached(dir string) error {
	name := filepath.Join(dir, ".testbench", "asked-anew")
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(name, nil, 0o644); err != nil {
		return err
	}
	ahead := time.Now().AddDate(100, 0, 0)
	if err := os.Chtimes(name, ahead, ahead); err != nil {
		return err
	}
	file, err := os.Open(name)
	if err != nil {
		return err
	}
	return file.Close()
}

// tell makes subtests of what came of a run.
func tell(t *testing.T, result *testbench.Result) {
	t.Helper()
	for _, sheet := range result.Sheets {
		t.Run(sheet.Name, func(t *testing.T) {
			steps := 0
			for _, row := range sheet.Rows {
				steps += len(row.Steps)
				inRow := func(t *testing.T) {
					for _, step := range row.Steps {
						t.Run(step.Name, func(t *testing.T) { judge(t, step) })
					}
				}
				if row.Name() == "" {
					inRow(t)
				} else {
					t.Run(row.Name(), inRow)
				}
			}
			for _, c := range sheet.Checks {
				if !c.Passed {
					t.Errorf("%s %s: %s", c.Kind, c.Subject, c.Compared())
				}
			}
			if steps == 0 {
				t.Error("nothing was run")
			}
		})
	}
}

func judge(t *testing.T, step testbench.StepResult) {
	t.Helper()
	switch step.Outcome {
	case testbench.Passed:
	case testbench.NotRun:
		t.Skip(step.Reason)
	default:
		t.Errorf("%s: %s\n%s", step.Outcome, step.Target,
			strings.Join(append([]string{step.Reason}, step.Failures...), "\n"))
	}
}
