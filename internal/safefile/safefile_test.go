package safefile_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/safefile"
)

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "sheet.yaml")
	require.NoError(t, safefile.Write(file, []byte("one"), 0o640))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, safefile.Write(file, []byte("two"), 0o644))
	info, err = os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "an existing file keeps its mode")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "two", string(data))

	assert.ErrorIs(t, safefile.Create(file, []byte("three"), 0o600), os.ErrExist)
	require.NoError(t, safefile.Create(filepath.Join(dir, "new"), []byte("three"), 0o600))
	require.NoError(t, os.Remove(filepath.Join(dir, "new")))

	// What cannot be put in place leaves no trace beside it.
	require.NoError(t, os.Mkdir(filepath.Join(dir, "folder"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "folder", "x"), nil, 0o600))
	assert.Error(t, safefile.Write(filepath.Join(dir, "folder"), []byte("x"), 0o644))
	assert.Error(t, safefile.Write(filepath.Join(dir, "folder", "x", "y"), []byte("x"), 0o644))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2)
}

// What a command that was killed left beside a file goes when the file is written next; what
// another one is writing stays.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	gone := exec.Command("true")
	require.NoError(t, gone.Run())
	left := filepath.Join(dir, fmt.Sprintf(".sheet.yaml.%d-1234567", gone.Process.Pid))
	others := []string{
		fmt.Sprintf(".sheet.yaml.%d-7654321", os.Getppid()),
		fmt.Sprintf(".other.yaml.%d-1234567", gone.Process.Pid), ".sheet.yaml.swp", ".sheet.yaml.x-1",
	}
	for _, name := range append(others, filepath.Base(left)) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	require.NoError(t, safefile.Write(filepath.Join(dir, "sheet.yaml"), []byte("x"), 0o600))
	assert.NoFileExists(t, left)
	for _, name := range others {
		assert.FileExists(t, filepath.Join(dir, name))
	}
}

// A name leads out by its steps, by a link on its way, or by one to what is not there yet.
func TestInside(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a", "..b"), 0o755))
	for name, to := range map[string]string{
		"far": outside, "near": filepath.Join(dir, "a"), "relative": "a/..b",
		"dangling": filepath.Join(outside, "none"), "gone": "a/none",
		"to gone": "gone", "to dangling": "to far", "to far": "dangling", "ring": "a/back", "odd": "far/../none",
	} {
		require.NoError(t, os.Symlink(to, filepath.Join(dir, name)))
	}
	require.NoError(t, os.Symlink("../ring", filepath.Join(dir, "a", "back")))
	require.NoError(t, os.Symlink("../none", filepath.Join(dir, "a", "up")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "file"), nil, 0o600))
	for name, ok := range map[string]bool{
		"a/x": true, "a/..b/x": true, "./a": true, "near/x": true, "relative/x": true, "gone": true, "to gone": true,
		"a/up": true, "near/up": true, "a/file/x": true, "none/x": true,
		"..": false, "../x": false, "a/../../x": false, "far": false, "far/x": false, "far/new/x": false,
		"dangling": false, "to dangling": false, "to dangling/x": false, "ring": false, "odd": false,
		"/etc/passwd": false,
	} {
		full, err := safefile.Inside(dir, name)
		assert.Equal(t, ok, err == nil, "%s: %v", name, err)
		if ok {
			assert.Equal(t, filepath.Join(dir, name), full)
		}
	}
	assert.ErrorContains(t, safefile.CheckLinks(dir, "."), "is a link that leads out of the bench folder")
	assert.ErrorContains(t, safefile.CheckLinks(dir, "a"), "a/back is a link")
	assert.NoError(t, safefile.CheckLinks(dir, "a/..b", "none"))
	t.Chdir(dir)
	_, err := safefile.Inside(".", "near/x")
	require.NoError(t, err, "a folder by its relative name")
}

// The folder of locks is used only where it is the user's own.
func TestLockFolder(t *testing.T) {
	for name, prepare := range map[string]func(string) error{
		"a link":         func(at string) error { return os.Symlink(t.TempDir(), at) },
		"open to others": func(at string) error { return errors.Join(os.Mkdir(at, 0o700), os.Chmod(at, 0o777)) },
		"a file":         func(at string) error { return os.WriteFile(at, nil, 0o600) },
	} {
		t.Run(name, func(t *testing.T) {
			temporary, cache := t.TempDir(), t.TempDir()
			t.Setenv("TMPDIR", temporary)
			t.Setenv("XDG_CACHE_HOME", cache)
			at := filepath.Join(temporary, fmt.Sprintf("testbench-locks-%d", os.Getuid()))
			require.NoError(t, prepare(at))
			unlock, err := safefile.Lock(filepath.Join(t.TempDir(), "x"))
			require.NoError(t, err)
			defer unlock()
			entries, err := os.ReadDir(filepath.Join(cache, "testbench", "locks"))
			require.NoError(t, err)
			assert.Len(t, entries, 1, "they lie in the user's own folder")
			if name != "a file" {
				entries, err = os.ReadDir(at)
				require.NoError(t, err)
				assert.Empty(t, entries)
			}
		})
	}
}
