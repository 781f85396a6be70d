//go:build peers

package main_test

import (
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// In a folder that may only be read, calls and runs go on without a record and say so; what
// has to write says that it cannot, and where.
func TestReadOnlyBench(t *testing.T) {
	t.Parallel()
	p, server := newBench(t)
	p.writing()
	require.Equal(t, 0, p.run("run", "sheets/02-grading.yaml").status)
	require.NoError(t, filepath.WalkDir(p.dir, func(path string, d fs.DirEntry, err error) error {
		mode := os.FileMode(0o444)
		if d.IsDir() {
			mode = 0o555
		}
		return os.Chmod(path, mode)
	}))
	for dir := filepath.Dir(p.dir); strings.HasPrefix(dir,
		os.TempDir()) && dir != os.TempDir(); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t, os.Chmod(filepath.Dir(built), 0o755))
	t.Cleanup(func() {
		_ = filepath.WalkDir(p.dir, func(path string, d fs.DirEntry, err error) error { return os.Chmod(path, 0o755) })
	})
	before := p.content()
	for _, c := range []struct {
		command string
		status  int
		says    string
	}{
		{"call stores/search grade=A", 0, "L-2201"},
		{"run sheets/01-search.yaml", 0, "is not recorded"},
		{"probe stores/lot id=L-2201 -only missing", 0, "is not recorded"},
		{"history", 0, "sheets/02-grading.yaml"},
		{"report last", 0, "1 passed"},
		{"vet", 0, "no mistakes"},
		{"add zN BASE/stores/lots -example", 2, "permission denied"},
		{"secret set sN", 2, "permission denied"},
		{"call stores/search grade=A -into sheets/mine.yaml", 2, "permission denied"},
		{"call stores/search grade=A -save savedN.json", 2, "permission denied"},
		{"run sheets/01-search.yaml -out reportN.html", 2, "permission denied"},
		{"handover stores/search grade=A -as go -out handed.go", 2, "permission denied"},
		{"bridge lab -issue-key kN", 2, "permission denied"},
	} {
		args := append([]string{built}, words(c.command, "http://"+server.Address, 1)...)
		if os.Getuid() == 0 { // who may do anything is not a test of this
			args = append([]string{"setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}, args...)
		}
		run := exec.Command(args[0], args[1:]...)
		run.Dir, run.Env, run.Stdin = p.dir, p.env, strings.NewReader(p.stdin)
		said, _ := run.CombinedOutput()
		assert.Equal(t, c.status, run.ProcessState.ExitCode(), "%s: %s", c.command, said)
		assert.Contains(t, string(said), c.says, c.command)
		assert.Equal(t, before, p.content(), c.command)
	}
}
