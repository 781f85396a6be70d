package safefile_test

import (
	"os"
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
	assert.Error(t, safefile.Write(filepath.Join(dir, "none", "x"), []byte("x"), 0o644))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, entries, 2)
}
