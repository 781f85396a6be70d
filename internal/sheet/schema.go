package sheet

import (
	"slices"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/yamlfile"
)

// Schema is the JSON Schema of sheets with steps of some kinds, made of the tables by which they are read.
func Schema(kinds []Kind) string {
	steps := mapping.ListSchema(mapping.RefSchema("step"))
	below := map[string]*document.Node{"steps": steps, "first": steps, "finally": steps, "last": steps}
	sheet := mapping.KeySchema(sheetKeys, below)
	sheet.Set("required", document.NewList(document.NewText("steps")))
	return mapping.FileSchema("sheet", "A sheet of Test Bench", sheet,
		document.NewObject().Set("step", stepSchema(kinds)))
}

// CheckSchema is a check that a bench names.
func CheckSchema() *document.Node { return mapping.KeySchema(keysOfChecks(), nil) }

// stepSchema is a step: of one kind, with the keys that the kind has.
func stepSchema(kinds []Kind) *document.Node {
	step := mapping.RefSchema("step")
	below := map[string]*document.Node{"steps": mapping.ListSchema(step), "undo": step}
	isOwn := func(name string) bool {
		return slices.ContainsFunc(kinds, func(k Kind) bool { return slices.Contains(mapping.KeyNames(k.Own), name) })
	}
	shared := slices.DeleteFunc(slices.Clone(commonKeys), func(k mapping.Key[Step]) bool { return isOwn(k.Name) })
	// What a key holds that is one kind's own and another's in another form is said with the kind.
	out := mapping.KeySchema(shared, below)
	oneOf, allOf := document.NewList(), document.NewList()
	for _, k := range kinds {
		own := make([]mapping.Key[Step], len(k.Own))
		for i, key := range k.Own {
			own[i] = mapping.NewKey(key.Name, key.Holds, func(r *mapping.Reader, s *Step, n *yamlfile.Node) {
				s.Action, s.from.kinds = k.New(), kinds
				key.Read(r, s, n)
			})
		}
		for _, key := range commonKeys {
			if isOwn(key.Name) && slices.Contains(k.Common, key.Name) {
				own = append(own, key)
			}
		}
		if k.Word == "batch" {
			below["parts"] = mapping.ListSchema(step)
		} else {
			delete(below, "parts")
		}
		has := document.NewObject().Set("required", document.NewList(document.NewText(k.Word)))
		oneOf.AppendItems(has)
		forms := mapping.KeySchema(own, below).Get("properties")
		for _, m := range forms.Members() {
			out.Get("properties").Set(m.Key, document.NewObject().Set("description", m.Value.Get("description")))
		}
		allOf.AppendItems(document.NewObject().Set("if", has).Set("then", document.NewObject().
			Set("propertyNames", mapping.EnumSchema(append(k.Keys(), k.Word)...)).Set("properties", forms)))
	}
	return out.Set("oneOf", oneOf).Set("allOf", allOf)
}

// Mappings are the keys of the other mappings of sheets.
func Mappings() map[string][]string {
	return map[string][]string{
		"expect": mapping.KeyNames(expectKeys),
		"rows":   mapping.KeyNames(rowsKeys), "again": mapping.KeyNames(againKeys),
		"states": mapping.KeyNames(statesKeys),
		"limits": mapping.KeyNames(limitKeys()),
	}
}
