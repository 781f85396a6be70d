//go:build peers

package main_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Services that are not ours: how they take wrong requests was looked at one by one, and
// is as it says here.
func TestProbeOfOthers(t *testing.T) {
	t.Parallel()
	soapPort, odataPort := freePort(t), freePort(t)
	serve(t, soapPort, "php", "-S", "127.0.0.1:"+soapPort, "testdata/php/index.php")
	serve(t, odataPort, "node", "testdata/node/books.cjs", odataPort, peersFolder)
	p := newPlace(t)
	p.write("bench.yaml", `bench: others
sites:
  local:
    set: { soap: "http://127.0.0.1:`+soapPort+`", odata: "http://127.0.0.1:`+odataPort+`" }
services:
  hive: { contract: "${soap}/hive?wsdl", address: "${soap}/hive" }
  crates: { contract: "${soap}/crates?wsdl", address: "${soap}/crates" }
  books: ${odata}/$metadata
`)
	for _, c := range []struct {
		args string
		want map[string]string // what was changed: the verdict, and what is said or why
	}{
		{"hive/Weigh hive=H-1 frames.0=10 frames.1=3", map[string]string{
			"by NOSUCH":             "refused clearly 501",
			"with an empty body":    "refused clearly 500 Client",
			"cut off in the middle": "refused clearly 500 Client",
			"in an envelope of a version that there is not": "refused clearly 500 VersionMismatch",
			"with the action of nobody":                     "accepted 200 it may be",
			"as text/html instead of text/xml":              "accepted 200",
			"without hive":                                  "accepted 200",
			"hive twice":                                    "accepted 200",
			"frames with letters for a number":              "broke 500 Server the fault says that the service itself is to blame",
			"frames just above its greatest":                "accepted 200",
			"hive in other scripts":                         "accepted 200 it may be",
			"hive with a zero byte":                         "refused clearly 500 Client",
		}},
		{"crates/Stack limit=9 crates.0.label=a crates.0.jars=6", map[string]string{
			"without crates[0].label":     "broke 500 Server",
			"crates[0].jars with letters": "broke 500 Server",
			"limit just below its least":  "refused unclearly 500 Client limit is not named",
		}},
		{"books/Suppliers.create name=Hettie limit=12.50 since=2026-11-23T08:00:00.000Z active=true", map[string]string{
			"without a content type":         "refused clearly 400",
			"a list where an object belongs": "refused clearly 400",
			"since with no time stamp":       "refused clearly 400",
			"name too long":                  "refused clearly 400",
			"limit too precise":              "accepted 201",
			"with a field that there is not": "refused clearly 400",
			"name with quotes":               "accepted 201 it may be",
			"by DELETE":                      "broke 500",
		}},
		{"books/Suppliers.read number=1", map[string]string{
			"number with letters for a number": "broke 500",
			"number that nobody has":           "refused clearly 404",
		}},
	} {
		got, o := p.probe(append(strings.Fields(c.args), "-write", "local")...)
		assert.Equal(t, 1, o.status, "%s: %s", c.args, o.stderr)
		for changed, want := range c.want {
			found := false
			for _, one := range got.Cases {
				if strings.HasPrefix(one.Changed, changed) {
					found = true
					assert.True(t, strings.HasPrefix(strings.TrimSpace(one.Verdict+" "+one.Said+" "+one.Why), want),
						"%s: %s: %s, %s, %s", c.args, changed, one.Verdict, one.Said, one.Why)
				}
			}
			assert.True(t, found, "%s: %s was not tried", c.args, changed)
		}
	}
}
