package run_test

import (
	"bytes"
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/run"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/step"
)

// Rows whose answers are large wait for those before them to be recorded: what a run holds
// hangs on how large they are, not on how many rows there are.
func TestRowsWaitForTheRecord(t *testing.T) {
	const jobs, rows, size = 2, 40, 4 << 20
	var answered, recorded, over atomic.Int64
	most := int64(64<<20/size + 1 + jobs) // what may wait, and what is at work
	tooMany := make(chan struct{}, rows)
	answer := bytes.Repeat([]byte("honey "), size/6)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		_, _ = w.Write(answer)
		if answered.Add(1)-recorded.Load() > most {
			over.Add(1)
			tooMany <- struct{}{}
		}
	}))
	t.Cleanup(server.Close)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "bench.yaml"),
		[]byte("bench: b\nsites: {local: {set: {base: "+server.URL+"}}}\n"), 0o600))
	file := filepath.Join(dir, "large.yaml")
	require.NoError(t, os.WriteFile(file,
		[]byte("sheet: large\nrows: {numbers: 1 to 40}\nsteps:\n  - step: ask\n    request: GET ${base}/\n"), 0o600))
	bench, err := bench.Open(dir)
	require.NoError(t, err)
	s, err := sheet.Open(bench, file, step.Kinds)
	require.NoError(t, err)
	session, err := session.NewSession(bench, session.Options{})
	require.NoError(t, err)
	passed := 0
	run.Run(context.Background(), nil, []*run.Job{{Session: session, Sheet: s}},
		run.RunOptions{Jobs: jobs, Forget: true, Record: func(entries []history.Entry) error {
			if recorded.Load() == 0 { // the record takes its time, and the rows could go on meanwhile
				select {
				case <-tooMany:
				case <-time.After(time.Second):
				}
			}
			for _, e := range entries {
				if e.Outcome == string(result.Passed) {
					passed++
				}
			}
			recorded.Add(int64(len(entries)))
			return nil
		}})
	assert.Equal(t, rows, passed)
	assert.Zero(t, over.Load(), "more than %d rows waited", most)
}
