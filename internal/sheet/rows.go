package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
)

// Table is rows with named columns.
type Table struct {
	Columns []string
	Rows    []*document.Node // objects of untyped texts, or of the kinds asked for
}

// ReadCSV reads a table from CSV (RFC 4180) with a header row: UTF-8, with or
// without byte-order mark, separated by commas, or by semicolons where the
// header has more of those. Rows of uneven length are errors with their line.
func ReadCSV(data []byte, kinds map[string]string) (*Table, error) {
	data = bytes.TrimPrefix(data, []byte("\ufeff"))
	if !utf8.Valid(data) {
		return nil, errors.New("the file is not UTF-8; save it as UTF-8")
	}
	reader := csv.NewReader(bytes.NewReader(data))
	reader.Comma = separator(data)
	header, err := reader.Read()
	if errors.Is(err, io.EOF) {
		return nil, errors.New("the file is empty; its first line must name the columns")
	}
	if err != nil {
		return nil, csvError(err, nil)
	}
	t := &Table{}
	seen := map[string]bool{}
	for i, name := range header {
		name = strings.TrimSpace(name)
		switch {
		case name == "":
			return nil, fmt.Errorf("line 1: column %d has no name", i+1)
		case seen[name]:
			return nil, fmt.Errorf("line 1: two columns are named %q", name)
		}
		seen[name] = true
		t.Columns = append(t.Columns, name)
	}
	for {
		cells, err := reader.Read()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if err != nil {
			return nil, csvError(err, cells, t.Columns...)
		}
		row := document.NewObject()
		for i, cell := range cells {
			node, err := cellOf(cell, kinds[t.Columns[i]])
			if err != nil {
				line, _ := reader.FieldPos(i)
				return nil, fmt.Errorf("line %d, column %s: %w", line, t.Columns[i], err)
			}
			row.Members = append(row.Members, document.Member{Key: t.Columns[i], Value: node})
		}
		t.Rows = append(t.Rows, row)
	}
}

func cellOf(text, kind string) (*document.Node, error) {
	switch {
	case kind == "text":
		return document.NewText(text), nil
	case kind == "number" && document.IsNumber(text):
		return document.NewNumber(text), nil
	case kind == "number":
		return nil, fmt.Errorf("%q is no number", text)
	case kind == "boolean" && (text == "true" || text == "false"):
		return document.NewBoolean(text == "true"), nil
	case kind == "boolean":
		return nil, fmt.Errorf("%q is neither true nor false", text)
	}
	return document.NewUntyped(text), nil
}

// separator counts commas and semicolons of the header outside of quotes.
func separator(data []byte) rune {
	header, _, _ := bytes.Cut(data, []byte("\n"))
	commas, semicolons, quoted := 0, 0, false
	for _, c := range header {
		switch {
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == ',':
			commas++
		case c == ';':
			semicolons++
		}
	}
	if semicolons > commas {
		return ';'
	}
	return ','
}

func csvError(err error, cells []string, columns ...string) error {
	var parse *csv.ParseError
	if !errors.As(err, &parse) {
		return err
	}
	if errors.Is(parse.Err, csv.ErrFieldCount) {
		return fmt.Errorf("line %d has %d cells, and the header names %d columns; is a cell with the separator in it not in quotes?", parse.Line, len(cells), len(columns))
	}
	reason := map[error]string{csv.ErrBareQuote: `a " stands in a cell that is not in quotes; write "" inside quotes`, csv.ErrQuote: "the quotes of a cell are not closed, or something stands behind them"}[parse.Err]
	if reason == "" {
		reason = parse.Err.Error()
	}
	return fmt.Errorf("line %d, column %d: %s", parse.Line, parse.Column, reason)
}
