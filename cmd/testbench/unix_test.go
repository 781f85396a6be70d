//go:build unix

package main_test

import (
	"os"
	"os/exec"
	"runtime"
	"syscall"
)

// mostMemoryOf is the most memory that a process took, in KiB.
func mostMemoryOf(state *os.ProcessState) int64 {
	most := state.SysUsage().(*syscall.Rusage).Maxrss
	if runtime.GOOS == "darwin" {
		return most >> 10 // it is in bytes there
	}
	return most
}

// onItsOwn puts a command into a group of processes of its own.
func onItsOwn(c *exec.Cmd) { c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }
