package table_test

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/table"
)

// spreadsheet has a sheet with a title above its header, and cells of all kinds.
func spreadsheet(t testing.TB) []byte {
	t.Helper()
	book := excelize.NewFile()
	defer func() { _ = book.Close() }()
	_, err := book.NewSheet("lots")
	require.NoError(t, err)
	day, err := book.NewStyle(&excelize.Style{NumFmt: 14})
	require.NoError(t, err)
	own := `dd"day"\\ mm [Red]hh:mm`
	stamp, err := book.NewStyle(&excelize.Style{CustomNumFmt: &own})
	require.NoError(t, err)
	money := `0.00 "days"`
	price, err := book.NewStyle(&excelize.Style{CustomNumFmt: &money})
	require.NoError(t, err)
	for cell, v := range map[string]any{
		"A1": "Lots of the week", "A3": "lot", "B3": " kilos ", "C3": "day", "D3": "at", "E3": "ripe", "F3": "price",
		"G3": "code",
		"A4": "L-1", "B4": 12.5, "C4": time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC),
		"D4": time.Date(2026, 11, 23, 8, 30, 0, 0, time.UTC), "E4": true, "F4": 3, "G4": "007",
		"A6": "L-2", "B6": 7,
	} {
		require.NoError(t, book.SetCellValue("lots", cell, v))
	}
	for cell, style := range map[string]int{"C4": day, "D4": stamp, "F4": price} {
		require.NoError(t, book.SetCellStyle("lots", cell, cell, style))
	}
	var out bytes.Buffer
	require.NoError(t, book.Write(&out))
	return out.Bytes()
}

func rowsText(t *testing.T, read *table.Source) string {
	t.Helper()
	var out strings.Builder
	count := 0
	for row, err := range read.All() {
		require.NoError(t, err)
		count++
		out.WriteString(document.WriteJSON(row, document.Style{}) + " ")
	}
	assert.Equal(t, read.Count, count)
	return out.String()
}

func opened(data string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(data)), nil }
}

// Rows are the same whatever they are written in, and what is wrong is told with its
// place.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		name, data, path string
		options          table.Options
		want             string // the rows, or what is wrong
	}{
		{
			"a.csv", "\ufefflot;Lot No.;kilos\r\nL-1;\"a;b\r\nc\"\"d\"\"\";00120.50\r\nL-2;;7", "",
			table.Options{Kinds: table.Kinds{"Lot No.": "text"}},
			`{"lot":"L-1","Lot No.":"a;b\nc\"d\"","kilos":"00120.50"} {"lot":"L-2","Lot No.":"","kilos":7} `,
		},
		{
			"a.csv", "a,b\n1,x\n", "",
			table.Options{Kinds: table.Kinds{"b": "number"}},
			`line 2, column b: "x" is not a number`,
		},
		{
			"a.json", `[{"lot": "L-1", "kilos": 12.50}, {"lot": "L-2", "note": {"a": [1]}}]`, "",
			table.Options{},
			`{"lot":"L-1","kilos":12.50,"note":null} {"lot":"L-2","note":{"a":[1]},"kilos":null} `,
		},
		{
			"a.json", `{"page": {"lots": [{"lot": "1"}]}}`, "page.lots",
			table.Options{Kinds: table.Kinds{"lot": "number"}},
			`{"lot":1} `,
		},
		{"a.json", `{"page": 1}`, "", table.Options{}, "say with path: where the list is"},
		{"a.json", `{"page": 1}`, "lots", table.Options{}, "leads to nothing"},
		{"a.json", `["L-1", 2]`, "", table.Options{}, `{"value":"L-1"} {"value":2} `},
		{"a.ndjson", "{\"lot\": \"L-1\"}\n\n{\"lot\": \"L-2\"}\n", "", table.Options{}, `{"lot":"L-1"} {"lot":"L-2"} `},
		{"a.ndjson", "{\"lot\": \"L-1\"}\n{\"lot\n", "", table.Options{}, "2"},
		{
			"a.xml", `<week><lot no="1"><kilos>12.50</kilos><tag>a</tag><tag>b</tag></lot><lot no="2"/></week>`, "lot",
			table.Options{},
			`{"no":1,"kilos":12.50,"tag":["a","b"]} {"no":2,"kilos":null,"tag":null} `,
		},
		{"a.xml", `<week><lot/></week>`, "", table.Options{}, "path: lot"},
		{
			"a.xlsx", string(spreadsheet(t)), "",
			table.Options{Sheet: "lots", Header: 3},
			`{"lot":"L-1","kilos":12.5,"day":"2026-11-23","at":"2026-11-23T08:30:00","ripe":true,"price":3,"code":"007"} {"lot":"L-2","kilos":7,"day":"","at":"","ripe":"","price":"","code":""} `,
		},
		{"a.xlsx", string(spreadsheet(t)), "", table.Options{Sheet: "lotz"}, `no sheet "lotz"; did you mean "lots"?`},
		{"a.xlsx", string(spreadsheet(t)), "", table.Options{}, "has no row 1 to name the columns"},
		{"a.xlsx", "PK", "", table.Options{}, "cannot be read as a spreadsheet"},
		{"a.csv", "a\n1", "x", table.Options{}, "path: is for JSON and XML"},
		{"a.csv", "a\n1", "", table.Options{Sheet: "x"}, "sheet: is for spreadsheets"},
		{"a.pdf", "", "", table.Options{}, "files that end with .csv, .json"},
	} {
		if c.path != "" {
			compiled, err := path.Compile(c.path)
			require.NoError(t, err)
			c.options.Path = compiled
		}
		read, err := table.Open(c.name, opened(c.data), c.options)
		if err != nil {
			assert.ErrorContains(t, err, c.want, c.name)
			continue
		}
		assert.Equal(t, c.want, rowsText(t, read), c.name)
	}
}

func TestSpans(t *testing.T) {
	for _, c := range []struct {
		make       func(string, int, string) (*table.Source, error)
		span, want string
		step       int
	}{
		{table.Numbers, "3 to 9", `{"n":3} {"n":6} {"n":9} `, 3},
		{table.Numbers, "9 to 3", "ends before it begins", 0},
		{table.Numbers, "1 to x", "write 1 to 100", 0},
		{table.Numbers, "1 to 99999999", "more than 10000000", 0},
		{table.Numbers, "-9223372036854775808 to 9223372036854775807", "more than 10000000 rows", 0},
		{
			table.Days, "1969-12-30 to 1970-01-02",
			`{"n":"1969-12-30"} {"n":"1969-12-31"} {"n":"1970-01-01"} {"n":"1970-01-02"} `, 0,
		},
		{table.Numbers, "1-9", "write FIRST to LAST", 0},
		{table.Days, "2026-02-27 to 2026-03-01", `{"n":"2026-02-27"} {"n":"2026-02-28"} {"n":"2026-03-01"} `, 0},
		{table.Days, "2026-02-27 to 2026-02-30", "not a span of days", 0},
	} {
		read, err := c.make(c.span, c.step, "n")
		if err != nil {
			assert.ErrorContains(t, err, c.want)
			continue
		}
		assert.Equal(t, c.want, rowsText(t, read))
	}
	sample := func(rows, expected int, seed string) []int {
		s := table.NewSample(expected, seed)
		for i := range rows {
			s.Offer(i, i+1)
		}
		return s.Numbers()
	}
	some := sample(1000, 5, "7")
	assert.Len(t, some, 5)
	assert.IsIncreasing(t, some)
	assert.Equal(t, some, sample(1000, 5, "7"))
	assert.NotEqual(t, some, sample(1000, 5, "8"))
	assert.Len(t, sample(3, 5, ""), 3)
}

func FuzzRead(f *testing.F) {
	f.Add("a.csv", []byte("a;b\n1;2"))
	f.Add("a.xml", []byte("<a><b c='d'>e</b></a>"))
	f.Add("a.xlsx", spreadsheet(f))
	f.Add("a.ndjson", []byte("{}\n[]"))
	b, _ := path.Compile("b")
	f.Fuzz(func(t *testing.T, name string, data []byte) {
		for _, o := range []table.Options{{}, {Path: b}} {
			if source, err := table.Open(name, opened(string(data)), o); err == nil {
				for row, err := range source.All() {
					if err != nil || len(row.Members()) != len(source.Columns) {
						t.Fatal("what was read once is read otherwise the second time", err)
					}
				}
			}
		}
	})
}
