package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/soap"
	"testbench/internal/workbench"
	"testbench/internal/xsd"
)

func isSOAPVersion(text string) error {
	if text != "" && text != string(soap.V11) && text != string(soap.V12) {
		return usagef("1.1 and 1.2 are there", "-soap %s is not a version of SOAP", text)
	}
	return nil
}

// onlyWSDL refuses options that other contracts know nothing of.
func onlyWSDL(c *workbench.Contract, source, version, port string) error {
	if !c.HasPorts() && version+port != "" {
		return usagef("leave them out", "-soap and -port go with a WSDL, and %s is none", source)
	}
	return nil
}

// onlyType refuses the name of a part: a JSON Schema is one type.
func onlyType(source, name string) error {
	if name == "" {
		return nil
	}
	return usagef("leave "+name+" out", "%s is a JSON Schema, which is one type and has no %s", source, name)
}

// splitTarget reads SERVICE OPERATION, and SERVICE/OPERATION as call has it.
func splitTarget(args []string) (source, operation string) {
	if len(args) == 2 {
		return args[0], args[1]
	}
	if service, operation, ok := strings.Cut(args[0], "/"); ok && !strings.Contains(args[0], "://") {
		info, err := os.Stat(service)
		isFolder := err == nil && info.IsDir() // what is named is a file in it, then
		if _, err := os.Stat(args[0]); err != nil && !isFolder {
			return service, operation
		}
	}
	return args[0], ""
}

// openContract reads a contract of any kind.
func openContract(ctx context.Context, s *session, source string) (*workbench.Contract, error) {
	bench, err := s.openOrNone()
	if err != nil {
		return nil, err
	}
	c, err := bench.Contract(ctx, source, s.stdin, s.options())
	if err != nil {
		return nil, err
	}
	return c, nil
}

// fromHere writes file names below the working folder without it.
func fromHere(text string) string {
	if dir, err := os.Getwd(); err == nil {
		text = strings.TrimPrefix(filepath.ToSlash(text), filepath.ToSlash(dir)+"/")
	}
	return text
}

func firstOf(texts ...string) string {
	for _, text := range texts {
		if text != "" {
			return text
		}
	}
	return ""
}

// printColumns prints rows whose cells are under one another; the last may wrap.
func printColumns(t *printer, rows [][]string, indent int) {
	widths := map[int]int{}
	for _, row := range rows {
		for i, cell := range row[:len(row)-1] {
			widths[i] = min(max(widths[i], len([]rune(t.visible(cell)))), 40)
		}
	}
	for _, row := range rows {
		line := strings.Repeat(" ", indent)
		for i, cell := range row {
			if i == len(row)-1 {
				lead := len([]rune(line))
				text := t.wrap(cell, max(t.width, lead+30), lead)
				line += strings.TrimLeft(text, " ")
				continue
			}
			line += t.fit(t.visible(cell), widths[i]) + "  "
		}
		t.printf("%s\n", strings.TrimRight(line, " "))
	}
}

// noElement says which elements a schema has.
func noElement(alone *xsd.Schema, name string) error {
	var names []string
	for n := range alone.Elements {
		names = append(names, n.Local)
	}
	slices.Sort(names)
	return &bench.NotFoundError{What: "element", Name: name, Known: names}
}
