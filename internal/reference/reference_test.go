package reference_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"

	"testbench/internal/bench"
	"testbench/internal/path"
	"testbench/internal/reference"
	"testbench/internal/sheet"
	"testbench/internal/standin/demo"
	"testbench/internal/step"
	"testbench/internal/value"
	"testbench/internal/vet"
)

// Every word of the reference has its sentence; every key, filter and function has an example, and every
// placeholder in it can be written.
func TestTopics(t *testing.T) {
	for _, topic := range reference.Topics() {
		assert.NotEmpty(t, topic.Entries, topic.Name)
		for _, e := range topic.Entries {
			assert.NotEmpty(t, e.About, "%s: %s", topic.Name, e.Form)
			switch topic.Name {
			case "bench", "sheets", "logins", "filters", "functions", "paths":
				assert.NotEmpty(t, e.Example, "%s: %s has no example: write one into internal/reference/examples",
					topic.Name, e.Form)
			}
			if topic.Name == "paths" {
				_, err := path.Compile(e.Example)
				assert.NoError(t, err, e.Example)
			}
			if (topic.Name == "placeholders" || topic.Name == "filters") && e.Example != "" {
				_, err := value.Parse(e.Example)
				assert.NoError(t, err, e.Example)
			}
		}
	}
}

// The examples are right: vet finds no mistake in them.
func TestExamples(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, "http://127.0.0.1:8720"))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "sheets")))
	require.NoError(t, fs.WalkDir(os.DirFS("examples"), ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := os.ReadFile(filepath.Join("examples", name))
		require.NoError(t, err)
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o700))
		return os.WriteFile(filepath.Join(dir, name), data, 0o600)
	}))
	spreadsheet := excelize.NewFile()
	require.NoError(t, spreadsheet.SetSheetName("Sheet1", "North"))
	require.NoError(t, spreadsheet.SetSheetRow("North", "A2", &[]string{"lot"}))
	require.NoError(t, spreadsheet.SetSheetRow("North", "A3", &[]string{"L-2201"}))
	require.NoError(t, spreadsheet.SaveAs(filepath.Join(dir, "data", "lots.xlsx")))
	require.NoError(t, spreadsheet.Close())
	b, err := bench.Open(dir)
	require.NoError(t, err)
	var told []string
	for _, p := range append(b.Problems().Serious(), vet.Bench(b, vet.Options{}).Serious()...) {
		told = append(told, p.String())
	}
	sheets, err := filepath.Glob(filepath.Join(dir, "sheets", "*.yaml"))
	require.NoError(t, err)
	for _, name := range sheets {
		s, err := sheet.Open(b, name, step.Kinds)
		require.NoError(t, err)
		for _, p := range vet.Sheet(s, vet.Options{}).Serious() {
			told = append(told, p.String())
		}
	}
	assert.Empty(t, told, strings.Join(told, "\n"))
}

// The events are those that the face writes.
func TestEvents(t *testing.T) {
	var told, written []string
	for _, topic := range reference.Topics() {
		for _, e := range topic.Entries {
			if topic.Name == "events" {
				told = append(told, e.Form)
			}
		}
	}
	for _, name := range []string{"runjson.go", "run.go", "printer.go"} {
		code, err := os.ReadFile(filepath.Join("..", "cli", name))
		require.NoError(t, err)
		for _, m := range regexp.MustCompile(`(?:event\(|"event": )"([a-z ]+)"`).FindAllStringSubmatch(string(code), -1) {
			written = append(written, m[1])
		}
	}
	assert.ElementsMatch(t, told, written)
}
