package main_test

import (
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"
)

// mostMemoryOf is not known here.
func mostMemoryOf(*os.ProcessState) int64 { return 0 }

// userTimeOf is not known here: Wine counts that of others too.
func userTimeOf(*os.ProcessState) time.Duration { return 0 }

// onItsOwn puts a command into a group of processes of its own.
func onItsOwn(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

// end ends a command that goes on until it is interrupted.
func end(p *os.Process) { _ = p.Kill() }

// interrupt leaves the test out: Windows has Ctrl-C for those at a console alone.
func interrupt(t *testing.T, p *os.Process) {
	t.Helper()
	_ = p.Kill()
	needsUnix(t, "Ctrl-C")
}

// needsUnix leaves a test out that needs what a system of this kind does not have.
func needsUnix(t testing.TB, what string) {
	t.Helper()
	t.Skip("not on Windows: " + what)
}
