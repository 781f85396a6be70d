package judge

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/compare"
	"testbench/internal/document"
	"testbench/internal/result"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// sameAsFile holds the whole answer against the file of the bench that holds it as it must be, or
// writes that file where the run accepts what comes. Secrets are masked on both sides: the file
// holds none.
func (j *Judging) sameAsFile(e *sheet.Expect) {
	if e.SameAs == nil || j.Reply.Problem != nil {
		return
	}
	text, err := e.SameAs.Text(j.Scope, value.Raw)
	if err != nil {
		j.Err = fmt.Errorf("same as file: %w", err)
		return
	}
	c := result.Check{Kind: "expect", Subject: "same as file", Expected: "as in " + text.Shown}
	defer func() { j.add(c) }()
	got := j.session.Masker().Text(asText(j.Reply.Payload))
	full, err := safefile.Inside(j.session.Bench.Dir, text.Sent)
	if err != nil {
		c.Got = err.Error()
		return
	}
	if accepted := j.session.Options.Accepted; accepted != nil {
		if slices.ContainsFunc(j.Checks, func(one result.Check) bool { return !one.Passed }) {
			c.Got = "not accepted: other checks failed"
			return
		}
		if err := accepted.Write(full, got); err != nil {
			c.Got = err.Error()
			return
		}
		c.Passed, c.Got, c.Note = true, "so", "accepted"
		return
	}
	data, err := bench.ReadInside(j.session.Bench.Dir, text.Sent)
	if err != nil {
		c.Got = err.Error()
		if _, missing := os.Stat(full); errors.Is(missing, os.ErrNotExist) {
			c.Note = "run -accept writes it"
		}
		return
	}
	c.Passed, c.Got, c.Note = differences(string(data), got, e.Except)
}

// asText is an answer as such a file holds it.
func asText(payload *document.Node) string {
	switch {
	case payload == nil:
		return ""
	case payload.Kind == document.Element:
		return document.WriteXML(payload, document.Style{Indent: "  "}) + "\n"
	case payload.IsScalar() && payload.Kind != document.Number && payload.Kind != document.Boolean:
		return payload.Text
	}
	return document.WriteJSON(payload, document.Style{Indent: "  "}) + "\n"
}

// mostDifferences is how many are told.
const mostDifferences = 5

// differences says whether two answers are the same, and what is other in the second.
func differences(expected, got string, except []string) (same bool, told, note string) {
	if expected == got {
		return true, "so", ""
	}
	a, b := treeOf(expected), treeOf(got)
	if a == nil || b == nil {
		return false, firstLine(expected, got), ""
	}
	options := compare.Options{Ignore: except}
	found := compare.Trees(a, b, options)
	var seen compare.Seen
	seen.Add(a, options)
	seen.Add(b, options)
	for _, one := range except {
		if seen.Unmatched(compare.Options{Ignore: []string{one}}) != nil {
			note = strings.TrimPrefix(note+"; except: "+one+" matches nothing", "; ")
		}
	}
	if len(found) == 0 {
		return true, "so", note
	}
	var words []string
	for _, d := range found[:min(len(found), mostDifferences)] {
		words = append(words, inWords(d))
	}
	if more := len(found) - len(words); more > 0 {
		words = append(words, fmt.Sprintf("and %d more", more))
	}
	return false, strings.Join(words, "; "), note
}

// treeOf reads JSON or XML; nil where a text is neither.
func treeOf(text string) *document.Node {
	format := document.Guess([]byte(text))
	node, err := document.ReadAs(format, "", []byte(text))
	if err != nil || format != document.JSON && format != document.XML {
		return nil
	}
	return node
}

// firstLine says in which line two texts first differ.
func firstLine(expected, got string) string {
	a, b := strings.Split(expected, "\n"), strings.Split(got, "\n")
	for i, line := range b {
		if i >= len(a) {
			return fmt.Sprintf("line %d: %q is new", i+1, line)
		}
		if line != a[i] {
			return fmt.Sprintf("line %d: %q, not %q", i+1, line, a[i])
		}
	}
	return fmt.Sprintf("line %d: %q is missing", len(b)+1, a[len(b)])
}

func inWords(d compare.Difference) string {
	whole := func(n *document.Node) string {
		if n.IsScalar() {
			return d.Path + ": " + n.Describe()
		}
		return d.Path
	}
	switch d.Kind {
	case compare.Added:
		return whole(d.B) + " is new"
	case compare.Removed:
		return whole(d.A) + " is missing"
	case compare.Moved:
		return fmt.Sprintf("%s is at place %d, not %d", d.Path, d.To+1, d.From+1)
	}
	return fmt.Sprintf("%s: %s, not %s", d.Path, d.B.Describe(), d.A.Describe())
}
