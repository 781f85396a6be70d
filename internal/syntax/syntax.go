// Package syntax holds the error of all the small languages that stand in
// files and on the command line: placeholders, paths, rules, conditions, XPath.
package syntax

import (
	"bytes"
	"fmt"
)

// Error is a mistake in a text, with its place in it.
type Error struct {
	Offset  int // bytes from the start of the text
	Message string
	Try     string // what to write instead; may be empty
	Hidden  bool   // the text holds a secret, and is not shown
}

func (e *Error) Error() string {
	if e.Try != "" {
		return e.Message + "; " + e.Try
	}
	return e.Message
}

// Conflict finds the first line of a conflict that a version control system left in a text, from 1; 0 where
// there is none. It is one only with its end.
func Conflict(text []byte) (line int) {
	begin, number := 0, 0
	for one := range bytes.Lines(text) {
		number++
		switch {
		case begin == 0 && bytes.HasPrefix(one, []byte("<<<<<<< ")):
			begin = number
		case begin > 0 && bytes.HasPrefix(one, []byte(">>>>>>> ")):
			return begin
		}
	}
	return 0
}

// What is said of a conflict.
const (
	ConflictMessage = "the file has a merge conflict here"
	ConflictTry     = "decide between the two sides, and take the lines with <<<<<<<, ======= and >>>>>>> out"
)

// CheckConflict fails for a file with a conflict.
func CheckConflict(name string, text []byte) error {
	if line := Conflict(text); line > 0 {
		return fmt.Errorf("%s:%d: %s; %s", name, line, ConflictMessage, ConflictTry)
	}
	return nil
}
