package xsd

import (
	"strings"
)

// behind puts alternatives behind a message, if there are some.
func behind(separator string, words []string) string {
	if len(words) == 0 {
		return ""
	}
	return separator + inWords(words, 8)
}

// inWords joins alternatives for a message.
func inWords(words []string, most int) string {
	if len(words) > most {
		words = append(append([]string(nil), words[:most]...), "or one of others")
		return strings.Join(words, ", ")
	}
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// cut shortens a list of words.
func cut(words []string, most int) []string {
	if len(words) > most {
		return append(append([]string(nil), words[:most]...), "…")
	}
	return words
}
