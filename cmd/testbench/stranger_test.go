package main_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A bench that a stranger made has links to what is the tester's own, and names that lead out of
// it. No command that only reads follows one, tells what lies there, or writes there.
func TestBenchOfAStranger(t *testing.T) {
	slow(t)
	t.Parallel()
	const mine = "what-is-mine-alone"
	p := newPlace(t)
	outside := t.TempDir()
	own := func(name, text string) string {
		full := filepath.Join(outside, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o600))
		return full
	}
	content := func() string {
		var all strings.Builder
		require.NoError(t, filepath.WalkDir(outside, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			data, err := os.ReadFile(name)
			all.WriteString(name + "\n" + string(data) + "\n")
			return err
		}))
		return all.String()
	}
	own("sheet.yaml", "sheet: "+mine+"\nsteps:\n  - step: "+mine+"\n    request: GET http://127.0.0.1:1/\n")
	own("data.csv", "lot\n"+mine+"\n")
	own("contract.json", `{"openapi": "3.1.0", "info": {"title": "`+mine+
		`", "version": "1"}, "paths": {"/open": {"get": {"operationId": "`+mine+
		`", "responses": {"200": {"description": "x"}}}}}}`)
	own("secrets/"+"clerk.age", mine)
	own("state/history.db", mine)
	own("bench.yaml", "bench: "+mine+"\n")
	up := strings.Repeat("../", 12) + strings.TrimPrefix(outside, "/")
	good := `bench: b
sites:
  local:
    set:
      base: http://127.0.0.1:1
services:
  s:
    address: ${base}
`
	sheet := func(step string) string {
		return "sheet: s\nsteps:\n  - step: it\n    request: POST http://127.0.0.1:1/\n    " + step + "\n"
	}
	link := func(to, name string) func() {
		return func() {
			full := filepath.Join(p.dir, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
			require.NoError(t, os.Symlink(to, full))
		}
	}
	write := func(name, text string) func() { return func() { p.write(name, text) } }
	for name, prepare := range map[string][]func(){
		"the bench file": {link(filepath.Join(outside, "bench.yaml"), "bench.yaml")},
		"the history": {
			write("bench.yaml", good),
			link(filepath.Join(outside, "state", "history.db"), ".testbench/history.db"),
		},
		"where the history is": {write("bench.yaml", good), link(filepath.Join(outside, "state"), ".testbench")},
		"a history to be": {
			write("bench.yaml", good),
			link(filepath.Join(outside, "new.db"), ".testbench/history.db"),
		},
		"secrets": {
			write("bench.yaml",
				good+"    login: l\nlogins:\n  l: {kind: basic, user: u, password: \"${sealed.clerk}\"}\n"),
			link(filepath.Join(outside, "secrets"), "secrets"),
		},
		"a secret": {
			write("bench.yaml",
				good+"    login: l\nlogins:\n  l: {kind: basic, user: u, password: \"${sealed.clerk}\"}\n"),
			link(filepath.Join(outside, "secrets", "clerk.age"), "secrets/clerk.age"),
		},
		"a sheet": {
			write("bench.yaml", good),
			link(filepath.Join(outside, "sheet.yaml"), "sheets/s.yaml"),
		},
		"the folder of sheets": {write("bench.yaml", good), link(outside, "sheets")},
		"rows": {
			write("bench.yaml", good), link(filepath.Join(outside, "data.csv"), "data/d.csv"),
			write("sheets/s.yaml", `sheet: s
rows: data/d.csv
steps:
  - step: it
    request: GET http://127.0.0.1:1/${row.lot}
`),
		},
		"rows by name": {
			write("bench.yaml", good),
			write("sheets/s.yaml", "sheet: s\nrows: "+up+
				"/data.csv\nsteps:\n  - step: it\n    request: GET http://127.0.0.1:1/${row.lot}\n"),
		},
		"a body": {write("bench.yaml", good), write("sheets/s.yaml", sheet("file: "+up+"/data.csv"))},
		"bytes":  {write("bench.yaml", good), write("sheets/s.yaml", sheet("bytes: "+up+"/data.csv"))},
		"a file in a value": {
			write("bench.yaml", good),
			write("sheets/s.yaml", sheet("body: {a: \"${file."+up+"/data.csv}\"}")),
		},
		"a part": {
			write("bench.yaml", good),
			write("sheets/s.yaml", sheet("parts:\n      - name: a\n        file: "+up+"/data.csv")),
		},
		"a schema": {
			write("bench.yaml", good),
			write("sheets/s.yaml", sheet("expect:\n      schema: "+up+"/contract.json")),
		},
		"a sheet in a sheet": {
			write("bench.yaml", good),
			write("sheets/s.yaml", "sheet: s\nsteps:\n  - step: it\n    sheet: "+up+"/sheet.yaml\n"),
		},
		"a contract": {
			write("bench.yaml", good+"    contract: contracts/c.json\n"),
			link(filepath.Join(outside, "contract.json"), "contracts/c.json"),
		},
		"a contract by name": {write("bench.yaml", good+"    contract: "+up+"/contract.json\n")},
		"what a contract names": {
			write("bench.yaml", good+"    contract: contracts/c.json\n"),
			write("contracts/c.json",
				`{"openapi": "3.1.0", "info": {"title": "t", "version": "1"}, "paths": {"/a": {"$ref": "`+up+
					`/contract.json#/paths/~1open"}}}`),
		},
		"an authority": {write("bench.yaml",
			strings.Replace(good, "services:", "    tls:\n      ca: "+up+"/data.csv\nservices:", 1))},
	} {
		t.Run(name, func(t *testing.T) {
			require.NoError(t, os.RemoveAll(p.dir))
			require.NoError(t, os.MkdirAll(p.dir, 0o755))
			for _, one := range prepare {
				one()
			}
			before := content()
			for _, args := range [][]string{
				{"vet"},
				{"survey"},
				{"survey", "s"},
				{"history"},
				{"report", "last"},
				{"run", "sheets/s.yaml", "-dry"},
				{"completion", "bash"},
				{"token", "l"},
				{"draft", "s/x"},
				{"secret", "list"},
			} {
				o := p.run(args...)
				assert.NotContains(t, o.all(), mine, "%q", args)
				assert.NotContains(t, o.all(), "panic")
			}
			assert.Equal(t, before, content(), "something was written there")
		})
	}
}
