package sheet

import (
	"slices"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/yamlfile"
)

// Schema is the JSON Schema of sheets with steps of some kinds, made of the tables by which they are read.
func Schema(kinds []Kind) string {
	steps := bench.ListSchema(bench.RefSchema("step"))
	below := map[string]*document.Node{"steps": steps, "first": steps, "finally": steps, "last": steps}
	sheet := bench.KeySchema(sheetKeys, below)
	sheet.Set("required", document.NewList(document.NewText("steps")))
	return bench.FileSchema("sheet", "A sheet of Test Bench", sheet,
		document.NewObject().Set("step", stepSchema(kinds)))
}

// CheckSchema is a check that a bench names.
func CheckSchema() *document.Node { return bench.KeySchema(keysOfChecks(), nil) }

// stepSchema is a step: of one kind, with the keys that the kind has.
func stepSchema(kinds []Kind) *document.Node {
	step := bench.RefSchema("step")
	below := map[string]*document.Node{"steps": bench.ListSchema(step), "undo": step}
	isOwn := func(name string) bool {
		return slices.ContainsFunc(kinds, func(k Kind) bool { return slices.Contains(bench.KeyNames(k.Own), name) })
	}
	shared := slices.DeleteFunc(slices.Clone(commonKeys), func(k bench.Key[Step]) bool { return isOwn(k.Name) })
	// What a key holds that is one kind's own and another's in another form is said with the kind.
	out := bench.KeySchema(shared, below)
	oneOf, allOf := document.NewList(), document.NewList()
	for _, k := range kinds {
		own := make([]bench.Key[Step], len(k.Own))
		for i, key := range k.Own {
			own[i] = bench.NewKey(key.Name, key.Holds, func(r *bench.Reader, s *Step, n *yamlfile.Node) {
				s.Action, s.kinds = k.New(), kinds
				key.Read(r, s, n)
			})
		}
		for _, key := range commonKeys {
			if isOwn(key.Name) && slices.Contains(k.Common, key.Name) {
				own = append(own, key)
			}
		}
		if k.Word == "batch" {
			below["parts"] = bench.ListSchema(step)
		} else {
			delete(below, "parts")
		}
		has := document.NewObject().Set("required", document.NewList(document.NewText(k.Word)))
		oneOf.AppendItems(has)
		forms := bench.KeySchema(own, below).Get("properties")
		for _, m := range forms.Members() {
			out.Get("properties").Set(m.Key, document.NewObject().Set("description", m.Value.Get("description")))
		}
		allOf.AppendItems(document.NewObject().Set("if", has).Set("then", document.NewObject().
			Set("propertyNames", bench.EnumSchema(append(k.Keys(), k.Word)...)).Set("properties", forms)))
	}
	return out.Set("oneOf", oneOf).Set("allOf", allOf)
}

// Mappings are the keys of the other mappings of sheets.
func Mappings() map[string][]string {
	return map[string][]string{
		"expect": bench.KeyNames(expectKeys), "rows": bench.KeyNames(rowsKeys), "again": bench.KeyNames(againKeys),
		"states": bench.KeyNames(statesKeys),
		"limits": bench.KeyNames(limitKeys()),
	}
}
