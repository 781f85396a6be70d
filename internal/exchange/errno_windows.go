package exchange

import "golang.org/x/sys/windows"

// What the system says of a connection, by the way in which it failed: Windows has numbers of its own for it, and Go does
// not take them for those of other systems.
var (
	refusing    = []error{windows.WSAECONNREFUSED}
	unreachable = []error{windows.WSAEHOSTUNREACH, windows.WSAENETUNREACH}
	resetting   = []error{windows.WSAECONNRESET}
	writingOn   = []error{windows.WSAECONNABORTED} // a connection that the other side had closed
)
