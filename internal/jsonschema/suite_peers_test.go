//go:build peers

package jsonschema_test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/schema"
)

// suites are copies of JSON Schema's own suite in modules that test by it, with their drafts. What they say to be read
// from localhost:1234 is in their folder of remotes.
var suites = []struct {
	module, folder string
	drafts         []string
}{
	{"github.com/google/jsonschema-go@v0.4.3", "jsonschema/testdata", []string{"draft7", "draft2020-12"}},
	{"github.com/qri-io/jsonschema@v0.2.1", "testdata", []string{"draft4", "draft6", "draft7", "draft2019-09"}},
}

// says are the addresses by which schemas say their drafts, which those of the suite leave out.
var says = map[string]string{
	"draft4": "http://json-schema.org/draft-04/schema#", "draft6": "http://json-schema.org/draft-06/schema#",
	"draft7": "http://json-schema.org/draft-07/schema#", "draft2019-09": "https://json-schema.org/draft/2019-09/schema",
}

// aside are files of the suite that say what is not asked for, with the reason.
var aside = map[string]string{
	"content.json":              "what a text holds may be judged, and must not be from 2019-09 on (8.1)",
	"zeroTerminatedFloats.json": "that 1.0 is not an integer is for languages that tell them apart",
}

// withDraft is a schema that says its draft.
func withDraft(node *document.Node, draft string) *document.Node {
	if node.Kind != document.Object || node.Get("$schema") != nil || says[draft] == "" {
		return node
	}
	out := document.NewObject()
	out.SetMembers(append([]document.Member{{Key: "$schema", Value: document.NewText(says[draft])}}, node.Members()...))
	return out
}

// The suite of JSON Schema itself is kept to, in each draft.
func TestSuite(t *testing.T) {
	passed, failed := 0, []string{}
	var sampled []string // schemas and samples of them
	for _, suite := range suites {
		out, err := exec.Command("go", "mod", "download", "-json", suite.module).Output()
		require.NoError(t, err, "scripts/test fetches it")
		var module struct{ Dir string }
		require.NoError(t, json.Unmarshal(out, &module))
		folder := filepath.Join(module.Dir, suite.folder)
		for _, draft := range suite.drafts {
			files, err := filepath.Glob(filepath.Join(folder, draft, "*.json"))
			require.NoError(t, err)
			optional, err := filepath.Glob(filepath.Join(folder, draft, "optional", "*.json"))
			require.NoError(t, err)
			formats, err := filepath.Glob(filepath.Join(folder, draft, "optional", "format", "*.json"))
			require.NoError(t, err)
			require.NotEmpty(t, files)
			for _, file := range slices.Concat(files, optional, formats) {
				if aside[filepath.Base(file)] != "" {
					continue
				}
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				root, err := document.ReadJSON(data)
				require.NoError(t, err)
				for _, group := range root.Items() {
					node := withDraft(group.Get("schema"), draft)
					docs := &jsonschema.Documents{Fetch: func(_, location string) (string, []byte, error) {
						name, ok := strings.CutPrefix(location, "http://localhost:1234/")
						if !ok {
							return "", nil, fmt.Errorf("%s is not of the suite", location)
						}
						data, err := os.ReadFile(filepath.Join(folder, "remotes", filepath.FromSlash(name)))
						return location, data, err
					}}
					where := fmt.Sprintf("%s/%s %s", draft, filepath.Base(file), group.Get("description").Text)
					s, err := jsonschema.NewSet(docs, jsonschema.Alone, jsonschema.Both).Open(docs.Add("schema.json", node))
					if err != nil {
						failed = append(failed, fmt.Sprintf("%s: %v", where, err))
						continue
					}
					if made := s.Sample(schema.SampleOptions{Optional: true}); len(s.Check(made.Root)) == 0 &&
						draft == "draft2020-12" && !strings.Contains(document.WriteJSON(node, document.Style{}), "$dynamicRef") &&
						!strings.Contains(document.WriteJSON(node, document.Style{}), "localhost:1234") {
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
						if strings.Contains(one.Get("description").Text, "non-breaking-space") {
							continue // \s takes it (ECMA-262, 12.2, WhiteSpace); the suite was corrected later
						}
						valid := len(s.Check(one.Get("data"))) == 0
						if valid != (one.Get("valid").Text == "true") {
							failed = append(failed, fmt.Sprintf("%s: %s: %t", where, one.Get("description").Text, valid))
							continue
						}
						passed++
					}
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
