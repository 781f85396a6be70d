//go:build peers

package main_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/contract"
	"testbench/internal/contract/openapi"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/schema"
)

// draftsOf writes a sheet that calls every operation of a description with what is
// drafted for it, and says how many steps it has.
func draftsOf(t *testing.T, c *openapi.Contract) (text string, steps int) {
	var out strings.Builder
	out.WriteString("sheet: drafts\nsteps:\n")
	for _, name := range c.Names() {
		op, err := c.Operation(name)
		require.NoError(t, err)
		for _, o := range []schema.SampleOptions{{}, {Optional: true}} {
			fields := op.SampleFields(o)
			if _, problems := op.Build(fields, contract.BuildOptions{}); len(problems) > 0 {
				continue // what contradicts itself is counted where drafts are tested
			}
			fmt.Fprintf(&out, `  - step: %q
    call: %q
    fill: %s
    contract: request
    expect: {status: 200}
`, fmt.Sprint(steps, " ", name), "s/"+name, document.WriteJSON(fields, document.Style{}))
			steps++
		}
	}
	return out.String(), steps
}

// What is drafted and sent holds for another reader of the same description.
func TestDraftsForOthers(t *testing.T) {
	t.Parallel()
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	files := []string{"../../internal/standin/demo/bench/contracts/stores.yaml"}
	for _, version := range []string{"3.0", "3.1"} {
		found, err := filepath.Glob(filepath.Join(peers, "node_modules/@readme/oas-examples", version, "json/*.json"))
		require.NoError(t, err)
		files = append(files, found...)
	}
	p := newPlace(t)
	type drafts struct {
		file, sheet string
		steps       int
	}
	var all []drafts
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "served"), 0o700))
	for _, file := range files {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		if !openapi.Is(data) {
			continue
		}
		c, err := openapi.Read(file, data, (&source.Source{}).Fetch)
		require.NoError(t, err, file)
		sheet, steps := draftsOf(t, c)
		if steps == 0 {
			continue
		}
		root, err := document.ReadYAML(data)
		require.NoError(t, err)
		p.write(fmt.Sprintf("served/%d.json", len(all)), document.WriteJSON(root, document.Style{}))
		all = append(all, drafts{file, sheet, steps})
	}
	port := freePort(t)
	serve(t, port, "node", "testdata/node/openapi.cjs", port, peers, filepath.Join(p.dir, "served"))
	total, unjudged := 0, 0
	for i, d := range all {
		bench := newPlace(t)
		bench.write("bench.yaml",
			fmt.Sprintf(`bench: t
sites:
  local: {}
services:
  s:
    contract: d.json
    address: http://127.0.0.1:%s/%d
`, port, i))
		data, err := os.ReadFile(d.file)
		require.NoError(t, err)
		bench.write("d.json", string(data))
		bench.write("drafts.yaml", d.sheet)
		o := bench.run("run", "drafts.yaml")
		total += d.steps
		said := strings.Join(strings.Fields(o.all()), " ")
		for _, m := range refusals.FindAllStringSubmatch(said, -1) {
			if notJudged.MatchString(m[1]) {
				unjudged++
				continue
			}
			t.Errorf("%s: %s", filepath.Base(d.file), m[0])
		}
		assert.Len(t, refusals.FindAllString(said, -1), strings.Count(said, "failed 1 of 1"), d.file)
	}
	t.Logf("%d descriptions, %d requests, %d of them not judged", len(all), total, unjudged)
	assert.Greater(t, total-unjudged, 900)
}

var refusals = regexp.MustCompile(`[0-9]+ [^ ]+ s/[^ ]+ +[45][0-9][0-9][^:]*response from s: "((?:[^"\\]|\\.)*)"`)

// notJudged is what the other reader cannot do, or gets wrong: objects and lists in
// forms and in some styles, a header parameter Authorization (which 4.7.12.1 ignores), bodies that
// may be left out, numbers in forms, descriptions
// that it cannot compile, values by default that break their own schema, which it
// fills in itself, a mapping from values to names of schemas (OpenAPI 3.0.3, 4.7.25), and a
// discriminator that the alternatives do not declare, which it passes over.
var notJudged = regexp.MustCompile(
	`^(Parameter 'style'|request/headers must have required property 'authorization'|unsupported media type undefined|Cannot |can't resolve|Invalid regular|\\"nullable\\"|exclusiveM|schema is invalid|request/(params|query|headers|body)/(object|array) must be|request/body/[A-Za-z]+ must be (integer|boolean|array|number)|request/body/id is read-only|request/query/time must match|'discrim' must be equal to one of the allowed values: OptionOneNoDisc|request/body/connector_properties must match exactly one)`)

// Drafts of schemas of every draft of JSON Schema, and of the grammars of a WADL, are
// valid for other readers of them.
func TestSchemasForOthers(t *testing.T) {
	t.Parallel()
	peers, err := filepath.Abs("../../scripts/peers")
	require.NoError(t, err)
	p, _ := newBench(t)
	schemas, err := filepath.Glob("testdata/schemas/*.json")
	require.NoError(t, err)
	require.Len(t, schemas, 5)
	args := []string{"testdata/node/schemas.cjs", peers}
	for _, file := range schemas {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		name := filepath.Base(file)
		p.write(name, string(data))
		for _, more := range [][]string{nil, {"-only", "required"}} {
			o := p.run(append([]string{"draft", name}, more...)...)
			require.Equal(t, 0, o.status, o.all())
			made := filepath.Join(p.dir, fmt.Sprintf("%d-%s", len(more), name))
			require.NoError(t, os.WriteFile(made, []byte(o.stdout), 0o600))
			args = append(args, file, made)
		}
	}
	output, err := exec.Command("node", args...).CombinedOutput()
	assert.NoError(t, err, "%s", output)
	assert.Contains(t, string(output), "0 of 10 cannot be compiled")
	for _, operation := range []string{"price", "prices"} {
		o := p.run("draft", "index", operation, "-answer")
		require.Equal(t, 0, o.status, o.all())
		p.write("answer.xml", o.stdout)
		output, err := exec.Command("xmllint", "--noout", "--schema", filepath.Join(p.dir, "contracts/index.xsd"),
			filepath.Join(p.dir, "answer.xml")).CombinedOutput()
		assert.NoError(t, err, "%s\n%s", output, o.stdout)
	}
}
