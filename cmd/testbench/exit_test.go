package main_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
)

// Failures that the bench gives an exit status of its own.
func TestExitStatusesOfTheBench(t *testing.T) {
	t.Parallel()
	server, _ := moor(t, func(w http.ResponseWriter, r *http.Request, _ string) {
		w.Header().Set("Content-Type", "application/json")
		switch {
		case strings.HasSuffix(r.URL.Path, "/7"):
			w.WriteHeader(http.StatusUnprocessableEntity)
			fmt.Fprint(w, `{"error": {"code": "X7", "message": "no such lot"}}`)
		case strings.HasSuffix(r.URL.Path, "/job"):
			fmt.Fprint(w, `{"state": "REJECTED"}`)
		default:
			fmt.Fprint(w, `{"state": "DONE"}`)
		}
	})
	p := newPlace(t)
	const bench = `bench: b
sites: {here: {set: {base: BASE}}}
services:
  ledger:
    address: ${base}
    operations:
      lot: {request: "GET /lots/{id}", path: {id: required}, error: {code: error.code, text: error.message}}
exit: {error X7: 12, state REJECTED: 11, failed state: 10, timed out: 13, failed: 20}
`
	write := func(old, now string) { p.write("bench.yaml", replaced(bench, "BASE", server.URL, old, now)) }
	write("", "")
	p.write("sheets/good.yaml", "sheet: good\nsteps: [{call: ledger/lot, fill: {id: 1}}]\n")
	p.write("sheets/code.yaml", "sheet: code\nsteps: [{call: ledger/lot, fill: {id: 7}}]\n")
	p.write("sheets/late.yaml", "sheet: late\nsteps: [{call: ledger/lot, fill: {id: 1}, expect: {status: 204}}]\n")
	states := func(file, of string) {
		p.write("sheets/"+file+".yaml", "sheet: "+file+"\nsteps:\n  - {call: ledger/lot, fill: {id: job}, until: {state: DONE}, "+
			"every: 1 ms, within: 20 ms, states: {of: state, "+of+"}}\n")
	}
	states("state", "allowed: [QUEUED, DONE], failed: [REJECTED]")
	states("waits", "allowed: [REJECTED, DONE]")
	states("order", "allowed: [QUEUED, DONE]")
	p.cases([]commandCase{
		{"run sheets/good.yaml", 0, nil},
		{"run sheets/late.yaml", 20, []string{"exit status 20: failed, step"}},
		{"run sheets/code.yaml", 12, []string{"exit status 12: error X7, step"}},
		{"run sheets/state.yaml", 11, []string{"exit status 11: state REJECTED, step"}},
		{"run sheets/waits.yaml", 13, []string{"exit status 13: timed out, step"}},
		{"run sheets/order.yaml", 20, []string{"exit status 20: failed, step"}},
		{"run sheets/late.yaml sheets/code.yaml", 12, []string{"exit status 12: error X7"}}, // the first of the bench's list, not of the run
		{"run sheets/code.yaml -json", 12, []string{`"exit status":12`, `"exit for":"error X7, step`}},
	})
	for _, wrong := range []struct{ exit, said string }{
		{"{faled: 20}", "failed"},
		{"{failed: 1}", "from 10 to 99"},
		{"{failed: 100}", "from 10 to 99"},
		{"{failed: soon}", "from 10 to 99"},
		{"{error: 10, timeout: 11}", "timed out"},
		{"{\"state \": 10}", "is not the name of a failure"},
	} {
		write("{error X7: 12, state REJECTED: 11, failed state: 10, timed out: 13, failed: 20}", wrong.exit)
		p.cases([]commandCase{{"run sheets/good.yaml", 2, []string{wrong.said}}})
	}
}
