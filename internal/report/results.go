package report

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/xlsx"
)

// resultsName begins the name of a report that is a table of the rows: results.csv.
const resultsName = "results"

// resultsFormats map the endings of tables to what writes them.
var resultsFormats = map[string]func(io.Writer, history.Finished, Options) error{
	".csv": plain(resultsCSV), ".xlsx": resultsXLSX, ".json": plain(resultsJSON), ".ndjson": plain(resultsNDJSON),
}

// isResults says whether a report of that name is a table of the rows.
func isResults(name string) bool {
	return strings.HasPrefix(strings.ToLower(filepath.Base(name)), resultsName)
}

// resultsTable is a table of a run: a line for each row, with its inputs, what it kept and what came of it.
type resultsTable struct {
	columns []string
	sheets  [][][2]string // of each sheet its columns: names, and what they are
}

// newResultsTable finds the columns, in the order in which they come: those that a sheet asks for, or all.
func newResultsTable(run history.Finished) (*resultsTable, error) {
	t := &resultsTable{}
	head := run.Run()
	for i, sheet := range head.Sheets {
		columns := sheet.Table
		if len(columns) == 0 {
			var err error
			if columns, err = allColumns(run, i, len(head.Sheets) > 1); err != nil {
				return nil, err
			}
		}
		t.sheets = append(t.sheets, columns)
		for _, column := range columns {
			t.columns = addOnce(t.columns, column[0])
		}
	}
	return t, nil
}

// allColumns are those that the rows of a sheet have: inputs, what was kept, and what came of it. A name that is
// there already is told apart.
func allColumns(run history.Finished, sheet int, isNamed bool) ([][2]string, error) {
	var inputs, kept []string
	for row, err := range run.Rows(sheet) {
		if err != nil {
			return nil, err
		}
		for _, input := range row.Inputs {
			inputs = addOnce(inputs, string(input[0]))
		}
		for _, step := range row.Steps {
			for _, name := range step.Kept {
				kept = addOnce(kept, string(name))
			}
		}
	}
	names, after := history.ResultColumns[:2], history.ResultColumns[2:]
	if !isNamed {
		names = names[1:] // the sheet is the only one
	}
	var columns [][2]string
	seen := map[string]bool{}
	add := func(lead string, names []string) {
		for _, of := range names {
			name := of
			for seen[name] {
				name += " (2)"
			}
			seen[name] = true
			columns = append(columns, [2]string{name, lead + of})
		}
	}
	add("", names)
	add("row.", inputs)
	add("kept.", kept)
	add("", after)
	return columns, nil
}

func addOnce(names []string, name string) []string {
	if slices.Contains(names, name) {
		return names
	}
	return append(names, name)
}

// rows goes through the lines of the table; steps before and after the rows have none.
func (t *resultsTable) rows(run history.Finished, line func(cells []string) error) error {
	head := run.Run()
	which := head.ID
	if head.Number > 0 {
		which = strconv.Itoa(head.Number)
	}
	at := map[string]int{}
	for i, name := range t.columns {
		at[name] = i
	}
	for i, sheet := range head.Sheets {
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			if row.Phase != "" {
				continue
			}
			values := valuesOf(sheet, row, which)
			cells := make([]string, len(t.columns))
			for _, column := range t.sheets[i] {
				cells[at[column[0]]] = values[column[1]]
			}
			if err := line(cells); err != nil {
				return err
			}
		}
	}
	return nil
}

// valuesOf are all values of a row: its inputs, also as row.NAME, what it kept, also as kept.NAME, and what came
// of it. Of one name the last of these counts.
func valuesOf(sheet *history.Sheet, row *history.Row, run string) map[string]string {
	values := map[string]string{}
	for _, input := range row.Inputs {
		values[string(input[0])], values["row."+string(input[0])] = string(input[1]), string(input[1])
	}
	for _, step := range row.Steps {
		for name, value := range step.Values {
			values[name], values["kept."+name] = string(value), string(value)
		}
	}
	which := strings.ReplaceAll(strings.TrimPrefix(row.Name(), "row "), " · ", " ")
	if row.Number > 0 && row.Iteration == 0 {
		which = strconv.Itoa(row.Number)
	}
	message, millis, moment := summed(row)
	maps.Copy(values, map[string]string{
		"sheet": sheet.Sheet, "row": which, "outcome": row.Outcome, "message": message, "milliseconds": millis,
		"run": run, "moment": moment,
	})
	return values
}

// summed gives the first thing that failed in a row, how long its exchanges took, and when it began.
func summed(row *history.Row) (message, millis, moment string) {
	total := 0.0
	var begun time.Time
	for _, step := range row.Steps {
		total += step.Millis
		if !step.Started.IsZero() && (begun.IsZero() || step.Started.Before(begun)) {
			begun = step.Started
		}
		if message == "" && step.Failures() {
			message = step.Step + ": " + string(firstLine(step))
		}
	}
	if !begun.IsZero() {
		moment = begun.UTC().Format(time.RFC3339Nano)
	}
	return message, strconv.FormatFloat(math.Round(100*total)/100, 'f', -1, 64), moment // as exact as the times are
}

func firstLine(step *history.Step) secret.Text {
	if lines := Lines(step); step.Reason == "" && len(lines) > 0 {
		return lines[0]
	}
	return step.Reason
}

func resultsCSV(to io.Writer, run history.Finished) error {
	t, err := newResultsTable(run)
	if err != nil {
		return err
	}
	w := csv.NewWriter(to)
	w.UseCRLF = true
	write := func(cells []string) error {
		for i, cell := range cells {
			cells[i] = inCell(cell)
		}
		return w.Write(cells)
	}
	if err := write(slices.Clone(t.columns)); err != nil {
		return err
	}
	if err := t.rows(run, write); err != nil {
		return err
	}
	w.Flush()
	return w.Error()
}

// mostDigits is up to how many characters a number is one for every program that reads it.
const mostDigits = 15

// typed is a cell as a program reads it: a number that is written as JSON writes it, else a text.
func typed(cell string) any {
	if document.IsNumber(cell) && len(cell) <= mostDigits {
		return json.Number(cell)
	}
	return cell
}

// record is a line as an object, whose members are in the order of the columns.
func (t *resultsTable) record(cells []string) ([]byte, error) {
	out := []byte("{")
	for i, name := range t.columns {
		if i > 0 {
			out = append(out, ',')
		}
		value, err := json.Marshal(typed(cells[i]))
		if err != nil {
			return nil, err
		}
		out = append(append(append(out, document.QuoteJSON(name)...), ':'), value...)
	}
	return append(out, '}'), nil
}

// resultsNDJSON writes each line as an object.
func resultsNDJSON(to io.Writer, run history.Finished) error {
	return resultsObjects(run, func(object []byte) error {
		_, err := to.Write(append(object, '\n'))
		return err
	})
}

// resultsJSON writes a list of the lines as objects, an object a line.
func resultsJSON(to io.Writer, run history.Finished) error {
	lead := "[\n"
	err := resultsObjects(run, func(object []byte) error {
		_, err := fmt.Fprintf(to, "%s%s", lead, object)
		lead = ",\n"
		return err
	})
	if err != nil {
		return err
	}
	end := "\n]\n"
	if lead == "[\n" {
		end = "[]\n"
	}
	_, err = io.WriteString(to, end)
	return err
}

// resultsObjects gives each line of the table as an object.
func resultsObjects(run history.Finished, write func(object []byte) error) error {
	t, err := newResultsTable(run)
	if err != nil {
		return err
	}
	return t.rows(run, func(cells []string) error {
		object, err := t.record(cells)
		if err != nil {
			return err
		}
		return write(object)
	})
}

// resultsXLSX writes a spreadsheet. It is packed, so what is to be masked is masked in each cell.
func resultsXLSX(to io.Writer, run history.Finished, o Options) error {
	return fillSheet(xlsx.New(), to, resultsName, run, o)
}

// checkBook says whether results can be put into a sheet of a spreadsheet, before they are there.
func checkBook(file, sheet string) error {
	if err := xlsx.CheckName(sheet); err != nil {
		return fmt.Errorf("%s#%s: that is not the name of a sheet: %w", file, sheet, err)
	}
	if _, err := openBook(file); err != nil {
		return err
	}
	return safefile.CheckPlace(file)
}

// openBook opens a spreadsheet, or begins one where there is none.
func openBook(file string) (*xlsx.Book, error) {
	data, err := os.ReadFile(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return xlsx.New(), nil
	case err != nil:
		return nil, err
	}
	book, err := xlsx.Open(data)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read as a spreadsheet: %w", file, err)
	}
	return book, nil
}

// addToBook puts the table into a sheet of a spreadsheet, in place of what that sheet had; the others stay as they
// are.
func addToBook(file, sheet string, run history.Finished, o Options) error {
	unlock, err := safefile.Lock(file)
	if err != nil {
		return err
	}
	defer unlock()
	book, err := openBook(file)
	if err != nil {
		return err
	}
	return safefile.Stream(file, 0o644, func(to io.Writer) error { return fillSheet(book, to, sheet, run, o) })
}

// fillSheet writes a spreadsheet with the table in one of its sheets.
func fillSheet(book *xlsx.Book, to io.Writer, name string, run history.Finished, o Options) error {
	t, err := newResultsTable(run)
	if err != nil {
		return err
	}
	return book.Write(to, name, func(row func(cells []xlsx.Cell) error) error {
		write := func(texts []string, isHead bool) error {
			cells := make([]xlsx.Cell, len(texts))
			for i, text := range texts {
				text = o.mask(text)
				cells[i].Text = strings.Map(harmless, text)
				if _, is := typed(text).(json.Number); is && !isHead {
					cells[i].Kind = xlsx.Number
				}
			}
			return row(cells)
		}
		if err := write(t.columns, true); err != nil {
			return err
		}
		return t.rows(run, func(cells []string) error { return write(cells, false) })
	})
}
