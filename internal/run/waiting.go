package run

import (
	"context"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/login"
	"testbench/internal/result"
)

// await asks again until what a step waits for is there, or it is clear that it will
// not be. What came of the waiting is among the checks of the plan.
func await(ctx context.Context, of *judge.Case, fresh *exchange.Request, sent *login.Sent, res *result.Step) (*login.Sent, error) {
	p := of.Prepared
	hold := func() *judge.Judging { return of.Judging(p.Read(sent.Record())) }
	ask := func(ctx context.Context) (*judge.Judging, error) {
		p.Request = fresh.Clone()
		again, err := of.Session.Send(ctx, of.Step, p, res)
		if err != nil {
			return nil, err
		}
		sent = again
		return hold(), nil
	}
	left := func() time.Duration { return of.Session.RetryAfter(sent.Record()) }
	_, checks, note, err := judge.UntilMet(ctx, of.Step.Wait, time.Now(), hold(), ask, left)
	p.Checks = append(p.Checks, checks...)
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	return sent, err
}
