//go:build linux

package main_test

import (
	"crypto/sha256"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// content is what lies in the bench, without what commands note for themselves.
func (p *place) content() map[string]string {
	p.t.Helper()
	out := map[string]string{}
	require.NoError(p.t, filepath.WalkDir(p.dir, func(path string, d fs.DirEntry, err error) error {
		if d != nil && d.IsDir() && d.Name() == ".testbench" {
			return fs.SkipDir
		}
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		name, _ := filepath.Rel(p.dir, path)
		out[name] = fmt.Sprintf("%x", sha256.Sum256(data))
		return err
	}))
	return out
}

// writers are the commands that write, each a file of its own kind; N makes the names of
// what they write their own.
var writers = []string{
	"add zN BASE/stores/lots -example",
	"secret set sN",
	"call stores/search grade=A -keep kN=total",
	"call stores/search grade=A -into sheets/mine.yaml",
	"call stores/search grade=A -save savedN.json",
	"propose stores/search grade=A -times 2 -into sheets/mine2.yaml -step search",
	"run sheets/01-search.yaml -out reportN.html -out reportN.xml",
	"probe stores/lot id=L-2201 -only missing -as sheet -out checks/wrongN.yaml",
	"handover stores/search grade=A -as go -out handed.go",
	"bridge lab -issue-key kN",
}

func (p *place) writing() {
	p.stdin = "a secret that is long enough\n"
	p.write("sheets/mine.yaml",
		"sheet: mine\nsteps:\n  - step: search\n    call: stores/search\n    fill:\n      grade: A\n")
	p.write("sheets/mine2.yaml", strings.Replace(p.read("sheets/mine.yaml"), "sheet: mine", "sheet: mine too", 1))
	require.Equal(p.t, 0, p.run("bridge", "lab", "-issue-key", "first").status)
	require.Equal(p.t, 0, p.run("secret", "set", "first").status)
}

func words(command, base string, n int) []string {
	return strings.Fields(strings.NewReplacer("N", fmt.Sprint(n), "BASE", base).Replace(command))
}

// remains are files that lie beside what is written, until it is in place.
var remains = regexp.MustCompile(`^\..*\.[0-9]+-[0-9]{5,}$`)

// Where the disk takes no more, a command says so, what was there stays as it was, and
// nothing half written is left.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	p.writing()
	before, failed := p.content(), 0
	for _, command := range writers {
		args := words(command, "http://"+server.Address, 1)
		// No file may grow beyond 512 bytes: what the system says then is as on a full disk.
		c := exec.Command("sh", append([]string{"-c", `ulimit -f 1; exec "$0" "$@"`, built}, args...)...)
		c.Dir, c.Env, c.Stdin = p.dir, p.env, strings.NewReader(p.stdin)
		said, err := c.CombinedOutput()
		now := p.content()
		for name, sum := range before {
			if err != nil {
				assert.Equal(t, sum, now[name], "%s: %s was changed: %s", command, name, said)
			}
		}
		for name := range now {
			assert.NotRegexp(t, remains, filepath.Base(name), "%s", command)
		}
		if err != nil {
			failed++
			assert.Equal(t, 2, c.ProcessState.ExitCode(), "%s: %s", command, said)
			assert.Contains(t, string(said), "file too large", command)
		}
		before = now
	}
	assert.GreaterOrEqual(t, failed, 5, "what does not fit")
	assert.Equal(t, 0, p.run("history").status)
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer func() { _ = full.Close() }()
	c := p.command("survey", "lab")
	c.Stdout = full
	require.Error(t, c.Run())
	assert.Equal(t, 2, c.ProcessState.ExitCode(), "what cannot be told is not a success")
}

// Several commands at once in one bench lose nothing of each other.
func TestAtOnceInOneBench(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	base := "http://" + server.Address
	p.writing()
	var at sync.WaitGroup
	const each = 4
	for n := range each {
		for _, command := range writers {
			if strings.HasPrefix(command, "propose") && n > 0 || strings.HasPrefix(command, "handover") {
				continue
			}
			at.Add(1)
			go func() {
				defer at.Done()
				said, err := p.command(words(command, base, n)...).CombinedOutput()
				assert.NoError(t, err, "%s: %s", command, said)
			}()
		}
	}
	at.Wait()
	bench, sheet := p.read("bench.yaml"), p.read("sheets/mine.yaml")
	secrets, keys := p.run("secret", "list").stdout, p.run("bridge", "lab", "-list-keys").stdout
	for n := range each {
		assert.Contains(t, bench, fmt.Sprintf("\n  z%d:", n))
		assert.Contains(t, secrets, fmt.Sprintf("s%d", n))
		assert.Contains(t, keys, fmt.Sprintf("k%d", n))
		assert.Equal(t, 1, strings.Count(p.run("call", "stores", "GET", "/lots/L-2201", "-in",
			fmt.Sprintf("header.X-N=kept:k%d", n), "-dry").stdout, "X-N"))
	}
	assert.Equal(t, each, strings.Count(sheet, "call: stores/search")-1)
	assert.Equal(t, 0, p.run("vet").status)
	assert.Equal(t, each, strings.Count(p.run("history").stdout, "sheets/01-search.yaml"))
}

// A command that is killed while it writes leaves the old file or the new one.
func TestKilledWhileWriting(t *testing.T) {
	slow(t)
	t.Parallel()
	p, server := newBench(t)
	base := "http://" + server.Address
	p.writing()
	random := rand.New(rand.NewPCG(1, 2))
	rounds := 8
	if testing.Short() {
		rounds = 2
	}
	for n := range rounds {
		for _, command := range writers {
			if strings.HasPrefix(command, "run") && n > 2 {
				continue // rows that were told are checked against the record elsewhere
			}
			c := p.command(words(command, base, n)...)
			onItsOwn(c)
			require.NoError(t, c.Start())
			timer := time.AfterFunc(time.Duration(random.IntN(45))*time.Millisecond, func() { _ = c.Process.Kill() })
			_ = c.Wait()
			timer.Stop()
		}
		for _, command := range []string{"vet", "secret list", "history", "bridge lab -list-keys", "token clerk"} {
			o := p.run(strings.Fields(command)...)
			assert.Equal(t, 0, o.status, "%s: %s", command, o.all())
		}
		for _, name := range []string{"sheets/mine.yaml", "sheets/mine2.yaml"} {
			o := p.run("run", name)
			assert.Equal(t, 0, o.status, "%s: %s", name, o.all())
		}
	}
	whole := 0
	for name := range p.content() {
		if strings.HasPrefix(name, "report") && strings.HasSuffix(name, ".html") {
			assert.Contains(t, p.read(name), "</html>", name)
			whole++
		}
		if strings.HasPrefix(name, "saved") {
			assert.True(t, strings.HasSuffix(strings.TrimSpace(p.read(name)), "}"), name)
		}
	}
	t.Logf("%d whole reports", whole)
}

// A run that cannot be recorded any more says so at once, goes on, and claims nothing else at its
// end, in its reports, or in the history.
func TestRunThatIsNotRecordedToItsEnd(t *testing.T) {
	slow(t)
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		_, _ = io.WriteString(w, strings.Repeat("x", 3000))
	}))
	defer server.Close()
	p := newPlace(t)
	p.write("bench.yaml", "bench: b\nsites:\n  l: {}\nservices:\n  s:\n    address: "+server.URL+"\n")
	p.write("sheets/s.yaml", "sheet: s\nsteps:\n  - step: a\n    request: s GET /\n")
	c := exec.Command("sh", "-c", `ulimit -f 400; exec "$0" run sheets/s.yaml -repeat 1500 -out r.xml`, built)
	c.Dir, c.Env = p.dir, p.env
	said, err := c.CombinedOutput()
	require.NoError(t, err, "%s", said)
	lines := strings.Split(strings.TrimSpace(string(said)), "\n")
	assert.Contains(t, lines[0], "the run is not recorded from here on: ")
	assert.Contains(t, string(said), "1500 passed")
	assert.Contains(t, string(said), "run 1, not recorded to its end\n")
	assert.Equal(t, 1, strings.Count(string(said), "not recorded from here on"))
	assert.Contains(t, p.read("r.xml"), `<error message="the run was not recorded to its end: `)
	assert.Contains(t, p.run("history").stdout, "interrupted")
}

// A dash is standard input or output wherever a file is named.
func TestStandardFiles(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	sheet, contract := p.read("sheets/01-search.yaml"), p.read("contracts/stores.yaml")
	for _, c := range []struct {
		args, stdin string
		status      int
		stdout      string
	}{
		{"run -", sheet, 0, "1 sheet · 1 passed"},
		{"vet -", sheet, 0, "no mistakes"},
		{"vet -", "sheet: x\nstepz: []\n", 2, "standard input:2:1:"},
		{"call stores/search -save - -quiet", "", 0, `{"depot":"north","lots":[{"id":"L-2201"`},
		{"call stores/move -body - -dry", `{"lot":"L-2201","to":"south"}`, 0, `"to": "south"`},
		{"call stores/search -fill - -dry", `{"grade":"B"}`, 0, "grade=B"},
		{"report last -out -.md", "", 0, "## All passed"},
		{"report last -out -.json", "", 0, `"steps"`},
		{"handover stores/search -out - -as python", "", 0, "import"},
		{"survey -", contract, 0, "standard input"},
		{"fields -", `{"a": 1}`, 0, "integer"},
		{"run sheets/01-search.yaml -out -.md", "", 2, "standard output has the results"},
		{"run sheets/01-search.yaml -out -", "", 2, "-out -: the ending says the format"},
		{"call stores/move -body - -into sheets/01-search.yaml", "{}", 2, "names the file of its body"},
	} {
		p.stdin = c.stdin
		o := p.run(strings.Fields(c.args)...)
		assert.Equal(t, c.status, o.status, "%s: %s", c.args, o.all())
		said := o.stdout
		if c.status != 0 {
			said = o.all()
		}
		assert.Contains(t, said, c.stdout, c.args)
	}
	p.stdin = strings.Repeat("# more than a sheet holds\n", 400_000)
	o := p.run("run", "-")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "the file is larger than 8 MiB")
	p.stdin = ""
	o = p.run("call", "stores/search", "-log", "-", "-quiet")
	assert.Contains(t, o.stderr, "msg=exchange")
	assert.NotContains(t, o.stdout, "msg=exchange")
	assert.NoFileExists(t, filepath.Join(p.dir, "-"))
}
