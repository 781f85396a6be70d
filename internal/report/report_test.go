package report_test

import (
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/exchange"
	"testbench/internal/reply"
	"testbench/internal/report"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// nasty is what a service may send and a sheet may hold.
const nasty = `<script>alert("x")</script> & 'quotes' ]]> ` + "\x00\x1b[31m"

func res(t *testing.T) *result.Run {
	t.Helper()
	u, err := url.Parse("http://127.0.0.1/lots?key=sealed-key-77&q=%3Cb%3E")
	require.NoError(t, err)
	record := &exchange.Record{
		Request: &exchange.Request{
			Method: "POST", URL: u,
			Header:      http.Header{"X-Key": {"sealed-key-77"}, "X-Pin": {"12"}},
			ShownHeader: map[string]string{"X-Pin": "[masked]"}, Body: []byte(`{"a": "` + "sealed-key-77" + `"}`),
		},
		Answer: &exchange.Answer{
			Status: 500, Proto: "HTTP/1.1",
			Header: http.Header{"Content-Type": {"text/plain"}, "X-Evil": {nasty}},
			Body:   []byte(nasty + strings.Repeat("é", 1_000_000)),
		},
		Phases: exchange.Phases{Total: 14 * time.Millisecond},
	}
	binary := &exchange.Record{
		Request: &exchange.Request{Method: "GET", URL: u},
		Answer:  &exchange.Answer{Status: 200, Body: []byte("\x89PNG\xff")},
	}
	masker := &secret.Masker{}
	masker.Hide("sealed-key-77")
	check := result.Check{Kind: "field", Subject: nasty, Judged: true, Expected: nasty, Got: nasty, Note: nasty}
	steps := []*result.Step{
		{
			Name: "passed", Outcome: result.Passed, Exchanges: []*exchange.Record{binary},
			Checks: []result.Check{{Kind: "expect", Subject: "status", Passed: true, Judged: true}},
		},
		{
			Name: "failed " + nasty, Target: nasty, Outcome: result.Failed,
			Checks:    []result.Check{check, {Kind: "where", Subject: "x", Judged: false}},
			Exchanges: []*exchange.Record{record}, Reply: reply.Read(record), Response: nasty, Hints: []string{nasty},
		},
		{
			Name: "unreachable", Outcome: result.Unreachable, Reason: "refused " + nasty,
			Exchanges: []*exchange.Record{{
				Request: &exchange.Request{Method: "GET", URL: u},
				Failure: &exchange.Failure{Message: nasty},
			}},
		},
		{Name: "not run", Outcome: result.NotRun, Reason: nasty},
	}
	row := &result.Row{Number: 2, Label: nasty, Outcome: result.Failed, Steps: steps}
	counts := result.Counts{Sheets: 1, Rows: 1, RowsFailed: 1, Steps: 4, StepsPassed: 1, StepsFailed: 2, StepsNotRun: 1}
	return &result.Run{
		Run: "r", Bench: nasty, Outcome: result.Failed, Masker: masker, Notes: []string{nasty},
		Started: time.Unix(0, 0),
		Sheets: []*result.Sheet{{
			Name: nasty, File: nasty, About: nasty, Outcome: result.Failed, Counts: counts,
			Rows: []*result.Row{row},
		}},
	}
}

// Nothing that a service or a sheet says is live in a report, and no secret is
// in one.
func TestReports(t *testing.T) {
	dir := t.TempDir()
	run := res(t)
	for _, name := range []string{"r.html", "r.xml", "r.json", "r.har", "r.md", "r.ndjson", "r.csv"} {
		file := filepath.Join(dir, name)
		require.NoError(t, report.WriteFile(file, run.Memory(), report.Options{Masker: run.Masker}))
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		text := string(data)
		assert.NotContains(t, text, "sealed-key-77", name)
		assert.NotContains(t, text, "\x1b", name)
		switch name {
		case "r.html":
			assert.Equal(t, 1, strings.Count(text, "<script>"), "our own; none of those that are sent")
			assert.NotContains(t, text, "<script>alert")
			assert.Contains(t, text, "2 of 4 steps failed.")
			assert.Contains(t, text, "X-Pin: [masked]")
			assert.Contains(t, text, "(5 bytes that are not UTF-8 text)")
			assert.NotContains(t, text, "http-equiv=\"refresh")
		case "r.xml":
			var suites struct {
				Failures int `xml:"failures,attr"`
				Errors   int `xml:"errors,attr"`
				Suite    struct {
					Skipped int `xml:"skipped,attr"`
					Cases   []struct {
						Name    string `xml:"name,attr"`
						Failure *struct {
							Text string `xml:",chardata"`
						} `xml:"failure"`
						Error *struct {
							Message string `xml:"message,attr"`
						} `xml:"error"`
						Skipped *string `xml:"skipped"`
					} `xml:"testcase"`
				} `xml:"testsuite"`
			}
			require.NoError(t, xml.Unmarshal(data, &suites))
			assert.Equal(t, []int{1, 1, 1}, []int{suites.Failures, suites.Errors, suites.Suite.Skipped})
			cases := suites.Suite.Cases
			require.Len(t, cases, 4)
			assert.Nil(t, cases[0].Failure)
			assert.Contains(t, cases[1].Failure.Text, `<script>alert("x")</script>`)
			assert.Contains(t, cases[2].Error.Message, "refused")
			assert.NotNil(t, cases[3].Skipped)
		case "r.har":
			var har struct {
				Log struct {
					Entries []struct {
						Time    float64
						Request struct {
							QueryString []struct{ Name, Value string }
						}
						Response struct{ Status int }
						Comment  string
					}
				}
			}
			require.NoError(t, json.Unmarshal(data, &har))
			require.Len(t, har.Log.Entries, 3)
			assert.Equal(t, 14.0, har.Log.Entries[1].Time)
			assert.Equal(t, "<b>", har.Log.Entries[1].Request.QueryString[1].Value)
			assert.Contains(t, har.Log.Entries[2].Comment, "unreachable")
		case "r.md":
			assert.Contains(t, text, "## 2 of 4 steps failed.")
			assert.NotContains(t, text, "<script>alert(\"x\")</script> & 'quotes'\n\n", "outside of a block of code")
			assert.NotContains(t, strings.Split(text, "```")[0], "<script>")
		case "r.ndjson":
			lines := strings.Split(strings.TrimSpace(text), "\n")
			assert.Len(t, lines, 3)
			for _, line := range lines {
				assert.True(t, json.Valid([]byte(line)), line[:60])
			}
		case "r.csv":
			rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
			require.NoError(t, err)
			assert.Len(t, rows, 6)
			assert.Equal(t, "failed", rows[2][12])
		case "r.json":
			var run struct {
				Sheets []struct {
					Rows []struct {
						Steps []struct {
							Checks    []struct{ Got string }
							Exchanges []struct {
								Body    string
								Failure string
							}
						}
					}
				}
			}
			require.NoError(t, json.Unmarshal(data, &run))
			steps := run.Sheets[0].Rows[0].Steps
			assert.Equal(t, nasty, steps[1].Checks[0].Got)
			assert.Contains(t, steps[1].Exchanges[0].Body, "bytes shown)", "a large body is cut")
			assert.Less(t, len(steps[1].Exchanges[0].Body), 1_100_000)
			assert.Equal(t, nasty, steps[2].Exchanges[0].Failure)
		}
	}
	assert.ErrorContains(t, report.CheckName("x.doc"), "the ending says the format")
	assert.Error(t, report.WriteFile(filepath.Join(os.DevNull, "folder.html"), run.Memory(),
		report.Options{Masker: run.Masker}))
}

// No cell of an export is a formula.
func TestCellsAreTexts(t *testing.T) {
	step := &result.Step{
		Name: "=1+1", Target: "@x", Outcome: result.Passed,
		Checks: []result.Check{{Kind: "field", Subject: "-a", Judged: true, Expected: "+b", Got: "\tc"}},
	}
	run := (&result.Run{
		Masker: &secret.Masker{},
		Sheets: []*result.Sheet{{Name: "s", Rows: []*result.Row{{Steps: []*result.Step{step}}}}},
	}).Memory()
	var out strings.Builder
	require.NoError(t, report.CSV(&out, run))
	rows, err := csv.NewReader(strings.NewReader(out.String())).ReadAll()
	require.NoError(t, err)
	for _, cell := range rows[1] {
		assert.NotRegexp(t, `^[=+\-@\t]`, cell)
	}
}

func TestEmptyRun(t *testing.T) {
	empty := (&result.Run{Masker: &secret.Masker{}, Outcome: result.NotRun}).Memory()
	var page, suites strings.Builder
	require.NoError(t, report.HTML(&page, empty, report.Options{}))
	assert.Contains(t, page.String(), "Nothing was run.")
	require.NoError(t, report.JUnit(&suites, empty))
	assert.Contains(t, suites.String(), `tests="0"`)
}

func BenchmarkHTML(b *testing.B) {
	u, _ := url.Parse("http://127.0.0.1/lots")
	var rows []*result.Row
	body := []byte(`{"id": "L-2201", "grade": "A", "barrels": [` + strings.Repeat(`{"number": 1, "kilos": 20.5}, `,
		30) + `null]}`)
	for i := range 10_000 {
		record := &exchange.Record{
			Request: &exchange.Request{Method: "GET", URL: u},
			Answer:  &exchange.Answer{Status: 200, Body: body}, Started: time.Unix(int64(i), 0),
			Phases: exchange.Phases{Total: time.Millisecond},
		}
		rows = append(rows, &result.Row{
			Number: i + 1, Outcome: result.Passed,
			Steps: []*result.Step{{Name: "s", Outcome: result.Passed, Exchanges: []*exchange.Record{record}}},
		})
	}
	run := &result.Run{
		Masker: &secret.Masker{}, Outcome: result.Passed,
		Sheets: []*result.Sheet{{Name: "s", Rows: rows, Outcome: result.Passed}},
	}
	passed := run.Memory()
	for b.Loop() {
		if err := report.HTML(io.Discard, passed, report.Options{}); err != nil {
			b.Fatal(err)
		}
	}
}
