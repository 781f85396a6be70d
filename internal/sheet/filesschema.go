package sheet

import (
	"testbench/internal/document"
)

// keyTable is a mapping of a file as its reader knows it, in JSON Schema: every key with what
// it holds. What stands below a key is said where it is a mapping too.
func keyTable[T any](keys []key[T], below map[string]*document.Node) *document.Node {
	properties := document.NewObject()
	for _, k := range keys {
		one := document.NewObject()
		if inner := below[k.name]; inner != nil {
			one.AppendMembers(inner.Members()...)
		}
		properties.Set(k.name, one.Set("description", document.NewText(k.holds)))
	}
	return document.NewObject().Set("type", document.NewText("object")).Set("properties", properties).Set("additionalProperties", document.NewBoolean(false))
}

// byName is a mapping whose keys are names.
func byName(of *document.Node) *document.Node {
	return document.NewObject().Set("type", document.NewText("object")).Set("additionalProperties", of)
}

func listOf(of *document.Node) *document.Node {
	return document.NewObject().Set("type", document.NewText("array")).Set("items", of)
}

// orText is a mapping, or a single value in its place.
func orText(of *document.Node) *document.Node {
	return document.NewObject().Set("anyOf", document.NewList(document.NewObject().Set("type", document.NewList(document.NewText("string"), document.NewText("number"), document.NewText("boolean"))), of))
}

func definition(name string) *document.Node {
	return document.NewObject().Set("$ref", document.NewText("#/$defs/"+name))
}

func enumOf(words ...string) *document.Node {
	list := document.NewList()
	for _, w := range words {
		list.AppendItems(document.NewText(w))
	}
	return document.NewObject().Set("enum", list)
}

func fileSchema(id, title string, root, defs *document.Node) string {
	out := document.NewObject().Set("$schema", document.NewText("https://json-schema.org/draft/2020-12/schema")).
		Set("$id", document.NewText("urn:testbench:schema:"+id+":1")).Set("title", document.NewText(title))
	out.AppendMembers(root.Members()...)
	if defs != nil {
		out.Set("$defs", defs)
	}
	return document.WriteJSON(out, document.Style{Indent: "  "}) + "\n"
}

// BenchSchema is the JSON Schema of bench.yaml, made of the tables by which it is read.
func BenchSchema() string {
	parameters := byName(orText(keyTable(parameterKeys, nil)))
	operation := keyTable(operationKeys, map[string]*document.Node{"path": parameters, "query": parameters, "headers": parameters, "form": parameters, "body": parameters})
	kind := enumOf(loginKindNames()...)
	login := document.NewObject().Set("type", document.NewText("object")).
		Set("properties", document.NewObject().Set("kind", kind.Set("description", document.NewText("how it gets in")))).
		Set("required", document.NewList(document.NewText("kind")))
	rules := document.NewList()
	for _, of := range []struct {
		kind string
		keys *document.Node
	}{{"basic", keyTable(basicKeys, nil)}, {"bearer", keyTable(bearerKeys, nil)}, {"key", keyTable(keyKeys, nil)}, {"digest", keyTable(digestKeys, nil)}} {
		name, one := of.kind, of.keys
		one.Get("properties").Set("kind", document.NewObject())
		is := document.NewObject().Set("properties", document.NewObject().Set("kind", document.NewObject().Set("const", document.NewText(name))))
		rules.AppendItems(document.NewObject().Set("if", is).Set("then", one))
	}
	login.Set("allOf", rules)
	return fileSchema("bench", "bench.yaml of Test Bench", keyTable(benchKeys, map[string]*document.Node{
		"sites":     byName(keyTable(siteKeys, map[string]*document.Node{"tls": keyTable(tlsKeys, nil), "proxy": keyTable(proxyKeys, nil)})),
		"services":  byName(orText(keyTable(serviceKeys, map[string]*document.Node{"operations": byName(operation), "always": keyTable(alwaysKeys, nil)}))),
		"logins":    byName(document.NewObject().Set("anyOf", document.NewList(login, document.NewObject().Set("type", document.NewText("array"))))),
		"databases": byName(keyTable(databaseKeys, nil)),
	}), nil)
}

// SheetSchema is the JSON Schema of sheets, made of the tables by which they are read.
func SheetSchema() string {
	steps := listOf(definition("step"))
	step := keyTable(stepKeys, map[string]*document.Node{
		"steps": steps, "undo": definition("step"), "states": keyTable(statesKeys, nil), "again": orText(keyTable(againKeys, nil)),
		"expect": keyTable(expectKeys, nil), "contract": enumOf("both", "request", "answer", "off"), "keep": byName(orText(keyTable(keepKeys, nil))), "fields": byName(document.NewObject()),
	})
	return fileSchema("sheet", "A sheet of Test Bench", keyTable(sheetKeys, map[string]*document.Node{
		"steps": steps, "first": steps, "finally": steps, "last": steps, "rows": document.NewObject(),
	}), document.NewObject().Set("step", step))
}
