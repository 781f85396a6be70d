package table

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"iter"
	"path/filepath"
	"strings"

	"testbench/internal/document"
	"testbench/internal/syntax"
)

// Unknown is the number of rows where only reading them all would tell it.
const Unknown = -1

// Source is rows that are gone through one after the other, as often as needed. Files
// of lines are read anew each time and not kept; of others the table is kept.
type Source struct {
	Columns []string // nil where only the rows tell
	Count   int      // how many rows there are, or Unknown
	all     iter.Seq2[*document.Node, error]
}

// All goes through the rows. An error ends it.
func (s *Source) All() iter.Seq2[*document.Node, error] { return s.all }

// Source makes a source of a table.
func (t *Table) Source() *Source {
	return &Source{Columns: t.Columns, Count: len(t.Rows), all: func(yield func(*document.Node, error) bool) {
		for _, row := range t.Rows {
			if !yield(row, nil) {
				return
			}
		}
	}}
}

// NewSource makes a source of rows that come from elsewhere.
func NewSource(columns []string, count int, all iter.Seq2[*document.Node, error]) *Source {
	return &Source{Columns: columns, Count: count, all: all}
}

// MostWhole bounds a file that is read as a whole.
const MostWhole = 256 << 20

// Open opens a file by the ending of its name, and goes through it once: what is wrong
// in it is said here.
func Open(name string, open func() (io.ReadCloser, error), o Options) (*Source, error) {
	ending := strings.ToLower(filepath.Ext(name))
	if o.Sheet != "" && ending != ".xlsx" {
		return nil, fmt.Errorf("sheet: is for spreadsheets (.xlsx)")
	}
	if o.Path != nil && ending != ".json" && ending != ".xml" {
		return nil, fmt.Errorf("path: is for JSON and XML")
	}
	switch ending {
	case ".csv":
		return lines(open, func(from io.Reader) (reading, error) { return newCSV(from, o.Kinds) })
	case ".ndjson", ".jsonl":
		return lines(open, func(from io.Reader) (reading, error) { return newJSONLines(from, o.Kinds), nil })
	}
	file, err := open()
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	data, err := io.ReadAll(io.LimitReader(file, MostWhole+1))
	if err != nil {
		return nil, err
	}
	if len(data) > MostWhole {
		return nil, fmt.Errorf("it is larger than %d MiB; write CSV or a line of JSON a row, which are not kept in "+
			"memory as a whole", MostWhole>>20)
	}
	if line := syntax.Conflict(data); line > 0 {
		return nil, fmt.Errorf("line %d: %s; %s", line, syntax.ConflictMessage, syntax.ConflictTry)
	}
	t, err := whole(ending, data, o)
	if err != nil {
		return nil, err
	}
	return t.Source(), nil
}

// reading is a file of lines under way. named are its columns where its beginning tells
// them, else nil; next gives a row, and io.EOF where there are no more.
type reading interface {
	named() []string
	next() (*document.Node, error)
}

// lines makes a source of a file that is read anew each time. It is gone through once,
// for its columns and to find what is wrong in it.
func lines(open func() (io.ReadCloser, error), begin func(io.Reader) (reading, error)) (*Source, error) {
	t := &Table{}
	count := 0
	pass := func(columns []string, yield func(*document.Node, error) bool) {
		file, err := open()
		if err != nil {
			yield(nil, err)
			return
		}
		defer func() { _ = file.Close() }()
		rows, err := begin(file)
		if err != nil {
			yield(nil, err)
			return
		}
		if columns == nil {
			t.Columns = rows.named()
		}
		for {
			row, err := rows.next()
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				yield(nil, err)
				return
			}
			if complete(row, columns); !yield(row, nil) {
				return
			}
		}
	}
	var wrong error
	pass(nil, func(row *document.Node, err error) bool {
		if wrong = err; err == nil {
			count++
			t.addColumns(row)
		}
		if len(t.Columns) > mostColumns {
			wrong = fmt.Errorf("it has more than %d columns", mostColumns)
		}
		return wrong == nil
	})
	if wrong != nil {
		return nil, wrong
	}
	columns := t.Columns
	if columns == nil {
		columns = []string{}
	}
	return &Source{Columns: columns, Count: count, all: func(yield func(*document.Node, error) bool) {
		pass(columns, yield)
	}}, nil
}

// mostColumns bounds the names that lines of JSON may bring.
const mostColumns = 10_000

// longestLine bounds a line of JSON.
const longestLine = 64 << 20

// jsonLines reads JSON values, one a line, or each after a record separator (RFC 7464).
type jsonLines struct {
	scanner *bufio.Scanner
	kinds   Kinds
	line    int
}

func newJSONLines(from io.Reader, kinds Kinds) *jsonLines {
	r := &jsonLines{scanner: bufio.NewScanner(from), kinds: kinds}
	r.scanner.Buffer(make([]byte, 0, 64<<10), longestLine)
	return r
}

func (r *jsonLines) named() []string { return nil }

func (r *jsonLines) next() (*document.Node, error) {
	for r.scanner.Scan() {
		r.line++
		text := bytes.Trim(r.scanner.Bytes(), " \t\r\x1e")
		if len(text) == 0 {
			continue
		}
		v, err := document.ReadJSON(bytes.Clone(text))
		var syntax *document.Error
		if errors.As(err, &syntax) {
			syntax.Format, syntax.Line = string(document.Lines), r.line
		}
		if err != nil {
			return nil, err
		}
		row, err := r.kinds.row(v)
		if err != nil {
			return nil, fmt.Errorf("line %d, %w", r.line, err)
		}
		return row, nil
	}
	if err := r.scanner.Err(); err != nil {
		if errors.Is(err, bufio.ErrTooLong) {
			err = fmt.Errorf("line %d is longer than %d MiB", r.line+1, longestLine>>20)
		}
		return nil, err
	}
	return nil, io.EOF
}
