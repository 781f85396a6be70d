package sheet

import (
	"testbench/internal/bench"
	"testbench/internal/document"
)

// Schema is the JSON Schema of sheets with steps of some kinds, made of the tables by which they are read.
func Schema(kinds []Kind) string {
	steps := bench.ListSchema(bench.RefSchema("step"))
	step := bench.KeySchema(StepKeys(kinds), map[string]*document.Node{
		"steps": steps, "undo": bench.RefSchema("step"), "states": bench.KeySchema(statesKeys, nil),
		"again":  bench.OrScalarSchema(bench.KeySchema(againKeys, nil)),
		"expect": bench.KeySchema(expectKeys, nil), "contract": bench.EnumSchema("both", "request", "answer", "off"),
		"keep":   bench.MapSchema(bench.OrScalarSchema(bench.KeySchema(keepKeys, nil))),
		"fields": bench.MapSchema(document.NewObject()),
	})
	return bench.FileSchema("sheet", "A sheet of Test Bench", bench.KeySchema(sheetKeys, map[string]*document.Node{
		"steps": steps, "first": steps, "finally": steps, "last": steps, "rows": document.NewObject(),
	}), document.NewObject().Set("step", step))
}

// Mappings are the keys of the other mappings of sheets.
func Mappings() map[string][]string {
	return map[string][]string{
		"expect": bench.KeyNames(expectKeys), "rows": bench.KeyNames(rowsKeys), "again": bench.KeyNames(againKeys),
		"states": bench.KeyNames(statesKeys),
		"limits": bench.KeyNames(limitKeys()),
	}
}
