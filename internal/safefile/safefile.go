// Package safefile writes files so that a reader, or a power cut, finds either
// the old content or the new one, never half of it.
package safefile

import (
	"os"
	"path/filepath"
)

// Write puts data into the file name: written aside, synced, then renamed. An
// existing file keeps its mode; a new one gets perm.
func Write(name string, data []byte, perm os.FileMode) (err error) {
	if info, err := os.Stat(name); err == nil {
		perm = info.Mode().Perm()
	}
	aside, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = aside.Close()
			_ = os.Remove(aside.Name())
		}
	}()
	if _, err = aside.Write(data); err != nil {
		return err
	}
	if err = aside.Chmod(perm); err != nil {
		return err
	}
	if err = aside.Sync(); err != nil {
		return err
	}
	if err = aside.Close(); err != nil {
		return err
	}
	return os.Rename(aside.Name(), name)
}
