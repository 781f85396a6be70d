package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/standin"
)

// Calls, steps of sheets and past exchanges are handed over in every language; what no
// code can be made of is refused in words, and no secret is in a program.
func TestHandover(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.cases([]commandCase{
		{
			"handover stores/search grade=A -as python -pick lots[0].id", 0,
			[]string{
				`secret("SECRET_HONEY_DESK")`, `"Bearer " + token`, `at(text, "lots", 0, "id")`,
				"it reads from the environment: SECRET_HONEY_DESK",
			},
		},
		{
			"handover lab/GradeLot lot=L-2201 moisture=17 -as go -pick grade", 0,
			[]string{`<lot>L-2201</lot>`, `read(body).in("grade", 0)`},
		},
		{"handover sheets/01-search.yaml search -as shell", 0, []string{"search of sheets/01-search.yaml", "lot="}},
		{"handover sheets/01-search.yaml details -as ruby -set lot=L-2201", 0, []string{"/stores/lots/L-2201"}},
		{"handover sheets/03-intake.yaml book -as php", 0, []string{"$status < 201 || $status > 201", "SECRET_"}},
		{"handover ledger/Suppliers.list top=2 -as csharp", 0, []string{"Handover", "Suppliers"}},
		{
			"handover courier GET /deliveries -login courier", 2,
			[]string{"of the kind of the login courier no code is made", "-login none"},
		},
		{"handover sheets/01-search.yaml details", 2, []string{"lot", "give it by -set NAME=VALUE, or hand over what a run sent"}},
		{"handover sheets/04-rows.yaml grade -row 2", 0, []string{"grade of sheets/04-rows.yaml, row 2", "L-2202"}},
		{"handover sheets/04-rows.yaml grade", 2, []string{"the step sends values of a row: which one?", "-row 1"}},
		{"handover sheets/04-rows.yaml grade -row 99", 2, []string{"there is no row 99 to run; the last is 3"}},
		{"handover sheets/01-search.yaml search -row 1", 2, []string{"-row has no effect: sheets/01-search.yaml has no rows"}},
		{"handover sheets/01-search.yaml detail", 2, []string{`no step "detail"`, "details"}},
		{"handover sheets/01-search.yaml", 2, []string{"hand over which step of sheets/01-search.yaml?"}},
		{"handover stores/search -as cobol", 2, []string{"-as cobol is not a language", "shell", "kotlin (Kotlin)"}},
		{"handover stores/search -as pythn", 2, []string{"-as pythn is not a language", `did you mean "python"?`}},
		{"handover", 2, []string{"hand over which request?"}},
		{"handover 1.1", 2, []string{"there is no run in the history"}},
		{"handover stores/search -out bench.yaml/x.sh", 2, []string{"bench.yaml"}},
	})
	require.Equal(t, 0, p.run("call", "stores/search", "grade=A").status)
	o := p.run("handover", "1.1", "-as", "javascript", "-out", "again.mjs")
	assert.Equal(t, 0, o.status, o.all())
	text := p.read("again.mjs")
	assert.Contains(t, text, `"Bearer " + secretMasked1`)
	assert.Contains(t, text, "What the history keeps masked is read from the environment")
	needsUnix(t, "files that can be run by their mode")
	info, err := os.Stat(filepath.Join(p.dir, "again.mjs"))
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&0o100, "it can be run")
}

// A command line out of documentation becomes a service that can be called; what stood in
// it as a credential is sealed, and is in no file.
func TestAddFromShell(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.env = append(p.env, "TESTBENCH_IDENTITY="+filepath.Join(t.TempDir(), "identity"))
	o := p.run("add", "moves", "-from-shell",
		`curl -sS -X POST 'https://h.example/v2/lots/L-2201/moves' -H 'X-Key: geheim-7781-abc' -u clerk:word-4451 -d '{"to": "south", "kilos": 12.50}'`)
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "from a command line")
	assert.Contains(t, o.stderr, "sealed: moves_password, which was in the command line")
	assert.NotContains(t, o.all()+p.read("bench.yaml"), "word-4451")
	assert.NotContains(t, o.all()+p.read("bench.yaml"), "geheim-7781")
	o = p.run("call", "moves/moves", "to=north", "-dry")
	assert.Equal(t, 0, o.status, o.all())
	for _, says := range []string{
		"POST https://h.example/v2/lots/L-2201/moves", "Authorization: Basic [masked]",
		"X-Key: [masked]", `"to": "north"`, `"kilos": 12.50`,
	} {
		assert.Contains(t, o.stdout, says)
	}
	p.cases([]commandCase{
		{
			"add x -from-shell fetch", 2,
			[]string{`"fetch" is not a client whose command lines are read; curl and wget are`},
		},
		{"add x y -from-shell curl~z", 2, []string{"with -from-shell, add takes a name alone"}},
	})
}

// A program gets its token where the bench does: at a desk too, whose token stands deep in an
// answer or is the whole of it. Of logins that no code can be made for, it says so.
func TestHandoverLogins(t *testing.T) {
	slow(t)
	t.Parallel()
	needsUnix(t, "go, within a test")
	p, server := newBench(t)
	ask := "GET http://" + server.Address + "/gate/ticket"
	for _, login := range []string{"old_desk", "slip_desk"} {
		o := p.run(strings.Fields("handover " + ask + " -as go -login " + login + " -out " + login + ".go")...)
		require.Equal(t, 0, o.status, o.all())
		handed := func(secret string) (string, error) {
			program := exec.Command("go", "run", login+".go")
			program.Dir, program.Env = p.dir, append(os.Environ(), "SECRET_CLERK="+secret)
			out, err := program.CombinedOutput()
			return string(out), err
		}
		out, err := handed(standin.Secrets["clerk"])
		require.NoError(t, err, "%s: %s", login, out)
		assert.JSONEq(t, `{"good":true,"user":"clerk"}`, out, login)
		out, err = handed("wrong")
		assert.Error(t, err)
		assert.Contains(t, out, "no token: 40", login)
	}
	for line, says := range map[string]string{
		ask + " -login clerk_bound":                    "needs a person or signs what it asks",
		ask + " -login phone":                          "needs a person or signs what it asks",
		ask + " -login office":                         "of the kind of the login office no code is made",
		ask + " -login nobody":                         `there is no login "nobody"`,
		"lab_digested/GradeLot lot=L-2201 moisture=17": "makes a digest, a nonce or a time stamp for each request",
		"lab_signed/GradeLot lot=L-2201 moisture=17":   "no code is made",
	} {
		o := p.run(append([]string{"handover"}, strings.Fields(line)...)...)
		assert.Equal(t, 2, o.status, "%s: %s", line, o.all())
		assert.Contains(t, o.all(), says, line)
	}
}
