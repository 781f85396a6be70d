package run

import (
	"context"
	"errors"
	"time"

	"testbench/internal/document"
	"testbench/internal/judge"
	"testbench/internal/lookup"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// lookup carries out a step that looks into the other side.
func (x *rowRun) lookup(ctx context.Context, s *session.Session, step *sheet.Step, scope *session.Values, res *result.Step) {
	start := time.Now()
	took := time.Duration(0)
	ask := func(ctx context.Context) (*judge.Judging, error) {
		begun := time.Now()
		payload, err := session.LookInto(ctx, step.Lookup, s, scope)
		took = time.Since(begun)
		var missing *lookup.NotThereError
		if errors.As(err, &missing) && step.Wait != nil {
			payload, err = &document.Node{Kind: document.Null}, nil // it may come yet
		}
		if err != nil {
			return nil, err
		}
		return x.judgingOf(s, step, scope, payload, nil), nil
	}
	if x.options.Dry {
		res.Outcome, res.Reason = result.NotRun, "a dry run looks nothing up"
		return
	}
	j, err := ask(ctx)
	var note string
	var waited []result.Check
	if err == nil && step.Wait != nil {
		j, waited, note, err = judge.UntilMet(ctx, step.Wait, start, j, ask, nil)
	}
	if err != nil {
		x.failed(ctx, res, err)
		return
	}
	if note != "" {
		res.Notes = append(res.Notes, note)
	}
	j.Checks = waited
	if e := step.Expect.Time; e != nil {
		j.Verdict("expect", "time", path.Selection{Matches: []path.Match{{Where: "time", Node: document.NewUntyped(sinceText(took))}}}, e)
	}
	j.FinishPayload(res)
}

// failed says that a step could not be carried out.
func (x *rowRun) failed(ctx context.Context, res *result.Step, err error) {
	res.Outcome, res.Reason = result.Faulty, err.Error()
	var unreached *lookup.UnreachedError
	if errors.As(err, &unreached) {
		res.Outcome = result.Unreachable
	}
	if ctx.Err() != nil {
		res.Outcome, res.Reason = result.Interrupted, "interrupted"
	}
}

// judgingOf prepares judging something that is no reply of an exchange.
func (x *rowRun) judgingOf(s *session.Session, step *sheet.Step, scope *session.Values, payload, around *document.Node) *judge.Judging {
	re := reply.Of(payload, around)
	names := request.MergeNames(s.Bench.Names, x.sheet.Names, step.Names)
	data := s.Data(scope, scope.Row, scope.Kept, re, names)
	return &judge.Judging{Step: step, Reply: re, Roots: re.Roots(names), Scope: scope, Data: data}
}
