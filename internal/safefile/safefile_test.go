package safefile_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/safefile"
	"testbench/internal/safefile/safefiletest"
)

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "sheet.yaml")
	require.NoError(t, safefile.Write(file, []byte("one"), 0o640))
	mode := func(expected os.FileMode) {
		info, err := os.Stat(file)
		require.NoError(t, err)
		if runtime.GOOS != "windows" { // where a file can be written to by all, or by nobody
			assert.Equal(t, expected, info.Mode().Perm())
		}
	}
	mode(0o640)
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, safefile.Write(file, []byte("two"), 0o644))
	mode(0o600) // an existing file keeps its own
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
	gone := exec.Command(os.Args[0], "-test.run", "^$")
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
	if runtime.GOOS == "windows" { // where nobody tells whether a process is there still
		others = append(others, filepath.Base(left))
	} else {
		assert.NoFileExists(t, left)
	}
	for _, name := range others {
		assert.FileExists(t, filepath.Join(dir, name))
	}
}

// A name leads out by its steps.
func TestInside(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a", "..b"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "file"), nil, 0o600))
	for name, wrong := range map[string]string{
		"a/x": "", "a/..b/x": "", "./a": "", "a/file/x": "", "none/x": "",
		"..": "leads out", "../x": "leads out", "a/../../x": "leads out",
		"/etc/passwd": "named relative to", dir: "named relative to",
	} {
		full, err := safefile.Inside(dir, name)
		if wrong != "" {
			assert.ErrorContains(t, err, wrong, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Equal(t, filepath.Join(dir, name), full)
	}
}

// A name leads out by a link on its way, or by one to what is not there yet.
func TestInsideByLinks(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a", "..b"), 0o755))
	for name, to := range map[string]string{
		"far": outside, "near": filepath.Join(dir, "a"), "relative": "a/..b",
		"dangling": filepath.Join(outside, "none"), "gone": "a/none",
		"to gone": "gone", "to dangling": "to far", "to far": "dangling", "ring": "a/back", "odd": "far/../none",
	} {
		safefiletest.Link(t, to, filepath.Join(dir, name))
	}
	safefiletest.Link(t, "../ring", filepath.Join(dir, "a", "back"))
	safefiletest.Link(t, "../none", filepath.Join(dir, "a", "up"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "file"), nil, 0o600))
	for name, ok := range map[string]bool{
		"near/x": true, "relative/x": true, "gone": true, "to gone": true, "a/up": true, "near/up": true,
		"far": false, "far/x": false, "far/new/x": false, "dangling": false, "to dangling": false, "to dangling/x": false,
		"ring": false, "odd": false,
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
	if runtime.GOOS == "windows" {
		t.Skip("on Windows the folder for temporary files is the user's own")
	}
	for name, prepare := range map[string]func(string) error{
		"a link":         func(at string) error { safefiletest.Link(t, t.TempDir(), at); return nil },
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
