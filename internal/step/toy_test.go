package step

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Shout keeps a text in capitals, as shouted. It is a kind of step in one file, as all others
// are; the table of kinds has one more line with it.
type Shout struct {
	single
	Text string
}

var shoutKind = sheet.Kind{
	Word: "shout", What: "a shout", Common: mapping.KeysOf("step, about, when"),
	Own: []mapping.Key[sheet.Step]{
		own("shout", "a text", func(r *mapping.Reader, _ *sheet.Step, s *Shout, n *yamlfile.Node) {
			s.Text = r.PlainText(n)
		}),
		own("loud", "true: with a mark after it", func(r *mapping.Reader, _ *sheet.Step, s *Shout, n *yamlfile.Node) {
			if r.Yes(n) {
				s.Text += "!"
			}
		}),
	},
	New: func() sheet.Action { return &Shout{} },
}

func (s *Shout) Target() string { return "shout" }

func (s *Shout) Sets() []string { return []string{"shouted"} }

func (s *Shout) Vet(v *Vetting, one *sheet.Step) {
	if strings.Contains(s.Text, "?") {
		v.report(one.At, "", "nobody shouts a question")
	}
}

func (s *Shout) Run(ctx context.Context, row Row, one *sheet.Step, name string) result.Outcome {
	return once(ctx, row, one, name, func(_ context.Context, at *place, res *result.Step) {
		at.scope.Kept["shouted"] = document.NewText(strings.ToUpper(s.Text))
		res.Kept = one.KeptNames()
	})
}

// A new kind of step is a file and a line in the table: it is read, vetted, listed and run, its
// keys are refused at other kinds and theirs at it.
func TestToyKind(t *testing.T) {
	kinds := append([]sheet.Kind{shoutKind}, Kinds...)
	b, _ := newBench(t)
	read := sheet.Read(b, "s.yaml",
		[]byte(`sheet: s
steps:
  - step: call them
    shout: lots
    loud: true
  - steps:
      - step: ask
        shout: lots?
`), kinds)
	require.Empty(t, read.Problems())
	assert.Equal(t, []result.Planned{{Name: "call them", Target: "shout"}, {Name: "step 2: ask", Target: "shout"}},
		List("", read.Steps))
	row := newRow(t, nil)
	assert.Equal(t, result.Passed, Of(read.Steps[0]).Run(t.Context(), row, read.Steps[0], "call them"))
	assert.Equal(t, "LOTS!", row.kept["shouted"].Text)
	asked := read.Steps[1].Action.(*Group).Steps[0]
	Of(asked).Vet(&Vetting{Sheet: read}, asked)
	require.Len(t, read.Problems(), 1)
	assert.Contains(t, read.Problems()[0].Message, "nobody shouts")
	for name, text := range map[string]string{
		"a shout has no fill": "shout: x\n    fill: {a: 1}", "a pause has no loud": "pause: 1 s\n    loud: true",
		`the step "it" does more than one thing: shout and pause`: "shout: x\n    pause: 1 s",
		`the step "it" does nothing`:                              "loud: true",
	} {
		t.Run(name, func(t *testing.T) {
			problems := sheet.Read(b, "s.yaml", []byte("sheet: s\nsteps:\n  - step: it\n    "+text+"\n"),
				kinds).Problems()
			require.Len(t, problems, 1)
			assert.Equal(t, name, problems[0].Message)
		})
	}
}
