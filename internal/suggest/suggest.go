// Package suggest finds the word that a mistyped one was probably meant to
// be. It knows nothing of what the words stand for.
package suggest

import (
	"fmt"
	"strings"
)

// Closest returns the candidate closest to word, or "" when none is close: at most
// a third of the word's letters may be wrong, missing, added or swapped.
// Differences of case alone always count as close; so does one that begins with
// the word, and the only one in which it stands.
func Closest(word string, candidates []string) string {
	best, bestDistance, bestPrefix := "", len([]rune(word))/3+1, 0
	for _, candidate := range candidates {
		if candidate == word {
			continue
		}
		if strings.EqualFold(candidate, word) {
			return candidate
		}
		prefix := commonPrefix(strings.ToLower(word), strings.ToLower(candidate))
		d := distance(strings.ToLower(word), strings.ToLower(candidate))
		if d < bestDistance || d == bestDistance && best != "" && prefix > bestPrefix {
			best, bestDistance, bestPrefix = candidate, d, prefix
		}
	}
	if best == "" && len(word) >= 3 {
		best = longer(strings.ToLower(word), candidates)
	}
	return best
}

// longer returns the first candidate that begins with the word, or the only one in which
// it is at all, where it is long enough to say something.
func longer(word string, candidates []string) string {
	within := ""
	several := false
	for _, candidate := range candidates {
		switch at := strings.Index(strings.ToLower(candidate), word); {
		case at == 0:
			return candidate
		case at > 0 && len(word) >= 4:
			several = several || within != ""
			within = candidate
		}
	}
	if several {
		return ""
	}
	return within
}

func commonPrefix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	return n
}

// DidYouMean returns `did you mean "x"?` for the closest candidate, or "".
func DidYouMean(word string, candidates []string) string {
	if found := Closest(word, candidates); found != "" {
		return `did you mean "` + found + `"?`
	}
	return ""
}

// distance counts insertions, deletions, replacements and swaps of neighbours.
func distance(a, b string) int {
	s, t := []rune(a), []rune(b)
	before, last, row := make([]int, len(t)+1), make([]int, len(t)+1), make([]int, len(t)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(s); i++ {
		row[0] = i
		for j := 1; j <= len(t); j++ {
			cost := 1
			if s[i-1] == t[j-1] {
				cost = 0
			}
			row[j] = min(row[j-1]+1, last[j]+1, last[j-1]+cost)
			if i > 1 && j > 1 && s[i-1] == t[j-2] && s[i-2] == t[j-1] {
				row[j] = min(row[j], before[j-2]+1)
			}
		}
		before, last, row = last, row, before
	}
	return last[len(t)]
}

// IsSlip says whether a word is a candidate with one letter wrong, missing, added or
// swapped, and begins as it does.
func IsSlip(word, candidate string) bool {
	word, candidate = strings.ToLower(word), strings.ToLower(candidate)
	return word != candidate && word != "" && candidate != "" && word[0] == candidate[0] && distance(word,
		candidate) == 1
}

// Ending gives DidYouMean as the end of a message, "; did you mean b?", or "".
func Ending(word string, candidates []string) string {
	if try := DidYouMean(word, candidates); try != "" {
		return "; " + try
	}
	return ""
}

// Instead gives DidYouMean, or where nothing is close what there is: `there are: a, b`.
func Instead(word string, candidates []string) string {
	if try := DidYouMean(word, candidates); try != "" {
		return try
	}
	return "there are: " + FewNames(candidates)
}

// FewNames joins names for a message, the first eight of them.
func FewNames(names []string) string {
	const most = 8
	if len(names) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}

// OneOf joins alternatives for a message: "a, b or c". More than most of them are cut.
func OneOf(words []string, most int) string {
	if len(words) > most {
		words = append(append([]string(nil), words[:most]...), "or one of others")
		return strings.Join(words, ", ")
	}
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1]
}

// After puts alternatives after a message, if there are some.
func After(separator string, words []string) string {
	if len(words) == 0 {
		return ""
	}
	return separator + OneOf(words, 8)
}

// First cuts a list of words that is longer than most.
func First(words []string, most int) []string {
	if len(words) > most {
		return append(append([]string(nil), words[:most]...), "…")
	}
	return words
}

// Article puts a or an before a word.
func Article(word string) string {
	if strings.ContainsAny(strings.ToLower(word[:min(len(word), 1)]), "aeio") {
		return "an " + word
	}
	return "a " + word
}
