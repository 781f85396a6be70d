package bench

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/lookup"
	"testbench/internal/mapping"
	"testbench/internal/rpc"
	"testbench/internal/suggest"
	"testbench/internal/yamlfile"
)

var (
	tlsTogether = []mapping.Together{
		{Key: "key", With: []string{"certificate"}},
		{Key: "password", With: []string{"certificate"}},
	}

	serviceTogether = []mapping.Together{
		{Key: "port", With: []string{"contract"}},
		{Key: "protocol", Without: []string{"contract", "soap", "addressing", "port"}},
		{Key: "addressing", With: []string{"contract", "soap", "operations"}},
	}

	operationTogether = []mapping.Together{
		{Key: "form", Without: []string{"body", "template", "payload"}},
		{Key: "needs", With: []string{
			"request", "payload", "action", "method", "query", "headers", "path", "form",
			"body",
		}},
	}

	// ofMark are the keys of an operation that a contract describes.
	ofMark = []string{
		"reads", "success", "error", "stream", "answer as", "paths", "about", "deprecated", "path", "query", "headers",
		"form", "body",
	}

	databaseTogether = map[string][]string{"user": nil, "password": nil}
)

func init() {
	for _, kind := range lookup.Kinds {
		if kind != lookup.SQLite && kind != lookup.Folder {
			for _, key := range []string{"user", "password"} {
				databaseTogether[key] = append(databaseTogether[key], kind)
			}
		}
	}
}

// finishService reports keys of a service that have no effect there.
func finishService(r *mapping.Reader, n *yamlfile.Node, s *Service) {
	r.Together(n, serviceTogether)
	isSOAP := s.SOAP != "" || s.Contract != nil || slices.ContainsFunc(s.Operations, func(op *contract.Endpoint) bool {
		return op.SOAP
	})
	if !isSOAP && s.Addressing {
		r.File.Report(n.Key("addressing"), "write soap: 1.1 or 1.2, or take it out",
			"addressing: has no effect: the service is not SOAP")
	}
	if at := n.Key("always"); at != nil && !isSOAP && s.Always.Blocks != nil {
		r.File.Report(at, "write soap: 1.1 or 1.2, or take it out",
			"always: blocks: has no effect: the service is not SOAP")
	}
	if operations := n.Get("operations"); operations != nil {
		for _, e := range operations.Entries {
			finishOperation(r, e, s)
		}
	}
}

// checkPositions reports parameters that JSON-RPC 1.0 has no place for.
func checkPositions(r *mapping.Reader, body *yamlfile.Node) {
	if body == nil || len(body.Entries) == 1 && body.Entries[0].Key.Text == "params" {
		return
	}
	for i, e := range body.Entries {
		if e.Key.Text != strconv.Itoa(i) {
			r.File.Report(e.Key, fmt.Sprintf("write \"%d\": {name: %s}", i, e.Key.Text),
				"JSON-RPC 1.0 has parameters by position only, from 0 on")
		}
	}
}

// finishOperation reports keys of an operation that have no effect for how it is called.
func finishOperation(r *mapping.Reader, e yamlfile.Entry, s *Service) {
	r.Together(e.Value, operationTogether)
	only := func(allowed []string, why, try string) {
		for _, inner := range e.Value.Entries {
			if !slices.Contains(allowed, inner.Key.Text) && slices.ContainsFunc(operationKeys,
				func(k mapping.Key[description]) bool { return k.Name == inner.Key.Text }) {
				r.File.Report(inner.Key, try, "%s: has no effect: %s", inner.Key.Text, why)
			}
		}
	}
	has := func(name string) bool { return e.Value.Get(name) != nil }
	switch {
	case s.Speaks != "":
		only(mapping.KeysOf("method, about, inputs, query, headers, body, template, success, error, answer, "+
			"statuses, paths, needs, "+
			"exactly one of, reads, deprecated"),
			"the service's methods are called by name", "write the parameters under body:")
		if s.Speaks == rpc.JSON1 && !has("template") {
			checkPositions(r, e.Value.Get("body"))
		}
	case has("method"):
		r.File.Report(e.Value.Key("method"), "write request: GET /path, or protocol: json-rpc at the service",
			"method: has no effect: the service's methods are not called by name")
	case !has("request") && !has("payload") && !has("action") && s.Contract != nil:
		only(ofMark, "the contract describes "+e.Key.Text,
			"take it out, or write request: to describe the operation here")
		checkOverlay(r, e)
	case (has("payload") || has("action")) && has("request"):
		if method, _, _ := strings.Cut(e.Value.Get("request").Text, " "); method != "POST" {
			r.File.Report(e.Value.Get("request"), "write request: POST /path, or take it out", "SOAP is sent by POST")
		}
	}
}

// checkOverlay reports what a bench says of fields that a contract describes and that changes nothing.
func checkOverlay(r *mapping.Reader, e yamlfile.Entry) {
	for _, place := range []string{"path", "query", "headers", "form", "body"} {
		fields := e.Value.Get(place)
		if fields == nil {
			continue
		}
		for _, field := range fields.Entries {
			required := field.Value.Get("required")
			if field.Value.Text == "optional" || required != nil && required.Text == "false" {
				r.File.Report(field.Key, "take it out",
					"%s of %s: the contract says what may be left out, and it stays so",
					field.Key.Text, e.Key.Text)
			}
			if name := field.Value.Get("name"); name != nil && (place == "body" || place == "form") {
				r.File.Report(name, "take it out",
					"name: has no effect: fields of a body are called as the contract has them")
			}
			if name := field.Value.Get("list"); name != nil && place == "form" {
				r.File.Report(name, "take it out",
					"list: has no effect: the contract says how lists are written in the body")
			}
		}
	}
}

// CheckContracts finds what the bench says of services and their contracts do not have, as
// far as the contracts are files.
func (b *Bench) CheckContracts() {
	for _, s := range b.Services {
		c, err := b.Offline(s)
		if err != nil {
			b.Source.Report(s.at, "", "the contract of %s: %v", s.Name, err)
		}
		if c == nil {
			continue
		}
		names := b.OperationsIn(s)
		for _, m := range s.marks {
			if !slices.Contains(names, m.op.Name) {
				notThereIn(b, m.at, "operation of "+s.Name, m.op.Name, names)
				continue
			}
			var wrong *contract.OverlayError
			if _, err := c.Operation(m.op.Name, s.Binding()); errors.As(err, &wrong) {
				b.Source.Report(m.at, wrong.Try, "%s", wrong.Message)
			}
		}
		if c.HasPorts() {
			if err := c.CheckBinding(contract.Binding{Port: s.Port}); err != nil && s.Port != "" {
				b.Source.Report(s.at, "", "%v", err)
			}
			if unusable := c.Unusable(); len(unusable) > 0 {
				b.Source.Remark(s.at,
					"the contract of %s is wrong in what some operations need, so they cannot be used: %s; "+
						"`testbench survey %s` says why", s.Name, suggest.FewNames(unusable), s.Name)
			}
			if refused := c.Refused(); len(refused) > 0 {
				b.Source.Remark(s.at, "in the contract of %s: %s%s", s.Name, refused[0],
					andMore(len(refused)-1, s.Name))
			}
			continue
		}
		for _, one := range []struct {
			key   string
			given bool
		}{
			{"port", s.Port != ""},
			{"soap", s.SOAP != ""},
			{"addressing", s.Addressing},
			{"always: blocks", s.Always.Blocks != nil},
		} {
			if one.given && c.HasOperations() && !slices.ContainsFunc(s.Operations, func(op *contract.Endpoint) bool {
				return op.SOAP
			}) {
				b.Source.Report(s.at, "take it out", "%s: has no effect at %s: its contract is not a WSDL", one.key,
					s.Name)
			}
		}
	}
}

// andMore ends a remark on the first of several.
func andMore(n int, service string) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" (and %d more: `testbench survey %s`)", n, service)
}
