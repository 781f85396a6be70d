//go:build peers

package xlsx_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/xlsx"
)

// A spreadsheet of another program is read as it meant it, and that program reads what was written into it, with its
// chart.
func TestOpenpyxl(t *testing.T) {
	file := filepath.Join(t.TempDir(), "crates.xlsx")
	python := func(script string) string {
		t.Helper()
		script = "import openpyxl, datetime, sys\nfile = sys.argv[1]\n" + script
		out, err := exec.Command("/usr/bin/python3", "-c", script, file).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	python(`
from openpyxl.chart import BarChart, Reference
book = openpyxl.Workbook()
crates = book.active
crates.title = "Crates"
crates.append(["crate", "kilos", "day", "note", "ok"])
crates.append(["K-1", 12.5, datetime.date(2026, 11, 23), "Ähre & <x>", True])
crates.append(["K-2", 7, datetime.datetime(2026, 11, 23, 8, 30), None, False])
crates.append(["K-3", 7, datetime.timedelta(hours=36)])
chart = BarChart()
chart.add_data(Reference(crates, min_col=2, min_row=1, max_row=3), titles_from_data=True)
crates.add_chart(chart, "H3")
book.save(file)`)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	got, err := rowsOf(t, data, "Crates")
	require.NoError(t, err)
	assert.Equal(t, "1: 1t=crate 2t=kilos 3t=day 4t=note 5t=ok; 2: 1t=K-1 2n=12.5 3t=2026-11-23 4t=Ähre & <x> 5b=true; "+
		"3: 1t=K-2 2n=7 3t=2026-11-23T08:30:00 5b=false; 4: 1t=K-3 2n=7 3t=36:00:00; ", got)
	for range 2 { // added, then replaced
		book, err := xlsx.Open(data)
		require.NoError(t, err)
		var out bytes.Buffer
		require.NoError(t, book.Write(&out, "results", func(row func([]xlsx.Cell) error) error {
			return row([]xlsx.Cell{{Text: " Ähre\n<"}, {Kind: xlsx.Number, Text: "1.5"}})
		}))
		data = out.Bytes()
	}
	require.NoError(t, os.WriteFile(file, data, 0o600))
	assert.Equal(t, "['Crates', 'results'] ' Ähre\\n<' 1.5 1\n", python(`
book = openpyxl.load_workbook(file)
print(book.sheetnames, repr(book["results"]["A1"].value), book["results"]["B1"].value, len(book["Crates"]._charts))`))
}
