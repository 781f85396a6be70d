//go:build unix

package safefile

import (
	"errors"
	"os"
	"syscall"
)

// isOurs says whether a folder is one of the user's own that nobody else can write to, and no
// link.
func isOurs(dir string) bool {
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() || info.Mode().Perm()&0o077 != 0 {
		return false
	}
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Getuid()
}

// isAlive says whether a process is there, whosever it is.
func isAlive(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }

// isNoName says whether a file cannot have the name: all can.
func isNoName(error) bool { return false }
