package session

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/request"
	"testbench/internal/safefile"
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
func (s *Session) Contract(ctx context.Context, service *bench.Service) (*formats.Contract, error) {
	place, err := s.ContractPlace(service)
	if err != nil {
		return nil, err
	}
	if !source.IsAddress(place) {
		if _, err := safefile.Inside(s.Bench.Dir, place); err != nil {
			return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
		}
	}
	contract, err := s.Contracts.Get(place, s.Source(ctx).Fetch)
	if err == nil && !contract.HasOperations() {
		err = errors.New("it is a schema alone, and has no operations")
	}
	if err != nil {
		return nil, fmt.Errorf("the contract of %s: %w", service.Name, err)
	}
	return contract, nil
}

// Source gets the documents of contracts with the session's connections.
func (s *Session) Source(ctx context.Context) *source.Source {
	return &source.Source{Dir: s.Bench.Dir, Allowed: func(host string) bool {
		return slices.ContainsFunc(s.Options.Allow, func(allowed string) bool {
			return strings.EqualFold(allowed, host)
		})
	}, Get: func(address string, outside bool) ([]byte, bool, error) {
		return fetchAllowed(ctx, s, address, outside)
	}}
}

// fetchAllowed gets an address for what is there, without a login, and says whether what
// answered is public.
func fetchAllowed(ctx context.Context, s *Session, address string, outside bool) ([]byte, bool, error) {
	template := value.Literal(address)
	spec := request.Spec{Method: "GET", Address: template}
	r, err := spec.Build(s.Scope(nil, nil))
	if err != nil {
		return nil, false, err
	}
	r.Outside, r.Foreign = outside, outside || !isHome(s, r.URL)
	record := s.Sender.Do(ctx, r)
	switch {
	case record.Failure != nil:
		return nil, false, &bench.FetchError{Record: record, Message: record.Failure.Message}
	case record.Answer.Status != 200:
		return nil, false, &bench.FetchError{
			Record:  record,
			Message: fmt.Sprintf("the answer was %d %s", record.Answer.Status, record.Answer.Reason),
		}
	}
	return record.Answer.Body, !exchange.IsPrivate(record.Remote), nil
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
func addressAs(ctx context.Context, s *Session, service *bench.Service, as formats.Binding) (*value.Template, error) {
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
	if !source.IsAddress(c.Location()) {
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
	return "There are: " + document.FewNames(names)
}
