//go:build unix

// Command measure pairs runs of the program with what does the same by other means: clients
// written by hand with the standard library alone, and libxml2. All of it is on this
// machine, and told as ratios of medians: go run ./scripts/measure. With -into FILE the
// figures take the place of those in a Markdown file.
package main

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"syscall"
	"time"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "measure:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	into := ""
	switch {
	case len(args) == 2 && args[0] == "-into":
		into = args[1]
	case len(args) > 0:
		return part(args) // a part of a measurement, in a process of its own
	}
	dir, err := os.MkdirTemp("", "testbench-measure-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	m := &measuring{dir: dir, program: filepath.Join(dir, "testbench"), empty: filepath.Join(dir, "empty")}
	if m.self, err = os.Executable(); err != nil {
		return err
	}
	if err := m.build(); err != nil {
		return err
	}
	for _, measure := range []func() error{
		m.startUp, m.calls, m.soap, m.validating, m.schemas, m.contracts, m.judging, m.looking,
		m.rows, m.sizes, m.firstBuild,
	} {
		if err := measure(); err != nil {
			return err
		}
	}
	text := m.machine() + "\n" + table("against", m.pairs) + "\n" + table("ten times the work", m.growth)
	fmt.Print(text)
	if into == "" {
		return nil
	}
	return replace(into, text)
}

// measuring gathers figures.
type measuring struct {
	dir, program, empty, self string
	pairs, growth             [][]string
}

func (m *measuring) build() error {
	source := filepath.Join(m.dir, "empty.go")
	if err := os.WriteFile(source, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		return err
	}
	for _, args := range [][]string{{"build", "-o", m.program, "./cmd/testbench"}, {"build", "-o", m.empty, source}} {
		build := exec.Command("go", args...)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if output, err := build.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, output)
		}
	}
	return nil
}

// command is what is run.
type command []string

// cost is what a command takes.
type cost struct {
	wall, processor time.Duration
	memory          float64 // the most at a time, in MB
}

// once runs a command.
func (m *measuring) once(c command) (cost, error) {
	run := exec.Command(c[0], c[1:]...)
	run.Dir = m.dir
	run.Env = append(os.Environ(), "TESTBENCH_IDENTITY="+filepath.Join(m.dir, "identity.txt"))
	start := time.Now()
	output, err := run.CombinedOutput()
	passed := time.Since(start)
	if err != nil {
		return cost{}, fmt.Errorf("%v: %w: %.2000s", c, err, output)
	}
	usage, _ := run.ProcessState.SysUsage().(*syscall.Rusage)
	return cost{passed, run.ProcessState.UserTime() + run.ProcessState.SystemTime(), float64(usage.Maxrss) / 1024}, nil
}

// times runs commands in turn, and gives the medians of their times and the most memory of each.
func (m *measuring) times(times int, commands ...command) ([]cost, error) {
	all := make([][]cost, len(commands))
	for range times {
		for i, c := range commands {
			took, err := m.once(c)
			if err != nil {
				return nil, err
			}
			all[i] = append(all[i], took)
		}
	}
	medians := make([]cost, len(commands))
	for i, costs := range all {
		slices.SortFunc(costs, func(a, b cost) int { return cmp.Compare(a.memory, b.memory) })
		medians[i].memory = costs[len(costs)-1].memory
		slices.SortFunc(costs, func(a, b cost) int { return cmp.Compare(a.processor, b.processor) })
		medians[i].processor = costs[len(costs)/2].processor
		slices.SortFunc(costs, func(a, b cost) int { return cmp.Compare(a.wall, b.wall) })
		medians[i].wall = costs[len(costs)/2].wall
	}
	return medians, nil
}

// output runs a command for what it says.
func (m *measuring) output(c command) (string, error) {
	run := exec.Command(c[0], c[1:]...)
	run.Dir = m.dir
	run.Env = append(os.Environ(), "TESTBENCH_IDENTITY="+filepath.Join(m.dir, "identity.txt"))
	said, err := run.Output()
	return string(said), err
}

// against runs ours and theirs in turn, and notes the medians and their ratio.
func (m *measuring) against(what, other string, times int, theirs, ours command) error {
	took, err := m.times(times, theirs, ours)
	if err != nil {
		return err
	}
	them, us := took[0], took[1]
	m.pairs = append(m.pairs, []string{
		what, other, brief(them.wall), brief(us.wall), ratio(us.wall, them.wall), brief(them.processor), brief(us.processor),
		ratio(us.processor, them.processor), fmt.Sprintf("%.0f MB", us.memory),
	})
	fmt.Fprintln(os.Stderr, strings.Join(m.pairs[len(m.pairs)-1], "  "))
	return nil
}

func ratio(us, them time.Duration) string { return fmt.Sprintf("%.2f", float64(us)/float64(them)) }

// grown runs ours with little work and with ten times as much.
func (m *measuring) grown(what string, little, much command) error {
	took, err := m.times(3, little, much)
	if err != nil {
		return err
	}
	once, tenfold := took[0], took[1]
	m.growth = append(m.growth, []string{
		what, brief(once.wall), brief(tenfold.wall), ratio(tenfold.wall, once.wall),
		fmt.Sprintf("%.0f MB", once.memory), fmt.Sprintf("%.0f MB", tenfold.memory),
	})
	fmt.Fprintln(os.Stderr, strings.Join(m.growth[len(m.growth)-1], "  "))
	return nil
}

func brief(d time.Duration) string {
	if d < 100*time.Millisecond {
		return fmt.Sprintf("%.1f ms", float64(d)/float64(time.Millisecond))
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

// machine describes where it was measured.
func (m *measuring) machine() string {
	model := runtime.GOARCH
	if data, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for line := range strings.Lines(string(data)) {
			if name, text, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
				model = strings.TrimSpace(text)
				break
			}
		}
	}
	return fmt.Sprintf("Measured on %s with %d cores (%s), %s, by `go run ./scripts/measure`.\n",
		time.Now().Format("2006-01-02"), runtime.NumCPU(), model, runtime.Version())
}

func table(kind string, rows [][]string) string {
	heads := "| what | against | by other means | ours | ratio | processor time by other means | ours | ratio | " +
		"most memory |\n| --- | --- | --- | --- | --- | --- | --- | --- | --- |\n"
	if kind != "against" {
		heads = "| ten times the work | once | tenfold | ratio | memory once | tenfold |\n| --- | --- | --- | --- | " +
			"--- | --- |\n"
	}
	var out strings.Builder
	out.WriteString(heads)
	for _, row := range rows {
		out.WriteString("| " + strings.Join(row, " | ") + " |\n")
	}
	return out.String()
}

const (
	begin = "<!-- measured -->\n"
	end   = "<!-- end of what was measured -->\n"
)

// replace puts figures between the marks of a file.
func replace(file, text string) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	before, rest, okBefore := strings.Cut(string(data), begin)
	_, after, okAfter := strings.Cut(rest, end)
	if !okBefore || !okAfter {
		return errors.New(file + " has no place for figures")
	}
	return os.WriteFile(file, []byte(before+begin+text+end+after), 0o644)
}
