//go:build peers

package xpath_test

import (
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/path/xpath"
)

// Where libxml2 departs from the Recommendation, with what decides.
var departs = map[string]string{
	"number('1e3')":                     "a Number has no exponent (production 30)",
	"number(//g:measure[@name='deep'])": "the same",
	"//@level/following::node()":        "the children of an attribute's element come after it and are not descendants of it (2.2)",
}

var prefixes = map[string]string{"g": "urn:heatherfold:lab", "p": "urn:heatherfold:plain", "u": "urn:heatherfold:units"}

// libxml2's xmllint evaluates the same expressions over the same documents.
func TestAgainstXmllint(t *testing.T) {
	total := 0
	for file, list := range expressions {
		data, err := os.ReadFile(filepath.Join("testdata", file))
		require.NoError(t, err)
		root, err := document.ReadXML(data, "")
		require.NoError(t, err)
		tree := xpath.NewTree(root)
		var script strings.Builder
		for prefix, space := range prefixes {
			fmt.Fprintf(&script, "setns %s=%s\n", prefix, space)
		}
		asked := make([][]string, len(list))
		for i, source := range list {
			compiled, err := xpath.Compile(source)
			require.NoError(t, err, source)
			value, err := compiled.Evaluate(tree, prefixes)
			require.NoError(t, err, source)
			asked[i] = questions(source, value.IsNodes)
			for _, q := range asked[i] {
				fmt.Fprintf(&script, "xpath %s\n", q)
			}
		}
		command := exec.Command("xmllint", "--shell", filepath.Join("testdata", file))
		command.Stdin = strings.NewReader(script.String() + "quit\n")
		out, err := command.Output()
		require.NoError(t, err)
		answers := strings.Split(string(out), "/ > ")[len(prefixes)+1:]
		for i, source := range list {
			total++
			for _, q := range asked[i] {
				theirs := answerOf(answers[0])
				answers = answers[1:]
				compiled, err := xpath.Compile(q)
				require.NoError(t, err, q)
				value, err := compiled.Evaluate(tree, prefixes)
				require.NoError(t, err, q)
				if departs[source] == "" && !same(value.Single.Text, theirs) {
					t.Errorf("%s: %s: we say %q, xmllint %q", file, q, value.Single.Text, theirs)
				}
			}
		}
	}
	require.GreaterOrEqual(t, total, 150)
	t.Logf("%d expressions", total)
}

// questions turns an expression into such that give a single line.
func questions(source string, nodes bool) []string {
	if !nodes {
		// xmllint's shell takes lines of 400 bytes and prints 40 of a text.
		return []string{"substring(normalize-space(" + source + "), 1, 30)"}
	}
	list := []string{"count(" + source + ")"}
	for _, place := range []string{"1", "2", "last()"} {
		item := "(" + source + ")[" + place + "]"
		list = append(list, "name("+item+")", "string-length("+item+")", "count("+item+"/ancestor::node())",
			"count("+item+"/preceding::node())", "substring(normalize-space("+item+"), 1, 30)")
	}
	return list
}

func answerOf(line string) string {
	line = strings.TrimSuffix(strings.TrimRight(line, "\n"), "/ >")
	_, text, found := strings.Cut(line, " : ")
	if !found {
		return line
	}
	return text
}

func same(ours, theirs string) bool {
	if ours == theirs {
		return true
	}
	// xmllint writes 15 digits, and large numbers with an exponent.
	a, err := strconv.ParseFloat(ours, 64)
	b, err2 := strconv.ParseFloat(theirs, 64)
	return err == nil && err2 == nil && (a == b || math.Abs(a-b) < 1e-12*math.Abs(a))
}
