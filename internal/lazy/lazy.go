// Package lazy makes what takes time when it is first asked for, so that the program starts at once.
package lazy

import (
	"regexp"
	"sync"
)

// Regexp is a regular expression that is compiled when it is first asked for; one that is wrong panics then.
func Regexp(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
