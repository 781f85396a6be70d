package history

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"testbench/internal/lazy"
	"testbench/internal/safefile"
)

// WriteJSON writes a run with its rows as one JSON document, row by row.
func WriteJSON(to io.Writer, run Finished) error {
	head := *run.Run()
	sheets := head.Sheets
	head.Sheets = nil
	w := &jsonWriter{to: to}
	w.openObject(head, "sheets")
	w.text("[")
	for i, sheet := range sheets {
		if i > 0 {
			w.text(",")
		}
		w.text("\n")
		w.openObject(sheet, "rows")
		w.text("[")
		any := false
		for row, err := range run.Rows(i) {
			if err != nil {
				return err
			}
			if any {
				w.text(",")
			}
			any = true
			w.text("\n")
			w.value(row)
			if w.err != nil {
				return w.err
			}
		}
		w.text("]}")
	}
	w.text("]}\n")
	return w.err
}

// jsonWriter writes pieces of a document; the first error stays.
type jsonWriter struct {
	to  io.Writer
	err error
}

func (w *jsonWriter) text(s string) {
	if w.err == nil {
		_, w.err = io.WriteString(w.to, s)
	}
}

func (w *jsonWriter) value(v any) []byte {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	if err := encoder.Encode(v); w.err == nil {
		w.err = err
	}
	text := bytes.TrimRight(out.Bytes(), "\n")
	w.text(string(text))
	return text
}

// openObject writes an object and leaves it open, after the name of one more member.
func (w *jsonWriter) openObject(v any, more string) {
	inner := &jsonWriter{to: io.Discard}
	text := inner.value(v)
	if w.err == nil {
		w.err = inner.err
	}
	text = bytes.Replace(text, []byte(`,"sheets":null`), nil, 1)
	w.text(string(bytes.TrimSuffix(text, []byte("}"))) + `,"` + more + `":`)
}

// File is a run in a JSON document, as WriteJSON writes it, or in lines of JSON as reports have
// them. Its rows are read from the file each time.
type File struct {
	Name string
	head *Run
}

// How the text of a run begins, as one document and as lines; white space makes no difference.
var (
	documentStart = lazy.Regexp(`^\s*\{\s*("number"\s*:\s*\d+\s*,\s*)?"run"\s*:\s*"[^"]*"\s*,\s*"bench"\s*:`)
	linesStart    = lazy.Regexp(`^\s*\{\s*"kind"\s*:\s*"run"\s*,`)
)

// IsFile says whether a file begins as a run in a file does.
func IsFile(name string) bool {
	file, err := os.Open(name)
	if err != nil {
		return false
	}
	defer func() { _ = file.Close() }()
	start, err := io.ReadAll(io.LimitReader(file, 4<<10))
	return err == nil && (documentStart().Match(start) || linesStart().Match(start))
}

// errEnough ends a walk early.
var errEnough = errors.New("enough")

// OpenFile opens a run in a file. It has no number: the one in the file is that of another history.
func OpenFile(name string) (*File, error) {
	f := &File{Name: name, head: &Run{}}
	err := f.walk(func(head, sheet json.RawMessage) error {
		if head != nil {
			sheets := f.head.Sheets
			err := json.Unmarshal(head, f.head)
			f.head.Sheets = sheets // lines of JSON have none of them in the run
			return err
		}
		one := &Sheet{}
		f.head.Sheets = append(f.head.Sheets, one)
		return json.Unmarshal(sheet, one)
	}, func(int, json.RawMessage) error { return nil })
	if safefile.IsMissing(err) {
		return nil, fmt.Errorf("there is no file %s", name)
	}
	f.head.Number = 0
	if f.head.ID == "" && (err == nil || !IsFile(name)) {
		err = errors.New("it is not a run; write one with run -out FILE.json")
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return f, nil
}

// Run is the run.
func (f *File) Run() *Run { return f.head }

// Rows goes through the rows of a sheet.
func (f *File) Rows(sheet int) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		err := f.walk(func(json.RawMessage, json.RawMessage) error {
			return nil
		}, func(of int, text json.RawMessage) error {
			if of > sheet {
				return errEnough
			}
			if of < sheet {
				return nil
			}
			row, err := readRow(text)
			if err != nil {
				return err
			}
			if !yield(row, nil) {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(nil, fmt.Errorf("%s: %w", f.Name, err))
		}
	}
}

// walk goes through the document. The head of the run, and that of each sheet, are told
// without what is below them; a sheet is told after its rows.
func (f *File) walk(heads func(run, sheet json.RawMessage) error,
	row func(sheet int, text json.RawMessage) error,
) error {
	file, err := os.Open(f.Name)
	if err != nil {
		return err
	}
	defer func() { _ = file.Close() }()
	buffered := bufio.NewReaderSize(file, 256<<10)
	start, err := buffered.Peek(512)
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	d := json.NewDecoder(buffered)
	if linesStart().Match(start) {
		return walkLines(d, heads, row)
	}
	sheet := 0
	head, err := members(d, "sheets", func() error {
		return items(d, func() error {
			head, err := members(d, "rows", func() error {
				return items(d, func() error {
					var text json.RawMessage
					if err := d.Decode(&text); err != nil {
						return err
					}
					return row(sheet, text)
				})
			})
			if err != nil {
				return err
			}
			sheet++
			return heads(nil, head)
		})
	})
	if err != nil {
		return err
	}
	return heads(head, nil)
}

// walkLines goes through lines of JSON: the run, and for each sheet its rows and then itself.
func walkLines(d *json.Decoder, heads func(run, sheet json.RawMessage) error,
	row func(sheet int, text json.RawMessage) error,
) error {
	var run json.RawMessage
	sheet, isOpen := 0, false
	for {
		var line struct {
			Kind            string
			Run, Row, Sheet json.RawMessage
		}
		err := d.Decode(&line)
		switch {
		case errors.Is(err, io.EOF) && isOpen:
			return io.ErrUnexpectedEOF
		case errors.Is(err, io.EOF):
			return heads(run, nil)
		case err != nil:
			return err
		}
		switch line.Kind {
		case "run":
			run = line.Run
		case "row":
			isOpen = true
			err = row(sheet, line.Row)
		case "sheet":
			isOpen = false
			sheet++
			err = heads(nil, line.Sheet)
		default:
			err = fmt.Errorf("a line is of the kind %q; a run has lines of the kinds run, row and sheet", line.Kind)
		}
		if err != nil {
			return err
		}
	}
}

// members reads an object and gives it without one member, which is read apart.
func members(d *json.Decoder, apart string, read func() error) (json.RawMessage, error) {
	if err := expect(d, '{'); err != nil {
		return nil, err
	}
	rest := map[string]json.RawMessage{}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, err
		}
		if key == apart {
			if err := read(); err != nil {
				return nil, err
			}
			continue
		}
		var text json.RawMessage
		if err := d.Decode(&text); err != nil {
			return nil, err
		}
		name, _ := key.(string)
		rest[name] = text
	}
	if _, err := d.Token(); err != nil {
		return nil, err
	}
	return json.Marshal(rest)
}

func items(d *json.Decoder, read func() error) error {
	if err := expect(d, '['); err != nil {
		return err
	}
	for d.More() {
		if err := read(); err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}

func expect(d *json.Decoder, expected json.Delim) error {
	token, err := d.Token()
	if err != nil {
		return err
	}
	if token != expected {
		return fmt.Errorf("%v found where %v is expected", token, expected)
	}
	return nil
}
