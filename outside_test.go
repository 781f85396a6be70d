package testbench_test

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A program in another module uses the library and benchtest, from a checkout.
func TestOutside(t *testing.T) {
	if testing.Short() {
		t.Skip("links two more programs")
	}
	here, err := os.Getwd()
	require.NoError(t, err)
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("testdata/outside")))
	sums, err := os.ReadFile("go.sum")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.sum"), sums, 0o600))
	module := "module example.test/outside\n\ngo 1.26\n\nrequire testbench v0.0.0\n\nreplace testbench => " + here +
		"\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte(module), 0o600))
	bench, end := demoBench()
	t.Cleanup(end)
	goTool := func(args ...string) string {
		c := exec.CommandContext(t.Context(), "go", args...)
		if errors.Is(c.Err, exec.ErrNotFound) && runtime.GOOS == "windows" {
			t.Skip("there is no Go here")
		}
		c.Dir = dir
		c.Env = append(os.Environ(), "GOFLAGS=-mod=mod", "CGO_ENABLED=0", "DEMO_BENCH="+bench)
		said, err := c.CombinedOutput()
		require.NoError(t, err, string(said))
		return string(said)
	}
	said := goTool("run", ".", bench)
	assert.Contains(t, said, "row 2 · L-2208 book failed 1\n  expect status   expected 201, got 422")
	assert.Contains(t, said, "stores/search passed 200")
	assert.Contains(t, goTool("test", "-v", "."), "--- PASS: TestPartner/rows/row_3")
}
