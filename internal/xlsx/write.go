package xlsx

import (
	"archive/zip"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"testbench/internal/lazy"
	"testbench/internal/xmlstream"
)

const (
	contentTypes = "[Content_Types].xml"
	bookType     = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"
	sheetType    = "application/vnd.openxmlformats-officedocument.spreadsheetml.worksheet+xml"
	packageSpace = "http://schemas.openxmlformats.org/package/2006/"
	officeSpace  = "http://schemas.openxmlformats.org/officeDocument/2006/relationships"
	bookSpace    = "http://schemas.openxmlformats.org/spreadsheetml/2006/main"
)

// empty are the parts of a spreadsheet without sheets.
var empty = []struct{ name, content string }{
	{contentTypes, `<Types xmlns="` + packageSpace + `content-types">` +
		`<Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/>` +
		`<Override PartName="/xl/workbook.xml" ContentType="` + bookType + `"/></Types>`},
	{"_rels/.rels", `<Relationships xmlns="` + packageSpace + `relationships">` +
		`<Relationship Id="rId1" Type="` + officeSpace + `/officeDocument" Target="xl/workbook.xml"/></Relationships>`},
	{"xl/workbook.xml", `<workbook xmlns="` + bookSpace + `"><sheets></sheets></workbook>`},
	{"xl/_rels/workbook.xml.rels", `<Relationships xmlns="` + packageSpace + `relationships"></Relationships>`},
}

// New is a spreadsheet without sheets: one is to be written into it.
func New() *Book {
	var data bytes.Buffer
	archive := zip.NewWriter(&data)
	var err error
	for _, part := range empty {
		var to io.Writer
		if to, err = archive.Create(part.name); err == nil {
			_, err = io.WriteString(to, part.content)
		}
	}
	err = errors.Join(err, archive.Close())
	b, openErr := Open(data.Bytes())
	if err = errors.Join(err, openErr); err != nil {
		panic(err) // the parts are those above
	}
	return b
}

// CheckName says whether a sheet can have the name (18.2.19).
func CheckName(name string) error {
	switch {
	case name == "":
		return errors.New("it has no name")
	case utf8.RuneCountInString(name) > 31:
		return errors.New("it has more than 31 characters")
	case strings.ContainsAny(name, `:\/?*[]`):
		return errors.New(`it holds one of : \ / ? * [ ]`)
	case name[0] == '\'' || name[len(name)-1] == '\'':
		return errors.New("it begins or ends with '")
	case !xmlstream.IsText(name):
		return errors.New("it holds a character that nobody sees")
	}
	return nil
}

// Write writes the spreadsheet with a sheet of the rows that fill gives; one of that name is replaced, whatever case
// it is written in. All other parts are copied as they are.
func (b *Book) Write(to io.Writer, name string, fill func(row func(cells []Cell) error) error) error {
	if err := CheckName(name); err != nil {
		return err
	}
	archive := zip.NewWriter(to)
	part, changed, err := b.place(name)
	if err != nil {
		return err
	}
	for _, one := range b.order {
		content, isChanged := changed[strings.TrimPrefix(one.Name, "/")]
		switch {
		case !isChanged:
			err = archive.Copy(one)
		case content != nil:
			err = write(archive, one.Name, func(to io.Writer) error {
				_, err := to.Write(content)
				return err
			})
		}
		if err != nil {
			return err
		}
	}
	err = write(archive, part, func(to io.Writer) error { return writeSheet(to, b.mainSpace, fill) })
	if err != nil {
		return err
	}
	return archive.Close()
}

func write(archive *zip.Writer, name string, fill func(to io.Writer) error) error {
	to, err := archive.Create(name)
	if err != nil {
		return err
	}
	return fill(to)
}

// place finds the part of a sheet, and what changes by it: parts with their new content, nil for those that go.
func (b *Book) place(name string) (part string, changed map[string][]byte, err error) {
	changed = map[string][]byte{}
	for _, one := range b.sheets {
		if strings.EqualFold(one.name, name) {
			changed[one.part], changed[relationsOf(one.part)] = nil, nil
			return one.part, changed, b.withoutChain(changed)
		}
	}
	folder := path.Dir(b.workbook)
	for n := len(b.sheets) + 1; part == "" || b.parts[part] != nil; n++ {
		part = path.Join(folder, "worksheets", "sheet"+strconv.Itoa(n)+".xml")
	}
	id := strconv.Itoa(b.lastID + 1)
	relation := "sheet" + id + "OfResults"
	for _, one := range []struct{ part, within, element string }{
		{contentTypes, "Types", `Override PartName="/` + part + `" ContentType="` + sheetType + `"`},
		{
			relationsOf(b.workbook), "Relationships",
			`Relationship Id="` + relation + `" Type="` + b.relationSpace + `/worksheet" Target="/` + part + `"`,
		},
		{
			b.workbook, "sheets",
			`sheet xmlns:r="` + b.relationSpace + `" name="` + xmlstream.Escape(name, true) + `" sheetId="` + id +
				`" r:id="` + relation + `"`,
		},
	} {
		if changed[one.part], err = b.with(one.part, one.within, one.element); err != nil {
			return "", nil, err
		}
	}
	return part, changed, nil
}

// withoutChain takes away the order in which formulas were calculated (18.6), which names cells of the sheet that is
// replaced. Programs make it anew.
func (b *Book) withoutChain(changed map[string][]byte) error {
	named, err := b.related(b.workbook)
	if err != nil {
		return err
	}
	for _, one := range named.All {
		if !strings.HasSuffix(one.Type, "/calcChain") {
			continue
		}
		chain := targetOf(b.workbook, one.Target)
		changed[chain] = nil
		relations := relationsOf(b.workbook)
		if changed[relations], err = b.without(relations, "Relationship", "Id", one.ID); err != nil {
			return err
		}
		if changed[contentTypes], err = b.without(contentTypes, "Override", "PartName", "/"+chain); err != nil {
			return err
		}
	}
	return nil
}

// with is a part with one more element at the end of another.
func (b *Book) with(part, within, element string) ([]byte, error) {
	return b.edited(part, within, func(content []byte, r *xmlstream.Reader, kind xmlstream.Kind) []byte {
		at := r.Position().Offset
		if kind != xmlstream.End || !bytes.HasPrefix(content[at:], []byte("</")) {
			return nil
		}
		if prefix := r.Name().Prefix; prefix != "" {
			element = prefix + ":" + element
		}
		return slices.Concat(content[:at], []byte("<"+element+"/>"), content[at:])
	})
}

// without is a part without the empty element that has an attribute.
func (b *Book) without(part, element, attribute, value string) ([]byte, error) {
	return b.edited(part, element, func(content []byte, r *xmlstream.Reader, kind xmlstream.Kind) []byte {
		for _, a := range r.Attrs() {
			if kind == xmlstream.Start && a.Name.Local == attribute && string(a.Value) == value {
				return slices.Concat(content[:r.Position().Offset], content[r.EndOffset():])
			}
		}
		return nil
	})
}

// edited is a part as edit makes it at an element of the name; nil from edit asks for the next one.
func (b *Book) edited(
	part, element string, edit func(content []byte, r *xmlstream.Reader, kind xmlstream.Kind) []byte,
) ([]byte, error) {
	in, err := b.part(part, mostPart)
	if err != nil {
		return nil, err
	}
	content, err := io.ReadAll(in)
	if err = errors.Join(err, in.Close()); err != nil {
		return nil, err
	}
	content = bytes.TrimPrefix(content, []byte("\ufeff"))
	r := xmlstream.NewBytes(content, xmlstream.Options{})
	for {
		kind, err := r.Next()
		if err != nil {
			return nil, fmt.Errorf("%s has no %s where it would be", part, element)
		}
		if kind != xmlstream.Start && kind != xmlstream.End || r.Name().Local != element {
			continue
		}
		if made := edit(content, r, kind); made != nil {
			return made, nil
		}
	}
}

// mostText bounds the text of a cell, in characters: what spreadsheet programs take.
const mostText = 32_767

// writeSheet writes the part of a sheet.
func writeSheet(to io.Writer, space string, fill func(row func(cells []Cell) error) error) error {
	out := bufio.NewWriterSize(to, 1<<16)
	_, _ = out.WriteString(`<worksheet xmlns="` + space + `"><sheetData>`)
	number := 0
	err := fill(func(cells []Cell) error {
		if number++; number > mostRows {
			return fmt.Errorf("a sheet of a spreadsheet has no more than %d rows", mostRows)
		}
		line := []byte(`<row r="` + strconv.Itoa(number) + `">`)
		for i, cell := range cells {
			name := columnName(i+1) + strconv.Itoa(number)
			switch {
			case cell.Text == "":
			case cell.Kind == Number:
				line = append(line, `<c r="`+name+`"><v>`+cell.Text+`</v></c>`...)
			case cell.Kind == Boolean:
				line = append(line, `<c r="`+name+`" t="b"><v>`+cell.Text+`</v></c>`...)
			default:
				line = append(line, `<c r="`+name+`" t="inlineStr"><is><t xml:space="preserve">`...)
				line = append(xmlstream.AppendEscaped(line, escaped(cell.Text), false), `</t></is></c>`...)
			}
		}
		_, err := out.Write(append(line, "</row>"...))
		return err
	})
	_, _ = out.WriteString("</sheetData></worksheet>")
	return errors.Join(err, out.Flush())
}

var likeEscape = lazy.Regexp("_(x[0-9A-Fa-f]{4}_)")

// escaped is a text of a cell as it is written: cut where programs would not take it, and so that it is not read as
// an escape (22.9.2.19).
func escaped(text string) string {
	if utf8.RuneCountInString(text) > mostText {
		text = string([]rune(text)[:mostText-1]) + "…"
	}
	return likeEscape().ReplaceAllString(text, "_x005F_$1")
}
