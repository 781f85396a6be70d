package suggest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/suggest"
)

func TestOf(t *testing.T) {
	words := []string{"site", "set", "search", "GradeLot", "grade", "at least", "Lots", "depot", "grown"}
	cases := map[string]string{
		"sit":      "site", // as near as set, and begins alike
		"serach":   "search",
		"GRADE":    "grade",
		"gradelot": "GradeLot",
		"at laest": "at least",
		"lot":      "Lots",
		"dep":      "depot",
		"xylophon": "",
		"earch":    "search",
		"row":      "", // in grown, and too short to mean it
		"x":        "",
		"":         "",
		"grade":    "GradeLot", // itself is not a proposal
	}
	for typed, want := range cases {
		assert.Equal(t, want, suggest.Closest(typed, words), typed)
	}
	assert.Equal(t, `did you mean "site"?`, suggest.DidYouMean("siet", words))
	assert.Empty(t, suggest.DidYouMean("nothing alike", words))
}
