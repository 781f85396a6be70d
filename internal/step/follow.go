package step

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/exchange"
	"testbench/internal/httpurl"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Follow goes to an address out of an answer.
type Follow struct {
	asking
	Method  string // empty for GET, or POST where something is sent
	Address *value.Template
	Service string // that a relative address belongs to; may be empty
	Source  string

	At        *yamlfile.Node
	serviceAt *yamlfile.Node
}

var followKind = sheet.Kind{
	Word: "follow", What: "a step that follows an address", Common: ofAsking,
	Own: []mapping.Key[sheet.Step]{
		own("follow", "an address out of an answer, or METHOD ADDRESS",
			func(r *mapping.Reader, _ *sheet.Step, f *Follow, n *yamlfile.Node) {
				f.At = n
				f.read(r, n)
			}),
		own("service", "the service, for follow", func(r *mapping.Reader, _ *sheet.Step, f *Follow, n *yamlfile.Node) {
			f.Service, f.serviceAt = r.PlainText(n), n
		}),
	},
	Instead: requestKind.Instead,
	New:     func() sheet.Action { return &Follow{} },
}

func (f *Follow) read(r *mapping.Reader, n *yamlfile.Node) {
	f.Source = strings.TrimSpace(r.Text(n))
	address := f.Source
	first, rest, more := strings.Cut(f.Source, " ")
	switch {
	case slices.Contains(request.Methods, f.Source):
		r.File.Report(n, "write it like PUT ${place}", "the address is missing after %s", f.Source)
		return
	case more && request.IsMethod(first):
		f.Method, address = first, strings.TrimSpace(rest)
	case more && isWord(first):
		r.File.Report(n, "write it like PUT ${place}, with a method in capitals", "%q is not a method", first)
		return
	}
	f.Address = addressIn(r, n, address, value.ParseAddress)
}

// isWord says whether a text is of letters alone, as methods are and addresses are not.
func isWord(text string) bool {
	return strings.Trim(strings.ToLower(text), "abcdefghijklmnopqrstuvwxyz-") == ""
}

// addressIn reads the address that a text ends with; nil for one that cannot be read, which is reported.
func addressIn(r *mapping.Reader, n *yamlfile.Node, address string,
	parse func(string) (*value.Template, error),
) *value.Template {
	lead := strings.LastIndex(n.Text, address)
	t, err := parse(address)
	if err != nil {
		r.Mistake(n, lead, err)
		return nil
	}
	value.Shift(t.Placeholders(), lead) // they are told where they are in the whole line
	r.Note(n, t.Placeholders())
	return t
}

// Check wants an address that could be read.
func (f *Follow) Check(*mapping.Reader, *sheet.Step) bool {
	return f.Address != nil && f.Address.Source != ""
}

// Target is the address as it was written.
func (f *Follow) Target() string { return "follow " + f.Source }

// Asks are the placeholders of the address.
func (f *Follow) Asks() ([]*value.Placeholder, []*rule.Condition) {
	return f.Address.Placeholders(), nil
}

// Plan fills the address in. A relative one is resolved against the service.
func (f *Follow) Plan(ctx context.Context, of *session.Session, p *session.Prepared, s *sheet.Step, spec *request.Spec,
	scope *session.Values,
) error {
	p.Led = true
	text, err := f.Address.Text(scope, value.Address)
	if err != nil {
		return err
	}
	address := text.Sent
	if f.Service != "" {
		if p.Service = of.Bench.Service(f.Service); p.Service == nil {
			return &bench.NotFoundError{What: "service", Name: f.Service, Known: of.Bench.ServiceNames()}
		}
		template, err := of.Address(ctx, p.Service)
		if err != nil {
			return err
		}
		base, err := template.Text(scope, value.Address)
		if err != nil {
			return err
		}
		p.Away = true
		// What is relative is meant from the service, not from beside it.
		if baseURL, err := url.Parse(strings.TrimSuffix(base.Sent, "/") + "/"); err == nil {
			if resolved, err := baseURL.Parse(httpurl.Escape(address)); err == nil {
				address = resolved.String()
				p.Away = exchange.Origin(resolved) != exchange.Origin(baseURL)
			}
		}
	}
	if !strings.Contains(address, "://") {
		return fmt.Errorf("follow: %q is not a whole address; name the service: it belongs to", address)
	}
	// Where an answer leads may name a part of what is there; that is not sent.
	address, _, _ = strings.Cut(address, "#")
	spec.Address = value.Literal(address)
	spec.Method = f.Method
	if f.Method == "" && len(s.Contents) == 0 && len(s.SOAPWords()) == 0 {
		spec.Method = "GET" // at a service that speaks SOAP, too: a link is read
	}
	return nil
}

// Vet looks for the service, and for what only SOAP has.
func (f *Follow) Vet(v *Vetting, s *sheet.Step) {
	p := &session.Prepared{}
	if f.Service != "" {
		if p.Service = vetService(v, f.Service, f.serviceAt); p.Service == nil {
			return
		}
	}
	vetSOAP(v, s, p, f.Method)
}
