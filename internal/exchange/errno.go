//go:build !windows

package exchange

import "syscall"

// What the system says of a connection, by the way in which it failed.
var (
	refusing    = []error{syscall.ECONNREFUSED}
	unreachable = []error{syscall.EHOSTUNREACH, syscall.ENETUNREACH}
	resetting   = []error{syscall.ECONNRESET}
	writingOn   = []error{syscall.EPIPE} // a connection that the other side had closed
)
