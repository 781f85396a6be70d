package step

import (
	"context"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Pause does nothing for a time.
type Pause struct {
	single
	For    time.Duration
	source string
}

var pauseKind = sheet.Kind{
	Word: "pause", What: "a pause", Common: mapping.KeysOf("step, about, when, skip, tags, for each"),
	Own: []mapping.Key[sheet.Step]{
		own("pause", "how long nothing is done", func(r *mapping.Reader, _ *sheet.Step, p *Pause, n *yamlfile.Node) {
			p.For, p.source = r.Duration(n), n.Text
		}),
	},
	New: func() sheet.Action { return &Pause{} },
}

// Check wants a time.
func (p *Pause) Check(*mapping.Reader, *sheet.Step) bool { return p.For > 0 }

// Target is the time as it was written.
func (p *Pause) Target() string { return "pause " + p.source }

// Run waits, unless the run ends meanwhile. A dry run does not wait.
func (p *Pause) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(ctx context.Context, at *place, res *result.Step) {
		if !at.IsDry() && exchange.Sleep(ctx, p.For) != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
		}
	})
}
