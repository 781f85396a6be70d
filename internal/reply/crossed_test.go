package reply_test

import (
	"flag"
	"fmt"
	"net/http"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"testbench/internal/exchange"
	"testbench/internal/reply"
)

var update = flag.Bool("update", false, "write what came as what is expected")

// Errors are told in many shapes: each field alone and with each other one, in each place where it
// may stand, under a status of success and under one that is none. The golden file has what is read
// out of each.
func TestCrossedErrors(t *testing.T) {
	fields := []string{
		`"code": "E7"`, `"code": 0`, `"message": "no lot"`, `"title": "Not found"`, `"detail": "lot L-9 is gone"`,
		`"error": "gone"`,
		`"status": "ERROR"`, `"status": "OK"`, `"success": false`, `"ok": true`, `"field": "lot"`,
		`"path": "/lines/0/kilos"`,
		`"details": [{"code": "D1", "message": "too wet", "field": "moisture"}]`, `"errors": {"kilos": ["too many"]}`,
		`"fault": {"reason": "late"}`,
		`"reason": "why"`, `"n": 5`, `"text": "all"`,
	}
	places := []string{
		"{%s}", `{"error": {%s}}`, `{"data": null, "errors": [{%s}]}`, `{"reply": {"body": {%s}}}`,
		"[{%s}, {\"message\": \"other\"}]",
	}
	var out strings.Builder
	told := func(status int, kind, body string) {
		record := &exchange.Record{Answer: &exchange.Answer{
			Status: status, Header: http.Header{"Content-Type": {kind}},
			Body: []byte(body),
		}}
		said := "none"
		if e := reply.Read(record).Error(); e != nil {
			said = fmt.Sprintf("%q %q at %q", e.Code, e.Text, e.Target)
			for _, d := range e.Details {
				said += fmt.Sprintf("; %q %q at %q", d.Code, d.Text, d.Target)
			}
		}
		fmt.Fprintf(&out, "%d %s = %s\n", status, body, said)
	}
	for _, status := range []int{200, 422} {
		for _, place := range places {
			for i, one := range fields {
				told(status, "application/json", fmt.Sprintf(place, one))
				for _, other := range fields[i+1:] {
					if strings.Split(one, ":")[0] != strings.Split(other, ":")[0] {
						told(status, "application/json", fmt.Sprintf(place, one+", "+other))
					}
				}
			}
		}
		for _, body := range []string{
			`<r><error code="7" text="no room"/></r>`, `<error><code>7</code><message>no</message></error>`,
			`<r ok="false"><message>no</message></r>`,
			`<r><status>ERROR</status><text>no</text></r>`,
			`<r><errors><e field="a">x</e><e field="b">y</e></errors></r>`, `<r/>`, `<r>no</r>`,
			`<r><a/><error/></r>`, `<reply><result code="0" ok="true"/></reply>`,
			`<Fault><reason>gone</reason><code>9</code></Fault>`,
		} {
			told(status, "text/xml", body)
		}
		for _, body := range []string{`"no"`, `7`, `null`, `[]`, `{}`, `["a", "b"]`, `true`} {
			told(status, "application/json", body)
		}
	}
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile("testdata/errors.golden", []byte(out.String()), 0o644))
	}
	golden, err := os.ReadFile("testdata/errors.golden")
	require.NoError(t, err)
	expected, got := strings.Split(string(golden), "\n"), strings.Split(out.String(), "\n")
	require.Len(t, got, len(expected))
	for i := range expected {
		require.Equal(t, expected[i], got[i], "go test ./internal/reply -update writes it anew")
	}
}
