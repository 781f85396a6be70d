// Package xlsx reads the sheets of spreadsheets (ISO/IEC 29500-1, 18), and writes one into them; all else of a
// spreadsheet stays as it is, byte for byte.
package xlsx

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"strconv"
	"strings"

	"testbench/internal/xmlstream"
)

// mostUnpacked bounds what the part of a sheet may be unpacked to, mostPart another one, in bytes; mostTexts is how
// many texts cells may share.
const (
	mostUnpacked = 1 << 30
	mostPart     = 1 << 28
	mostTexts    = 1 << 22
)

// mostRows and mostColumns are those that a sheet can have.
const (
	mostRows    = 1 << 20
	mostColumns = 1 << 14
)

// Book is a spreadsheet.
type Book struct {
	parts    map[string]*zip.File
	order    []*zip.File
	workbook string // the name of its part
	// The namespaces of the form that it is written in, the strict one or the usual one.
	mainSpace, relationSpace string
	sheets                   []sheet
	lastID                   int      // the highest sheetId
	styles                   []format // by their indexes
	texts                    []string // that cells share
	// from1904 says that days are counted from 1904-01-01 (18.17.4.1).
	from1904 bool
}

type sheet struct{ name, id, part string }

// Kind says what a cell holds.
type Kind uint8

// The kinds of cells.
const (
	Text    Kind = iota
	Number       // with its digits as they are in the file
	Boolean      // true or false
)

// Cell is a cell that is not empty.
type Cell struct {
	Column int // from 1
	Kind   Kind
	Text   string
}

// Row is a row that has cells.
type Row struct {
	Number int // from 1
	Cells  []Cell
}

// relations are where the parts are that a part names (ISO/IEC 29500-2, 6.5).
type relations struct {
	All []struct {
		ID     string `xml:"Id,attr"`
		Type   string `xml:"Type,attr"`
		Target string `xml:"Target,attr"`
	} `xml:"Relationship"`
}

// Open reads what a spreadsheet has: its sheets, its formats and its texts.
func Open(data []byte) (*Book, error) {
	if bytes.HasPrefix(data, []byte("\xd0\xcf\x11\xe0")) {
		return nil, errors.New("it is encrypted, or an .xls; save it as an .xlsx without a password")
	}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, err
	}
	b := &Book{parts: map[string]*zip.File{}, order: archive.File}
	for _, part := range archive.File {
		b.parts[strings.TrimPrefix(part.Name, "/")] = part
	}
	root, err := b.related("")
	if err != nil {
		return nil, err
	}
	for _, one := range root.All {
		if space, ok := strings.CutSuffix(one.Type, "/officeDocument"); ok {
			b.workbook, b.relationSpace = targetOf("", one.Target), space
		}
	}
	if b.parts[b.workbook] == nil {
		return nil, errors.New("it has no workbook")
	}
	return b, b.open()
}

// open reads the workbook and what it names.
func (b *Book) open() error {
	var workbook struct {
		XMLName    xml.Name
		Properties struct {
			From1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name string `xml:"name,attr"`
			ID   string `xml:"id,attr"`
			Own  int    `xml:"sheetId,attr"`
		} `xml:"sheets>sheet"`
	}
	if err := b.decode(b.workbook, &workbook); err != nil {
		return err
	}
	b.mainSpace = workbook.XMLName.Space
	b.from1904 = workbook.Properties.From1904 == "1" || workbook.Properties.From1904 == "true"
	named, err := b.related(b.workbook)
	if err != nil {
		return err
	}
	worksheets := map[string]string{}
	for _, one := range named.All {
		part := targetOf(b.workbook, one.Target)
		switch one.Type[strings.LastIndexByte(one.Type, '/')+1:] {
		case "worksheet":
			worksheets[one.ID] = part
		case "styles":
			err = b.readStyles(part)
		case "sharedStrings":
			err = b.readTexts(part)
		}
		if err != nil {
			return err
		}
	}
	for _, one := range workbook.Sheets {
		b.lastID = max(b.lastID, one.Own)
		if part := worksheets[one.ID]; part != "" { // else it is of charts alone
			b.sheets = append(b.sheets, sheet{one.Name, one.ID, part})
		}
	}
	return nil
}

// Sheets are the names of the sheets in their order.
func (b *Book) Sheets() []string {
	names := make([]string, len(b.sheets))
	for i, one := range b.sheets {
		names[i] = one.name
	}
	return names
}

// targetOf is the part that a relation leads to.
func targetOf(from, target string) string {
	if strings.HasPrefix(target, "/") {
		return target[1:]
	}
	return path.Join(path.Dir(from), target)
}

// relationsOf is the part with the relations of a part.
func relationsOf(part string) string {
	return path.Join(path.Dir(part), "_rels", path.Base(part)+".rels")
}

func (b *Book) related(part string) (relations, error) {
	var out relations
	name := relationsOf(part)
	if part == "" {
		name = "_rels/.rels"
	}
	return out, b.decode(name, &out)
}

// part opens a part; more than most of it is an error.
func (b *Book) part(name string, most int64) (io.ReadCloser, error) {
	part := b.parts[name]
	if part == nil {
		return nil, fmt.Errorf("it has no %s", name)
	}
	if part.UncompressedSize64 > uint64(most) {
		return nil, fmt.Errorf("%s is larger than %d MB", name, most>>20)
	}
	return part.Open() // which gives no more than it said
}

func (b *Book) decode(name string, into any) error {
	in, err := b.part(name, mostPart)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	if err := xml.NewDecoder(in).Decode(into); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// readTexts reads the texts that cells share: each is in one piece, or in runs (18.4.8); how it is spoken is left
// out.
func (b *Book) readTexts(name string) error {
	in, err := b.part(name, mostPart)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	r := xmlstream.NewReader(in, xmlstream.Options{})
	var text texts
	for {
		kind, err := r.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("%s: %w", name, err)
		}
		if text.take(r, kind); kind == xmlstream.End && r.Name().Local == "si" {
			if b.texts = append(b.texts, text.String()); len(b.texts) > mostTexts {
				return fmt.Errorf("%s has more than %d texts", name, mostTexts)
			}
			text = texts{}
		}
	}
}

// texts gathers what is in elements t that are not in rPh.
type texts struct {
	strings.Builder
	isOpen, isSpoken bool
}

func (t *texts) take(r *xmlstream.Reader, kind xmlstream.Kind) {
	switch {
	case kind == xmlstream.Text && t.isOpen:
		t.Write(r.Text())
	case kind == xmlstream.Text:
	case r.Name().Local == "t":
		t.isOpen = kind == xmlstream.Start && !t.isSpoken
	case r.Name().Local == "rPh":
		t.isSpoken = kind == xmlstream.Start
	}
}

// String is the text without the escapes that its type knows (ISO/IEC 29500-1, 22.9.2.19).
func (t *texts) String() string {
	text := t.Builder.String()
	if !strings.Contains(text, "_x") {
		return text
	}
	var out strings.Builder
	for {
		before, after, found := strings.Cut(text, "_x")
		out.WriteString(before)
		if !found {
			return out.String()
		}
		code, err := strconv.ParseUint(after[:min(4, len(after))], 16, 16)
		if err != nil || len(after) < 5 || after[4] != '_' {
			out.WriteString("_x")
			text = after
			continue
		}
		out.WriteRune(rune(code))
		text = after[5:]
	}
}

// Rows gives the rows of a sheet that have cells, in their order.
func (b *Book) Rows(name string) iter.Seq2[Row, error] {
	return func(yield func(Row, error) bool) {
		for _, one := range b.sheets {
			if one.name == name {
				if err := b.rows(one.part, yield); err != nil {
					yield(Row{}, err)
				}
				return
			}
		}
		yield(Row{}, fmt.Errorf("it has no sheet %q", name))
	}
}

// errEnough ends reading without an error.
var errEnough = errors.New("nobody asks for more")

func (b *Book) rows(name string, yield func(Row, error) bool) error {
	in, err := b.part(name, mostUnpacked)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	s := &sheetReader{book: b, Reader: xmlstream.NewReader(in, xmlstream.Options{}), yield: yield}
	for {
		kind, err := s.Next()
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return fmt.Errorf("%s: %w", name, err)
		}
		err = s.take(kind)
		switch {
		case errors.Is(err, errEnough):
			return nil
		case err != nil && s.cell.Column > 0:
			return fmt.Errorf("row %d, column %s: %w", s.row.Number, columnName(s.cell.Column), err)
		case err != nil:
			return err
		}
	}
}

// sheetReader reads the cells of a sheet (18.3.1.99).
type sheetReader struct {
	*xmlstream.Reader
	book  *Book
	yield func(Row, error) bool
	row   Row

	cell                 Cell
	kind                 string // what the file says of the cell (18.18.11)
	style                int
	value                strings.Builder
	inline               texts
	hasValue, isOpen     bool // of v
	isInline, hasFormula bool // is, f
}

// take goes on by one token.
func (s *sheetReader) take(kind xmlstream.Kind) error {
	if s.isInline {
		s.inline.take(s.Reader, kind)
	}
	if kind == xmlstream.Text {
		if s.isOpen {
			s.value.Write(s.Text())
		}
		return nil
	}
	isStart := kind == xmlstream.Start
	switch s.Name().Local {
	case "row":
		if isStart {
			return s.begin()
		}
		if len(s.row.Cells) > 0 && !s.yield(s.row, nil) {
			return errEnough
		}
	case "c":
		if isStart {
			return s.beginCell()
		}
		return s.endCell()
	case "v":
		s.isOpen, s.hasValue = isStart, true
	case "f":
		s.hasFormula = true
	case "is":
		s.isInline = isStart
	}
	return nil
}

// begin is the start of a row; without a number it is the next one.
func (s *sheetReader) begin() error {
	s.cell = Cell{}
	number := s.row.Number + 1
	for _, a := range s.Attrs() {
		if a.Name.Local == "r" {
			given, err := strconv.Atoi(string(a.Value))
			if err != nil || given < number {
				return fmt.Errorf("rows are not in order: %s comes after %d", a.Value, s.row.Number)
			}
			number = given
		}
	}
	if number > mostRows {
		return fmt.Errorf("it says that it has more than %d rows", mostRows)
	}
	s.row = Row{Number: number}
	return nil
}

// beginCell is the start of a cell; without a name it is the next one.
func (s *sheetReader) beginCell() error {
	s.cell = Cell{Column: s.cell.Column + 1}
	s.kind, s.style, s.hasValue, s.hasFormula = "", 0, false, false
	s.value.Reset()
	s.inline = texts{}
	for _, a := range s.Attrs() {
		switch a.Name.Local {
		case "r":
			given := columnOf(string(a.Value))
			if given < s.cell.Column || given > mostColumns {
				return fmt.Errorf("cells are not in order: %s", a.Value)
			}
			s.cell.Column = given
		case "t":
			s.kind = string(a.Value)
		case "s":
			s.style, _ = strconv.Atoi(string(a.Value))
		}
	}
	return nil
}

// endCell is the end of a cell, which goes into the row unless it is empty.
func (s *sheetReader) endCell() error {
	text := s.value.String()
	switch s.kind {
	case "s":
		index, err := strconv.Atoi(text)
		if s.hasValue && (err != nil || index < 0 || index >= len(s.book.texts)) {
			return fmt.Errorf("there is no shared text %s", text)
		}
		if s.hasValue {
			text = s.book.texts[index]
		}
	case "inlineStr":
		text = s.inline.String()
	case "b":
		s.cell.Kind = Boolean
		text = map[bool]string{true: "true", false: "false"}[text == "1" || text == "true"]
	case "", "n":
		var err error
		if s.cell.Kind, text, err = s.number(text); err != nil {
			return err
		}
	}
	if s.hasFormula && (!s.hasValue || text == "" && s.kind != "str") {
		return errors.New("it is a formula without its value; open the file in a spreadsheet program and save it there")
	}
	if s.cell.Text = text; text != "" {
		s.row.Cells = append(s.row.Cells, s.cell)
	}
	return nil
}

// number is the value of a cell with a number: a day, a time or a span where it is shown as one.
func (s *sheetReader) number(text string) (Kind, string, error) {
	shows := plain
	if s.style >= 0 && s.style < len(s.book.styles) {
		shows = s.book.styles[s.style]
	}
	if text == "" || shows == plain {
		return Number, text, nil
	}
	moment, err := momentOf(text, shows, s.book.from1904)
	return Text, moment, err
}

// columnOf is the column of a cell by its name, AB12; 0 where that is not one.
func columnOf(cell string) int {
	column := 0
	for i := 0; i < len(cell) && i < 4; i++ {
		c := cell[i] &^ 0x20
		if c < 'A' || c > 'Z' {
			break
		}
		column = column*26 + int(c-'A') + 1
	}
	return column
}

// columnName is the letters of a column.
func columnName(column int) string {
	name := ""
	for ; column > 0; column = (column - 1) / 26 {
		name = string(rune('A'+(column-1)%26)) + name
	}
	return name
}
