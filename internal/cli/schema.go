package cli

import (
	"context"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/report"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/suggest"
)

// schemas are the JSON Schemas that can be had, by name.
var schemas = []struct {
	name, about string
	text        func() string
}{
	{"bench", "of bench.yaml", func() string { return bench.Schema(sheet.CheckSchema()) }},
	{"sheet", "of sheets", func() string { return sheet.Schema(step.Kinds) }},
	{"result", "of reports as .json and .ndjson, and of run -json", func() string { return report.ResultSchema }},
}

func schemaCommand() *command {
	return &command{
		name: "schema", group: "looking back", purpose: "prints a JSON Schema, for editors and for programs",
		usage: "NAME",
		examples: []string{
			"testbench schema sheet > sheet.schema.json",
			"testbench schema result > result.schema.json",
		},
		prepare: noOptions(runSchema),
	}
}

func runSchema(_ context.Context, s *session, args []string) (int, error) {
	var names []string
	for _, one := range schemas {
		if slices.Equal(args, []string{one.name}) {
			s.tell.printf("%s\n", strings.TrimRight(one.text(), "\n"))
			return ExitPassed, nil
		}
		names = append(names, one.name+" ("+one.about+")")
	}
	if len(args) != 1 {
		return 0, usagef("testbench schema result", "the schema of what? There are: %s",
			strings.Join(names, ", "))
	}
	return 0, usagef(firstOf(suggest.DidYouMean(args[0], schemaNames()),
		"there are: "+strings.Join(names, ", ")), "there is no schema %q", args[0])
}

func schemaNames() []string {
	var names []string
	for _, one := range schemas {
		names = append(names, one.name)
	}
	return names
}
