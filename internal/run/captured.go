package run

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/path"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// Captured is a step as it would go out: nothing of it is sent.
type Captured struct {
	Login     *exchange.Request // that asks for a token; nil for none
	TokenPath []path.Plain      // where its answer holds the token
	Reply     bool              // that path starts at the reply
	Main      *exchange.Request
}

// Capture sees the requests of a step without sending them: a login call is answered by a
// token that the caller chose, and what is read beforehand (a contract, a version) is read
// indeed. It stands around the sender of one session, and captures one step.
type Capture struct {
	exchange.Sender
	token    string
	captured Captured
	answer   *exchange.Answer // to the login call; nil where none is made
	method   string           // of the step's own request; empty before it is known
	stop     context.CancelFunc
}

// NewCapture makes one that answers login calls with a token.
func NewCapture(token string) *Capture { return &Capture{token: token} }

// Around is before a sender.
func (c *Capture) Around(sender exchange.Sender) exchange.Sender {
	c.Sender = sender
	return c
}

// Single sends as everything else does: what authenticates a connection is not captured.
func (c *Capture) Single() exchange.Sender { return c }

// Do takes the request of the step and its login call, and sends all others.
func (c *Capture) Do(ctx context.Context, r *exchange.Request) *exchange.Record {
	record := &exchange.Record{Request: r, Started: time.Now()}
	switch {
	case c.method == "":
		return c.Sender.Do(ctx, r)
	case r.Login && c.answer != nil && c.captured.Login == nil:
		c.captured.Login, record.Answer = r.Clone(), c.answer
		return record
	case r.Login || r.Method == http.MethodGet && c.method != http.MethodGet:
		return c.Sender.Do(ctx, r)
	}
	if c.captured.Main == nil {
		c.captured.Main = r.Clone()
	}
	c.stop()
	record.Answer = &exchange.Answer{Status: http.StatusOK, Proto: "HTTP/1.1", Header: http.Header{}}
	return record
}

// Step captures a step, with the values of a row, nil for none. It fails for logins of which code cannot be made.
func (c *Capture) Step(ctx context.Context, s *session.Session, one *sheet.Step,
	row *document.Node,
) (*Captured, error) {
	if err := step.CheckCall(ctx, s, one); err != nil {
		return nil, err
	}
	planned, err := s.Prepare(ctx, one, s.Scope(row, map[string]*document.Node{}), nil)
	if err != nil {
		return nil, err
	}
	if planned.Request == nil {
		return nil, errors.New("the step sends no request of its own")
	}
	for _, name := range planned.Logins {
		asked, err := tokenAnswer(s, &c.captured, name, c.token)
		if err != nil {
			return nil, err
		}
		if asked != nil && c.answer != nil {
			return nil, errors.New("it needs tokens of several logins; hand over with -login NAME")
		}
		if asked != nil {
			c.answer = asked
		}
	}
	c.method = planned.Request.Method
	ctx, c.stop = context.WithCancel(ctx)
	defer c.stop()
	once := *one
	once.Wait, once.Again, once.Undo, once.Pages = nil, nil, nil, 1
	result := step.Ask(ctx, s, &once, row, map[string]*document.Node{})
	if c.captured.Main == nil {
		return nil, fmt.Errorf("no request came of it: %s", result.Reason)
	}
	return &c.captured, nil
}

// tokenAnswer is what the login call of a login is answered with; nil where none is made.
func tokenAnswer(s *session.Session, out *Captured, name, token string) (*exchange.Answer, error) {
	var kind login.Kind
	for _, l := range s.Bench.Logins {
		if l.Name == name {
			kind = l.Kind
		}
	}
	answer := &exchange.Answer{
		Status: http.StatusOK, Proto: "HTTP/1.1",
		Header: http.Header{"Content-Type": {"application/json"}},
	}
	switch kind := kind.(type) {
	case *login.Basic, *login.Bearer, *login.Key:
		return nil, nil
	case *login.UsernameToken:
		if kind.Digest || kind.Nonce || kind.Stamp > 0 {
			return nil, fmt.Errorf("the login %s makes a digest, a nonce or a time stamp for each request, of which "+
				"no code is made", name)
		}
		return nil, nil
	case *login.OAuth2:
		if kind.NeedsPerson() || kind.Proof ||
			kind.ClientAuthentication != "" && kind.ClientAuthentication != login.InBasic &&
				kind.ClientAuthentication != login.InForm {
			return nil, fmt.Errorf("the login %s needs a person or signs what it asks, of which no code is made", name)
		}
		out.TokenPath = []path.Plain{{Name: "access_token"}}
		answer.Body, _ = json.Marshal(map[string]any{"access_token": token, "token_type": "Bearer", "expires_in": 3600})
		return answer, nil
	case *login.LoginCall:
		if kind.TokenPath == nil || kind.Encode != "" {
			return nil, fmt.Errorf("the token of the login %s is made of what its login call answers, "+
				"of which no code is made", name)
		}
		steps, fromReply, ok := kind.TokenPath.PlainSteps()
		if !ok || len(steps) == 0 {
			return nil, fmt.Errorf("the token of the login %s is found by %s, of which no code is made", name,
				kind.TokenPath.Source)
		}
		out.TokenPath, out.Reply = steps, fromReply
		if !fromReply {
			answer.Body = []byte(document.WriteJSON(nestedAt(steps, token, kind), document.Style{}))
			return answer, nil
		}
		switch {
		case steps[0].Name == "text":
			answer.Header.Set("Content-Type", "text/plain")
			answer.Body = []byte(token)
		case steps[0].Name == "headers" && len(steps) == 2:
			answer.Header.Set(steps[1].Name, token)
		default:
			return nil, fmt.Errorf("the token of the login %s is found by %s, of which no code is made", name,
				kind.TokenPath.Source)
		}
		return answer, nil
	}
	return nil, fmt.Errorf("of the kind of the login %s no code is made; hand over with -login none, or with another",
		name)
}

// nestedAt is an answer that holds a token where it is looked for, and how long it lasts.
func nestedAt(steps []path.Plain, token string, desk *login.LoginCall) *document.Node {
	root := document.NewObject()
	put := func(steps []path.Plain, v *document.Node) {
		at := root
		for i, s := range steps {
			if i == len(steps)-1 {
				at.Set(s.Name, v)
				return
			}
			next := at.Get(s.Name)
			if next == nil || next.Kind != document.Object {
				next = document.NewObject()
				at.Set(s.Name, next)
			}
			at = next
		}
	}
	if desk.ExpiresPath != nil {
		if lasts, fromReply, ok := desk.ExpiresPath.PlainSteps(); ok && !fromReply {
			put(lasts, document.NewNumber("600"))
		}
	}
	put(steps, document.NewText(token))
	return root
}
