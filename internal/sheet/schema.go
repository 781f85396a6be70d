package sheet

import (
	"testbench/internal/bench"
	"testbench/internal/document"
)

// Schema is the JSON Schema of sheets, made of the tables by which they are read.
func Schema() string {
	steps := bench.ListSchema(bench.RefSchema("step"))
	step := bench.KeySchema(stepKeys, map[string]*document.Node{
		"steps": steps, "undo": bench.RefSchema("step"), "states": bench.KeySchema(statesKeys, nil), "again": bench.OrScalarSchema(bench.KeySchema(againKeys, nil)),
		"expect": bench.KeySchema(expectKeys, nil), "contract": bench.EnumSchema("both", "request", "answer", "off"), "keep": bench.MapSchema(bench.OrScalarSchema(bench.KeySchema(keepKeys, nil))), "fields": bench.MapSchema(document.NewObject()),
	})
	return bench.FileSchema("sheet", "A sheet of Test Bench", bench.KeySchema(sheetKeys, map[string]*document.Node{
		"steps": steps, "first": steps, "finally": steps, "last": steps, "rows": document.NewObject(),
	}), document.NewObject().Set("step", step))
}

// StepKeys are the keys of steps, in the order of their table.
func StepKeys() []string { return bench.KeyNames(stepKeys) }

// StepKindKeys are the keys of each kind of step beside its own, by the word of the kind.
func StepKindKeys() map[string][]string {
	kinds := map[string][]string{}
	for _, k := range stepKinds {
		kinds[k.word] = k.keys
	}
	return kinds
}

// WhatOf is what a kind of step is called in messages.
func WhatOf(word string) string {
	for _, k := range stepKinds {
		if k.word == word {
			return k.what
		}
	}
	return ""
}

// Mappings are the keys of the other mappings of sheets.
func Mappings() map[string][]string {
	return map[string][]string{
		"expect": bench.KeyNames(expectKeys), "rows": bench.KeyNames(rowsKeys), "again": bench.KeyNames(againKeys), "states": bench.KeyNames(statesKeys),
		"listen": bench.KeyNames(listenKeys), "limits": bench.KeyNames(limitKeys()),
	}
}
