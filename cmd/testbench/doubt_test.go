package main_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/doubt"
	"testbench/internal/standin"
)

// What a green is worth is told in a number, fails a CI job where it is too little, and grows with the rules that are
// proposed; nothing is sent for it, and nothing secret is told.
func TestDoubtCommand(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	p.cases([]commandCase{
		{"doubt", 2, []string{"the history has no run of a sheet", "run one first: testbench run SHEET"}},
		{"run sheets/02-grading.yaml sheets/03-intake.yaml -doubt -out r.html", 0, []string{"sheets/03-intake.yaml · site local · noticed"}},
		{"doubt sheets/01-search.yaml", 2, []string{"no run in the history has the sheet sheets/01-search.yaml"}},
		{"doubt last -least 95%", 1, []string{"sheets/02-grading.yaml: noticed", "-least asks for 95 %"}},
		{"doubt 1 -least 1", 0, nil},
		{"doubt 7", 2, []string{"run 7 is not a whole run of such sheets"}},
		{"doubt 0", 2, []string{"runs have numbers from 1"}},
		{"doubt -least 0", 2, []string{"-least takes a part from 1% to 100%"}},
		{"doubt -most 0", 2, []string{"-most takes a number from 1"}},
		{"doubt sheets/02-grading.yaml -into sheets/03-intake.yaml", 2, []string{"is not a sheet that was doubted"}},
	})
	assert.Contains(t, p.read("r.html"), "What the checks would notice")
	server.Close() // nothing of what follows asks it
	doubted := func(args ...string) *doubt.Result {
		o := p.run(append([]string{"doubt", "-json"}, args...)...)
		var found []*doubt.Result
		require.NoError(t, json.Unmarshal([]byte(o.stdout), &found), o.all())
		for _, secret := range standin.Secrets {
			assert.NotContains(t, o.all(), secret)
		}
		require.Len(t, found, 1)
		return found[0]
	}
	before := doubted("sheets/03-intake.yaml")
	assert.Less(t, before.Share(), 0.5)
	o := p.run("doubt", "sheets/03-intake.yaml", "-into", "sheets/03-intake.yaml")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stderr, "put into step")
	assert.Equal(t, 0, p.run("vet", "sheets/03-intake.yaml").status)
	after := doubted("sheets/03-intake.yaml")
	assert.InDelta(t, float64(before.Noticed+before.ByRules), float64(after.Noticed), 3, "as was said")
	assert.Empty(t, after.Notes, "the rules hold for what was recorded")
	sample := doubted("sheets/03-intake.yaml", "-most", "20")
	assert.Equal(t, []int{20, before.Of}, []int{sample.Tried, sample.Of})
	assert.Contains(t, strings.Join(strings.Fields(p.run("doubt", "sheets/03-intake.yaml", "-most", "20").stdout), " "), "a sample of 20 of")
}
