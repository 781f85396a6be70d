//go:build unix

package main_test

import (
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mostMemoryOf is the most memory that a process took, in KiB.
func mostMemoryOf(state *os.ProcessState) int64 {
	most := state.SysUsage().(*syscall.Rusage).Maxrss
	if runtime.GOOS == "darwin" {
		return most >> 10 // it is in bytes there
	}
	return most
}

// userTimeOf is the processor time that a process took for itself.
func userTimeOf(state *os.ProcessState) time.Duration { return state.UserTime() }

// onItsOwn puts a command into a group of processes of its own.
func onItsOwn(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// end ends a command that goes on until it is interrupted.
func end(p *os.Process) { _ = p.Signal(os.Interrupt) }

// interrupt is what Ctrl-C is at a terminal.
func interrupt(t *testing.T, p *os.Process) {
	t.Helper()
	require.NoError(t, p.Signal(os.Interrupt))
}

// needsUnix leaves a test out elsewhere.
func needsUnix(testing.TB, string) {}

// What ends a run as a service manager does is told by the status that shells give for it.
func TestTerminated(t *testing.T) {
	t.Parallel()
	asked := make(chan struct{})
	server, _ := moor(t, func(_ http.ResponseWriter, r *http.Request, _ string) {
		close(asked)
		<-r.Context().Done()
	})
	p := moorBench(t, server, "")
	p.write("s.yaml", "sheet: s\nsteps:\n  - request: GET ${base}/x\n")
	c := p.start("run", "s.yaml")
	<-asked
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	assert.Error(t, c.Wait())
	assert.Equal(t, 143, c.ProcessState.ExitCode())
}
