package jsonschema

import (
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// distinct says that no item is in a list twice (2020-12 Validation, 6.4.3), and finds the first that is.
func (j *judged) distinct() bool {
	items := j.value.Items()
	met := make(map[string]int, len(items))
	for i, item := range items {
		text := canonical(item)
		if before, twice := met[text]; twice {
			return j.tell("holds the same item twice: [%d] and [%d]", before, i)
		}
		met[text] = i
	}
	return true
}

// canonical writes a value so that values that are equal are written alike (2020-12, 4.2.2).
func canonical(n *document.Node) string {
	var out strings.Builder
	writeCanonical(&out, n.Value())
	return out.String()
}

func writeCanonical(out *strings.Builder, n *document.Node) {
	switch kindOf(n) {
	case "null":
		out.WriteString("null")
	case "boolean":
		out.WriteString(n.Text)
	case "number":
		if (strings.ContainsAny(n.Text, ".eE") || n.Text == "-0") && !isExtreme(n.Text) {
			if r, ok := rational(n); ok {
				out.WriteString(r.RatString())
				return
			}
		}
		out.WriteString(n.Text)
	case "array":
		out.WriteByte('[')
		for _, item := range n.Items() {
			writeCanonical(out, item.Value())
			out.WriteByte(',')
		}
		out.WriteByte(']')
	case "object":
		members := slices.Clone(n.Members())
		slices.SortFunc(members, func(a, b document.Member) int { return strings.Compare(a.Key, b.Key) })
		out.WriteByte('{')
		for _, m := range members {
			out.WriteString(strconv.Quote(m.Key) + ":")
			writeCanonical(out, m.Value.Value())
			out.WriteByte(',')
		}
		out.WriteByte('}')
	default:
		out.WriteString(strconv.Quote(n.Text))
	}
}
