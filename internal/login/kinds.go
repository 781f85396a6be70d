package login

import (
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// kindOfLogin is what kind: may say, with how a login of it is read and the schema of its keys.
type kindOfLogin struct {
	name   string
	read   func(r *mapping.Reader, n *yamlfile.Node) Kind
	schema func() *document.Node
}

// kinds are all kinds of logins; each is in a file of its own.
var kinds = []kindOfLogin{
	{"basic", readBasic, keysOf(basicKeys)},
	{"bearer", readBearer, keysOf(bearerKeys)},
	{"key", readKey, keysOf(keyKeys)},
	{"digest", readDigest, keysOf(digestKeys)},
	{"ntlm", readNTLM, keysOf(ntlmKeys)},
	{"kerberos", readKerberos, keysOf(kerberosKeys)},
	{"certificate", readCertificate, keysOf(materialKeys)},
	{"oauth1", readOAuth1, keysOf(oauth1Keys)},
	{"oauth2", readOAuth2, keysOf(oauth2Keys)},
	{"login call", readLoginCallLogin, keysOf(loginCallKeys)},
	{"session", readSession, keysOf(sessionKeys)},
	{"hmac", readHMAC, keysOf(hmacKeys)},
	{"jwt", readRequestJWT, keysOf(requestJWTKeys)},
	{"http signature", readHTTPSignature, keysOf(httpSignatureKeys)},
	{"username token", readUsernameToken, keysOf(usernameTokenKeys)},
	{"signature", readSignature, keysOf(signatureKeys)},
	{"saml", readSAML, keysOf(samlKeys)},
	{"ws-trust", readTrust, keysOf(trustKeys)},
}

func keysOf[T any](keys []mapping.Key[T]) func() *document.Node {
	return func() *document.Node { return mapping.KeySchema(keys, nil) }
}

// Kinds are the words of kind: at a login.
func Kinds() []string {
	var names []string
	for _, kind := range kinds {
		names = append(names, kind.name)
	}
	slices.Sort(names)
	return names
}

// Read reads a login by its kind.
func Read(r *mapping.Reader, n *yamlfile.Node) Kind {
	if n.Kind != yamlfile.Mapping {
		r.File.Report(n, "write kind: and its settings below it", "a login must be a mapping, and is %s", n.Kind)
		return nil
	}
	kindAt := n.Get("kind")
	if kindAt == nil {
		r.File.Report(n, "there are: "+strings.Join(Kinds(), ", "), "the login does not say its kind")
		return nil
	}
	word := r.Choice(kindAt, "kind of login", Kinds()...)
	for _, kind := range kinds {
		if kind.name == word {
			return kind.read(r, n)
		}
	}
	return nil
}

// needSettings reports settings that are missing; it takes names and templates in turn.
func needSettings(r *mapping.Reader, n *yamlfile.Node, settings ...any) {
	for i := 0; i < len(settings); i += 2 {
		if settings[i+1].(*value.Template) == nil {
			r.Needs(n, settings[i].(string))
			r.File.Report(n, "", "the login does not say %s:", settings[i])
		}
	}
}

func ignoreKind[T any]() mapping.Key[T] {
	return mapping.NewKey("kind", "the kind of login", func(*mapping.Reader, *T, *yamlfile.Node) {})
}

// actorKey names whom the Security block of a message is for.
func actorKey[T any](of func(*T) *string) mapping.Key[T] {
	return mapping.NewKey("actor", "whom the Security block is for (in SOAP 1.2: the role); the receiver unless said",
		func(r *mapping.Reader, into *T, n *yamlfile.Node) {
			if *of(into) = r.PlainText(n); n.Text == "" && n.Kind == yamlfile.Scalar {
				r.File.Report(n, "write a name for the actor, or take it out", "it is empty, and has no effect")
			}
		})
}

func readHeaderName(r *mapping.Reader, n *yamlfile.Node) string {
	return readName(r, n, request.CheckHeader)
}

func readCookieName(r *mapping.Reader, n *yamlfile.Node) string {
	return readName(r, n, request.CheckCookie)
}

func readName(r *mapping.Reader, n *yamlfile.Node, check func(name, text string) error) string {
	name := r.PlainText(n)
	if err := check(name, ""); err != nil {
		r.File.Report(n, "", "%v", err)
	}
	return name
}

// readOtherLogin reads the name of another login; that it exists is checked with the
// whole bench.
func readOtherLogin(r *mapping.Reader, n *yamlfile.Node) string {
	name := r.PlainText(n)
	if r.Logins != nil {
		*r.Logins = append(*r.Logins, mapping.Mention{Name: name, At: n})
	}
	return name
}

// readTemplates reads a text or a list of texts.
func readTemplates(r *mapping.Reader, n *yamlfile.Node) []*value.Template {
	var all []*value.Template
	for _, item := range r.List(n) {
		all = append(all, r.Template(item))
	}
	return all
}

// loginNeeds are the keys that a login of a kind needs, whatever else it says.
func loginNeeds(kind string, properties *document.Node) []string {
	needsOf := func(key, text string) []string {
		n := &yamlfile.Node{Kind: yamlfile.Mapping}
		for _, e := range [][2]string{{"kind", kind}, {key, text}} {
			n.Entries = append(n.Entries,
				yamlfile.Entry{Key: &yamlfile.Node{Text: e[0]}, Value: &yamlfile.Node{Text: e[1]}})
		}
		return mapping.NeedsOf(n, func(r *mapping.Reader) { Read(r, n) })
	}
	needs := needsOf("kind", kind)
	for _, m := range properties.Members() {
		values := []string{"x"}
		if enum := m.Value.Get("enum"); enum != nil {
			for _, word := range enum.Items() {
				values = append(values, word.Text)
			}
		}
		for _, text := range values {
			with := needsOf(m.Key, text)
			needs = slices.DeleteFunc(needs, func(name string) bool {
				return name != m.Key && !slices.Contains(with, name)
			})
		}
	}
	return needs
}

// Mappings are the keys of each kind of login.
func Mappings() map[string][]string {
	mappings := map[string][]string{}
	for _, kind := range kinds {
		for _, m := range kind.schema().Get("properties").Members() {
			mappings[kind.name] = append(mappings[kind.name], m.Key)
		}
	}
	return mappings
}

// Schema is the JSON Schema of a login.
func Schema() *document.Node {
	words := mapping.EnumSchema(Kinds()...)
	login := document.NewObject().Set("type", document.NewText("object")).
		Set("properties", document.NewObject().Set("kind",
			words.Set("description", document.NewText("how it gets in")))).
		Set("required", document.NewList(document.NewText("kind")))
	rules := document.NewList()
	for _, kind := range kinds {
		one := kind.schema()
		if one.Get("properties").Get("kind") == nil {
			one.Get("properties").Set("kind",
				document.NewObject().Set("description", document.NewText("the kind of login")))
		}
		if needs := loginNeeds(kind.name, one.Get("properties")); len(needs) > 0 {
			one.Set("required", mapping.TextList(needs))
		}
		is := document.NewObject().Set("properties",
			document.NewObject().Set("kind", document.NewObject().Set("const", document.NewText(kind.name))))
		rules.AppendItems(document.NewObject().Set("if", is).Set("then", one))
	}
	return login.Set("allOf", rules)
}
