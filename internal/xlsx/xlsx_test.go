package xlsx_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"testbench/internal/xlsx"
)

// packed is a spreadsheet of parts.
func packed(t testing.TB, parts map[string]string) []byte {
	t.Helper()
	var out bytes.Buffer
	archive := zip.NewWriter(&out)
	for name, content := range parts {
		to, err := archive.Create(name)
		require.NoError(t, err)
		_, err = io.WriteString(to, content)
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	return out.Bytes()
}

// prefixed writes elements with a prefix.
var prefixed = strings.NewReplacer("</", "</x:", "<", "<x:")

// made is a spreadsheet with one sheet, as programs write them whose elements have prefixes, and whose namespaces are
// those of the strict form.
func made(t testing.TB, workbook, sheet string) []byte {
	t.Helper()
	const (
		strict = "http://purl.oclc.org/ooxml/spreadsheetml/main"
		types  = "http://purl.oclc.org/ooxml/officeDocument/relationships"
		rels   = `<Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships">%s</Relationships>`
	)
	relation := func(id, kind, target string) string {
		return fmt.Sprintf(`<Relationship Id=%q Type="%s/%s" Target=%q/>`, id, types, kind, target)
	}
	return packed(t, map[string]string{
		"[Content_Types].xml": `<Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types">` +
			`<Override PartName="/xl/calcChain.xml" ContentType="c"/></Types>`,
		"_rels/.rels": fmt.Sprintf(rels, relation("a", "officeDocument", "/book/main.xml")),
		"book/main.xml": `<x:workbook xmlns:x="` + strict + `" xmlns:r="` + types + `">` + prefixed.Replace(workbook) +
			`<x:sheets><x:sheet name="Lots" sheetId="7" r:id="s1"/></x:sheets></x:workbook>`,
		"book/_rels/main.xml.rels": fmt.Sprintf(rels, relation("s1", "worksheet", "sheets/one.xml")+
			relation("s2", "styles", "styles.xml")+relation("s3", "sharedStrings", "../texts.xml")+
			relation("s4", "calcChain", "/xl/calcChain.xml")),
		"book/styles.xml": `<styleSheet xmlns="` + strict + `"><numFmts><numFmt numFmtId="170" formatCode="[h]:mm"/>` +
			`<numFmt numFmtId="171" formatCode="0.0_d&quot;day&quot;\m[$-407]"/>` +
			`<numFmt numFmtId="172" formatCode="[$-407]d. mmmm"/></numFmts><cellXfs><xf numFmtId="0"/>` +
			`<xf numFmtId="14"/><xf numFmtId="170"/><xf numFmtId="171"/><xf numFmtId="172"/></cellXfs></styleSheet>`,
		"texts.xml": `<sst xmlns="` + strict + `"><si><t>Ähre</t></si><si><r><t xml:space="preserve">a </t></r>` +
			`<r><rPr/><t>b</t></r><rPh><t>no</t></rPh></si><si><t>_x0041__x_</t></si></sst>`,
		"book/sheets/one.xml": `<x:worksheet xmlns:x="` + strict + `"><x:sheetData>` +
			prefixed.Replace(sheet) + `</x:sheetData></x:worksheet>`,
		"xl/calcChain.xml": `<calcChain xmlns="` + strict + `"/>`,
	})
}

func rowsOf(t testing.TB, data []byte, sheet string) (string, error) {
	t.Helper()
	book, err := xlsx.Open(data)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	for row, err := range book.Rows(sheet) {
		if err != nil {
			return out.String(), err
		}
		fmt.Fprintf(&out, "%d:", row.Number)
		for _, cell := range row.Cells {
			fmt.Fprintf(&out, " %d%s=%s", cell.Column, []string{"t", "n", "b"}[cell.Kind], cell.Text)
		}
		out.WriteString("; ")
	}
	return out.String(), nil
}

// Cells are what the standard says of them, and what is wrong is told with its cell.
func TestRows(t *testing.T) {
	for name, c := range map[string]struct{ workbook, sheet, want string }{
		"shared texts": {
			"", `<row r="2"><c r="B2" t="s"><v>0</v></c><c t="s"><v>1</v></c><c t="s"><v>2</v></c></row>`,
			"2: 2t=Ähre 3t=a b 4t=A_x_; ",
		},
		"a text that is not": {
			"", `<row><c r="AB1" t="s"><v>3</v></c></row>`,
			"row 1, column AB: there is no shared text 3",
		},
		"numbers": {
			"", `<row><c><v>0.10</v></c><c s="3"><v>2</v></c><c r="D1" t="n"><v>1E-3</v></c></row>`,
			"1: 1n=0.10 2n=2 4n=1E-3; ",
		},
		"yes and no": {"", `<row><c t="b"><v>1</v></c><c t="b"><v>0</v></c></row>`, "1: 1b=true 2b=false; "},
		"texts in the cell": {
			"", `<row><c t="inlineStr"><is><r><t>a</t></r><r><t>b</t></r></is></c>` +
				`<c t="str"><f>1&amp;2</f><v>12</v></c></row>`,
			"1: 1t=ab 2t=12; ",
		},
		"empty cells": {
			"", `<row/><row><c s="1"/><c t="str"><f>A1</f><v></v></c></row><row r="9"><c><v>1</v></c></row>`,
			"9: 1n=1; ",
		},
		"days and times": {
			"", `<row><c s="1"><v>46349</v></c><c s="1"><v>46349.354166666664</v></c><c s="1"><v>0.25</v></c>` +
				`<c s="4"><v>59</v></c><c s="4"><v>1</v></c></row>`,
			"1: 1t=2026-11-23 2t=2026-11-23T08:30:00 3t=06:00:00 4t=1900-02-28 5t=1900-01-01; ",
		},
		"hours beyond a day":  {"", `<row><c s="2"><v>1.5</v></c></row>`, "1: 1t=36:00:00; "},
		"days from 1904":      {`<workbookPr date1904="1"/>`, `<row><c s="1"><v>44887</v></c></row>`, "1: 1t=2026-11-23; "},
		"a day there was not": {"", `<row><c s="1"><v>60</v></c></row>`, "row 1, column A: 60 is 29 February 1900"},
		"no day":              {"", `<row><c s="1"><v>-1</v></c></row>`, "row 1, column A: -1 is not a day"},
		"not calculated": {
			"", `<row><c><f>SUM(A2:A3)</f></c></row>`,
			"row 1, column A: it is a formula without its value",
		},
		"calculated by nobody": {
			"", `<row><c><f>SUM(A2:A3)</f><v/></c></row>`,
			"row 1, column A: it is a formula without its value",
		},
		"rows out of order":  {"", `<row r="3"/><row r="2"/>`, "rows are not in order: 2 comes after 3"},
		"cells out of order": {"", `<row><c r="B1"/><c r="A1"/></row>`, "cells are not in order"},
		"too many rows":      {"", `<row r="1048577"/>`, "more than 1048576 rows"},
		"cut":                {"", `<row>`, "one.xml: line"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := rowsOf(t, made(t, c.workbook, c.sheet), "Lots")
			if err != nil {
				assert.ErrorContains(t, err, c.want)
				return
			}
			assert.Equal(t, c.want, got)
		})
	}
	_, err := rowsOf(t, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"), "")
	assert.ErrorContains(t, err, "encrypted")
	_, err = rowsOf(t, packed(t, map[string]string{"a": "b"}), "")
	assert.ErrorContains(t, err, "it has no _rels/.rels")
}

// What is written another program reads, and all else stays as it is.
func TestWrite(t *testing.T) {
	written := func(book *xlsx.Book, name string) []byte {
		var out bytes.Buffer
		require.NoError(t, book.Write(&out, name, func(row func([]xlsx.Cell) error) error {
			require.NoError(t, row([]xlsx.Cell{{Text: "lot"}, {Text: "kilos"}}))
			return row([]xlsx.Cell{
				{Text: " <L>&_x0041_\n"},
				{Kind: xlsx.Number, Text: "12.50"},
				{Kind: xlsx.Boolean, Text: "true"},
				{Text: strings.Repeat("ä", 40_000)},
			})
		}))
		return out.Bytes()
	}
	reads := func(data []byte, sheets []string, name string) {
		book, err := excelize.OpenReader(bytes.NewReader(data))
		require.NoError(t, err)
		assert.Equal(t, sheets, book.GetSheetList())
		rows, err := book.GetRows(name, excelize.Options{RawCellValue: true})
		require.NoError(t, err)
		require.Len(t, rows, 2)
		assert.Equal(t, []string{"lot", "kilos"}, rows[0])
		assert.Equal(t, []string{" <L>&_x0041_\n", "12.50"}, rows[1][:2])
		own, err := rowsOf(t, data, name)
		require.NoError(t, err)
		assert.Contains(t, own, "2: 1t= <L>&_x0041_\n 2n=12.50 3b=true 4t=ää")
		assert.Contains(t, own, "ä…; ")
	}
	reads(written(xlsx.New(), "results"), []string{"results"}, "results")

	other := made(t, "", `<row r="1"><c><v>1</v></c></row>`)
	for _, name := range []string{"results", "lots"} {
		book, err := xlsx.Open(other)
		require.NoError(t, err)
		now := written(book, name)
		sheets := map[string][]string{"results": {"Lots", name}, "lots": {"Lots"}}[name]
		reads(now, sheets, sheets[len(sheets)-1])
		before, after := partsOf(t, other), partsOf(t, now)
		for part, content := range before {
			switch {
			case part == "[Content_Types].xml", strings.HasSuffix(part, "main.xml.rels"),
				part == "book/main.xml" && name == "results",
				part == "book/sheets/one.xml" && name == "lots":
				assert.NotEqual(t, content, after[part], part)
			case part == "xl/calcChain.xml" && name == "lots":
				assert.NotContains(t, after, part)
			default:
				assert.Equal(t, content, after[part], part)
			}
		}
	}
	for _, name := range []string{"", "a/b", strings.Repeat("a", 32), "'a", "a\x00"} {
		assert.Error(t, xlsx.CheckName(name), name)
	}
}

func partsOf(t testing.TB, data []byte) map[string]string {
	t.Helper()
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	parts := map[string]string{}
	for _, part := range archive.File {
		in, err := part.Open()
		require.NoError(t, err)
		content, err := io.ReadAll(in)
		require.NoError(t, err)
		parts[part.Name] = string(content)
	}
	return parts
}
