package mapping

import (
	"slices"
	"strings"

	"testbench/internal/suggest"
	"testbench/internal/yamlfile"
)

// renamed are keys and values that had another name once: who writes it is told the new one.
var renamed = map[string][]string{
	"ask": {"request"}, "blanks": {"spaces"}, "client in": {"client authentication"}, "desk": {"login call"},
	"give back": {"revoke"}, "good": {"success"}, "lasts": {"expires in"}, "reading": {"read only"},
	"speaks":   {"protocol"},
	"token at": {"token path"}, "word": {"scheme", "value"}, "work out": {"calculate"},
}

// NewName gives the name that is now used for an old one, among those that are possible; "" for none.
func NewName(old string, names []string) string {
	for _, name := range renamed[old] {
		if slices.Contains(names, name) {
			return name
		}
	}
	return ""
}

// meant says what to write, which begins with what is right, in place of what people try.
type meant struct{ write, tried string }

// broughtAlong are the keys that people try, with what to write in their place; that begins with the key.
var broughtAlong = []meant{
	{
		"fields: with path: rule, or where: with conditions",
		"assert, asserts, check, validate, verify, test",
	},
	{"step: NAME", "name, title"},
	{"about: TEXT", "description"},
	{"again: N", "retry, retries"},
	{"again: N, or until: with path: rule", "repeat"},
	{"pause: 2 s", "sleep, delay"},
	{"pause: 2 s, or until: with path: rule", "wait"},
	{"request: METHOD ADDRESS", "url, method, base, base url, base_url, host, server"},
	{"request: GET ADDRESS", "get"},
	{"request: POST ADDRESS", "post"},
	{"request: PUT ADDRESS", "put"},
	{"request: DELETE ADDRESS", "delete"},
	{"query: with name: value", "params"},
	{"fill: with name: value", "parameters, args, with"},
	{"body: with the fields", "json, payload, data"},
	{"headers: with NAME: value", "header"},
	{"login: NAME", "auth, authorization"},
	{"keep: with name: path", "save, extract, store, capture, register"},
	{"when: CONDITION", "if"},
	{"when: not (CONDITION)", "unless"},
	{"for each: ${list}", "loop, foreach"},
	{"set: with name: value", "variables, vars"},
	{"expect: with status: 200", "status"},
	{"skip: REASON", "ignore, disabled"},
	{"tags: WORD", "tag, labels"},
	{"timeout: 5 s", "time, timeouts"},
	{"first: with steps", "before, setup"},
	{"last: with steps", "after"},
	{"finally: with steps", "teardown"},
	{"finally: with steps, or undo: at the step", "cleanup"},
	{"sites: with names", "environments, environment"},
	{"address: URL", "base, base url, endpoint"},
	{"set: with base: URL", "base, base url, base_url, host, server"},
	{"sites: with the name of a site, and below it set: with base: URL", "base, base url, base_url, host, server"},
	{"contract: FILE or URL", "wsdl, openapi, spec"},
	{"from: URL of the token endpoint", "token url, token uri, token endpoint, endpoint, url"},
	{"authorize: URL", "auth url, authorization url, authorization endpoint"},
	{"issuer: URL", "discovery, well known, metadata"},
	{"redirect: URL", "redirect uri, redirect url, callback, callback url"},
	{"client: NAME", "client id, clientid, client_id, consumer key"},
	{"client secret: ${sealed.NAME}", "client_secret, consumer secret"},
	{"user: NAME", "username, user name, user_name"},
	{"password: ${sealed.NAME}", "pass, passwd"},
	{"token: ${sealed.NAME}", "access token, value"},
	{"key: ${sealed.NAME}", "api key, apikey, secret, value"},
	{"header: NAME", "name"},
	{"kind: WORD", "type"},
}

// wordsBroughtAlong are the words that people try as values.
var wordsBroughtAlong = []meant{
	{"true", "yes, on"},
	{"false", "no, off"},
	{"json-rpc", "json-rpc 2.0, json-rpc 2, jsonrpc, json rpc"},
	{"json-rpc 1.0", "json-rpc 1"},
	{"xml-rpc", "xmlrpc, xml rpc"},
	{"key", "api key, apikey, api_key"},
	{"basic", "basic auth, http basic"},
	{"bearer", "token, bearer token, access token"},
	{"certificate", "mtls, mutual tls, client certificate, tls"},
	{"kerberos", "spnego, negotiate, gssapi"},
	{"username token", "wsse, wss, ws-security"},
	{"oauth2, with grant: client credentials", "client credentials, oauth"},
	{"oauth2, with grant: authorization code", "authorization code, openid, oidc, openid connect"},
	{"oauth2, with grant: password", "password"},
	{"oauth2, with grant: device", "device, device code"},
}

// whatToWrite says what to write in place of a key that people bring along; "" where it is none, or
// where no key that is possible does the same.
func whatToWrite(key string, names []string) string {
	return toWrite(broughtAlong, ":", key, names)
}

func toWrite(table []meant, end, tried string, possible []string) string {
	for _, one := range table {
		right, _, _ := strings.Cut(one.write, end)
		if slices.Contains(possible, right) && slices.Contains(strings.Split(one.tried, ", "), strings.ToLower(tried)) {
			return one.write
		}
	}
	return ""
}

// keysElsewhere says for the keys of the greater mappings whose they are: what is at the
// wrong one is told where it belongs.
var keysElsewhere = map[string][]string{}

// RegisterKeys notes where keys belong, for messages about one that is elsewhere.
func RegisterKeys[T any](what string, keys []Key[T]) {
	for _, k := range keys {
		keysElsewhere[k.Name] = append(keysElsewhere[k.Name], what)
	}
}

// unknownKey reports a key that a mapping does not have, and gives the one that is surely meant; "" for
// none.
func unknownKey(r *Reader, what string, key *yamlfile.Node, names []string) (meant string) {
	if meant = NewName(key.Text, names); meant != "" {
		r.File.Report(key, "write "+meant+":", "the key %q is called %q now", key.Text, meant)
		return meant
	}
	others := keysElsewhere[key.Text]
	try := suggest.DidYouMean(key.Text, names)
	switch {
	case len(others) > 0:
		belongs := key.Text + ": is a key of " + strings.Join(others, " and of ")
		if try != "" {
			belongs += "; or " + try
		}
		try = belongs
	case whatToWrite(key.Text, names) != "":
		try = "write " + whatToWrite(key.Text, names)
	case try == "":
		try = "there are: " + strings.Join(suggest.First(names, 40), ", ")
	default:
		meant = suggest.Closest(key.Text, names)
	}
	r.File.Report(key, try, "%s has no key %q", what, key.Text)
	return meant
}
