package sheet

import (
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/login"
	"testbench/internal/lookup"
	"testbench/internal/yamlfile"
)

// together says of a key when it has an effect: only beside one of some keys, or never
// beside others. Tables of it stand with the tables of keys; what they rule out is a
// mistake, so that nothing that is written is passed over.
type together struct {
	key     string
	with    []string // one of these must be there; nil for none
	without []string // none of these may be there
}

// together reports the keys of a mapping that have no effect there.
func (r *reader) together(n *yamlfile.Node, table []together) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	has := func(name string) bool { return n.Get(name) != nil }
	for _, t := range table {
		at := keyOf(n, t.key)
		if at == nil {
			continue
		}
		if t.with != nil && !slices.ContainsFunc(t.with, has) {
			r.file.Report(at, "take it out, or write "+strings.Join(t.with, ": or ")+": too", "%s: has no effect without %s:", t.key, strings.Join(t.with, ": or "))
		}
		if i := slices.IndexFunc(t.without, has); i >= 0 {
			r.file.Report(at, "keep one of them", "%s: has no effect beside %s:", t.key, t.without[i])
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

// onlyBeside reports the keys of a mapping that have no effect where another key has the
// value it has.
func (r *reader) onlyBeside(n *yamlfile.Node, what string, allowed map[string][]string, key, value string) {
	for _, e := range n.Entries {
		values, isBound := allowed[e.Key.Text]
		if isBound && !slices.Contains(values, value) {
			r.file.Report(e.Key, "take it out; it goes with "+key+": "+strings.Join(values, ", "), "%s: has no effect at %s", e.Key.Text, what)
		}
	}
}

var (
	tlsTogether = []together{{"key", []string{"certificate"}, nil}, {"password", []string{"certificate"}, nil}}

	serviceTogether = []together{
		{"port", []string{"contract"}, nil},
		{"speaks", nil, []string{"contract", "soap", "addressing", "port"}},
		{"addressing", []string{"contract", "soap", "operations"}, nil},
	}

	operationTogether = []together{
		{"form", nil, []string{"body", "template", "payload"}},
		{"needs", []string{"request", "payload", "action", "method", "query", "headers", "path", "form", "body"}, nil},
	}

	// ofMark are the keys of an operation that a contract describes.
	ofMark = []string{"reads", "good"}

	keyTogether = []together{
		{"header", nil, []string{"query", "cookie"}}, {"query", nil, []string{"header", "cookie"}}, {"cookie", nil, []string{"header", "query"}},
	}

	askTogether = []together{
		{"form", nil, []string{"body", "text"}}, {"body", nil, []string{"form", "text"}}, {"text", nil, []string{"form", "body"}},
	}

	kerberosTogether = []together{
		{"tickets", nil, []string{"password", "keytab", "user"}}, {"keytab", nil, []string{"password"}},
	}

	samlTogether = []together{{"from", nil, []string{"assertion"}}}

	sessionTogether = []together{{"close", []string{"open"}, nil}, {"lasts", []string{"open", "repeat"}, nil}}

	hmacTogether = []together{
		{"id", []string{"key id"}, nil}, {"stamp as", []string{"stamp"}, nil}, {"key id", []string{"id", "write"}, nil},
	}

	httpSignatureTogether = []together{
		{"shared key", nil, []string{"key", "certificate"}}, {"password", []string{"key", "certificate"}, nil},
	}

	signatureTogether = []together{
		{"sign", []string{"certificate", "key"}, nil}, {"reference", []string{"certificate", "key"}, nil}, {"algorithm", []string{"certificate", "key"}, nil},
		{"digest", []string{"certificate", "key"}, nil}, {"inclusive", []string{"certificate", "key"}, nil}, {"password", []string{"certificate", "key"}, nil},
	}

	oauth2Together = []together{
		{"key password", []string{"key", "certificate"}, nil}, {"key id", []string{"key", "certificate", "client secret"}, nil},
		{"actor", []string{"subject"}, nil}, {"claims", nil, []string{"assertion"}}, {"give back", []string{"revocation", "issuer"}, nil},
		{"client in", []string{"client"}, nil},
	}

	// oauth2Grants are the keys that belong to some grants alone.
	oauth2Grants = map[string][]string{
		"authorize": {login.GrantCode}, "redirect": {login.GrantCode}, "device": {login.GrantDevice},
		"user": {login.GrantPassword, login.GrantJWTBearer}, "password": {login.GrantPassword}, "refresh token": {login.GrantRefresh},
		"assertion": {login.GrantSAMLBearer, login.GrantJWTBearer}, "claims": {login.GrantJWTBearer},
		"subject": {login.GrantTokenExchange}, "actor": {login.GrantTokenExchange}, "requested": {login.GrantTokenExchange},
	}

	databaseTogether = map[string][]string{"user": nil, "password": nil}

	rowsTogether = []together{
		{"path", []string{"from"}, nil}, {"sheet", []string{"from"}, nil}, {"header", []string{"from"}, nil}, {"kinds", []string{"from", "list"}, nil},
		{"by", []string{"numbers", "days"}, nil}, {"as", []string{"numbers", "days"}, nil},
		{"database", []string{"sql"}, nil}, {"fill", []string{"sql"}, nil}, {"columns", []string{"sql"}, nil}, {"seed", []string{"sample"}, nil},
	}

	// rowsEndings are the keys of rows that belong to some kinds of files.
	rowsEndings = map[string][]string{"path": {".json", ".xml"}, "sheet": {".xlsx"}, "header": {".xlsx"}}
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

// finishRowsKeys reports keys of rows that have no effect for where the rows come from.
func (r *reader) finishRowsKeys(n *yamlfile.Node, rows *Rows) {
	if n.Kind != yamlfile.Mapping {
		return
	}
	r.together(n, rowsTogether)
	if rows.isFile() && rows.From != "" {
		r.onlyBeside(n, "rows of "+rows.From, rowsEndings, "from", strings.ToLower(filepath.Ext(rows.From)))
	}
}

// finishService reports keys of a service that have no effect there.
func (r *reader) finishService(n *yamlfile.Node, s *Service) {
	r.together(n, serviceTogether)
	isSOAP := s.SOAP != "" || s.Contract != nil || slices.ContainsFunc(s.Operations, func(op *contract.Operation) bool { return op.SOAP })
	if !isSOAP && s.Addressing {
		r.file.Report(keyOf(n, "addressing"), "write soap: 1.1 or 1.2, or take it out", "addressing: has no effect: the service is not SOAP")
	}
	if at := keyOf(n, "always"); at != nil && !isSOAP && s.Always.Blocks != nil {
		r.file.Report(at, "write soap: 1.1 or 1.2, or take it out", "always: blocks: has no effect: the service is not SOAP")
	}
	if operations := n.Get("operations"); operations != nil {
		for _, e := range operations.Entries {
			r.finishOperation(e, s)
		}
	}
}

// finishOperation reports keys of an operation that have no effect for how it is called.
func (r *reader) finishOperation(e yamlfile.Entry, s *Service) {
	r.together(e.Value, operationTogether)
	only := func(allowed []string, why, try string) {
		for _, inner := range e.Value.Entries {
			if !slices.Contains(allowed, inner.Key.Text) && slices.ContainsFunc(operationKeys, func(k key[description]) bool { return k.name == inner.Key.Text }) {
				r.file.Report(inner.Key, try, "%s: has no effect: %s", inner.Key.Text, why)
			}
		}
	}
	has := func(name string) bool { return e.Value.Get(name) != nil }
	switch {
	case s.Speaks != "":
		only(keysOf("method, about, query, headers, body, template, good, answer, needs, reads"),
			"the service's methods are called by name", "write the parameters under body:")
	case has("method"):
		r.file.Report(keyOf(e.Value, "method"), "write request: GET /path, or speaks: json-rpc at the service",
			"method: has no effect: the service's methods are not called by name")
	case !has("request") && !has("payload") && !has("action") && s.Contract != nil:
		only(ofMark, "the contract describes "+e.Key.Text, "take it out, or write request: to describe the operation here")
	case (has("payload") || has("action")) && has("request"):
		if method, _, _ := strings.Cut(e.Value.Get("request").Text, " "); method != "POST" {
			r.file.Report(e.Value.Get("request"), "write request: POST /path, or take it out", "SOAP is sent by POST")
		}
	}
}

// checkContracts finds what the bench says of services and their contracts do not have, as
// far as the contracts are files.
func (b *Bench) checkContracts() {
	for _, s := range b.Services {
		c, err := b.offline(s)
		if err != nil {
			b.file.Report(s.at, "", "the contract of %s: %v", s.Name, err)
		}
		if c == nil {
			continue
		}
		names := b.operationsIn(s)
		for _, m := range s.marks {
			if !slices.Contains(names, m.op.Name) {
				b.notThere(m.at, "operation of "+s.Name, m.op.Name, names)
			}
		}
		if c.WSDL != nil {
			if _, err := c.WSDL.Port(s.Port, ""); err != nil && s.Port != "" {
				b.file.Report(s.at, "", "%v", err)
			}
			continue
		}
		for _, one := range []struct {
			key   string
			given bool
		}{{"port", s.Port != ""}, {"soap", s.SOAP != ""}, {"addressing", s.Addressing}, {"always: blocks", s.Always.Blocks != nil}} {
			if one.given && c.Description != nil && !slices.ContainsFunc(s.Operations, func(op *contract.Operation) bool { return op.SOAP }) {
				b.file.Report(s.at, "take it out", "%s: has no effect at %s: its contract is not a WSDL", one.key, s.Name)
			}
		}
	}
}
