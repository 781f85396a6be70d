package table

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
)

// mostOfSpan bounds a span: a slip of a digit is not to run for ever.
const mostOfSpan = 10_000_000

// Numbers makes rows of the whole numbers of a span, as 1 to 100, in steps.
func Numbers(span string, step int, column string) (*Source, error) {
	const words = "not a span of whole numbers; write 1 to 100"
	read := func(text string) (int, error) { return strconv.Atoi(text) }
	return spanned(span, step, column, words, read, func(n int) *document.Node {
		return document.NewNumber(strconv.Itoa(n))
	})
}

// Days makes rows of the days of a span, as 2026-11-01 to 2026-11-30, in steps.
func Days(span string, step int, column string) (*Source, error) {
	const words, day = "not a span of days; write 2026-11-01 to 2026-11-30", 24 * 60 * 60
	read := func(text string) (int, error) {
		at, err := time.Parse(time.DateOnly, text)
		return int(at.Unix()) / day, err // a day of UTC has no other length
	}
	return spanned(span, step, column, words, read, func(n int) *document.Node {
		return document.NewText(time.Unix(int64(n)*day, 0).UTC().Format(time.DateOnly))
	})
}

// spanned makes rows of a span of whatever can be counted. A step of 0 is one of 1.
func spanned(span string, step int, column, words string, read func(string) (int, error),
	write func(int) *document.Node,
) (*Source, error) {
	first, last, ok := strings.Cut(span, " to ")
	if !ok {
		return nil, fmt.Errorf("%q is not a span; write FIRST to LAST", span)
	}
	from, err := read(strings.TrimSpace(first))
	to, wrong := read(strings.TrimSpace(last))
	step = max(step, 1)
	switch {
	case err != nil || wrong != nil:
		return nil, fmt.Errorf("%q is %s", span, words)
	case from > to:
		return nil, fmt.Errorf("%q ends before it begins", span)
	case (to-from)/step >= mostOfSpan || to-from < 0: // or more than can be counted
		return nil, fmt.Errorf("%q has more than %d rows", span, mostOfSpan)
	}
	return &Source{
		Columns: []string{column}, Count: (to-from)/step + 1,
		all: func(yield func(*document.Node, error) bool) {
			for n := from; n <= to; n += step {
				if !yield(document.NewObject().Set(column, write(n)), nil) {
					return
				}
			}
		},
	}, nil
}
