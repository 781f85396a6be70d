package report

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"testbench/internal/compare"
	"testbench/internal/document"
	"testbench/internal/safefile"
	"testbench/internal/secret"
)

//go:embed comparison.html
var comparisonText string

// comparison is two answers beside each other.
type comparison struct {
	Names   []string
	Summary string
	Rows    []comparedRow
	Cut     int // rows that are left out
}

// comparedRow is a line of both sides.
type comparedRow struct {
	Kind, Words    string
	PathA, PathB   string
	ValueA, ValueB string
	Sure           string
}

// mostCompared bounds the lines of a page.
const mostCompared = 5_000

// WriteComparison writes two answers as a page: what differs with both sides beside each other, by what belongs
// together, the same left out. All that is shown is masked.
func WriteComparison(name string, names []string, differences []compare.Difference, m *secret.Masker) error {
	t, err := template.New("comparison").Funcs(template.FuncMap{
		"style": func() template.CSS { return template.CSS(pageStyle) },
	}).Parse(comparisonText)
	if err != nil {
		return err
	}
	c := comparison{Names: names, Summary: "no difference"}
	kinds, counts := compare.Summary(differences)
	var parts []string
	for _, kind := range kinds {
		parts = append(parts, fmt.Sprintf("%d %s", counts[kind], kind))
	}
	if len(parts) > 0 {
		c.Summary = strings.Join(parts, " · ")
	}
	c.Cut = max(len(differences)-mostCompared, 0)
	for _, d := range differences[:len(differences)-c.Cut] {
		row := comparedRow{
			Kind: strings.ReplaceAll(string(d.Kind), " ", "-"), Words: string(d.Kind), PathA: d.Path, PathB: d.Path,
			ValueA: shownSide(d.A), ValueB: shownSide(d.B),
		}
		switch {
		case d.Into != "":
			row.PathB = d.Into
			if d.Sure < 1 {
				row.Sure = fmt.Sprintf("%.0f %% sure", 100*d.Sure)
			}
		case d.Kind == compare.Moved:
			row.Sure = fmt.Sprintf("from place %d to %d", d.From, d.To)
		case d.Kind == compare.Added:
			row.PathA = ""
		case d.Kind == compare.Removed:
			row.PathB = ""
		}
		c.Rows = append(c.Rows, row)
	}
	return safefile.Stream(name, 0o644, func(to io.Writer) error {
		masked := secret.NewWriter(to, m)
		if err := t.Execute(&harmlessWriter{to: masked}, c); err != nil {
			return err
		}
		return masked.Close()
	})
}

// shownSide is a value of one side, laid out.
func shownSide(n *document.Node) string {
	switch {
	case n == nil:
		return ""
	case n.IsScalar() && n.Kind != document.Null:
		return n.Text
	}
	return document.WriteJSON(n, document.Style{Indent: "  "})
}
