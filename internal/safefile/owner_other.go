//go:build !unix

package safefile

// isOurs trusts the system's own folder for temporary files, which is the user's.
func isOurs(string) bool { return true }

// isAlive takes every process for one that is there.
func isAlive(int) bool { return true }
