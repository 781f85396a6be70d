package table

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/syntax"
)

// csvRows reads rows of CSV (RFC 4180) with a header row: UTF-8, with or without
// byte-order mark, separated by commas, or by semicolons where the header has more of
// those. Rows of uneven length are errors with their line.
type csvRows struct {
	reader  *csv.Reader
	columns []string
	kinds   Kinds
}

// longestHeader is how much is looked at to tell the separator.
const longestHeader = 64 << 10

var errNotUTF8 = errors.New("the file is not UTF-8; save it as UTF-8")

func newCSV(from io.Reader, kinds Kinds) (*csvRows, error) {
	buffered := bufio.NewReaderSize(from, longestHeader)
	if mark, _ := buffered.Peek(3); bytes.Equal(mark, []byte("\ufeff")) {
		_, _ = buffered.Discard(3)
	}
	head, _ := buffered.Peek(longestHeader)
	r := &csvRows{reader: csv.NewReader(buffered), kinds: kinds}
	r.reader.Comma = separator(head)
	header, err := r.reader.Read()
	if len(header) > 0 && isConflict(header[0]) {
		return nil, r.conflict()
	}
	if errors.Is(err, io.EOF) {
		return nil, errors.New("the file is empty; its first line must name the columns")
	}
	if err != nil {
		return nil, csvError(err, nil)
	}
	seen := map[string]bool{}
	for i, name := range header {
		name = strings.TrimSpace(name)
		switch {
		case !utf8.ValidString(name):
			return nil, errNotUTF8
		case name == "":
			return nil, fmt.Errorf("line 1: column %d has no name", i+1)
		case seen[name]:
			return nil, fmt.Errorf("line 1: two columns are named %q", name)
		}
		seen[name] = true
		r.columns = append(r.columns, name)
	}
	r.reader.ReuseRecord = true
	return r, nil
}

func (r *csvRows) named() []string { return r.columns }

func (r *csvRows) next() (*document.Node, error) {
	cells, err := r.reader.Read()
	if errors.Is(err, io.EOF) {
		return nil, err
	}
	if len(cells) > 0 && isConflict(cells[0]) {
		return nil, r.conflict()
	}
	if err != nil {
		return nil, csvError(err, cells, r.columns...)
	}
	row := document.NewObject()
	row.SetMembers(make([]document.Member, 0, len(cells)))
	for i, cell := range cells {
		if !utf8.ValidString(cell) {
			return nil, errNotUTF8
		}
		node, err := cellOf(cell, r.kinds[r.columns[i]])
		if err != nil {
			line, _ := r.reader.FieldPos(i)
			return nil, fmt.Errorf("line %d, column %s: %w", line, r.columns[i], err)
		}
		row.AppendMembers(document.Member{Key: r.columns[i], Value: node})
	}
	return row, nil
}

// isConflict says whether a line begins as a version control system begins a conflict that it leaves in a file.
func isConflict(cell string) bool { return strings.HasPrefix(cell, "<<<<<<< ") }

func (r *csvRows) conflict() error {
	line, _ := r.reader.FieldPos(0)
	return fmt.Errorf("line %d: %s; %s", line, syntax.ConflictMessage, syntax.ConflictTry)
}

func cellOf(text, kind string) (*document.Node, error) {
	switch {
	case kind == "text":
		return document.NewText(text), nil
	case kind == "number" && document.IsNumber(text):
		return document.NewNumber(text), nil
	case kind == "number":
		return nil, fmt.Errorf("%q is not a number", text)
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
		return fmt.Errorf("line %d has %d cells, and the header names %d columns; is a cell with the separator in it "+
			"not in quotes?", parse.Line, len(cells), len(columns))
	}
	reason := map[error]string{
		csv.ErrBareQuote: `a " is in a cell that is not in quotes; write "" inside quotes`,
		csv.ErrQuote:     "the quotes of a cell are not closed, or there is something after them",
	}[parse.Err]
	if reason == "" {
		reason = parse.Err.Error()
	}
	return fmt.Errorf("line %d, column %d: %s", parse.Line, parse.Column, reason)
}
