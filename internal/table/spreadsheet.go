package table

import (
	"bytes"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/xuri/excelize/v2"

	"testbench/internal/document"
	"testbench/internal/suggest"
)

// mostUnpacked bounds what a spreadsheet may be unpacked to.
const mostUnpacked = 1 << 30

// Limits bound what a spreadsheet is unpacked to.
var Limits = excelize.Options{UnzipSizeLimit: mostUnpacked, UnzipXMLSizeLimit: 1 << 26}

// mostRows are those that a sheet can have.
const mostRows = 1 << 20

// readSpreadsheet reads a sheet of an .xlsx (ISO/IEC 29500). Numbers stay numbers with
// their own digits, days and times become ISO 8601, all else is text.
func readSpreadsheet(data []byte, o Options) (*Table, error) {
	book, err := excelize.OpenReader(bytes.NewReader(data),
		excelize.Options{RawCellValue: true, UnzipSizeLimit: mostUnpacked, UnzipXMLSizeLimit: 1 << 26})
	if err != nil {
		return nil, fmt.Errorf("it cannot be read as a spreadsheet: %w", err)
	}
	defer func() { _ = book.Close() }()
	sheets := book.GetSheetList()
	name := o.Sheet
	switch {
	case len(sheets) == 0:
		return nil, errors.New("the spreadsheet has no sheets")
	case name == "":
		name = sheets[0]
	case !slices.Contains(sheets, name):
		return nil, fmt.Errorf("the spreadsheet has no sheet %q; %s", name, suggest.Instead(name, sheets))
	}
	rows, err := book.Rows(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	reader := &spreadsheet{book: book, sheet: name, styles: map[int]bool{}}
	header := max(o.Header, 1)
	t := &Table{}
	for number := 1; rows.Next(); number++ {
		if number > mostRows {
			return nil, fmt.Errorf("the sheet %s says that it has more than %d rows", name, mostRows)
		}
		cells, err := rows.Columns(excelize.Options{RawCellValue: true})
		if err != nil {
			return nil, fmt.Errorf("row %d: %w", number, err)
		}
		switch {
		case number < header:
			continue
		case number == header:
			if err := t.named(cells, number); err != nil {
				return nil, err
			}
			continue
		case !slices.ContainsFunc(cells, func(c string) bool { return strings.TrimSpace(c) != "" }):
			continue // empty rows are between and after them
		}
		row := document.NewObject()
		for i, column := range t.Columns {
			text := ""
			if i < len(cells) {
				text = cells[i]
			}
			cell, err := reader.cell(text, i+1, number, o.Kinds[column])
			if err != nil {
				return nil, fmt.Errorf("row %d, column %s: %w", number, column, err)
			}
			row.AppendMembers(document.Member{Key: column, Value: cell})
		}
		t.Rows = append(t.Rows, row)
	}
	if t.Columns == nil {
		return nil, fmt.Errorf("the sheet %s has no row %d to name the columns", name, header)
	}
	return t, rows.Error()
}

// named takes the names of columns from the header.
func (t *Table) named(cells []string, number int) error {
	for i, text := range cells {
		column := strings.TrimSpace(text)
		switch {
		case column == "" && !slices.ContainsFunc(cells[i:], func(c string) bool { return strings.TrimSpace(c) != "" }):
			return nil
		case column == "":
			return fmt.Errorf("row %d: column %d has no name", number, i+1)
		case slices.Contains(t.Columns, column):
			return fmt.Errorf("row %d: two columns are named %q", number, column)
		}
		t.Columns = append(t.Columns, column)
	}
	return nil
}

type spreadsheet struct {
	book   *excelize.File
	sheet  string
	styles map[int]bool // whether a style shows a day or a time
}

// cell makes a value of a cell: by the kind that the column is to have, else by what
// the spreadsheet says of the cell.
func (s *spreadsheet) cell(text string, column, row int, kind string) (*document.Node, error) {
	if text == "" {
		return document.NewUntyped(""), nil
	}
	name, err := excelize.CoordinatesToCellName(column, row)
	if err != nil {
		return nil, err
	}
	of, err := s.book.GetCellType(s.sheet, name)
	if err != nil {
		return nil, err
	}
	isNumber := document.IsNumber(text) && of != excelize.CellTypeSharedString && of != excelize.CellTypeInlineString
	if isNumber && s.isMoment(name) {
		moment, err := moment(text)
		if err != nil {
			return nil, err
		}
		return document.NewText(moment), nil
	}
	if of == excelize.CellTypeBool {
		text = map[bool]string{true: "true", false: "false"}[text == "1" || strings.EqualFold(text, "true")]
	}
	switch {
	case kind != "":
		return cellOf(text, kind)
	case of == excelize.CellTypeBool:
		return document.NewBoolean(text == "true"), nil
	case isNumber:
		return document.NewNumber(text), nil
	}
	return document.NewText(text), nil
}

// isMoment says whether a cell shows its number as a day or a time.
func (s *spreadsheet) isMoment(cell string) bool {
	style, err := s.book.GetCellStyle(s.sheet, cell)
	if err != nil || style == 0 {
		return false
	}
	known, ok := s.styles[style]
	if !ok {
		if details, err := s.book.GetStyle(style); err == nil {
			// ISO/IEC 29500-1, 18.8.30
			known = details.NumFmt >= 14 && details.NumFmt <= 22 || details.NumFmt >= 45 && details.NumFmt <= 47
			if details.CustomNumFmt != nil {
				known = showsMoment(*details.CustomNumFmt)
			}
		}
		s.styles[style] = known
	}
	return known
}

// showsMoment says whether a number format of its own has letters of a day or a time
// outside of quotes and brackets.
func showsMoment(format string) bool {
	quoted, bracketed := false, false
	for i, c := range strings.ToLower(format) {
		switch {
		case i > 0 && format[i-1] == '\\':
		case c == '"':
			quoted = !quoted
		case c == '[':
			bracketed = true
		case c == ']':
			bracketed = false
		case !quoted && !bracketed && strings.ContainsRune("ymdhs", c):
			return true
		}
	}
	return false
}

// moment writes a serial number as a day, a time stamp, or a time of day.
func moment(text string) (string, error) {
	var serial float64
	if _, err := fmt.Sscan(text, &serial); err != nil {
		return "", err
	}
	at, err := excelize.ExcelDateToTime(serial, false)
	if err != nil {
		return "", err
	}
	at = at.Round(time.Second)
	switch midnight := at.Truncate(24 * time.Hour); {
	case serial < 1:
		return at.Format(time.TimeOnly), nil
	case at.Equal(midnight):
		return at.Format(time.DateOnly), nil
	}
	return at.Format("2006-01-02T15:04:05"), nil
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
	book, err := excelize.OpenFile(file, Limits)
	if err != nil {
		return ""
	}
	defer func() { _ = book.Close() }()
	return book.GetSheetName(0)
}
