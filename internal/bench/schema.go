package bench

import "testbench/internal/document"

// KeySchema is a mapping of a file as its reader knows it, in JSON Schema: every key with what
// it holds. What is below a key is said where it is a mapping too.
func KeySchema[T any](keys []Key[T], below map[string]*document.Node) *document.Node {
	properties := document.NewObject()
	for _, k := range keys {
		one := document.NewObject()
		if inner := below[k.Name]; inner != nil {
			one.AppendMembers(inner.Members()...)
		}
		properties.Set(k.Name, one.Set("description", document.NewText(k.Holds)))
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

// OrScalarSchema is a mapping, or a single value in its place.
func OrScalarSchema(of *document.Node) *document.Node {
	return document.NewObject().Set("anyOf",
		document.NewList(document.NewObject().Set("type",
			document.NewList(document.NewText("string"), document.NewText("number"), document.NewText("boolean"))), of))
}

// RefSchema refers to a definition of the same schema.
func RefSchema(name string) *document.Node {
	return document.NewObject().Set("$ref", document.NewText("#/$defs/"+name))
}

// EnumSchema is one of the words.
func EnumSchema(words ...string) *document.Node {
	list := document.NewList()
	for _, w := range words {
		list.AppendItems(document.NewText(w))
	}
	return document.NewObject().Set("enum", list)
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

// BenchSchema is the JSON Schema of bench.yaml, made of the tables by which it is read.
func Schema() string {
	parameters := MapSchema(OrScalarSchema(KeySchema(parameterKeys, nil)))
	operation := KeySchema(operationKeys,
		map[string]*document.Node{
			"path": parameters, "query": parameters, "headers": parameters, "form": parameters,
			"body": parameters,
		})
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
		is := document.NewObject().Set("properties",
			document.NewObject().Set("kind", document.NewObject().Set("const", document.NewText(name))))
		rules.AppendItems(document.NewObject().Set("if", is).Set("then", one))
	}
	login.Set("allOf", rules)
	return FileSchema("bench", "bench.yaml of Test Bench", KeySchema(benchKeys, map[string]*document.Node{
		"sites": MapSchema(KeySchema(siteKeys,
			map[string]*document.Node{"tls": KeySchema(tlsKeys, nil), "proxy": KeySchema(proxyKeys, nil)})),
		"services": MapSchema(OrScalarSchema(KeySchema(serviceKeys,
			map[string]*document.Node{"operations": MapSchema(operation), "always": KeySchema(alwaysKeys, nil)}))),
		"logins": MapSchema(document.NewObject().Set("anyOf",
			document.NewList(login, document.NewObject().Set("type", document.NewText("array"))))),
		"databases": MapSchema(KeySchema(databaseKeys, nil)),
	}), nil)
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
		{"login call", KeySchema(loginCallKeys, map[string]*document.Node{"send": KeySchema(sendKeys, nil)})},
		{"session", KeySchema(sessionKeys, map[string]*document.Node{"repeat": KeySchema(echoKeys, nil)})},
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
