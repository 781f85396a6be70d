//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"testing"
	"time"

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
