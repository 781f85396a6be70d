package rule

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/lazy"
	"testbench/internal/suggest"
)

var operatorWords = []struct{ sign, word string }{
	{">=", "at least"},
	{"<=", "at most"},
	{"==", "equals"},
	{"!=", "not equals"},
	{"=~", "matches"},
	{"=", "equals"},
	{">", "over"},
	{"<", "under"},
	{"!", "not equals"},
}

// synonyms are what people write in place of a rule's own words. Those that begin a rule
// need something after them; those that are one say all by themselves. Of several that fit
// the longest counts.
var synonyms = []struct {
	right string
	begin []string
	whole []string
}{
	{right: "over", begin: listed(
		"greater than, is greater than, bigger than, larger than, more than, is more than, higher than, " +
			"longer than, later than, after, above, is above, is over, exceeds, gt")},
	{right: "under", begin: listed(
		"less than, is less than, lower than, smaller than, fewer than, shorter than, earlier than, before, below, " +
			"is below, is under, lt")},
	{right: "at least", begin: listed(
		"greater than or equal to, greater than or equals, greater or equal, more than or equal to, no less than, " +
			"not less than, minimum, min, gte, is at least, from")},
	{right: "at most", begin: listed(
		"less than or equal to, less than or equals, less or equal, fewer than or equal to, no more than, " +
			"not more than, up to, maximum, max, lte, is at most, within")},
	{right: "between", begin: listed("is between, in range, range, in between")},
	{right: "about", begin: listed("is about, approximately, approx, close to, near, roughly")},
	{right: "equals", begin: listed(
		"equal to, equal, equals to, is equal to, is equals, eq, is exactly, exactly, should be, must be, " +
			"should equal, must equal")},
	{right: "not equals", begin: listed(
		"not equal to, not equal, is not equal to, does not equal, differs from, different from, " +
			"is different from, unequal to, other than, should not be, must not be, neq, ne")},
	{right: "contains", begin: listed("includes, include, including, contain, containing, has, holds")},
	{
		right: "not contains",
		begin: listed("does not contain, doesn't contain, does not include, excludes, not includes, not contain, not " +
			"containing, " +
			"without"),
	},
	{right: "starts with", begin: listed(
		"start with, starting with, begins with, begin with, beginning with, startswith, starts, prefix")},
	{right: "ends with", begin: listed("end with, ending with, endswith, ends, finishes with, suffix")},
	{right: "matches", begin: listed("match, matching, is matching, regex, regexp, pattern, like, is like")},
	{right: "not matches", begin: listed("does not match, doesn't match, not match, not like")},
	{right: "one of", begin: listed("in, is in, is one of, any of, is any of, either, oneof, one from")},
	{right: "not one of", begin: listed("not in, is not in, is not one of, none of, neither")},
	{right: "all", begin: listed("each, every, all of")},
	{right: "count", begin: listed("count of, count is, has count, size, number of items")},
	{right: "length", begin: listed("length of, length is, has length, len")},
	{right: "same as", begin: listed("is same as, is the same as, the same as, equal as")},
	{right: "is", begin: listed("is a, is an, is of type, is of kind, of type, type, kind")},
	{right: "is not", begin: listed("isn't, is no, is not a, is not an, isnt")},
	{right: "is present", whole: listed(
		"exists, exist, is existing, is there, present, is defined, is set, is not absent, not missing, " +
			"is not missing")},
	{right: "is absent", whole: listed(
		"absent, not exists, not exist, does not exist, doesn't exist, is missing, not present, is undefined, " +
			"is not there, is not set, is not defined")},
	{right: "is null", whole: listed("isnull, is nil, is none")},
	{right: "not is null", whole: listed("not null, notnull, isnotnull, non-null, not nil, is not nil")},
	{right: "is empty", whole: listed("isempty, is blank")},
	{right: "not is empty", whole: listed("not empty, notempty, nonempty, non-empty, isnotempty, is not blank")},
	{right: "is unique", whole: listed("is distinct, are unique, are distinct")},
	{right: "is ascending", whole: listed("is sorted, is increasing")},
	{right: "is descending", whole: listed("is decreasing")},
	{right: "equals true", whole: listed("is true")},
	{right: "equals false", whole: listed("is false")},
	{right: "is boolean", whole: listed("is bool")},
	{right: "is text", whole: listed("is string, is str, is a string")},
	{right: "is list", whole: listed("is array, is an array")},
	{right: "is integer", whole: listed("is int, is whole")},
	{right: "is number", whole: listed("is numeric, is float, is double")},
}

// listed are texts with commas between.
func listed(text string) []string { return strings.Split(text, ", ") }

// wordsOfTexts are synonyms that many a plain text begins with: before them a rule is
// meant only where what follows has an order, as in `after 2026-11-01` or `min 5`.
var wordsOfTexts = listed(
	"after, before, from, within, above, below, min, max, minimum, maximum, near, range, up to, size, prefix, " +
		"suffix, pattern, like, has, in, holds, without, include, including, either, each, every, starts, ends, " +
		"type, kind, exactly, eq, ne, gt, lt, gte, lte, len, match, matching, neither")

// nearMiss finds the rule that was probably meant, or "": a sign or a synonym in place of a
// word, or a mistyped word after which the rest reads as that rule. Placeholders in the
// text are zero bytes, and stay what and where they are.
func nearMiss(text string) string {
	if try := signed(text); try != "" {
		return try
	}
	if try := synonym(text); try != "" {
		return try
	}
	return mistyped(text)
}

func signed(text string) string {
	for _, o := range operatorWords {
		rest, ok := strings.CutPrefix(text, o.sign)
		if rest = strings.TrimSpace(rest); !ok || rest == "" {
			continue
		}
		// Text may begin with < or >; only before something that has an order do
		// they stand for a rule word.
		if strings.ContainsAny(o.sign, "=~!") || isOrderly(rest) {
			return o.word + " " + rest
		}
	}
	return ""
}

// isOrderly says whether a text begins with what has an order, or a placeholder.
func isOrderly(text string) bool {
	first, _, _ := strings.Cut(text, " ")
	_, whole := readMeasure(text)
	_, begin := readMeasure(first)
	return whole == nil || begin == nil || first != "" && strings.Trim(first, "\x00") == ""
}

func synonym(text string) string {
	lower := strings.ToLower(text)
	best, right := "", ""
	for _, s := range synonyms {
		for _, word := range s.begin {
			rest, ok := strings.CutPrefix(lower, word+" ")
			if ok && len(word) > len(best) &&
				(!slices.Contains(wordsOfTexts, word) || isOrderly(strings.TrimSpace(rest))) {
				best, right = word, s.right+" "+strings.TrimSpace(text[len(word):])
			}
		}
		for _, word := range s.whole {
			if lower == word && len(word) >= len(best) {
				best, right = word, s.right
			}
		}
	}
	return right
}

func mistyped(text string) string {
	fields := strings.Fields(text)
	for _, word := range Words {
		if first, second, two := strings.Cut(word, " "); two && len(fields) > 1 &&
			strings.EqualFold(strings.NewReplacer("-", "", "_", "").Replace(fields[0]), first+second) {
			return word + " " + strings.Join(fields[1:], " ")
		}
	}
	// Rule words have one or two words; both are tried.
	for _, count := range []int{2, 1} {
		if len(fields) <= count {
			continue
		}
		typed := strings.ToLower(strings.Join(fields[:count], " "))
		if len(typed) < 3 {
			continue
		}
		var candidates []string
		for _, word := range Words {
			if strings.Count(word, " ") == count-1 {
				candidates = append(candidates, word)
			}
		}
		meant := suggest.Closest(typed, candidates)
		if meant == "" || strings.HasPrefix(meant, typed) && len(meant) > len(typed)+2 {
			continue
		}
		if count == 2 && suggest.Closest(fields[1], []string{strings.Fields(meant)[1]}) == "" &&
			strings.ToLower(fields[1]) != strings.Fields(meant)[1] {
			continue
		}
		try := meant + " " + strings.Join(fields[count:], " ")
		if reads(meant, try) && (!takesAnyText(meant) || suggest.IsSlip(typed, meant)) {
			return try
		}
	}
	return ""
}

// reads says whether a proposal is a rule, or has its shape.
func reads(word, try string) bool {
	p := &parser{text: try, source: try}
	var lead leads
	p.leads(&lead)
	if p.pos > 0 && ruleWord(p.text[p.pos:]) == "" {
		return false
	}
	if word == "between" && strings.Contains(try, " and ") || word == "about" && strings.Contains(try, " within ") {
		return true
	}
	_, err := p.worded()
	return err == nil && p.pos == len(p.text)
}

// takesAnyText says that any text may follow the word, so that only a slip of it, not a
// word that is like it, shows that a rule was meant.
func takesAnyText(word string) bool {
	switch operation(word) {
	case opEquals, opContains, opMatches, opSameAs, opStartsWith, opEndsWith, opOneOf:
		return true
	}
	return false
}

// meant says which rule was probably meant by the text from an offset on, as find has it, or
// "": its placeholders are in it again, in their order.
func (p *parser) meant(start int, find func(text string) string) string {
	text := p.text[start:]
	found := strings.TrimSpace(find(text))
	if found == "" {
		return ""
	}
	masked := placeholders().FindAllStringIndex(text, -1)
	found = placeholders().ReplaceAllStringFunc(found, func(string) string {
		placeholder := masked[0]
		masked = masked[1:]
		return p.source[start+placeholder[0] : start+placeholder[1]]
	})
	return fmt.Sprintf("did you mean `%s`?", found)
}

// placeholders finds masked placeholders.
var placeholders = lazy.Regexp("\x00+")
