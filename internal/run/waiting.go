package run

import (
	"context"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/judge"
	"testbench/internal/login"
	"testbench/internal/result"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// await asks again until what a step waits for is there, or it is clear that it will
// not be. What came of the waiting is among the checks of the plan.
func await(ctx context.Context, s *session.Session, step *sheet.Step, p *session.Prepared, scope *session.Values, names map[string]string, fresh *exchange.Request, sent *login.Sent, result *result.Step) (*login.Sent, error) {
	hold := func() *judge.Judging { return judge.New(s, step, p, scope, names, p.Read(sent.Record())) }
	ask := func(ctx context.Context) (*judge.Judging, error) {
		p.Request = fresh.Clone()
		again, err := s.Send(ctx, step, p, result)
		if err != nil {
			return nil, err
		}
		sent = again
		return hold(), nil
	}
	_, checks, note, err := judge.UntilMet(ctx, step.Wait, time.Now(), hold(), ask, func() time.Duration { return s.RetryAfter(sent.Record()) })
	p.Checks = append(p.Checks, checks...)
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	return sent, err
}
