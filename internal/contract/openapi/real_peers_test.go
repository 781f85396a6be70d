// The race detector has nothing to find here, and makes it take twenty times as long: scripts/test runs it without.

//go:build peers && !race

package openapi_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
	"testbench/internal/contract/source"
	"testbench/internal/schema"
)

// moduleDir is where a Go module lies that scripts/test has fetched.
func moduleDir(t *testing.T, module string) string {
	t.Helper()
	out, err := exec.Command("go", "mod", "download", "-json", module).Output()
	require.NoError(t, err, "scripts/test fetches %s", module)
	var read struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &read))
	return read.Dir
}

// Descriptions that others wrote are read, and every operation can be drafted so
// that the draft holds.
func TestRealDescriptions(t *testing.T) {
	var files []string
	inModule, err := filepath.Glob(filepath.Join(moduleDir(t, "github.com/pb33f/libopenapi@v0.42.3"), "test_specs",
		"*"))
	require.NoError(t, err)
	for _, file := range inModule {
		if info, err := os.Stat(file); err == nil && info.Size() > 30_000 && !strings.Contains(file, "old") &&
			!strings.Contains(file, "badref") {
			files = append(files, file)
		}
	}
	examples, err := filepath.Glob("../../../scripts/peers/node_modules/@readme/oas-examples/*/json/*.json")
	require.NoError(t, err)
	require.NotEmpty(t, examples, "scripts/test installs them")
	files = append(files, examples...)
	large, operations, failing, answers, failingAnswers := 0, 0, 0, 0, 0
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		if !openapi.Is(data) {
			continue
		}
		start := time.Now()
		c, err := openapi.Read(file, data, (&source.Source{}).Fetch)
		if !assert.NoError(t, err, file) {
			continue
		}
		if len(data) > 30_000 {
			large++
		}
		wrong := 0
		for _, name := range c.Names() {
			op, err := c.Operation(name)
			require.NoError(t, err)
			operations++
			for _, o := range []schema.SampleOptions{{}, {Optional: true}} {
				_, problems := op.Build(op.SampleFields(o), contract.BuildOptions{})
				if len(problems) > 0 {
					wrong++
					if wrong < 4 {
						t.Logf("%s %s: %v", filepath.Base(file), name, problems[:min(3, len(problems))])
					}
				}
				for _, a := range op.Answers {
					for _, content := range a.Contents {
						if content.Schema != nil && len(content.Schema.Check(content.Schema.Sample(o).Root)) > 0 {
							failingAnswers++
						}
						answers++
					}
				}
			}
		}
		failing += wrong
		t.Logf("%s: %d operations, %d drafts fail, %s", filepath.Base(file), len(c.Names()), wrong,
			time.Since(start).Round(time.Millisecond))
	}
	assert.GreaterOrEqual(t, large, 5)
	assert.LessOrEqual(t, failing, operations/80,
		"what no example shows, as patterns that cannot be sampled, may be left")
	assert.LessOrEqual(t, failingAnswers, answers/40)
	t.Logf("%d descriptions, %d operations, %d drafts fail; of %d answers %d", len(files), operations, failing,
		answers, failingAnswers)
}
