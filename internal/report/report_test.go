package report_test

import (
	"encoding/json"
	"encoding/xml"
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
	"testbench/internal/secret"
	"testbench/internal/sheet"
)

// nasty is what a service may send and a sheet may hold.
const nasty = `<script>alert("x")</script> & 'quotes' ]]> ` + "\x00\x1b[31m"

func result(t *testing.T) *sheet.Result {
	t.Helper()
	u, err := url.Parse("http://127.0.0.1/lots?key=sealed-key-77&q=%3Cb%3E")
	require.NoError(t, err)
	record := &exchange.Record{
		Request: &exchange.Request{Method: "POST", URL: u, Header: http.Header{"X-Key": {"sealed-key-77"}, "X-Pin": {"12"}}, ShownHeader: map[string]string{"X-Pin": "[masked]"}, Body: []byte(`{"a": "` + "sealed-key-77" + `"}`)},
		Answer:  &exchange.Answer{Status: 500, Proto: "HTTP/1.1", Header: http.Header{"Content-Type": {"text/plain"}, "X-Evil": {nasty}}, Body: []byte(nasty + strings.Repeat("é", 100_000))},
		Phases:  exchange.Phases{Total: 14 * time.Millisecond},
	}
	binary := &exchange.Record{Request: &exchange.Request{Method: "GET", URL: u}, Answer: &exchange.Answer{Status: 200, Body: []byte("\x89PNG\xff")}}
	masker := &secret.Masker{}
	masker.Hide("sealed-key-77")
	check := sheet.Check{Kind: "field", Subject: nasty, Judged: true, Wanted: nasty, Got: nasty, Note: nasty}
	steps := []*sheet.StepResult{
		{Name: "held", Outcome: sheet.Held, Exchanges: []*exchange.Record{binary}, Checks: []sheet.Check{{Kind: "expect", Subject: "status", Held: true, Judged: true}}},
		{Name: "fell " + nasty, Target: nasty, Outcome: sheet.FellShort, Checks: []sheet.Check{check, {Kind: "where", Subject: "x", Judged: false}}, Exchanges: []*exchange.Record{record}, Reply: reply.Read(record), Says: nasty, Hints: []string{nasty}},
		{Name: "unreachable", Outcome: sheet.Unreachable, Reason: "refused " + nasty, Exchanges: []*exchange.Record{{Request: &exchange.Request{Method: "GET", URL: u}, Failure: &exchange.Failure{Message: nasty}}}},
		{Name: "not run", Outcome: sheet.NotRun, Reason: nasty},
	}
	row := &sheet.RowResult{Number: 2, Label: nasty, Outcome: sheet.FellShort, Steps: steps}
	return &sheet.Result{Run: "r", Bench: nasty, Outcome: sheet.FellShort, Masker: masker, Notes: []string{nasty}, Started: time.Unix(0, 0),
		Sheets: []*sheet.SheetResult{{Name: nasty, File: nasty, About: nasty, Outcome: sheet.FellShort, Rows: []*sheet.RowResult{row}}}}
}

// Nothing that a service or a sheet says is live in a report, and no secret is
// in one.
func TestReports(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"r.html", "r.xml", "r.json"} {
		file := filepath.Join(dir, name)
		require.NoError(t, report.WriteFile(file, result(t)))
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		text := string(data)
		assert.NotContains(t, text, "sealed-key-77", name)
		assert.NotContains(t, text, "\x1b", name)
		switch name {
		case "r.html":
			assert.NotContains(t, text, "<script>", name)
			assert.Contains(t, text, "2 of 4 steps did not hold.")
			assert.Contains(t, text, "X-Pin: [masked]")
			assert.Contains(t, text, "(5 bytes that are not UTF-8 text)")
			assert.NotContains(t, text, "<details open", "all closed at first")
		case "r.xml":
			var suites struct {
				Failures int `xml:"failures,attr"`
				Errors   int `xml:"errors,attr"`
				Skipped  int `xml:"skipped,attr"`
				Suite    struct {
					Cases []struct {
						Name    string `xml:"name,attr"`
						Failure *struct {
							Text string `xml:",chardata"`
						} `xml:"failure"`
						Error *struct {
							Message string `xml:"message,attr"`
						} `xml:"error"`
						Skipped *struct{} `xml:"skipped"`
					} `xml:"testcase"`
				} `xml:"testsuite"`
			}
			require.NoError(t, xml.Unmarshal(data, &suites))
			assert.Equal(t, []int{1, 1, 1}, []int{suites.Failures, suites.Errors, suites.Skipped})
			cases := suites.Suite.Cases
			require.Len(t, cases, 4)
			assert.Nil(t, cases[0].Failure)
			assert.Contains(t, cases[1].Failure.Text, `<script>alert("x")</script>`)
			assert.Contains(t, cases[2].Error.Message, "refused")
			assert.NotNil(t, cases[3].Skipped)
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
			assert.Less(t, len(steps[1].Exchanges[0].Body), 70_000)
			assert.Equal(t, nasty, steps[2].Exchanges[0].Failure)
		}
	}
	assert.ErrorContains(t, report.CheckName("x.doc"), "the ending says the format")
	assert.Error(t, report.WriteFile(filepath.Join(dir, "no", "folder.html"), result(t)))
}

func TestEmptyRun(t *testing.T) {
	empty := &sheet.Result{Masker: &secret.Masker{}, Outcome: sheet.NotRun}
	text, err := report.HTML(empty)
	require.NoError(t, err)
	assert.Contains(t, text, "Nothing was run.")
	text, err = report.JUnit(empty)
	require.NoError(t, err)
	assert.Contains(t, text, `tests="0"`)
}

func BenchmarkHTML(b *testing.B) {
	u, _ := url.Parse("http://127.0.0.1/lots")
	var rows []*sheet.RowResult
	for i := range 1000 {
		record := &exchange.Record{Request: &exchange.Request{Method: "GET", URL: u}, Answer: &exchange.Answer{Status: 200, Body: []byte(`{"id": "L-2201", "grade": "A"}`)}}
		rows = append(rows, &sheet.RowResult{Number: i + 1, Outcome: sheet.Held, Steps: []*sheet.StepResult{{Name: "s", Outcome: sheet.Held, Exchanges: []*exchange.Record{record}}}})
	}
	run := &sheet.Result{Masker: &secret.Masker{}, Outcome: sheet.Held, Sheets: []*sheet.SheetResult{{Name: "s", Rows: rows, Outcome: sheet.Held}}}
	for b.Loop() {
		if _, err := report.HTML(run); err != nil {
			b.Fatal(err)
		}
	}
}
