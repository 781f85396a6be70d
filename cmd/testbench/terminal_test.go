package main_test

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onTerminal runs the program on a terminal of its own, by the command script,
// and returns all that the terminal showed. What is typed is typed once the
// prompt is there.
func (p *place) onTerminal(prompt, typed, command string) string {
	p.t.Helper()
	needsUnix(p.t, "a terminal, by the command script")
	c := exec.Command("script", "-qefc", strings.ReplaceAll(command, "testbench", built), "/dev/null")
	c.Dir = p.dir
	c.Env = append([]string{"TERM=xterm-256color", "SHELL=/bin/sh"}, p.env...)
	stdin, err := c.StdinPipe()
	require.NoError(p.t, err)
	stdout, err := c.StdoutPipe()
	require.NoError(p.t, err)
	require.NoError(p.t, c.Start(), "script comes with bsdutils")
	var shown bytes.Buffer
	buffer := make([]byte, 4096)
	for {
		n, err := stdout.Read(buffer)
		shown.Write(buffer[:n])
		if prompt != "" && strings.Contains(shown.String(), prompt) {
			_, err := io.WriteString(stdin, typed)
			require.NoError(p.t, err)
			prompt = ""
		}
		if err != nil {
			break
		}
	}
	_ = stdin.Close()
	_ = c.Wait()
	return shown.String()
}

func TestTerminal(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	var env []string
	for _, e := range p.env {
		if e != "NO_COLOR=1" && !strings.HasPrefix(e, "TESTBENCH_SEALED_LAB") {
			env = append(env, e)
		}
	}
	p.env = env

	// Typing a secret shows nothing of it.
	shown := p.onTerminal("it is not shown): ", "typed without echo\n", "testbench secret set lab")
	assert.Contains(t, shown, "it is not shown")
	assert.Contains(t, shown, "sealed:")
	assert.NotContains(t, shown, "typed without")
	assert.Contains(t, p.read("secrets/lab.age"), "AGE ENCRYPTED FILE")

	shown = p.onTerminal("(empty for none): ", "http://127.0.0.1:1/health\n", "testbench new asked")
	assert.Contains(t, shown, "next: cd asked")
	assert.Contains(t, p.read("asked/bench.yaml"), "request: GET /health")

	// Colour is for terminals, and only where it is wanted.
	shown = p.onTerminal("", "", "testbench run sheets/06-too-moist.yaml")
	assert.Contains(t, shown, "\x1b[31mfailed 1 of 3\x1b[0m")
	assert.Contains(t, shown, "failed", "colour is not the only sign")
	assert.NotContains(t, p.onTerminal("", "", "testbench run -plain sheets/06-too-moist.yaml"), "\x1b[")
	for setting, isPlain := range map[string]bool{"NO_COLOR=1": true, "NO_COLOR=": false, "TERM=dumb": true} {
		shown := p.onTerminal("", "", "env "+setting+" testbench run sheets/06-too-moist.yaml")
		assert.Equal(t, isPlain, !strings.Contains(shown, "\x1b["), setting)
	}
	o := p.run("run", "sheets/06-too-moist.yaml")
	assert.NotContains(t, o.stdout, "\x1b[", "a pipe is not a terminal")
	assert.NotContains(t, p.run("run", "-plain", "sheets/03-intake.yaml").stdout, "·")

	// On 80 columns no line is longer.
	for _, line := range strings.Split(p.onTerminal("", "", "stty cols 80; testbench run sheets/05-refused.yaml"),
		"\n") {
		plain := strings.NewReplacer("\x1b[31m", "", "\x1b[32m", "", "\x1b[1m", "", "\x1b[2m", "", "\x1b[0m", "", "\r",
			"").Replace(line)
		if !strings.Contains(plain, " run 20") {
			assert.LessOrEqual(t, len([]rune(plain)), 80, plain)
		}
	}
}

// What a service sends never reaches a terminal as it is.
func TestControlCharacters(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	p.write("evil.json", "{\"note\": \"\\u001b]0;owned\\u0007 \u202e\\u009b31m\"}")
	p.write("www.yaml", "")
	p.write("bench.yaml", "bench: \"b\\x1b[31m\"\nsites:\n  s:\n    set:\n      base: http://127.0.0.1:1\nservices:\n  \"s\\x07\":\n    address: ${base}\n")
	for _, args := range [][]string{
		{"call", "x\x1b[31m/y"},
		{"run", "no\x1b]0;x\x07.yaml"},
		{"call", "GET", "http://127.0.0.1:1/\x1b[2J"},
		{"vet"},
		{"token", "\u202eabc"},
	} {
		o := p.run(args...)
		assert.NotContains(t, o.all(), "\x1b", "%q", args)
		assert.NotContains(t, o.all(), "\x07", "%q", args)
		assert.NotContains(t, o.all(), "\u202e", "%q", args)
	}
}

// The shell asks the program, which knows the bench that the shell is in.
func TestCompletion(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	words := map[string]string{ // "|" is between what may follow
		"ca": "call", "run -row": "-rows", "token -ver": "-verify",
		"call stores/se": "stores/search", "call ledger/Suppliers.l": "ledger/Suppliers.list",
		"call lab/Gr": "lab/GradeLot", "call -site l": "live|local", "call x/y -login clerk_i": "clerk_in_person",
		"run sheets/01": "sheets/01-search.yaml", "run -tag lo": "lookout", "run -show ": "all|received|sent",
		"run sheets/01-search.yaml -step s": "search", "probe sheets/01-search.yaml d": "details",
		"token old": "old_desk", "survey stores mo": "move", "help fil": "files|filters", "secret li": "list",
		"schema b": "bench", "completion po": "powershell", "run -out x": "", "nothing x": "", "call -bench nowhere st": "",
		"run -show \"\"": "all|received|sent", "fields -kind bo": "boolean", "call x -soap ": "1.1|1.2", "handover -as ja": "java|javascript",
	}
	for line, want := range words {
		args := append([]string{"completion", "words", "--"}, strings.Split(line, " ")...)
		o := p.run(args...)
		assert.Equal(t, 0, o.status, o.all())
		assert.Equal(t, want, strings.Join(strings.Fields(o.stdout), "|"), line)
	}
	env := append(p.env[:len(p.env):len(p.env)], "PATH="+filepath.Dir(built)+":"+os.Getenv("PATH"))
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		o := p.run("completion", shell)
		require.Equal(t, 0, o.status)
		p.write("completion."+shell, o.stdout)
		scripts := map[string]string{
			"bash": `source completion.bash; COMP_WORDS=(testbench call stores/se); COMP_CWORD=2; _testbench; printf '%s' "${COMPREPLY[@]}"`,
			"fish": `source completion.fish; complete -C 'testbench call stores/se'`,
			"zsh":  `compdef() { :; }; compadd() { shift; print -r -- "$@"; }; source ./completion.zsh; words=(testbench call stores/se) CURRENT=3; _testbench`,
		}
		if scripts[shell] == "" || shell != "bash" && !peers {
			continue
		}
		needsUnix(t, "shells")
		c := exec.Command(shell, "-c", scripts[shell])
		c.Dir, c.Env = p.dir, env
		output, err := c.CombinedOutput()
		require.NoError(t, err, "%s: %s", shell, output)
		assert.Equal(t, "stores/search", strings.TrimSpace(string(output)), shell)
	}
}

// Every command explains itself, and its examples are commands that exist.
func TestHelp(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	overview := p.run("help")
	require.Equal(t, 0, overview.status)
	for _, name := range []string{
		"new", "demo", "call", "token", "secret", "run", "vet", "standin", "help",
		"completion", "version",
	} {
		assert.Contains(t, overview.stdout, "\n  "+name)
		for _, args := range [][]string{{"help", name}, {name, "-h"}, {name, "--help"}} {
			o := p.run(args...)
			assert.Equal(t, 0, o.status, "%v", args)
			assert.Contains(t, o.stdout, "usage: testbench "+name)
			assert.Contains(t, o.stdout, "-plain")
		}
	}
	o := p.run("version", "-json")
	assert.Contains(t, o.stdout, `"version"`)
	assert.Equal(t, 0, p.run("--version").status)
}

// On forty columns nothing is wider, and nothing that matters is missing.
func TestNarrowTerminal(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("a.json", `{"lots": [{"id": "L-1", "keeper": "Ansel Thripp of the northern moor", "kilos": 12.50}]}`)
	p.write("b.json", `{"lots": [{"id": "L-1", "keeper": "Bryony Garrow of the southern moor", "kilos": 13.50}]}`)
	p.sheet("sheet: s\nsteps:\n  - step: search\n    call: stores/search\n    fields:\n      total: at least 1\n")
	p.sheet("sheet: s\nsteps:\n  - step: search\n    call: stores/search\n    fields:\n      total: at least 100\n")
	for command, says := range map[string]string{
		"compare a.json b.json": "Bryony Garrow",
		"compare contracts/stores.yaml contracts/stores-next.yaml": "breaks callers",
		"fields a.json": "keeper",
		"history":       "failed",
		"compare 1 2":   "newly failing",
		"probe stores/lot id=L-2201 -only credentials,limits": "passed: nothing broke it",
	} {
		shown := p.onTerminal("", "", "stty cols 40; testbench "+command)
		assert.Contains(t, strings.Join(strings.Fields(shown), " "), says, command)
		for line := range strings.Lines(shown) {
			assert.LessOrEqual(t, len([]rune(colours.ReplaceAllString(strings.TrimRight(line, "\r\n"), ""))), 40,
				"%s: %s", command, line)
		}
	}
}

var colours = regexp.MustCompile("\x1b\\[[0-9;]*m")
