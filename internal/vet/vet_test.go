package vet_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/sheet"
	"testbench/internal/standin/demo"
	"testbench/internal/step"
	"testbench/internal/vet"
	"testbench/internal/yamlfile"
)

// Nothing that is in a file makes reading or vetting it fail otherwise than
// by problems.
func FuzzSheet(f *testing.F) {
	dir := f.TempDir()
	require.NoError(f, demo.Write(dir, "http://127.0.0.1:1"))
	b, err := bench.Open(dir)
	require.NoError(f, err)
	files, err := filepath.Glob(filepath.Join(dir, "sheets", "*.yaml"))
	require.NoError(f, err)
	for _, file := range append(files, filepath.Join(dir, "bench.yaml")) {
		data, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(data)
	}
	f.Add([]byte(`sheet: x
steps:
  - step: a
    call: stores/search
    fill: [1]
    keep:
      a: {at: x, secret: true}
    expect: {fault: {code: A}}
    fields: {a: {one of: [1, {b: c}]}, b: [not: {is: null}]}
`))
	f.Add([]byte("checks: {good: &g {expect: {status: 200, same as file: a, except: [b]}, where: 1 == 1}}\nfills: {f: {<<: *g, a: *g}}\n"))
	f.Add([]byte("steps:\n- call: stores/search\n  checks: [good, other]\n  fills: seven\n  expect: &e {same as file: \"${a}\"}\n- {set: {a: *e}}\n"))
	b.Checks = []bench.Named{{Name: "good", At: yamlfile.Read("x", []byte("{expect: {status: 200}, fields: {a: 1}, where: [a, b]}")).Root}}
	b.Fills = []bench.Named{{Name: "seven", At: yamlfile.Read("x", []byte("{a: [1, {b: c}]}")).Root}}
	f.Fuzz(func(t *testing.T, data []byte) {
		other := bench.Read(dir, "bench.yaml", data)
		sheet.CheckNamed(other)
		vet.Sheet(sheet.Read(other, "x.yaml", data, step.Kinds), vet.Options{})
		vet.Sheet(sheet.Read(b, "x.yaml", data, step.Kinds), vet.Options{})
		vet.Bench(bench.Read(dir, "bench.yaml", data), vet.Options{})
	})
}

// Of a bench that is not YAML nothing is known: that is told once, and nothing is said to be missing in it.
func TestSheetOfAnUnreadableBench(t *testing.T) {
	t.Parallel()
	b := bench.Read(t.TempDir(), "bench.yaml", []byte("services: {stores: {request: GET /lots/{id}}}\n"))
	require.True(t, b.IsUnreadable())
	read := func(text string) *sheet.Sheet { return sheet.Read(b, "s.yaml", []byte(text), step.Kinds) }
	require.Empty(t, vet.Sheet(read("steps: [{call: stores/search, login: clerk}]\n"), vet.Options{}))
	require.NotEmpty(t, vet.Sheet(read("steps: [{cal: stores/search}]\n"), vet.Options{}))
}

func BenchmarkVet(b *testing.B) {
	dir := b.TempDir()
	require.NoError(b, demo.Write(dir, "http://127.0.0.1:1"))
	bench, err := bench.Open(dir)
	require.NoError(b, err)
	for b.Loop() {
		s, err := sheet.Open(bench, filepath.Join(dir, "sheets", "03-intake.yaml"), step.Kinds)
		require.NoError(b, err)
		vet.Sheet(s, vet.Options{})
	}
}
