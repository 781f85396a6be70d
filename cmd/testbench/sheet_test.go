package main_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// answersBench is a bench whose one service answers with what was asked for.
func answersBench(t *testing.T) *place {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", r.URL.Query().Get("type"))
		w.Header().Set("X-Served-By", "hive 7")
		_, _ = w.Write(data)
	}))
	t.Cleanup(server.Close)
	p := newPlace(t)
	p.write("bench.yaml", "bench: answers\nsites:\n  local:\n    set:\n      base: "+server.URL+
		"\nservices:\n  back:\n    address: ${base}\n")
	return p
}

const order = `{"number": "PO-7", "total": 59.97, "paid": false, "note": null, "placed": "2026-11-23T08:30:00Z", "tags": [],
  "lines": [{"sku": "HON-1", "amount": 19.99, "kind": "heather"}, {"sku": "HON-2", "amount": 39.98, "kind": "clover"}], "reply": {"by": "post"}}`

// back makes a step whose answer is the text.
func back(text, rest string) string {
	return fmt.Sprintf(`sheet: s
names:
  h: urn:hive
steps:
  - step: one
    request: back POST ?type=%s
    text: |
      %s
%s`, map[bool]string{true: "text/xml", false: "application/json"}[text[0] == '<'], strings.ReplaceAll(text, "\n", "\n      "), rest)
}

func TestEveryKindOfCheckHolds(t *testing.T) {
	t.Parallel()
	p := answersBench(t)
	o := p.sheet(back(order, `    expect:
      status: 200 or 201
      time: under 20 s
      size: between 50 B and 2 kB
      type: application/json
      headers:
        x-served-by: starts with hive
      fault: none
    keep:
      number: number
      skus: lines[*].sku
      whole: answer
      day: placed | format dd.MM.yyyy
      later: placed | add 30 d | format yyyy-MM-dd
      missing: nothing.here | default none
      upper: number | lower | inside "po" "7"
      word:
        at: reply.headers.X-Served-By
        secret: true
    fields:
      number: matches PO-\d+
      total:
        - over 50
        - about 60 within 1 %
        - not at least 60
      paid: false
      note:
        any of:
          - is null
          - is text
      nothing: is absent
      nothing.deeper: optional is integer
      tags:
        all of:
          - is list
          - is empty
      lines:
        count: 2
      lines[*].sku:
        - is unique
        - is ascending
        - all: { starts with: "HON-" }
      lines[sku=HON-2]:
        equals:
          amount: 39.98
          kind: clover
          sku: HON-2
      lines[sku=HON-2].amount: equals 39.98
      lines[-1].kind:
        one of:
          - clover
          - "or"
      lines.0.kind: one of heather or clover
      answer.reply.by: post
      placed: between 2026-11-01T00:00:00Z and 2026-12-01T00:00:00+01:00
    where:
      - answer.total == sum(answer.lines.map(l, l.amount))
      - "!has(answer.nothing) && absent(answer.nothing.deeper)"
      - reply.headers["X-Served-By"] == "hive 7"
      - at("lines[kind=clover].sku") == "HON-2"
  - step: what was kept
    set:
      again: ${skus}
    when: size(kept.skus) == 2
  - step: calculated
    calculate:
      half: kept.whole.total / 2
      due: date(kept.whole.placed) + days(14)
      flat: kept.skus + ["HON-3"]
  - step: compare
    request: back POST ?type=application/json
    body:
      number: ${number}
      skus: ${again}
      first: ${skus.0}
      day: ${day}
      later: ${later}
      missing: ${missing}
      upper: ${upper}
      half: ${half}
      due: ${due}
      flat: ${flat}
      total: ${whole.total}
    fields:
      number: PO-7
      skus: count 2
      first: HON-1
      day: 23.11.2026
      later: 2026-12-23
      missing: none
      upper: "-"
      half: 29.985
      due: 2026-12-07
      flat[2]: HON-3
      total: is number
`))
	assert.Equal(t, 0, o.status, o.all())
	o = p.sheet(back(`<h:order xmlns:h="urn:hive" xmlns:x="urn:x" id="7"><h:line no="1">a &amp; b</h:line><x:line>other</x:line><h:empty/><h:list><h:i>3</h:i></h:list></h:order>`, `    fields:
      id: 7
      h:line: a & b
      h:line.no: 1
      line: count 2
      empty: is empty
      list.i: count 1
      list.i[0]: 3
      list.i[*]: under 4
    where:
      - answer.list.i + 1 == 4
      - size(answer.line) == 2
`))
	assert.Equal(t, 0, o.status, o.all())
}

// Each check can fail, and says what was expected and what came.
func TestEveryKindOfCheckFails(t *testing.T) {
	slow(t)
	t.Parallel()
	p := answersBench(t)
	cases := []struct{ rest, want string }{
		{"    expect:\n      status: not 2xx\n", "expect status   expected not 2xx, got 200"},
		{"    expect:\n      time: over 20 s\n", "expect time   expected over 20 s, got"},
		{"    expect:\n      size: under 10 B\n", "expect size   expected under 10 B, got"},
		{"    expect:\n      type: text/xml\n", `expect type   expected text/xml, got "application/json"`},
		{
			"    expect:\n      type: application/json; charset=utf-8\n",
			`expected application/json; charset=utf-8, got "application/json"`,
		},
		{"    expect:\n      headers:\n        X-Served-Bee: is present\n", `did you mean "X-Served-By"?`},
		{"    expect:\n      fault:\n        code: Client\n", "expect fault   expected a fault, got no fault"},
		{"    expect:\n      refused: connection\n", "expected connection, got the answer 200"},
		{
			"    fields:\n      lines[*].kind: heather\n",
			`lines[*].kind   expected heather, got "clover" at lines[1].kind`,
		},
		{
			"    fields:\n      lines[*].colour: is text\n",
			"lines[0] has no colour: it is an object with sku, amount, kind",
		},
		{"    fields:\n      total: \"59.97\"\n", `total   expected "59.97", got 59.97`},
		{"    fields:\n      total: one of 1 or 2\n", "total   expected one of 1 or 2, got 59.97"},
		{"    fields:\n      number: is integer\n", `number   expected is integer, got "PO-7"`},
		{"    fields:\n      answer.x: 1\n    expect:\n      type: application/json\n", "answer has no x"},
		{"    fields:\n      placed: under 2026-01-01\n", "a time with a zone cannot be compared with a date"},
		{"    fields:\n      tags: not is empty\n", "tags   expected not is empty, got an empty list"},
		{
			"    fields:\n      lines:\n        equals:\n          - sku: HON-1\n",
			"lines   expected equals a list of 1, got a list of 2",
		},
		{
			"    fields:\n      note:\n        all of:\n          - is null\n          - is text\n",
			"note   expected is null and is text, got null",
		},
		{"    fields:\n      reply.by: post\n", "the answer has a field reply of its own: write answer.reply.by"},
		{
			"    where:\n      - answer.total > 100\n",
			"where answer.total > 100   condition is false left is 59.97, right is 100",
		},
		{"    where:\n      - answer.lines.all(l, l.amount > 20)\n", "condition is false"},
		{"    where:\n      - answer.note.x + 1 == 2\n", "cannot be evaluated"},
		{"    where:\n      - answer.total\n", "a condition must come to true or false"},
		{"    keep:\n      x: nothing.here\n", "keep x   expected nothing.here, missing answer has no nothing"},
		{
			"    keep:\n      x: number | format yyyy\n",
			`keep x   expected number | format yyyy, got "PO-7" format: "PO-7" is not a date or time`,
		},
		{"    keep:\n      x: lines | upper\n", "it works on a single value, and this is a list of 2"},
		{"  - step: two\n    calculate:\n      x: kept.nothing + 1\n", "nothing keeps before it"},
		{"  - step: two\n    calculate:\n      x: row.x + 1\n", "calculate x: what is not there and 1 cannot be added"},
		{"  - step: two\n    set:\n      x: ${today | add 1 d | number}\n", "is not a number"},
		{"  - step: two\n    follow: nowhere\n", "is not a whole address; name the service"},
		{"  - step: two\n    request: back GET /${uuid | base64 | inside \"<\" \">\"}\n", `"<" is not in`},
	}
	for _, c := range cases {
		o := p.sheet(back(order, c.rest))
		assert.NotEqual(t, 0, o.status, c.rest)
		assert.Contains(t, strings.Join(strings.Fields(o.all()), " "), strings.Join(strings.Fields(c.want), " "),
			c.rest)
	}
}

// After a step that should have kept a name failed, what needs the name is not
// run, with the reason; what does not need it goes on.
func TestWhatIsNotRun(t *testing.T) {
	t.Parallel()
	p := answersBench(t)
	o := p.sheet(back(order, `    expect:
      status: 404
    keep:
      number: number
  - step: needs it
    request: back GET /${number}
  - step: needs it in a rule
    request: back GET /?type=text/plain
    fields:
      answer: ${number}
  - step: needs it in a condition
    request: back GET /?type=text/plain
    where:
      - kept.number == "x"
  - step: has another
    request: back GET /${number | default 7}?type=text/plain
  - step: needs nothing
    request: back GET /?type=text/plain
`))
	assert.Equal(t, 1, o.status, o.all())
	assert.Equal(t, 3, strings.Count(o.stdout, "not run: number was not kept (one failed)"), o.stdout)
	assert.Equal(t, 2, strings.Count(o.stdout, "1 check passed"), o.stdout)
	o = p.sheet("sheet: none\nsteps:\n  - step: one\n    when: 1 == 2\n    request: back GET /\n")
	assert.Equal(t, 1, o.status, "a run in which nothing was judged does not hold")
	assert.Contains(t, o.stderr, "nothing was run")
	p.write("sheets/empty.yaml", "sheet: empty\nrows:\n  list: []\nsteps:\n  - step: one\n    pause: 1 ms\n")
	p.write("sheets/full.yaml", "sheet: full\nsteps:\n  - step: one\n    pause: 1 ms\n")
	o = p.run("run", "sheets/empty.yaml", "sheets/full.yaml")
	assert.Equal(t, 1, o.status, "a sheet whose rows are gone does not hold beside one that does")
	for _, o := range []outcome{o, p.run("report", "last")} {
		assert.Equal(t, 1, strings.Count(o.stdout, "rows  expected at least one, got none   failed"), o.stdout)
		assert.Contains(t, o.stdout, "1 passed · 1 sheet without rows")
	}
}

// A service may be elsewhere at another site, and a step may go there.
func TestOtherSites(t *testing.T) {
	t.Parallel()
	p := answersBench(t)
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = io.WriteString(w, `{"at": "other"}`)
	}))
	defer other.Close()
	p.write("bench.yaml", strings.Replace(p.read("bench.yaml"), "services:",
		"  other:\n    like: local\n    services:\n      back: "+other.URL+"/deep\nservices:", 1))
	o := p.sheet(`sheet: sites
steps:
  - step: here
    request: back POST /?type=application/json
    body:
      at: here
    fields:
      at: here
  - step: there
    site: other
    request: back GET /x
    fields:
      at: other
`)
	assert.Equal(t, 0, o.status, o.all())
	o = p.run("call", "back", "GET", "/x", "-site", "other", "-dry")
	assert.Contains(t, o.stdout, other.URL+"/deep/x")
	o = p.run("call", "GET", other.URL+"/x", "-site", "local", "-pick", "at")
	assert.Equal(t, "other\n", o.stdout, "the command line names the host")
}
