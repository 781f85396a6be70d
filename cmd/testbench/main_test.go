package main_test

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

// built is the program under test, with the race detector when the tests have it; unraced is the same without it then,
// and empty else.
var built, unraced string

func TestMain(m *testing.M) {
	if os.Getenv(measures) != "" {
		os.Exit(measure(os.Args[1:]))
	}
	os.Exit(buildAndRun(m))
}

// builtFor names a program that was built already, for machines without Go.
const builtFor = "TESTBENCH_TEST_PROGRAM"

func buildAndRun(m *testing.M) int {
	if built = os.Getenv(builtFor); built != "" {
		return m.Run()
	}
	dir, err := os.MkdirTemp("", "testbench-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = os.RemoveAll(dir) }()
	built = filepath.Join(dir, "testbench")
	builds := []*exec.Cmd{exec.Command("go", "build", "-o", built, ".")}
	if raceEnabled {
		unraced = filepath.Join(dir, "unraced", "testbench")
		without := exec.Command("go", "build", "-o", unraced, ".")
		without.Env = append(os.Environ(), "CGO_ENABLED=0") // as users have it
		builds = []*exec.Cmd{exec.Command("go", "build", "-race", "-o", built, "."), without}
	}
	for _, build := range builds {
		if output, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, output)
			return 1
		}
	}
	return m.Run()
}

// alone are commands in which no goroutines meet, or, as in doubt, only those that the tests of packages watch. They are
// run without the race detector, with which a program starts in five times the time.
var alone = []string{
	"compare", "completion", "cover", "doubt", "draft", "fields", "handover", "help", "history", "propose", "report",
	"schema", "survey", "validate", "vet",
}

// programOf is the program that a command is run by.
func programOf(args []string) string {
	if unraced != "" && len(args) > 0 && slices.Contains(alone, args[0]) {
		return unraced
	}
	return built
}

// slow leaves a test out of quick runs, which say so.
func slow(t *testing.T) {
	t.Helper()
	if testing.Short() {
		t.Skip("it is not for quick runs")
	}
}

// patience is what a run may take where the race detector and other tests take the
// processors too.
const patience = 5 * time.Minute

// outcome is what a run of the program came to.
type outcome struct {
	stdout, stderr string
	status         int
	took           time.Duration
}

func (o outcome) all() string { return o.stdout + o.stderr }

// place is a folder that the program is run in.
type place struct {
	t     testing.TB
	dir   string
	env   []string
	stdin string
}

// seal gives texts as sealed secrets of those names.
func (p *place) seal(secrets map[string]string) {
	for name, text := range secrets {
		p.env = append(p.env, "TESTBENCH_SEALED_"+strings.ToUpper(name)+"="+text)
	}
}

// newPlace makes an empty folder with an identity of its own and no secrets.
func newPlace(t testing.TB) *place {
	t.Helper()
	dir := t.TempDir()
	return &place{t: t, dir: dir, env: []string{
		"GORACE=atexit_sleep_ms=0", // the race detector would wait a second at each end
		"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "USERPROFILE=" + dir, "NO_COLOR=1", "TZ=UTC",
		"TESTBENCH_IDENTITY=" + filepath.Join(dir, "identity", "identity.txt"),
	}}
}

// newBench makes the demo bench, talking to a stand-in of its own. The secrets
// come from the environment.
func newBench(t testing.TB) (*place, *standin.Server) {
	t.Helper()
	p := newPlace(t)
	server, err := standin.Start("127.0.0.1:0", standin.Options{Books: filepath.Join(p.dir, demo.BooksFile)})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	require.NoError(t, demo.Write(p.dir, "http://"+server.Address))
	p.seal(standin.Secrets)
	return p, server
}

// write puts a file into the folder.
func (p *place) write(name, text string) {
	p.t.Helper()
	full := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(p.t, os.WriteFile(full, []byte(text), 0o644))
}

func (p *place) read(name string) string {
	p.t.Helper()
	data, err := os.ReadFile(filepath.Join(p.dir, name))
	require.NoError(p.t, err)
	return string(data)
}

// command prepares a run of the program.
func (p *place) command(args ...string) *exec.Cmd {
	c := exec.Command(programOf(args), args...)
	c.Dir, c.Env = p.dir, p.env
	c.Stdin = strings.NewReader(p.stdin)
	return c
}

// run runs the program. One that takes longer than patience hangs.
func (p *place) run(args ...string) outcome {
	p.t.Helper()
	var stdout, stderr bytes.Buffer
	c := p.command(args...)
	c.Stdout, c.Stderr = &stdout, &stderr
	start := time.Now()
	require.NoError(p.t, c.Start())
	timer := time.AfterFunc(patience, func() { _ = c.Process.Kill() })
	defer timer.Stop()
	err := c.Wait()
	o := outcome{stdout: stdout.String(), stderr: stderr.String(), took: time.Since(start)}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		o.status = exit.ExitCode()
	} else {
		require.NoError(p.t, err)
	}
	require.NotContains(p.t, o.stderr, "DATA RACE")
	require.NotContains(p.t, o.stderr, "goroutine 1", "a panic")
	return o
}

// sheet writes a sheet and runs it.
func (p *place) sheet(text string, args ...string) outcome {
	p.t.Helper()
	p.write("sheets/test.yaml", text)
	return p.run(append([]string{"run", "sheets/test.yaml"}, args...)...)
}
