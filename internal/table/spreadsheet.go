package table

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/xlsx"
)

// readSpreadsheet reads a sheet of an .xlsx. Numbers stay numbers with their own digits, days and times become ISO
// 8601, all else is text.
func readSpreadsheet(data []byte, o Options) (*Table, error) {
	book, err := xlsx.Open(data)
	if err != nil {
		return nil, fmt.Errorf("it cannot be read as a spreadsheet: %w", err)
	}
	sheets := book.Sheets()
	name := o.Sheet
	switch {
	case len(sheets) == 0:
		return nil, errors.New("the spreadsheet has no sheets")
	case name == "":
		name = sheets[0]
	case !slices.Contains(sheets, name):
		return nil, fmt.Errorf("the spreadsheet has no sheet %q; %s", name, suggest.Instead(name, sheets))
	}
	header := max(o.Header, 1)
	t := &Table{}
	for row, err := range book.Rows(name) {
		switch {
		case err != nil:
			return nil, err
		case row.Number == header:
			if err := t.named(row); err != nil {
				return nil, err
			}
		case row.Number > header && t.Columns == nil:
			return nil, fmt.Errorf("the sheet %s has no row %d to name the columns", name, header)
		case row.Number > header && slices.ContainsFunc(row.Cells, isFilled): // empty rows are between and after them
			made, err := t.row(row, o.Kinds)
			if err != nil {
				return nil, err
			}
			if t.Rows = append(t.Rows, made); len(t.Rows)*len(t.Columns) > document.MaxNodes { // empty cells among them
				return nil, fmt.Errorf("the sheet %s has more than %d cells; save it as CSV, which is read row by row",
					name, document.MaxNodes)
			}
		}
	}
	if t.Columns == nil {
		return nil, fmt.Errorf("the sheet %s has no row %d to name the columns", name, header)
	}
	return t, nil
}

func isFilled(cell xlsx.Cell) bool { return strings.TrimSpace(cell.Text) != "" }

// named takes the names of columns from the header.
func (t *Table) named(row xlsx.Row) error {
	for _, cell := range row.Cells {
		column := strings.TrimSpace(cell.Text)
		switch {
		case column == "":
		case cell.Column != len(t.Columns)+1:
			return fmt.Errorf("row %d: column %d has no name", row.Number, len(t.Columns)+1)
		case slices.Contains(t.Columns, column):
			return fmt.Errorf("row %d: two columns are named %q", row.Number, column)
		default:
			t.Columns = append(t.Columns, column)
		}
	}
	return nil
}

// row makes an object of a row; cells of columns without a name are left out.
func (t *Table) row(row xlsx.Row, kinds Kinds) (*document.Node, error) {
	cells := make([]xlsx.Cell, len(t.Columns))
	for _, cell := range row.Cells {
		if cell.Column <= len(cells) {
			cells[cell.Column-1] = cell
		}
	}
	made := document.NewObject()
	for i, column := range t.Columns {
		value, err := valueOf(cells[i], kinds[column])
		if err != nil {
			return nil, fmt.Errorf("row %d, column %s: %w", row.Number, column, err)
		}
		made.AppendMembers(document.Member{Key: column, Value: value})
	}
	return made, nil
}

// valueOf makes a value of a cell: by the kind that the column is to have, else by what the spreadsheet says of the
// cell.
func valueOf(cell xlsx.Cell, kind string) (*document.Node, error) {
	switch {
	case cell.Text == "":
		return document.NewUntyped(""), nil
	case kind != "":
		return cellOf(cell.Text, kind)
	case cell.Kind == xlsx.Boolean:
		return document.NewBoolean(cell.Text == "true"), nil
	case cell.Kind == xlsx.Number && document.IsNumber(cell.Text):
		return document.NewNumber(cell.Text), nil
	}
	return document.NewText(cell.Text), nil
}

// SheetOf splits the name of a sheet of a spreadsheet, crates.xlsx#results, and says whether it is one.
func SheetOf(name string) (file, sheet string, ok bool) {
	at := strings.LastIndex(name, "#")
	if at < 0 || !strings.EqualFold(filepath.Ext(name[:at]), ".xlsx") {
		return name, "", false
	}
	return name[:at], name[at+1:], true
}

// FirstSheet is the name of the first sheet of a spreadsheet; empty where it cannot be read.
func FirstSheet(file string) string {
	data, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	book, err := xlsx.Open(data)
	if err != nil || len(book.Sheets()) == 0 {
		return ""
	}
	return book.Sheets()[0]
}
