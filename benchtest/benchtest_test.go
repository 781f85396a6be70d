package benchtest_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench"
	"testbench/benchtest"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
)

// demo is the demo bench with a stand-in of its own.
func demoBench(t *testing.T) string {
	t.Helper()
	server, err := standin.Start("127.0.0.1:0", standin.Options{})
	require.NoError(t, err)
	t.Cleanup(server.Close)
	dir := t.TempDir()
	require.NoError(t, demo.Write(dir, "http://"+server.Address))
	for name, text := range standin.Secrets {
		t.Setenv("TESTBENCH_SEALED_"+strings.ToUpper(name), text)
	}
	return dir
}

// Sheets run within tests, and nothing is left in the bench.
func TestRun(t *testing.T) {
	dir := demoBench(t)
	result := benchtest.Run(t, dir, "sheets/01-search.yaml", "sheets/04-rows.yaml")
	assert.Equal(t, testbench.Passed, result.Outcome)
	assert.Len(t, result.Sheets[1].Rows, 3)
	_, err := os.Stat(filepath.Join(dir, ".testbench", "history.db"))
	assert.True(t, os.IsNotExist(err))
}

// A sheet that fails fails the subtests of its steps, and only those.
func TestFailures(t *testing.T) {
	if os.Getenv("BENCHTEST_INSIDE") != "" {
		benchtest.Run(t, demoBench(t), "sheets/06-too-moist.yaml")
		return
	}
	c := exec.Command(os.Args[0], "-test.run", "^TestFailures$", "-test.v")
	c.Env = append(os.Environ(), "BENCHTEST_INSIDE=1")
	said, err := c.CombinedOutput()
	assert.Error(t, err)
	text := string(said)
	for _, says := range []string{
		"--- PASS: TestFailures/too_moist/row_1_·_L-2207/book", "--- FAIL: TestFailures/too_moist/row_2_·_L-2208/book",
		"expected 201, got 422", "moisture must not exceed 20",
		"--- SKIP: TestFailures/too_moist/row_2_·_L-2208/read_it_back", "number was not kept (book failed)",
	} {
		assert.Contains(t, text, says)
	}
}
