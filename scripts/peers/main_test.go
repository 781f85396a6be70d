// Package peers_test checks the program against tools that only tests need: a browser, and a library
// that applies JSON patches. It is a module of its own, so that who builds the program fetches none
// of them.
package peers_test

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

var program string

func TestMain(m *testing.M) { os.Exit(buildAndRun(m)) }

func buildAndRun(m *testing.M) int {
	dir, err := os.MkdirTemp("", "testbench-peers-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer func() { _ = os.RemoveAll(dir) }()
	program = filepath.Join(dir, "testbench")
	build := exec.Command("go", "build", "-o", program, "./cmd/testbench")
	build.Dir = "../.."
	if output, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, output)
		return 1
	}
	return m.Run()
}

// bench is a folder with a bench in which the program is run.
type bench struct {
	t   testing.TB
	dir string
	env []string
}

// newDemo is the demo bench, talking to a stand-in of its own.
func newDemo(t testing.TB) (bench, *standin.Server) {
	t.Helper()
	b := newBench(t)
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	require.NoError(t, demo.Write(b.dir, "http://"+server.Address))
	for name, text := range standin.Secrets {
		b.env = append(b.env, "TESTBENCH_SEALED_"+strings.ToUpper(name)+"="+text)
	}
	return b, server
}

func newBench(t testing.TB) bench {
	dir := t.TempDir()
	return bench{t: t, dir: dir, env: []string{"PATH=" + os.Getenv("PATH"), "HOME=" + dir, "NO_COLOR=1", "TZ=UTC"}}
}

func (b bench) write(name, text string) {
	b.t.Helper()
	file := filepath.Join(b.dir, name)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(b.t, os.WriteFile(file, []byte(text), 0o644))
}

func (b bench) read(name string) string {
	b.t.Helper()
	data, err := os.ReadFile(filepath.Join(b.dir, name))
	require.NoError(b.t, err)
	return string(data)
}

func (b bench) command(args ...string) *exec.Cmd {
	c := exec.CommandContext(b.t.Context(), program, args...)
	c.Dir, c.Env = b.dir, b.env
	return c
}

// run runs the program to its end.
func (b bench) run(args ...string) (stdout string, status int) {
	b.t.Helper()
	out, err := b.command(args...).Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return string(out), exit.ExitCode()
	}
	require.NoError(b.t, err)
	return string(out), 0
}

// serving starts the program and gives the address that it tells first.
func (b bench) serving(args ...string) (address string) {
	b.t.Helper()
	c := b.command(args...)
	stdout, err := c.StdoutPipe()
	require.NoError(b.t, err)
	var stderr bytes.Buffer
	c.Stderr = &stderr
	require.NoError(b.t, c.Start())
	b.t.Cleanup(func() {
		_ = c.Process.Signal(os.Interrupt)
		_ = c.Wait()
	})
	line, err := bufio.NewReader(stdout).ReadString('\n')
	require.NoError(b.t, err, stderr.String())
	return strings.TrimSpace(line)
}

// answering is a service with one answer.
func answering(t testing.TB, mediaType, body string) *httptest.Server {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", mediaType)
		_, _ = fmt.Fprint(w, body)
	}))
	t.Cleanup(server.Close)
	return server
}
