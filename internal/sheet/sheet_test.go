package sheet_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/sheet"
	"testbench/internal/standin"
)

func TestReadCSV(t *testing.T) {
	table, err := sheet.ReadCSV([]byte("\ufefflot;Lot No.;kilos\r\nL-1;\"a;b\r\nc\"\"d\"\"\";00120.50\r\nL-2;;7"), map[string]string{"Lot No.": "text"})
	require.NoError(t, err)
	assert.Equal(t, []string{"lot", "Lot No.", "kilos"}, table.Columns)
	require.Len(t, table.Rows, 2)
	assert.Equal(t, "a;b\nc\"d\"", table.Rows[0].Get("Lot No.").Text)
	assert.Equal(t, "00120.50", table.Rows[0].Get("kilos").Text, "a text keeps its zeros")
	_, err = sheet.ReadCSV([]byte("a,b\n1,x\n"), map[string]string{"b": "number"})
	assert.ErrorContains(t, err, `line 2, column b: "x" is no number`)
}

func TestStatusRules(t *testing.T) {
	cases := map[string]map[int]bool{
		"201": {201: true, 200: false}, "200 or 201": {200: true, 201: true, 204: false}, "2xx": {204: true, 301: false},
		"not 5xx": {200: true, 404: true, 503: false}, "4xx or 503": {404: true, 503: true, 500: false}, "not 200 or 201": {200: false, 202: true},
	}
	for text, statuses := range cases {
		r, err := sheet.ParseStatus(text)
		require.NoError(t, err)
		for status, want := range statuses {
			assert.Equal(t, want, r.Holds(status), "%s %d", text, status)
		}
	}
	for _, text := range []string{"", "20", "6xx", "ok", "200,201", "not", "2xxx"} {
		_, err := sheet.ParseStatus(text)
		assert.Error(t, err, text)
	}
}

// Sites are like others, and what they say themselves wins.
func TestSites(t *testing.T) {
	b := sheet.ReadBench("", "bench.yaml", []byte(`bench: x
sites:
  base:
    set:
      host: a
      base: http://${host}.example
      depot: north
    logins:
      clerk: base_clerk
  live:
    like: base
    guard: reading
    set:
      host: b
  ring:
    like: gnir
  gnir:
    like: ring
logins:
  clerk:
    kind: bearer
    token: ${sealed.x}
  base_clerk:
    kind: bearer
    token: ${sealed.y}
`))
	require.Len(t, b.Problems(), 2, "%v", b.Problems())
	assert.Contains(t, b.Problems()[0].Message, "in a ring")
	session, err := sheet.NewSession(b, sheet.Options{Site: "live"})
	require.NoError(t, err)
	for name, want := range map[string]string{"base": "http://b.example", "depot": "north"} {
		node, err := session.Scope(nil, nil).Lookup("", name)
		require.NoError(t, err)
		assert.Equal(t, want, node.Text)
	}
	assert.True(t, session.Site.Reading)
	assert.Equal(t, "base_clerk", session.Site.Logins["clerk"])
	_, err = b.At("lvie")
	assert.ErrorContains(t, err, `did you mean "live"?`)

	b = sheet.ReadBench("", "bench.yaml", []byte("bench: x\nsites:\n  a:\n    set:\n      x: ${y}\n      y: ${x}\n"))
	session, err = sheet.NewSession(b, sheet.Options{})
	require.NoError(t, err)
	_, err = session.Scope(nil, nil).Lookup("", "x")
	assert.ErrorContains(t, err, "in a ring")
}

// Nothing that stands in a file makes reading or vetting it fail otherwise than
// by problems.
func FuzzSheet(f *testing.F) {
	dir := f.TempDir()
	require.NoError(f, standin.WriteBench(dir, "http://127.0.0.1:1"))
	b, err := sheet.OpenBench(dir)
	require.NoError(f, err)
	files, err := filepath.Glob(filepath.Join(dir, "sheets", "*.yaml"))
	require.NoError(f, err)
	for _, file := range append(files, filepath.Join(dir, "bench.yaml")) {
		data, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Add([]byte("sheet: x\nsteps:\n  - step: a\n    call: stores/search\n    fill: [1]\n    keep:\n      a: {at: x, secret: true}\n    expect: {fault: {code: A}}\n    fields: {a: {one of: [1, {b: c}]}, b: [not: {is: null}]}\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		b.ReadSheet("x.yaml", data).Vet(sheet.VetOptions{})
		sheet.ReadBench(dir, "bench.yaml", data).Vet(sheet.VetOptions{})
	})
}

func BenchmarkVet(b *testing.B) {
	dir := b.TempDir()
	require.NoError(b, standin.WriteBench(dir, "http://127.0.0.1:1"))
	bench, err := sheet.OpenBench(dir)
	require.NoError(b, err)
	for b.Loop() {
		s, err := bench.OpenSheet(filepath.Join(dir, "sheets", "3-intake.yaml"))
		require.NoError(b, err)
		s.Vet(sheet.VetOptions{})
	}
}
