// Package syntax holds the error of all the small languages that stand in
// files and on the command line: placeholders, paths, rules, conditions, XPath.
package syntax

// Error is a mistake in a text, with its place in it.
type Error struct {
	Offset  int // bytes from the start of the text
	Message string
	Try     string // what to write instead; may be empty
}

func (e *Error) Error() string {
	if e.Try != "" {
		return e.Message + "; " + e.Try
	}
	return e.Message
}
