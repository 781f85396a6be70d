package login

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"testbench/internal/exchange"
	"testbench/internal/soap"
)

// Use says which logins go into a request.
type Use struct {
	Names []string
	Spoil string // the way in which their tokens are spoilt; empty for none
	// SpoilOf is the only one that is spoilt; empty for all.
	SpoilOf string
	// Expected says of a status that it is what the caller waits for, so that no new token is
	// got for it; nil where none is.
	Expected func(status int) bool
}

// spoilt is the way in which a login's token is spoilt.
func (u Use) spoilt(name string) string {
	if u.SpoilOf != "" && u.SpoilOf != name {
		return ""
	}
	return u.Spoil
}

// Sent is what came of a request with its credentials.
type Sent struct {
	Records  []*exchange.Record // the last one counts
	Token    *Token             // of the last login; nil without one
	Notes    []string
	Findings []Finding // about the protection of the answer
}

// Record returns the exchange that counts.
func (s *Sent) Record() *exchange.Record { return s.Records[len(s.Records)-1] }

// Attempts of one request.
const (
	mostRounds   = 4 // what a service asks back
	mostRenewals = 5 // tokens that died on the way
)

// connected is a Kind that authenticates a connection, not a request.
type connected interface{ connected() }

// Send puts the credentials in, sends the request and answers what the service
// asks back. A token that is refused with 401 is got anew, once, unless that is
// expected; one that ended on the way more often. Where the server's clock turns out to
// differ, what carries a time stamp is sent again by the server's time, once.
func (k *TokenManager) Send(ctx context.Context, planned *exchange.Request, use Use) (*Sent, error) {
	sender := k.env.Sender
	names := k.ordered(use.Names)
	for _, name := range names {
		if _, ok := k.kinds[name].(connected); ok {
			sender = sender.Single()
			defer sender.Close()
			break
		}
	}
	sent := &Sent{}
	passing := map[string]*Token{} // tokens for the next attempt only
	for rounds, renewals := 0, 0; ; {
		request := planned
		if len(names) > 0 {
			request = planned.Clone()
		}
		tokens := map[string]*Token{}
		for _, name := range names {
			token, err := k.use(ctx, name, request, use.spoilt(name), passing[name])
			if err != nil {
				return sent, err
			}
			tokens[name], sent.Token = token, token
		}
		record := sender.Do(ctx, request)
		sent.Records = append(sent.Records, record)
		shift := k.clocks.note(record)
		if record.Answer == nil {
			return sent, nil
		}
		again, asked, err := k.challenged(names, tokens, passing, record.Answer)
		if err != nil {
			return sent, err
		}
		switch {
		case again && rounds < mostRounds:
			rounds++
			sent.Notes = append(sent.Notes,
				fmt.Sprintf("the service answered %d and asked for %s: sent again", record.Answer.Status, asked))
			continue
		case shift != 0 && use.Spoil == "" && rounds == 0 && k.stamps(names) && mayBeStale(record.Answer):
			rounds++
			sent.Notes = append(sent.Notes, SkewInWords(Skew(record))+": sent again with time stamps by the server's")
			continue
		}
		expected := use.Expected != nil && use.Expected(record.Answer.Status)
		if renewals < mostRenewals && !expected && k.refuses(tokens, record.Answer) && k.renews(tokens, renewals == 0) {
			renewals++
			clear(passing) // it kept what was refused
			sent.Notes = append(sent.Notes,
				fmt.Sprintf("the answer was %d: a new token was got and the request sent again", record.Answer.Status))
			continue
		}
		k.receive(names, tokens, request, sent)
		return sent, nil
	}
}

// renews deletes tokens that were refused and says whether another attempt
// makes sense: the first time always, later only where one of them had died.
func (k *TokenManager) renews(tokens map[string]*Token, isFirst bool) bool {
	renewed, died := false, false
	for name, token := range tokens {
		died = died || !token.Expires.IsZero() && !k.env.now().Before(token.Expires)
		renewed = k.Refused(name, token) || renewed
	}
	return renewed && (isFirst || died)
}

// receive lets each login check and open the answer, the last one first.
func (k *TokenManager) receive(names []string, tokens map[string]*Token, request *exchange.Request, sent *Sent) {
	for _, name := range slices.Backward(names) {
		receiver, ok := k.kinds[name].(Receiver)
		if !ok {
			continue
		}
		if _, _, env, err := k.slot(name); err == nil {
			sent.Findings = append(sent.Findings, receiver.Receive(request, sent.Record().Answer, env, tokens[name])...)
		}
	}
}

// mayBeStale says whether an answer can be a refusal for a time stamp: a refusal
// of who asks, or a fault that speaks of security. Anything else was perhaps
// acted upon, and is not sent again.
func mayBeStale(answer *exchange.Answer) bool {
	switch answer.Status {
	case 400, 401, 403:
		return true
	case 500:
		return bytes.Contains(answer.Body, []byte(soap.Security)) ||
			bytes.Contains(answer.Body, []byte("MessageExpired"))
	}
	return false
}

// Preview puts into a request what can be told without asking anybody: marks
// where tokens would go, and signatures as they would be made.
func (k *TokenManager) Preview(ctx context.Context, r *exchange.Request, names []string) {
	for _, name := range k.ordered(names) {
		var err error
		if kind, ok := k.kinds[name].(readsBench); ok && kind.readsBench() {
			_, err = k.use(ctx, name, r, "", nil)
		} else {
			err = k.ApplyToken(name, r, &Token{Text: "token-of-" + name, User: name})
		}
		if err != nil {
			r.Signed = append(r.Signed, "(not made: "+err.Error()+")")
		}
	}
}

// ordered sorts logins by their place in a request.
func (k *TokenManager) ordered(names []string) []string {
	place := func(name string) Stage {
		if placed, ok := k.kinds[name].(Placed); ok {
			return placed.Place()
		}
		return Beside
	}
	sorted := slices.Clone(names)
	slices.SortStableFunc(sorted, func(a, b string) int { return int(place(a) - place(b)) })
	return sorted
}

// use gets a login's token and puts it into the request.
func (k *TokenManager) use(ctx context.Context, name string, r *exchange.Request, spoil string,
	passing *Token,
) (*Token, error) {
	token := passing
	if token == nil {
		var err error
		if token, err = k.Token(ctx, name); err != nil {
			return nil, err
		}
		if spoil != "" {
			if token, err = k.Spoil(name, token, spoil); err != nil {
				return nil, err
			}
		}
	}
	return token, k.ApplyToken(name, r, token)
}

// challenged lets each login look at the answer; asked names what was asked for.
func (k *TokenManager) challenged(names []string, tokens, passing map[string]*Token,
	answer *exchange.Answer,
) (again bool, asked string, err error) {
	for _, name := range names {
		kind, ok := k.kinds[name].(Challenged)
		if !ok {
			continue
		}
		_, _, env, err := k.slot(name)
		if err != nil {
			return false, "", err
		}
		next, repeat, keep, err := kind.Challenged(answer, env, tokens[name])
		if err != nil {
			return false, "", of(name, err)
		}
		delete(passing, name)
		if next == nil {
			continue
		}
		hide(env, next)
		if keep && next.Spoilt == "" {
			k.replace(name, tokens[name], next)
		}
		if repeat {
			again, asked = true, next.Kind
			passing[name] = next
		}
	}
	return again, asked, nil
}

// stamps says whether any of the logins makes time stamps.
func (k *TokenManager) stamps(names []string) bool {
	return slices.ContainsFunc(names, func(name string) bool {
		stamped, ok := k.kinds[name].(Stamped)
		return ok && stamped.spoils(Expired)
	})
}

// refusing is a Kind that knows its own signs of refusal.
type refusing interface {
	refused(answer *exchange.Answer, t *Token) bool
}

// refuses says whether the answer refuses a token of one of the logins.
func (k *TokenManager) refuses(tokens map[string]*Token, answer *exchange.Answer) bool {
	for name, token := range tokens {
		if kind, ok := k.kinds[name].(refusing); ok && kind.refused(answer, token) {
			return true
		}
	}
	return answer.Status == 401
}
