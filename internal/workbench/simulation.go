package workbench

import (
	"context"
	"io"
	"path"
	"path/filepath"
	"strings"

	"testbench/internal/contract/formats"
	"testbench/internal/history"
	"testbench/internal/session"
	"testbench/internal/simulation"
	"testbench/internal/vet"
)

// Simulation answers for a service by its contract: a file, an address, or a service of
// the bench. Base is the address under which it will answer.
func Simulation(ctx context.Context, b *Bench, name, base string, standard io.Reader, s simulation.Options,
	o Options,
) (*simulation.Service, error) {
	service := b.inner.Service(name)
	if service == nil && strings.Contains(name, "://") {
		// The command line names the host, so it is meant.
		o.Named = append(o.Named, hostOf(name))
	}
	if err := vet.CheckArguments(b.inner, arguments(o), nil, nil); err != nil {
		return nil, err
	}
	session, err := session.NewSession(b.inner, completeOptions(b, o))
	if err != nil {
		return nil, err
	}
	defer func() { _ = closeInTime(session) }()
	from := session.Source(ctx)
	from.Standard = standard
	if service == nil {
		from.Dir = ""
	} else if name, err = session.ContractPlace(service); err != nil {
		return nil, err
	}
	s.Documents = map[string][]byte{}
	fetch := func(base, location string) (string, []byte, error) {
		resolved, data, err := from.Fetch(base, location)
		if err == nil {
			bare, _, _ := strings.Cut(resolved, "?")
			s.Documents[path.Base(filepath.ToSlash(bare))] = data
		}
		return resolved, data, err
	}
	resolved, data, err := fetch("", name)
	if err != nil {
		return nil, err
	}
	c, err := formats.Read(resolved, data, fetch)
	if err != nil {
		return nil, err
	}
	bare, _, _ := strings.Cut(resolved, "?")
	s.Main, s.Base = path.Base(filepath.ToSlash(bare)), base
	return simulation.New(c, s)
}

// PlayedOf gathers the exchanges of a past run, to be answered again.
func PlayedOf(run history.Finished) *simulation.Played {
	played := &simulation.Played{}
	for _, e := range history.Exchanges(run) {
		if e.Request != nil && e.Status > 0 {
			answer := &simulation.PlayedAnswer{Status: e.Status, Headers: map[string][]string{}, Body: string(e.Body)}
			for name, values := range e.Headers {
				for _, v := range values {
					answer.Headers[name] = append(answer.Headers[name], string(v))
				}
			}
			played.Add(e.Request.Method, string(e.Request.Address), string(e.Request.Body), answer)
		}
	}
	return played
}
