//go:build peers

package jsonschema_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
)

// The suite of JSON Schema itself is kept to, but for what fetches from the net.
func TestSuite(t *testing.T) {
	out, err := exec.Command("go", "mod", "download", "-json", "github.com/google/jsonschema-go@v0.4.3").Output()
	require.NoError(t, err, "scripts/test fetches it")
	var module struct{ Dir string }
	require.NoError(t, json.Unmarshal(out, &module))
	passed, failed := 0, []string{}
	var sampled []string // schemas and samples of them
	for _, draft := range []string{"draft7", "draft2020-12"} {
		files, err := filepath.Glob(filepath.Join(module.Dir, "jsonschema", "testdata", draft, "*.json"))
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			data, err := os.ReadFile(file)
			require.NoError(t, err)
			root, err := document.ReadJSON(data)
			require.NoError(t, err)
			for _, group := range root.Items() {
				node := group.Get("schema")
				if strings.Contains(document.WriteJSON(node, document.Style{}), "localhost:1234") {
					continue // other documents of the suite, by address
				}
				if node.Kind == document.Object && node.Get("$schema") == nil && draft == "draft7" {
					node = document.NewObject()
					node.SetMembers(append([]document.Member{{
						Key:   "$schema",
						Value: document.NewText("http://json-schema.org/draft-07/schema#"),
					}},
						group.Get("schema").Members()...))
				}
				docs := &jsonschema.Documents{}
				s, err := jsonschema.NewSet(docs, jsonschema.Alone, jsonschema.Both).Open(docs.Add("schema.json", node))
				if err != nil {
					failed = append(failed, fmt.Sprintf("%s %s: %v", filepath.Base(file), group.Get("description").Text,
						err))
					continue
				}
				if made := s.Sample(schema.SampleOptions{Optional: true}); len(s.Check(made.Root)) == 0 &&
					draft != "draft7" && !strings.Contains(document.WriteJSON(node, document.Style{}), "$dynamicRef") {
					// The other reader does not know all of $dynamicRef.
					files := []string{
						filepath.Join(t.TempDir(), "schema.json"),
						filepath.Join(t.TempDir(), "sample.json"),
					}
					require.NoError(t, os.WriteFile(files[0], []byte(document.WriteJSON(node, document.Style{})),
						0o600))
					require.NoError(t, os.WriteFile(files[1], []byte(document.WriteJSON(made.Root, document.Style{})),
						0o600))
					sampled = append(sampled, files...)
				}
				for _, one := range group.Get("tests").Items() {
					valid := len(s.Check(one.Get("data"))) == 0
					if valid != (one.Get("valid").Text == "true") {
						failed = append(failed, fmt.Sprintf("%s/%s %s: %s: %t", draft, filepath.Base(file),
							group.Get("description").Text, one.Get("description").Text, valid))
						continue
					}
					passed++
				}
			}
		}
	}
	t.Logf("%d passed, %d failed", passed, len(failed))
	// Formats are asserted here, and only remarked by 2020-12 as it is.
	for _, f := range failed {
		if !strings.Contains(f, "format.json") {
			assert.Fail(t, f)
		}
	}
	assert.Greater(t, passed, 1_500)
	t.Logf("%d samples", len(sampled)/2)
	output, err := exec.Command("node",
		append([]string{"../../cmd/testbench/testdata/node/schemas.cjs", "../../scripts/peers"},
			sampled...)...).CombinedOutput()
	assert.NoError(t, err, "%s", output)
	last := strings.Split(strings.TrimSpace(string(output)), "\n")
	t.Log(last[len(last)-1])
	assert.Less(t, len(last), len(sampled)/20)
}
