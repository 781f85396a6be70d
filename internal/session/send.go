package session

import (
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
)

// Data gathers what conditions see.
func (s *Session) Data(scope *Values, row *document.Node, kept map[string]*document.Node, re *reply.Reply,
	names map[string]string,
) *rule.Data {
	data := &rule.Data{Row: row, Scope: scope, Kept: document.NewObject(), Site: document.NewObject()}
	for _, name := range s.Options.KeptNames {
		if node, ok := s.Options.Kept(name); ok {
			data.Kept.Set(name, node)
		}
	}
	for name, node := range kept {
		data.Kept.Set(name, node)
	}
	for _, f := range s.Site.Set {
		if node, err := scope.Lookup("site", f.Name); err == nil {
			data.Site.Set(f.Name, node)
		}
	}
	if re != nil {
		data.Roots = re.Roots(names)
	}
	return data
}

// Send puts the credentials in and sends the request; a replay answers without both.
func (s *Session) Send(ctx context.Context, step *sheet.Step, planned *Prepared,
	result *result.Step,
) (*login.Sent, error) {
	if s.Options.Replay != nil {
		record := s.Options.Replay.Answer(result.Name, len(result.Exchanges), planned.Request)
		result.Exchanges = append(result.Exchanges, record)
		return &login.Sent{Records: []*exchange.Record{record}}, nil
	}
	use := login.Use{Names: planned.Logins, Expected: planned.refusal}
	if step.Login != nil {
		use.Spoil = step.Login.Spoil
	}
	sent, err := s.Logins.Send(ctx, planned.Request, use)
	if sent != nil {
		result.Exchanges = append(result.Exchanges, sent.Records...)
		result.Context.Token = sent.Token
		planned.Notes = append(planned.Notes, sent.Notes...)
	}
	return sent, err
}

// ContextOf gathers what explains the exchange.
func (s *Session) ContextOf(step *sheet.Step, planned *Prepared) result.Context {
	c := result.Context{SOAP: planned.SOAPVersion(), Filled: planned.filled, Sources: map[string]string{}}
	if planned.Service != nil {
		c.Service = planned.Service.Name
		c.Paths = s.Bench.PathsOf(planned.Service)
	}
	if len(planned.Logins) > 0 {
		c.Login = planned.Logins[0]
		if l := s.Bench.Login(c.Login); l != nil {
			c.LoginKind = strings.ToLower(strings.TrimPrefix(fmt.Sprintf("%T", l.Kind), "*login."))
		}
	}
	if step.Login != nil {
		c.Spoilt = step.Login.Spoil
	}
	if len(step.Contents) > 0 {
		c.BodyKind = step.Contents[0]
	}
	for _, f := range step.FillFields() {
		if f.Value.Scalar == nil {
			continue
		}
		for _, h := range f.Value.Scalar.Placeholders() {
			c.Sources[f.Name] = h.Source
		}
	}
	return c
}

// ShowLogin puts a mark into a request of a dry run where credentials would go.
func (s *Session) ShowLogin(planned *Prepared) {
	if planned.Operation != nil && planned.Operation.Facts().TakesVersion && !planned.withoutVersion {
		switch planned.Request.GetHeader("If-Match") {
		case "":
			if !planned.Operation.Facts().Versioned {
				break // whether an answer named one is not known yet
			}
			planned.Request.SetHeader("If-Match", "[the version that is read first]")
		case "none":
			planned.Request.DeleteHeader("If-Match")
		}
	}
	s.Logins.Preview(context.Background(), planned.Request, planned.Logins)
}

// Preview fills one step in without sending it; credentials are shown as marks.
func (s *Session) Preview(ctx context.Context, step *sheet.Step) (*exchange.Request, error) {
	planned, err := s.Prepare(ctx, step, s.Scope(nil, map[string]*document.Node{}), nil)
	if err != nil {
		return nil, err
	}
	s.ShowLogin(planned)
	return planned.Request, nil
}

// RetryAfter is how long a service asks to be left alone (RFC 9110, 10.2.3).
func (s *Session) RetryAfter(record *exchange.Record) time.Duration {
	if record == nil || record.Answer == nil {
		return 0
	}
	text := record.Answer.Header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(s.Options.Now()), 0)
	}
	return 0
}

// TryError is a mistake with what to try.
type TryError struct{ Message, Try string }

func (e *TryError) Error() string {
	if e.Try == "" {
		return e.Message
	}
	return e.Message + "; " + e.Try
}

// WithTry makes a mistake with what to try.
func WithTry(message, try string) error { return &TryError{message, try} }

// LoginRecords hands over the exchanges that logins made.
func (s *Session) LoginRecords() []*exchange.Record { return s.observed.take() }
