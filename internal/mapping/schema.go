package mapping

import (
	"testbench/internal/document"
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
