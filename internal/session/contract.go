package session

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/request"
	"testbench/internal/safefile"
	"testbench/internal/suggest"
	"testbench/internal/value"
)

// ContractPlace is where the contract of a service is: a file of the bench, or an address.
func (s *Session) ContractPlace(service *bench.Service) (string, error) {
	if service.Contract == nil {
		return "", fmt.Errorf("the service %s has no contract", service.Name)
	}
	text, err := service.Contract.Text(s.Scope(nil, nil), value.Address)
	if err != nil {
		return "", fmt.Errorf("the contract of %s: %w", service.Name, err)
	}
	return text.Sent, nil
}

// Contract reads the contract of a service, at most once a session unless it could not be
// fetched.
func (s *Session) Contract(ctx context.Context, service *bench.Service) (contract.Contract, error) {
	place, err := s.ContractPlace(service)
	if err != nil {
		return nil, err
	}
	c := s.Contracts.Known(place)
	if c == nil {
		if !source.IsAddress(place) {
			if _, err := safefile.Inside(s.Bench.Dir, place); err != nil {
				return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
			}
		}
		c, err = s.Contracts.Get(place, s.SourceWith(ctx, place, contractLogins(s, service, place)).Fetch)
	}
	if err == nil && !c.HasOperations() {
		err = errors.New("it is a schema alone, and has no operations")
	}
	if err != nil {
		return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
	}
	return contract.Amend(c, service.Overlays()), nil
}

// Source gets the documents of contracts with the session's connections, without a login.
func (s *Session) Source(ctx context.Context) *source.Source { return s.SourceWith(ctx, "", nil) }

// SourceWith is Source with logins for documents at the origin of an address that are not given without.
func (s *Session) SourceWith(ctx context.Context, home string, logins []string) *source.Source {
	f := &fetching{session: s, kept: keptContracts(s.Bench.Dir)}
	if at, err := url.Parse(home); err == nil && at.Host != "" {
		f.home, f.logins = exchange.Origin(at), plainLogins(s, logins)
	}
	return &source.Source{Dir: s.Bench.Dir, Allowed: func(host string) bool {
		return slices.ContainsFunc(s.Options.Allow, func(allowed string) bool {
			return strings.EqualFold(allowed, host)
		})
	}, Get: func(address string, outside bool) ([]byte, bool, error) { return f.get(ctx, address, outside) }}
}

// KeptContract gives the contract of a service as it was fetched last, and asks nobody; nil where not all
// of it is kept.
func KeptContract(s *Session, service *bench.Service) contract.Contract {
	place, err := s.ContractPlace(service)
	if err != nil {
		return nil
	}
	from := &source.Source{Dir: s.Bench.Dir, Get: func(address string, _ bool) ([]byte, bool, error) {
		if d := keptContracts(s.Bench.Dir).read(address); d != nil {
			return d.Body, d.Public, nil
		}
		return nil, false, errors.New("it was not fetched before")
	}}
	c, err := formats.Load(place, from.Fetch)
	if err != nil {
		return nil
	}
	return c
}

// contractLogins are the logins of a service that may be shown where its contract is: at the origin that the
// bench gives the service, or at that of the contract where the contract says the service's address. What
// is put into an envelope makes no sense there.
func contractLogins(s *Session, service *bench.Service, place string) []string {
	at, err := url.Parse(place)
	if err != nil {
		return nil
	}
	own := s.Site.Services[service.Name]
	if own == nil {
		own = service.Address
	}
	if own != nil {
		text, err := own.Text(s.Scope(nil, nil), value.Address)
		if err != nil {
			return nil
		}
		if home, err := url.Parse(text.Sent); err != nil || exchange.Origin(home) != exchange.Origin(at) {
			return nil
		}
	}
	return service.Logins
}

// plainLogins are those of some logins that go into a request without an envelope, each as the site has it.
func plainLogins(s *Session, names []string) []string {
	var plain []string
	for _, name := range names {
		if other, ok := s.Site.Logins[name]; ok {
			name = other
		}
		l := s.Bench.Login(name)
		if l == nil {
			continue
		}
		if placed, ok := l.Kind.(login.Placed); !ok || placed.Place() == login.Beside ||
			placed.Place() == login.Sealing {
			plain = append(plain, name)
		}
	}
	return plain
}

// fetching gets documents of contracts.
type fetching struct {
	session *Session
	kept    keptContracts
	home    string   // the origin at which the logins may be shown
	logins  []string // that are shown where a document is not given without
}

// get gets an address for what is there, and says whether what answered is public. What was
// fetched a short time ago is not asked for again.
func (f *fetching) get(ctx context.Context, address string, outside bool) ([]byte, bool, error) {
	s := f.session
	now := s.Options.Now()
	var kept *keptDocument
	if !s.Options.Fresh {
		if kept = f.kept.read(address); kept != nil && outside && !kept.Public {
			kept = nil
		}
		if kept != nil && (now.Sub(kept.Fetched) < keptFor || s.Options.Replay != nil) {
			return kept.Body, kept.Public, nil
		}
	}
	record, err := f.ask(ctx, address, outside, kept)
	if err != nil {
		return nil, false, err
	}
	switch a := record.Answer; {
	case record.Failure != nil:
		return nil, false, &bench.FetchError{Record: record, Message: record.Failure.Message}
	case a.Status == http.StatusNotModified && kept != nil:
		kept.Fetched = now
		f.kept.write(kept)
		return kept.Body, kept.Public, nil
	case a.Status != http.StatusOK:
		return nil, false, &bench.FetchError{
			Record:  record,
			Message: fmt.Sprintf("the answer was %d %s", a.Status, a.Reason),
		}
	}
	a := record.Answer
	public := !exchange.IsPrivate(record.Remote)
	if !strings.Contains(a.Header.Get("Cache-Control"), "no-store") {
		f.kept.write(&keptDocument{
			Address: address, ETag: a.Header.Get("ETag"), Modified: a.Header.Get("Last-Modified"), Fetched: now,
			Public: public, Body: a.Body,
		})
	}
	return a.Body, public, nil
}

// ask asks for a document, by its version where it is kept: without a login first, and with one where
// the service refuses and the address is at home.
func (f *fetching) ask(ctx context.Context, address string, outside bool, kept *keptDocument) (*exchange.Record,
	error,
) {
	s := f.session
	spec := request.Spec{Method: http.MethodGet, Address: value.Literal(address)}
	r, err := spec.Build(s.Scope(nil, nil))
	if err != nil {
		return nil, err
	}
	if kept != nil && kept.ETag != "" {
		r.SetHeader("If-None-Match", kept.ETag)
	} else if kept != nil && kept.Modified != "" {
		r.SetHeader("If-Modified-Since", kept.Modified)
	}
	isAtHome := f.home != "" && exchange.Origin(r.URL) == f.home
	r.Outside, r.Foreign = outside, outside || !isAtHome && !isHome(s, r.URL)
	record := s.Sender.Do(ctx, r)
	if record.Answer == nil || outside || !isAtHome || len(f.logins) == 0 || !wantsLogin(record.Answer) {
		return record, nil
	}
	sent, err := s.Logins.Send(ctx, r, login.Use{Names: f.logins})
	if err != nil {
		return nil, err
	}
	return sent.Record(), nil
}

// wantsLogin says whether an answer asks for a login: by its status, or as a page in which a person would
// type it.
func wantsLogin(a *exchange.Answer) bool {
	return a.Status == http.StatusUnauthorized || a.Status == http.StatusForbidden ||
		a.Status == http.StatusOK && strings.HasPrefix(a.Header.Get("Content-Type"), "text/html")
}

// isHome says whether an address is at an origin that the bench itself names for a service.
func isHome(s *Session, at *url.URL) bool {
	scope := s.Scope(nil, nil)
	for _, service := range s.Bench.Services {
		for _, template := range []*value.Template{s.Site.Services[service.Name], service.Address, service.Contract} {
			if template == nil {
				continue
			}
			text, err := template.Text(scope, value.Address)
			if err != nil {
				continue
			}
			if home, err := url.Parse(text.Sent); err == nil && home.Host != "" &&
				exchange.Origin(home) == exchange.Origin(at) {
				return true
			}
		}
	}
	return false
}

// Address returns the template of a service's address at this site: what the bench
// says, or the contract's own address where the contract came from the same host.
func (s *Session) Address(ctx context.Context, service *bench.Service) (*value.Template, error) {
	return addressAs(ctx, s, service, service.Binding())
}

// addressAs is Address for calls that are bound in a way of their own.
func addressAs(ctx context.Context, s *Session, service *bench.Service, as contract.Binding) (*value.Template, error) {
	switch t := s.Site.Services[service.Name]; {
	case t != nil:
		return t, nil
	case service.Address != nil:
		return service.Address, nil
	case service.Contract == nil:
		return nil, fmt.Errorf("the service %s has no address; write address: at it", service.Name)
	}
	c, err := s.Contract(ctx, service)
	if err != nil {
		return nil, err
	}
	if !source.IsAddress(c.Head().Location) {
		return nil, fmt.Errorf("the service %s needs an address: its contract comes from a file, and where that "+
			"sends is not trusted", service.Name)
	}
	own := c.Address(as)
	if own == "" {
		return nil, fmt.Errorf("the contract of %s says no address; write address: at the service", service.Name)
	}
	return value.Literal(own), nil
}

// OperationsOf says for a message what a service offers, as far as that is known
// without asking anybody.
func OperationsOf(b *bench.Bench, service *bench.Service) string {
	names := b.OperationsIn(service)
	if len(names) == 0 {
		return "`testbench survey " + service.Name + "` lists them"
	}
	return "There are: " + suggest.FewNames(names)
}
