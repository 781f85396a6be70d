//go:build !windows

package exchange

import "syscall"

// What the system says of a connection, by the way in which it failed.
var (
	refusedBy     = []error{syscall.ECONNREFUSED}
	unreachableBy = []error{syscall.EHOSTUNREACH, syscall.ENETUNREACH}
	resetBy       = []error{syscall.ECONNRESET}
	brokenBy      = []error{syscall.EPIPE} // a connection that the other side had closed
)
