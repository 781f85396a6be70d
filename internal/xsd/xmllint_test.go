//go:build peers

package xsd

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Where libxml2's xmllint judges a Pair otherwise than the Recommendation, with
// what decides. The key is the pair's name.
var libxmlErrs = map[string]string{
	"decimal  1234567890123456789012345678901234567890.5": "it counts 24 digits; any number of them is a decimal (Part 2, 3.2.3)",
	"integer  123456789012345678901234567890":             "the same",
	"float  1e":                            "an exponent needs digits (3.2.4.1)",
	"double <minInclusive value='0'/> NaN": "NaN is over and under nothing (3.2.5)",
	"duration  PT.5S":                      "seconds are [0-9]+(\\.[0-9]+)? (3.2.6.1)",
	"groups.txt 6":                         "NMTOKENS has at least one item (Part 2, 3.3.5)",
	"ids.txt 3":                            "an IDREF needs its ID (Part 1, 3.3.4)",
	"ids.txt 4":                            "the same",
	"duration  PT1.S":                      "the same",
}

// xmllint judges every pair; where it differs, it is listed why.
func TestPairsAgainstXmllint(t *testing.T) {
	dir := t.TempDir()
	bySchema := map[string][]Pair{}
	var order []string
	for _, p := range AllPairs(t) {
		if bySchema[p.Schema] == nil {
			order = append(order, p.Schema)
		}
		bySchema[p.Schema] = append(bySchema[p.Schema], p)
	}
	met, total := map[string]bool{}, 0
	for n, schema := range order {
		schemaFile := filepath.Join(dir, fmt.Sprintf("s%d.xsd", n))
		require.NoError(t, os.WriteFile(schemaFile, []byte(schema), 0o600))
		args := []string{"--noout", "--schema", schemaFile}
		for i, p := range bySchema[schema] {
			file := filepath.Join(dir, fmt.Sprintf("i%d-%d.xml", n, i))
			require.NoError(t, os.WriteFile(file, []byte(p.Instance), 0o600))
			args = append(args, file)
		}
		out, _ := exec.Command("xmllint", args...).CombinedOutput()
		for i, p := range bySchema[schema] {
			file := filepath.Join(dir, fmt.Sprintf("i%d-%d.xml", n, i))
			says := strings.Contains(string(out), file+" validates")
			if !says && !strings.Contains(string(out), file+" fails to validate") {
				if libxmlErrs[p.Name] == "" {
					t.Errorf("%s: xmllint gives no verdict: %s", p.Name, out)
				}
				met[p.Name] = true
				continue
			}
			total++
			if says != p.Valid {
				met[p.Name] = true
				if libxmlErrs[p.Name] == "" {
					t.Errorf("%s: valid by us %v, by xmllint %v:\n%s", p.Name, p.Valid, says, p.Instance)
				}
			}
		}
	}
	for name := range libxmlErrs {
		if !met[name] {
			t.Errorf("%s is listed, but xmllint agrees", name)
		}
	}
	t.Logf("%d pairs judged", total)
	require.GreaterOrEqual(t, total, 300)
}

// libxml2 refuses the schemas of which we say that others do.
func TestRefusedByXmllint(t *testing.T) {
	dir := t.TempDir()
	instance := filepath.Join(dir, "m.xml")
	require.NoError(t, os.WriteFile(instance, []byte(`<ok xmlns="urn:t">a</ok>`), 0o600))
	for _, c := range refusedCases {
		file := filepath.Join(dir, "s.xsd")
		require.NoError(t, os.WriteFile(file, []byte(c.schema()), 0o600))
		out, err := exec.Command("xmllint", "--noout", "--schema", file, instance).CombinedOutput()
		require.Equal(t, c.libxml, err != nil && strings.Contains(string(out), "Schemas parser error"), "%s: %s", c.name, out)
	}
}
