// Package safefile writes files so that a reader, or a power cut, finds either
// the old content or the new one, never half of it.
package safefile

import (
	"os"
	"path/filepath"
)

// Write puts data into the file name: written aside, synced, then renamed. An
// existing file keeps its mode; a new one gets perm.
func Write(name string, data []byte, perm os.FileMode) error {
	if info, err := os.Stat(name); err == nil {
		perm = info.Mode().Perm()
	}
	return aside(name, data, perm, os.Rename)
}

// Create is like Write for a file that must not be there yet; if it is, the
// error is fs.ErrExist. Of several that create it at once, one does.
func Create(name string, data []byte, perm os.FileMode) error {
	return aside(name, data, perm, func(from, to string) error {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	})
}

// aside writes data into a file beside name and puts it in place.
func aside(name string, data []byte, perm os.FileMode, place func(from, to string) error) (err error) {
	file, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+".*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = file.Close()
			_ = os.Remove(file.Name())
		}
	}()
	if _, err = file.Write(data); err != nil {
		return err
	}
	if err = file.Chmod(perm); err != nil {
		return err
	}
	if err = file.Sync(); err != nil {
		return err
	}
	if err = file.Close(); err != nil {
		return err
	}
	return place(file.Name(), name)
}
