package exchange

import "golang.org/x/sys/windows"

// What the system says of a connection, by the way in which it failed: Windows has numbers of its own for it, and
// Go does not take them for those of other systems.
var (
	refusedBy     = []error{windows.WSAECONNREFUSED}
	unreachableBy = []error{windows.WSAEHOSTUNREACH, windows.WSAENETUNREACH}
	resetBy       = []error{windows.WSAECONNRESET}
	brokenBy      = []error{windows.WSAECONNABORTED} // a connection that the other side had closed
)
