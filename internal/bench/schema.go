package bench

import (
	"slices"

	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// KeySchema is a mapping of a file as its reader knows it, in JSON Schema: every key with what
// it holds. What below names is as said there; the rest is what the readers of the keys take.
func KeySchema[T any](keys []Key[T], below map[string]*document.Node) *document.Node {
	properties := document.NewObject()
	for _, k := range keys {
		form := below[k.Name]
		if form == nil {
			form = formOf(k)
		}
		one := document.NewObject().Set("description", document.NewText(k.Holds))
		one.AppendMembers(form.Members()...)
		properties.Set(k.Name, one)
	}
	return document.NewObject().Set("type", document.NewText("object")).Set("properties",
		properties).Set("additionalProperties", document.NewBoolean(false))
}

// MapSchema is a mapping whose keys are names.
func MapSchema(of *document.Node) *document.Node {
	return document.NewObject().Set("type", document.NewText("object")).Set("additionalProperties", of)
}

// ListSchema is a list whose items are alike.
func ListSchema(of *document.Node) *document.Node {
	return document.NewObject().Set("type", document.NewText("array")).Set("items", of)
}

// RefSchema refers to a definition of the same schema.
func RefSchema(name string) *document.Node {
	return document.NewObject().Set("$ref", document.NewText("#/$defs/"+name))
}

// FileSchema writes the schema of a file; defs may be nil.
func FileSchema(id, title string, root, defs *document.Node) string {
	out := document.NewObject().Set("$schema", document.NewText("https://json-schema.org/draft/2020-12/schema")).
		Set("$id", document.NewText("urn:testbench:schema:"+id+":1")).Set("title", document.NewText(title))
	out.AppendMembers(root.Members()...)
	if defs != nil {
		out.Set("$defs", defs)
	}
	return document.WriteJSON(out, document.Style{Indent: "  "}) + "\n"
}

// Schema is the JSON Schema of bench.yaml, made of the tables by which it is read. The schema of a
// named check is that of sheets.
func Schema(checks *document.Node) string {
	kind := EnumSchema(LoginKinds()...)
	login := document.NewObject().Set("type", document.NewText("object")).
		Set("properties", document.NewObject().Set("kind",
			kind.Set("description", document.NewText("how it gets in")))).
		Set("required", document.NewList(document.NewText("kind")))
	rules := document.NewList()
	for _, of := range loginSchemas() {
		name, one := of.kind, of.keys
		if one.Get("properties").Get("kind") == nil {
			one.Get("properties").Set("kind",
				document.NewObject().Set("description", document.NewText("the kind of login")))
		}
		if needs := loginNeeds(name, one.Get("properties")); len(needs) > 0 {
			one.Set("required", texts(needs))
		}
		is := document.NewObject().Set("properties",
			document.NewObject().Set("kind", document.NewObject().Set("const", document.NewText(name))))
		rules.AppendItems(document.NewObject().Set("if", is).Set("then", one))
	}
	login.Set("allOf", rules)
	return FileSchema("bench", "bench.yaml of Test Bench", KeySchema(benchKeys, map[string]*document.Node{
		"logins": MapSchema(document.NewObject().Set("anyOf",
			document.NewList(login, document.NewObject().Set("type", document.NewText("array"))))),
		"checks": MapSchema(checks), "fills": MapSchema(MapSchema(anySchema())),
	}), nil)
}

// loginNeeds are the keys that a login of a kind needs, whatever else it says.
func loginNeeds(kind string, properties *document.Node) []string {
	needsOf := func(key, text string) []string {
		n := &yamlfile.Node{Kind: yamlfile.Mapping}
		for _, e := range [][2]string{{"kind", kind}, {key, text}} {
			n.Entries = append(n.Entries, yamlfile.Entry{Key: &yamlfile.Node{Text: e[0]}, Value: &yamlfile.Node{Text: e[1]}})
		}
		return ask(func(r *Reader) { r.login(n) }).needs[n]
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

// Mappings are the keys of each mapping that is in bench.yaml, by what it is called.
func Mappings() map[string][]string {
	return map[string][]string{
		"site": KeyNames(siteKeys), "tls": KeyNames(tlsKeys), "proxy": KeyNames(proxyKeys),
		"service": KeyNames(serviceKeys), "always": KeyNames(alwaysKeys), "operation": KeyNames(operationKeys),
		"parameter": KeyNames(parameterKeys), "database": KeyNames(databaseKeys), "oauth2": KeyNames(oauth2Keys),
	}
}

// loginSchema is a kind of login with its keys.
type loginSchema struct {
	kind string
	keys *document.Node
}

func loginSchemas() []loginSchema {
	return []loginSchema{
		{"basic", KeySchema(basicKeys, nil)},
		{"bearer", KeySchema(bearerKeys, nil)},
		{"key", KeySchema(keyKeys, nil)},
		{"digest", KeySchema(digestKeys, nil)},
		{"ntlm", KeySchema(ntlmKeys, nil)},
		{"kerberos", KeySchema(kerberosKeys, nil)},
		{"certificate", KeySchema(materialKeys, nil)},
		{"oauth2", KeySchema(oauth2Keys, nil)},
		{"login call", KeySchema(loginCallKeys, nil)},
		{"session", KeySchema(sessionKeys, nil)},
		{"hmac", KeySchema(hmacKeys, nil)},
		{"http signature", KeySchema(httpSignatureKeys, nil)},
		{"username token", KeySchema(usernameTokenKeys, nil)},
		{"signature", KeySchema(signatureKeys, nil)},
		{"saml", KeySchema(samlKeys, nil)},
	}
}

// LoginMappings are the keys of each kind of login.
func LoginMappings() map[string][]string {
	mappings := map[string][]string{}
	for _, of := range loginSchemas() {
		for _, m := range of.keys.Get("properties").Members() {
			mappings[of.kind] = append(mappings[of.kind], m.Key)
		}
	}
	return mappings
}

// KeyNames are the names of the keys of a table.
func KeyNames[T any](keys []Key[T]) []string {
	return Names(keys, func(k Key[T]) string { return k.Name })
}
