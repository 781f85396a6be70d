package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Every way to get the command line wrong has one clear message.
func TestWrongCommands(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("rows.csv", "a,b\n1,2\n3\n")
	cases := []struct {
		args   string
		status int
		want   string
	}{
		{"", 2, "usage: testbench COMMAND"},
		{"rum", 2, `did you mean "run"?`},
		{"run", 2, "run which sheets?"},
		{"run sheets/1-serch.yaml", 2, `did you mean "sheets/01-search.yaml"?`},
		{"run search", 2, `did you mean "sheets/01-search.yaml"?`},
		{"run nothing", 2, "there are: sheets/01-search.yaml"},
		{"run sheets/01-search.yaml -out bench.yaml/x.html", 2, "bench.yaml is not a folder"},
		{"report last -out bench.yaml/x.html", 2, "bench.yaml is not a folder"},
		{"probe stores/search grade=A -out bench.yaml/x.html", 2, "bench.yaml is not a folder"},
		{"propose nothing.json", 2, "an exchange of the history as 18.3\n"},
		{"propose stores/search", 2, "testbench propose stores/search -times 2"},
		{"survey", 2, "try: testbench survey lab"},
		{"draft", 2, "try: testbench draft lab GradeLot"},
		{"validate", 2, "try: testbench validate partner.wsdl message.xml"},
		{"standin lab", 2, "try: testbench standin -contract lab"},
		{"run sheets/01-search.yaml -sit south", 2, `did you mean "-site"?`},
		{"run sheets/01-search.yaml -site suoth", 2, `did you mean "south"?`},
		{"run sheets/01-search.yaml -set depot", 2, "name=value"},
		{"run sheets/01-search.yaml -rows x", 2, `"x" names no rows`},
		{"run sheets/01-search.yaml -show everything", 2, "sent, received or all"},
		{"run sheets/01-search.yaml -out", 2, "-out needs a value"},
		{"call", 2, "call what?"},
		{"call stors/search", 2, `did you mean "stores"?`},
		{"call stores/serch", 2, `did you mean "search"?`},
		{"call stores/search grad=A", 2, `did you mean "grade"?`},
		{"call stores/search grade=D", 2, "grade must be one of A, B, C"},
		{"call stores/search page=two", 2, "page must be an integer"},
		{"call stores/lot", 2, "stores/lot needs id"},
		{"call stores", 2, "call which operation of stores? There are: search, lot"},
		{"call stores get /lots", 2, "methods are written in capitals: GET"},
		{"call stores GET lots", 2, "must begin with /"},
		{"call stores/lot id=${row.x}", 2, "there are no rows"},
		{"call stores/lot id=${depo}", 2, `did you mean "depot"?`},
		{"call stores/lot id=kept:lot", 2, "nothing defines ${kept.lot}"},
		{"call stores/lot id=1 -login clark", 2, `did you mean "clerk"?`},
		{"call stores/lot id=1 -in querry.a=b", 2, `did you mean "query"?`},
		{"call stores/lot id=1 -pick $.id[", 2, "is expected in brackets"},
		{"call GET ftp://127.0.0.1/x", 2, "must begin with http:// or https://"},
		{"call http://elsewhere.heatherfold.example/x -dry", 0, "GET http://elsewhere.heatherfold.example/x"},
		{"call stores/lot id=1 -body missing.json", 2, "missing.json"},
		{"token", 2, "a token of which login?"},
		{"token clerkk", 2, `did you mean "clerk"?`},
		{"token clerk -spoil burnt", 2, "expired, tampered, other audience, empty"},
		{"secret set", 2, "takes one name"},
		{"secret set clerk hunter2", 2, "never given on the command line"},
		{"secret set x-y", 2, "cannot name a secret"},
		{"secret steal x", 2, "secret has no"},
		{"secret share me", 2, "not a public key"},
		{"secret remove nothing", 2, "there is no sealed secret nothing"},
		{"vet sheets/nothing.yaml", 2, "there is no sheet"},
		{"standin -listen 0.0.0.0:0", 2, "loopback addresses only"},
		{"completion tcsh", 2, "bash, fish, powershell, zsh"},
		{"help calll", 2, `did you mean "call"?`},
		{"run sheets/01-search.yaml -bench nowhere", 2, "there is no folder nowhere"},
	}
	for _, c := range cases {
		t.Run(c.args, func(t *testing.T) {
			o := p.run(strings.Fields(c.args)...)
			assert.Equal(t, c.status, o.status, o.all())
			assert.Contains(t, o.all(), c.want)
		})
	}
	outside := newPlace(t)
	o := outside.run("run", "x.yaml")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "no bench.yaml here or above")
	o = outside.run("probe", "GET", "http://127.0.0.1:1/", "-out", "x.html")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "there is no bench")
}

// All mistakes of a file are told at once, each with its place, and nothing is
// sent while there is one.
func TestVet(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	p.write("sheets/wrong.yaml", `sheet: wrong
sites: local
rows: data/intakes.csv
steps:
  - step: a
    call: lab/GradLot
    fil:
      lot: L-1
  - step: b
    call: lab/GradeLot
    fill:
      lot: ${row.lott}
      moisture: ${moistur}
    login: clark
    fields:
      grade: betwen A and B
      lines[0: 1
      total: under the counter
    keep:
      gradedAt: gradedAt | fromat dd.MM.yyyy
    where:
      - answer.grade = A
      - kept.nothing == 1
  - step: c
    request: storse GET /lots/${grade}
    expect:
      status: twohundred
      tme: under 2 s
    fields:
      a:
      b: is boolaen
      c: !has(x)
  - step: d
    call: stores/search
    fill:
      grade: X
      from: ${row.lot | uper}
  - step: e
    call: ledger/intake
  - step: f
    call: stores/search
    body:
      a: 1
    text: x
    until:
      a: 1
`)
	p.write("sheets/fine.yaml",
		`sheet: fine
rows: data/intakes.csv
steps:
  - step: a
    set:
      lot: ${row.lot}
    # kept twice
  - step: b
    call: stores/search
    fields:
      depot: north # or south
`)
	o := p.run("vet", "sheets/wrong.yaml", "sheets/fine.yaml")
	assert.Equal(t, 2, o.status)
	golden(t, "vet.txt", o.stdout)
	before := p.run("call", "ledger", "GET", "/Intakes", "-pick", "count")
	o = p.run("run", "sheets/wrong.yaml", "sheets/03-intake.yaml")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "nothing was sent")
	assert.Empty(t, o.stdout)
	assert.Equal(t, before.stdout, p.run("call", "ledger", "GET", "/Intakes", "-pick", "count").stdout)

	p.write("bench.yaml", `bench: wrong
sites:
  local:
    set:
      base: ${nowhere}
    tls:
      ca: missing.pem
  south:
    like: norht
services:
  a:
    addres: http://127.0.0.1
  b:
    address: ${base}/b
    login: clerk
    operations:
      x:
        request: GETT /x
      y:
        request: GET /y/{id}
        query:
          q:
            kind: integr
        needs:
          - [q, z]
logins:
  one:
    kind: basik
  two:
    kind: basic
    user: clerk
  three:
    kind: kerberos
  four:
    kind: bearer
    token: plain-text-token
`)
	o = p.run("vet", "bench.yaml")
	assert.Equal(t, 2, o.status)
	assert.NotContains(t, o.all(), "plain-text-token:")
	golden(t, "vet-bench.txt", strings.Split(o.stdout, "sheets/")[0])
}

// What is not a bench, a sheet or rows is said to be so.
func TestBrokenFiles(t *testing.T) {
	t.Parallel()
	cases := []struct{ name, file, text, want string }{
		{"empty sheet", "sheets/x.yaml", "", "the file is empty"},
		{"a list", "sheets/x.yaml", "- a\n- b\n", "a sheet must be a mapping, and is a list"},
		{"no steps", "sheets/x.yaml", "sheet: x\n", "the sheet has no steps"},
		{"bytes", "sheets/x.yaml", "sheet: \xff\xfe\n", "not UTF-8"},
		{"deep", "sheets/x.yaml", "a: " + strings.Repeat("[", 100_000), "not valid YAML"},
		{"uneven rows", "data/x.csv", "lot,moisture\nL-1,2,3\n", "line 2 has 3 cells, and the header names 2 columns"},
		{"short rows", "data/x.csv", "lot,moisture\nL-1\n", "line 2 has 1 cells"},
		{"quotes", "data/x.csv", "lot,moisture\nL\"1,2\n", `a " is in a cell that is not in quotes`},
		{"no header", "data/x.csv", "", "the file is empty; its first line must name the columns"},
		{"two names", "data/x.csv", "lot,lot\n1,2\n", `two columns are named "lot"`},
		{"latin rows", "data/x.csv", "lot,moisture\n\xe4,1\n", "save it as UTF-8"},
		{
			"outside", "sheets/x.yaml", "sheet: x\nrows: ../secret.csv\nsteps:\n  - step: a\n    set:\n      b: 1\n",
			"leads out of the bench folder",
		},
		{
			"absolute", "sheets/x.yaml", "sheet: x\nrows: /etc/passwd\nsteps:\n  - step: a\n    set:\n      b: 1\n",
			"relative to the bench folder",
		},
		{
			"body outside", "sheets/x.yaml",
			"sheet: x\nsteps:\n  - step: a\n    call: stores/search\n    bytes: ../../etc/passwd\n",
			"leads out of the bench folder",
		},
		{
			"value in a name", "sheets/x.yaml",
			"sheet: x\nsteps:\n  - step: a\n    request: lab POST\n    text: <${depot}/>\n",
			"cannot be part of an XML name",
		},
		{
			"value in a comment", "sheets/x.yaml",
			"sheet: x\nsteps:\n  - step: a\n    request: lab POST\n    text: <a><!-- ${depot} --></a>\n",
			"XML comment",
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			p, _ := newBench(t)
			p.write("sheets/x.yaml", "sheet: x\nrows: data/x.csv\nsteps:\n  - step: a\n    set:\n      b: ${row.lot}\n")
			p.write("data/x.csv", "lot,moisture\nL-1,17\n")
			p.write(c.file, c.text)
			o := p.run("run", "sheets/x.yaml")
			assert.Equal(t, 2, o.status, o.all())
			assert.Contains(t, o.stderr, c.want)
		})
	}
}

// Every mishap ends in time, with the documented status and a clear message.
func TestMishaps(t *testing.T) {
	slow(t)
	t.Parallel()
	p, server := newBench(t)
	cases := []struct {
		name   string
		args   string
		status int
		want   string
	}{
		{"slow", "mishaps GET /slow?ms=20 -pick waited", 0, "20"},
		{"too slow", "mishaps GET /slow -timeout 300ms", 3, "gave no answer within 300ms"},
		{"hang", "mishaps GET /hang -timeout 300ms", 3, "raise timeout: at the step, the service or the site, or give -timeout"},
		{"cut", "mishaps GET /cut", 3, "the connection ended before the whole answer had come"},
		{"long", "mishaps GET /long", 1, "not well-formed JSON"},
		{"type", "mishaps GET /type", 0, "(16 B of binary data)"},
		{"broken", "mishaps GET /broken", 1, "expected well-formed JSON, got not well-formed JSON at line 1, column"},
		{"markup", "mishaps GET /markup", 1, "</lot> found where </grade> is expected"},
		{"doctype", "mishaps GET /doctype", 1, "it has a DOCTYPE, which is refused"},
		{"bytes", "mishaps GET /bytes", 1, "invalid UTF-8"},
		{"deep", "mishaps GET /deep", 1, "nested deeper than 1000"},
		{"page", "mishaps GET /page -pick lots", 1, `-pick lots: answer has no lots`},
		{"empty", "mishaps GET /empty", 0, "200 OK"},
		{"reset", "mishaps GET /reset", 3, "closed the connection without an answer"},
		{"gibberish", "mishaps GET /gibberish", 3, "is not HTTP"},
		{
			"away", "mishaps GET /away", 1,
			"the redirect to http://elsewhere.heatherfold.example/lots was not followed: neither the bench nor the command line names that host",
		},
		{"ring", "mishaps GET /ring", 3, "redirected more than 10 times"},
		{"enormous", "mishaps GET /enormous -most 1", 3, "larger than 1 MiB"},
		{"bomb", "mishaps GET /bomb -most 8", 3, "larger than 8 MiB"},
		{"no mishap", "mishaps GET /brokn", 1, `"no_such_mishap"`},
		{"nobody", "GET http://127.0.0.1:1/", 3, "refused the connection: nothing listens there"},
		{
			"plain to TLS", "GET " + strings.Replace(tlsAddress(t, p, "tls"), "https", "http", 1) + "/stores/lots", 1,
			"write https:// in the address",
		},
		{"TLS to plain", "GET https://" + server.Address + "/", 3, "write http:// in the address"},
		{"unknown authority", "GET " + tlsAddress(t, p, "tls") + "/", 3, "from an authority that is not known here"},
		{"unchecked", "GET " + tlsAddress(t, p, "tls") + "/ -insecure", 0, "NOT checked"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			o := p.run(append([]string{"call"}, strings.Fields(c.args)...)...)
			assert.Equal(t, c.status, o.status, o.all())
			assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), c.want)
			assert.Less(t, o.took, 20*time.Second)
		})
	}
	// With the authority known, the certificates themselves are judged.
	p.write("ca.pem", string(server.CA))
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "      depot: north\n",
		"      depot: north\n    tls:\n      ca: ca.pem\n", 1))
	for name, want := range map[string]string{
		"expired":    "expired on",
		"wrong name": "is for another name: elsewhere.heatherfold.example", "tls": "TLS 1.3",
	} {
		o := p.run("call", "GET", tlsAddress(t, p, name)+"/")
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), want)
		assert.Equal(t, map[bool]int{true: 0, false: 3}[name == "tls"], o.status)
	}
	// A refusal can be what a test wants.
	o := p.sheet(`sheet: refusals
steps:
  - step: nobody
    request: GET http://127.0.0.1:1/
    expect:
      refused: connection
  - step: expired
    request: GET ` + tlsAddress(t, p, "expired") + `/
    expect:
      refused: certificate
  - step: plain
    request: GET https://` + server.Address + `/
    expect:
      refused: tls
  - step: there
    request: mishaps GET /empty
    expect:
      refused: connection
`)
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, 3, strings.Count(o.stdout, "1 check passed"), o.stdout)
	assert.Contains(t, o.stdout, "expected connection, got the answer 200")
}

func tlsAddress(t *testing.T, p *place, name string) string {
	t.Helper()
	o := p.run("call", "mishaps", "GET", "", "-pick", `addresses["`+name+`"]`)
	require.Equal(t, 0, o.status, o.all())
	return strings.TrimSpace(o.stdout)
}

func TestSealedStore(t *testing.T) {
	t.Parallel()
	p, _ := newBench(t)
	env := p.env
	p.env = nil
	for _, e := range env {
		if !strings.HasPrefix(e, "TESTBENCH_SEALED_") {
			p.env = append(p.env, e)
		}
	}
	o := p.run("run", "sheets/01-search.yaml")
	assert.Equal(t, 2, o.status, "no secret, nothing sent")
	assert.Contains(t, o.all(), "honey_desk")
	for name, text := range map[string]string{"honey_desk": "comb & nectar/77", "clerk": "smoked-larch-41"} {
		p.stdin = text + "\n"
		o = p.run("secret", "set", name)
		require.Equal(t, 0, o.status, o.all())
	}
	p.stdin = "wrong for the south"
	require.Equal(t, 0, p.run("secret", "set", "honey_desk", "-site", "south").status)
	sealed := p.read("secrets/honey_desk.age")
	assert.True(t, strings.HasPrefix(sealed, "-----BEGIN AGE ENCRYPTED FILE-----"), sealed)
	o = p.run("run", "sheets/01-search.yaml")
	assert.Equal(t, 0, o.status, o.all())
	o = p.run("token", "clerk", "-site", "south")
	assert.Equal(t, 3, o.status, "the site's own secret comes first: %s", o.all())
	assert.Contains(t, o.stderr, "invalid_client")
	o = p.run("secret", "list")
	assert.Contains(t, o.stdout, "honey_desk")
	assert.NotContains(t, o.all(), "nectar")

	// From a file, as container platforms mount them.
	p.write("mounted", "comb & nectar/77\n")
	p.env = append(p.env, "TESTBENCH_SEALED_HONEY_DESK_FILE="+filepath.Join(p.dir, "mounted"))
	assert.Equal(t, 0, p.run("token", "clerk", "-site", "south").status)
	p.env = p.env[:len(p.env)-1]

	// A team mate gets in once the secrets are sealed for them as well.
	mate := *p
	mate.env = append(append([]string{}, p.env...), "TESTBENCH_IDENTITY="+filepath.Join(p.dir, "mate.txt"))
	mate.stdin = "x marks"
	require.Equal(t, 0, mate.run("secret", "set", "of_the_mate").status)
	o = mate.run("run", "sheets/01-search.yaml")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), "is not sealed for your identity")
	list := mate.run("secret", "list")
	_, key, found := strings.Cut(strings.TrimSpace(list.stderr), "your public key: ")
	require.True(t, found)
	require.Equal(t, 0, mate.run("secret", "remove", "of_the_mate").status)
	require.Equal(t, 0, p.run("secret", "share", key).status)
	o = mate.run("run", "sheets/01-search.yaml")
	assert.Equal(t, 0, o.status, o.all())

	// Tampered with, or no identity at all.
	lines := strings.Split(sealed, "\n")
	lines[3] = strings.ToUpper(lines[3])
	p.write("secrets/honey_desk.age", strings.Join(lines, "\n"))
	o = p.run("token", "clerk")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "honey_desk.age")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "identity", "identity.txt")))
	o = p.run("token", "clerk")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.stderr, "you have no identity yet")
}

// Every way to get a command wrong has one clear message: testdata/wrong.txt shows what each says.
// Whoever changes it reads it.
func TestWrongWays(t *testing.T) {
	slow(t)
	t.Parallel()
	const file = "testdata/wrong.txt"
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	p, server := newBench(t)
	var out strings.Builder
	ways := 0
	for line := range strings.Lines(string(data)) {
		args, isCommand := strings.CutPrefix(strings.TrimSpace(line), "$ ")
		if !isCommand {
			continue
		}
		ways++
		o := p.run(strings.Fields(args)...)
		assert.NotZero(t, o.status, args)
		said := strings.NewReplacer(server.Address, "STANDIN", p.dir, "DIR").Replace(strings.TrimRight(o.all(), "\n"))
		fmt.Fprintf(&out, "$ %s\n%s\n(exit status %d)\n", args, said, o.status)
	}
	assert.GreaterOrEqual(t, ways, 200)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o644))
	}
	assert.Equal(t, string(data), out.String(), "go test ./cmd/testbench -run TestWrongWays -update writes it anew")
}
