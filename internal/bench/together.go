package bench

import (
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/login"
	"testbench/internal/lookup"
	"testbench/internal/yamlfile"
)

// Together says of a key when it has an effect: only beside one of some keys, or never
// beside others. Tables of it stand with the tables of keys; what they rule out is a
// mistake, so that nothing that is written is passed over.
type Together struct {
	Key     string
	With    []string // one of these must be there; nil for none
	Without []string // none of these may be there
}

// Together reports the keys of a mapping that have no effect there.
func (r *Reader) Together(n *yamlfile.Node, table []Together) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	has := func(name string) bool { return n.Get(name) != nil }
	for _, t := range table {
		at := keyOf(n, t.Key)
		if at == nil {
			continue
		}
		if t.With != nil && !slices.ContainsFunc(t.With, has) {
			r.File.Report(at, "take it out, or write "+strings.Join(t.With, ": or ")+": too",
				"%s: has no effect without %s:", t.Key, strings.Join(t.With, ": or "))
		}
		if i := slices.IndexFunc(t.Without, has); i >= 0 {
			r.File.Report(at, "keep one of them", "%s: has no effect beside %s:", t.Key, t.Without[i])
		}
	}
}

// keyOf is where a key of a mapping stands, nil where it does not.
func keyOf(n *yamlfile.Node, name string) *yamlfile.Node {
	for _, e := range n.Entries {
		if e.Key.Text == name {
			return e.Key
		}
	}
	return nil
}

// OnlyBeside reports the keys of a mapping that have no effect where another key has the
// value it has.
func (r *Reader) OnlyBeside(n *yamlfile.Node, what string, allowed map[string][]string, key, value string) {
	for _, e := range n.Entries {
		values, isBound := allowed[e.Key.Text]
		if isBound && !slices.Contains(values, value) {
			r.File.Report(e.Key, "take it out; it goes with "+key+": "+strings.Join(values, ", "),
				"%s: has no effect at %s", e.Key.Text, what)
		}
	}
}

var (
	tlsTogether = []Together{{"key", []string{"certificate"}, nil}, {"password", []string{"certificate"}, nil}}

	serviceTogether = []Together{
		{"port", []string{"contract"}, nil},
		{"protocol", nil, []string{"contract", "soap", "addressing", "port"}},
		{"addressing", []string{"contract", "soap", "operations"}, nil},
	}

	operationTogether = []Together{
		{"form", nil, []string{"body", "template", "payload"}},
		{"needs", []string{"request", "payload", "action", "method", "query", "headers", "path", "form", "body"}, nil},
	}

	// ofMark are the keys of an operation that a contract describes.
	ofMark = []string{"reads", "success"}

	keyTogether = []Together{
		{"header", nil, []string{"query", "cookie"}},
		{"query", nil, []string{"header", "cookie"}},
		{"cookie", nil, []string{"header", "query"}},
	}

	askTogether = []Together{
		{"form", nil, []string{"body", "text"}},
		{"body", nil, []string{"form", "text"}},
		{"text", nil, []string{"form", "body"}},
	}

	kerberosTogether = []Together{
		{"tickets", nil, []string{"password", "keytab", "user"}}, {"keytab", nil, []string{"password"}},
	}

	samlTogether = []Together{{"from", nil, []string{"assertion"}}}

	sessionTogether = []Together{{"close", []string{"open"}, nil}, {"expires in", []string{"open", "repeat"}, nil}}

	hmacTogether = []Together{
		{"id", []string{"key id"}, nil}, {"stamp as", []string{"stamp"}, nil}, {"key id", []string{"id", "write"}, nil},
	}

	httpSignatureTogether = []Together{
		{"shared key", nil, []string{"key", "certificate"}}, {"password", []string{"key", "certificate"}, nil},
	}

	signatureTogether = []Together{
		{"sign", []string{"certificate", "key"}, nil},
		{"reference", []string{"certificate", "key"}, nil},
		{"algorithm", []string{"certificate", "key"}, nil},
		{"digest", []string{"certificate", "key"}, nil},
		{"inclusive", []string{"certificate", "key"}, nil},
		{"password", []string{"certificate", "key"}, nil},
	}

	oauth2Together = []Together{
		{"key password", []string{"key", "certificate"}, nil},
		{"key id", []string{"key", "certificate", "client secret"}, nil},
		{"actor", []string{"subject"}, nil},
		{"claims", nil, []string{"assertion"}},
		{"revoke", []string{"revocation", "issuer"}, nil},
		{"client authentication", []string{"client"}, nil},
	}

	// oauth2Grants are the keys that belong to some grants alone.
	oauth2Grants = map[string][]string{
		"authorize": {login.GrantCode}, "redirect": {login.GrantCode}, "device": {login.GrantDevice},
		"user": {login.GrantPassword, login.GrantJWTBearer}, "password": {login.GrantPassword},
		"refresh token": {login.GrantRefresh},
		"assertion":     {login.GrantSAMLBearer, login.GrantJWTBearer}, "claims": {login.GrantJWTBearer},
		"subject": {login.GrantTokenExchange}, "actor": {login.GrantTokenExchange},
		"requested": {login.GrantTokenExchange},
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
func (r *Reader) finishService(n *yamlfile.Node, s *Service) {
	r.Together(n, serviceTogether)
	isSOAP := s.SOAP != "" || s.Contract != nil || slices.ContainsFunc(s.Operations, func(op *contract.Endpoint) bool {
		return op.SOAP
	})
	if !isSOAP && s.Addressing {
		r.File.Report(keyOf(n, "addressing"), "write soap: 1.1 or 1.2, or take it out",
			"addressing: has no effect: the service is not SOAP")
	}
	if at := keyOf(n, "always"); at != nil && !isSOAP && s.Always.Blocks != nil {
		r.File.Report(at, "write soap: 1.1 or 1.2, or take it out",
			"always: blocks: has no effect: the service is not SOAP")
	}
	if operations := n.Get("operations"); operations != nil {
		for _, e := range operations.Entries {
			r.finishOperation(e, s)
		}
	}
}

// finishOperation reports keys of an operation that have no effect for how it is called.
func (r *Reader) finishOperation(e yamlfile.Entry, s *Service) {
	r.Together(e.Value, operationTogether)
	only := func(allowed []string, why, try string) {
		for _, inner := range e.Value.Entries {
			if !slices.Contains(allowed, inner.Key.Text) && slices.ContainsFunc(operationKeys,
				func(k Key[description]) bool { return k.Name == inner.Key.Text }) {
				r.File.Report(inner.Key, try, "%s: has no effect: %s", inner.Key.Text, why)
			}
		}
	}
	has := func(name string) bool { return e.Value.Get(name) != nil }
	switch {
	case s.Speaks != "":
		only(KeysOf("method, about, query, headers, body, template, good, answer, needs, reads"),
			"the service's methods are called by name", "write the parameters under body:")
	case has("method"):
		r.File.Report(keyOf(e.Value, "method"), "write request: GET /path, or protocol: json-rpc at the service",
			"method: has no effect: the service's methods are not called by name")
	case !has("request") && !has("payload") && !has("action") && s.Contract != nil:
		only(ofMark, "the contract describes "+e.Key.Text,
			"take it out, or write request: to describe the operation here")
	case (has("payload") || has("action")) && has("request"):
		if method, _, _ := strings.Cut(e.Value.Get("request").Text, " "); method != "POST" {
			r.File.Report(e.Value.Get("request"), "write request: POST /path, or take it out", "SOAP is sent by POST")
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
				b.notThere(m.at, "operation of "+s.Name, m.op.Name, names)
			}
		}
		if c.HasPorts() {
			if err := c.CheckBinding(formats.Binding{Port: s.Port}); err != nil && s.Port != "" {
				b.Source.Report(s.at, "", "%v", err)
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
