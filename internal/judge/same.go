package judge

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"testbench/internal/compare"
	"testbench/internal/document"
	"testbench/internal/mapping"
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
	data, err := mapping.ReadInside(j.session.Bench.Dir, text.Sent)
	if err != nil {
		c.Got = err.Error()
		if _, missing := os.Stat(full); errors.Is(missing, os.ErrNotExist) {
			c.Note = "run -accept writes it"
		}
		return
	}
	expected := string(data)
	a, b := treeOf(expected), treeOf(got)
	if expected == got {
		c.Passed, c.Got = true, "so"
	} else if a == nil || b == nil {
		c.Got = firstLine(expected, got)
	} else {
		c.Got = differences(a, b, e.Except)
		c.Passed = c.Got == "so"
	}
	j.tellUnmatched(e.Except, a, b)
}

// tellUnmatched notes the paths of except: that neither answer has: they have no effect.
func (j *Judging) tellUnmatched(except []string, answers ...*document.Node) {
	for _, path := range except {
		options := compare.Options{Ignore: []string{path}}
		var seen compare.Seen
		for _, answer := range answers {
			seen.Add(answer, options)
		}
		if seen.Unmatched(options) != nil {
			record := j.Reply.Record
			record.Notes = append(record.Notes, "except: "+path+" matches nothing in the answer or in the file")
		}
	}
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

// differences says what is other in the second of two answers; "so" where nothing is.
func differences(a, b *document.Node, except []string) string {
	found := compare.Trees(a, b, compare.Options{Ignore: except})
	if len(found) == 0 {
		return "so"
	}
	var words []string
	for _, d := range found[:min(len(found), mostDifferences)] {
		words = append(words, inWords(d))
	}
	if more := len(found) - len(words); more > 0 {
		words = append(words, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(words, "; ")
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
