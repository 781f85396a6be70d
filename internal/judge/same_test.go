package judge_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/secret"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// A whole answer is held against a file, which a run that accepts what comes writes.
func TestSameAsFile(t *testing.T) {
	kind, body := "", ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", kind)
		_, _ = w.Write([]byte(body))
	}))
	t.Cleanup(server.Close)
	const lots = `{"lots": [{"id": "L-1", "kilos": 40}, {"id": "L-2", "kilos": 12.50}], "at": "10:01"}`
	cases := []struct {
		name, kind, file string // "" is not a file
		answer           string
		expect           string // beside same as file:
		accept           bool
		outcome          result.Outcome
		got, note        string
		written          string // "" for the file as it was
	}{
		{"the same, written otherwise", "json", `{"at":"10:01","lots":[{"kilos":40.0,"id":"L-1"},{"kilos":12.5,"id":"L-2"}]}`, lots, "", false, result.Passed, "so", "", ""},
		{"no file yet", "json", "", lots, "", false, result.Failed, "there is no file", "run -accept writes it", ""},
		{"accepted", "json", "", `{"b":1,"a":[{}]}`, "", true, result.Passed, "so", "accepted", "{\n  \"b\": 1,\n  \"a\": [\n    {}\n  ]\n}\n"},
		{"accepted in the place of another", "json", "{}", `{"b":1}`, "", true, result.Passed, "so", "accepted", "{\n  \"b\": 1\n}\n"},
		{"not accepted where another check fails", "json", "{}", lots, "type: text/xml", true, result.Failed, "other checks failed", "", ""},
		{"a value, one more and one less", "json", lots, `{"lots": [{"id": "L-1", "kilos": 41}, {"id": "L-3", "kilos": 1}], "at": "10:01"}`, "", false, result.Failed, "lots[id=L-1].kilos: 41, not 40; ", "", ""},
		{"an element that is new", "json", `{"lots": []}`, `{"lots": [{"id": "L-1"}]}`, "", false, result.Failed, "is new", "", ""},
		{"another kind", "json", `{"n": 5}`, `{"n": "5"}`, "", false, result.Failed, `n: "5", not 5`, "", ""},
		{"except a path", "json", strings.Replace(lots, "10:01", "10:02", 1), lots, "except: at", false, result.Passed, "so", "", ""},
		{"except nothing", "json", strings.Replace(lots, "10:01", "10:02", 1), lots, "except: [at, ta]", false, result.Passed, "so", "", ""},
		{"the same, except nothing", "json", "{}", "{}", "except: ta", false, result.Passed, "so", "", ""},
		{"more than are told", "json", `{"a":1,"b":1,"c":1,"d":1,"e":1,"f":1,"g":1}`, `{"a":2,"b":2,"c":2,"d":2,"e":2,"f":2,"g":2}`, "", false, result.Failed, "; and 2 more", "", ""},
		{"just as many as are told", "json", `{"a":1,"b":1,"c":1,"d":1,"e":1}`, `{"a":2,"b":2,"c":2,"d":2,"e":2}`, "", false, result.Failed, "e: 2, not 1$", "", ""},
		{"an element that is missing", "json", `{"a": [1], "b": 2}`, `{}`, "", false, result.Failed, "a is missing; b: 2 is missing$", "", ""},
		{"another order", "json", `[{"id": "a"}, {"id": "b"}, {"id": "c"}]`, `[{"id": "b"}, {"id": "c"}, {"id": "a"}]`, "", false, result.Failed, "[id=a] is at place 3, not 1$", "", ""},
		{"text for JSON", "plain", `{"a": 1}`, "none", "", false, result.Failed, `line 1: "none", not `, "", ""},
		{"JSON for text", "json", "none", `{"a": 1}`, "", false, result.Failed, `line 1: "{", not "none"`, "", ""},
		{"XML", "xml", "<r><n>1</n></r>", "<r>\n <n>2</n></r>", "", false, result.Failed, `n: "2", not "1"`, "", ""},
		{"accepted XML", "xml", "", "<r><n>2</n></r>", "", true, result.Passed, "so", "accepted", "<r>\n  <n>2</n>\n</r>\n"},
		{"text", "plain", "a\nb\n", "a\nc\n", "", false, result.Failed, `line 2: "c", not "b"`, "", ""},
		{"text that goes on", "plain", "a", "a\nc", "", false, result.Failed, `line 2: "c" is new`, "", ""},
		{"text that ends", "plain", "a\nb", "a", "", false, result.Failed, `line 2: "b" is missing`, "", ""},
		{"nothing", "plain", "", "", "", true, result.Passed, "so", "accepted", ""},
		{"a file that leads out", "json", "out", lots, "", false, result.Failed, "leads out", "", ""},
		{"a secret is not written", "json", "", `{"token": "unspoken-7"}`, "", true, result.Passed, "so", "accepted", "{\n  \"token\": \"" + secret.Mask + "\"\n}\n"},
		{"nor told", "json", `{"token": "x"}`, `{"token": "unspoken-7"}`, "", false, result.Failed, secret.Mask, "", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			kind, body = map[string]string{"json": "application/json", "xml": "text/xml", "plain": "text/plain"}[c.kind], c.answer
			opened := bench.Read(dir, "bench.yaml", []byte("bench: b\nsites: {local: {set: {base: \""+server.URL+"\", name: a}}}\n"))
			file, named := filepath.Join(dir, "as", "a.it"), "as/${name}.it"
			if c.file == "out" {
				named = "${name}/../../../b"
			} else if c.file != "" {
				require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o700))
				require.NoError(t, os.WriteFile(file, []byte(c.file), 0o600))
			}
			text := "sheet: s\nsteps:\n  - step: it\n    request: GET ${base}/\n    expect:\n      same as file: " + named + "\n"
			if c.expect != "" {
				text += "      " + c.expect + "\n"
			}
			read := sheet.Read(opened, filepath.Join(dir, "s.yaml"), []byte(text), step.Kinds)
			require.Empty(t, read.Problems().Serious())
			options := session.Options{Store: &secret.Store{}, Masker: &secret.Masker{}}
			options.Masker.Hide("unspoken-7")
			if c.accept {
				options.Accepted = &session.Accepted{}
			}
			s, err := session.NewSession(opened, options)
			require.NoError(t, err)
			it := run.Run(t.Context(), nil, []*run.Job{{Session: s, Sheet: read}}, run.RunOptions{})[0].Rows[0].Steps[0]
			assert.Equal(t, c.outcome, it.Outcome, it.Reason)
			check := it.Checks[len(it.Checks)-1]
			assert.Equal(t, "same as file", check.Subject)
			assert.Contains(t, check.Got+"$", c.got)
			assert.Equal(t, c.note, check.Note)
			told := strings.Join(it.Last().Notes, "\n")
			assert.Equal(t, strings.Contains(c.expect, "ta"), strings.Contains(told, "except: ta matches nothing"), told)
			assert.NotContains(t, told, "except: at matches nothing")
			assert.NotContains(t, check.Got, "unspoken")
			if c.written != "" {
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				assert.Equal(t, c.written, string(data))
			}
		})
	}
}

// Two rows cannot be what one file must be.
func TestAcceptedTwice(t *testing.T) {
	var a session.Accepted
	file := filepath.Join(t.TempDir(), "deep", "a.json")
	require.NoError(t, a.Write(file, "1"))
	require.NoError(t, a.Write(file, "1"))
	assert.ErrorContains(t, a.Write(file, "2"), "another answer of this run is in a.json")
	assert.ErrorContains(t, a.Write(filepath.Dir(file), "1"), "deep is a folder")
	assert.Equal(t, []string{file}, a.Files())
}
