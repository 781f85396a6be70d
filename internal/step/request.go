package step

import (
	"context"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Request makes a request without an operation: SERVICE METHOD PATH, or METHOD and URL.
type Request struct {
	asking
	Service, Method string          // Service is empty for a whole URL
	Path            *value.Template // after the service's address, or the URL
	Source          string

	At *yamlfile.Node // nil for one of a command line
}

var requestKind = sheet.Kind{
	Word: "request", What: "a request without an operation", Common: ofAsking,
	Own: []mapping.Key[sheet.Step]{
		own("request", "SERVICE METHOD PATH, or METHOD URL",
			func(r *mapping.Reader, _ *sheet.Step, to *Request, n *yamlfile.Node) {
				to.At = n
				to.read(r, n)
			}),
	},
	Instead: map[string]string{
		"fill":     "write body:, form: or query:, or describe the operation and use call:",
		"as":       "body: is written as JSON; write XML and all else under text:, with a header Content-Type",
		"contract": "nothing describes the request; describe the operation and use call:",
	},
	New: func() sheet.Action { return &Request{} },
}

func (to *Request) read(r *mapping.Reader, n *yamlfile.Node) {
	to.Source = strings.TrimSpace(r.Text(n))
	first, rest, _ := strings.Cut(to.Source, " ")
	rest = strings.TrimSpace(rest)
	if request.IsMethod(first) && (strings.Contains(rest, "://") || strings.HasPrefix(rest, "${")) {
		to.Method = first
	} else {
		to.Service = first
		to.Method, rest, _ = strings.Cut(rest, " ")
		rest = strings.TrimSpace(rest)
		// Without a path the service's own address is meant, as for SOAP.
		if !request.IsMethod(to.Method) || rest != "" && rest[0] != '/' && rest[0] != '?' {
			try := "write it like stores GET /lots, or GET http://host/path"
			if meant := suggest.Closest(strings.ToUpper(to.Method), request.Methods); meant != "" &&
				!request.IsMethod(to.Method) {
				try = suggest.DidYouMean(to.Method, []string{meant})
			}
			if request.IsMethod(to.Method) && strings.HasPrefix(rest, "${") {
				try = "a path begins with /; where the value begins with it, or is a whole address, write follow: " +
					to.Method + " " + rest + ", with service: " + to.Service
			}
			r.File.Report(n, try, "%q is not a request: a service, a method and a path are expected", to.Source)
			return
		}
	}
	parse := value.ParseAddress
	if to.Service != "" {
		parse = value.ParsePath // it comes after the service's address: nothing in it is raw
	}
	to.Path = addressIn(r, n, rest, parse)
}

// Check wants a request that could be read.
func (to *Request) Check(*mapping.Reader, *sheet.Step) bool { return to.Path != nil }

// Target is the request as it was written.
func (to *Request) Target() string { return to.Source }

// Asks are the placeholders of the address.
func (to *Request) Asks() ([]*value.Placeholder, []*rule.Condition) {
	return to.Path.Placeholders(), nil
}

// Plan takes the method, and joins the path to the address of the service.
func (to *Request) Plan(ctx context.Context, of *session.Session, p *session.Prepared, _ *sheet.Step,
	spec *request.Spec, scope *session.Values,
) error {
	spec.Method, spec.Address = to.Method, to.Path
	if to.Service == "" {
		return nil
	}
	p.Service = of.Bench.Service(to.Service)
	if p.Service == nil {
		return &bench.NotFoundError{What: "service", Name: to.Service, Known: of.Bench.ServiceNames()}
	}
	address, err := of.Address(ctx, p.Service)
	if err != nil {
		return err
	}
	spec.Address, err = session.JoinPath(address, to.Path, scope)
	return err
}

// Vet looks for the service, and for what only SOAP has.
func (to *Request) Vet(v *Vetting, s *sheet.Step) {
	p := &session.Prepared{}
	if to.Service != "" {
		if p.Service = vetService(v, to.Service, to.At); p.Service == nil {
			return
		}
	}
	vetSOAP(v, s, p, to.Method)
}
