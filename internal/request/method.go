package request

import (
	"slices"
	"strings"

	"testbench/internal/suggest"
)

// Methods are the request methods that HTTP names (RFC 9110, 9; RFC 5789).
var Methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"}

// IsMethod says whether a word can be a request method. Others than those
// above may be meant (MERGE, PROPFIND), but not one that is nearly one of them.
func IsMethod(word string) bool {
	if word == "" || strings.Trim(word, "ABCDEFGHIJKLMNOPQRSTUVWXYZ-") != "" {
		return false
	}
	return slices.Contains(Methods, word) || suggest.Closest(word, Methods) == ""
}
