// Package safefile writes files so that a reader, or a power cut, finds either
// the old content or the new one, never half of it.
package safefile

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Write puts data into the file name: written aside, synced, then renamed. An
// existing file keeps its mode; a new one gets perm.
func Write(name string, data []byte, perm os.FileMode) error {
	if info, err := os.Stat(name); err == nil {
		perm = info.Mode().Perm()
	}
	return aside(name, whole(data), perm, os.Rename)
}

// Stream is like Write for what is written bit by bit.
func Stream(name string, perm os.FileMode, write func(io.Writer) error) error {
	if info, err := os.Stat(name); err == nil {
		perm = info.Mode().Perm()
	}
	return aside(name, func(file io.Writer) error {
		buffered := bufio.NewWriterSize(file, 64<<10)
		if err := write(buffered); err != nil {
			return err
		}
		return buffered.Flush()
	}, perm, os.Rename)
}

func whole(data []byte) func(io.Writer) error {
	return func(file io.Writer) error {
		_, err := file.Write(data)
		return err
	}
}

// Create is like Write for a file that must not be there yet; if it is, the
// error is fs.ErrExist. Of several that create it at once, one does.
func Create(name string, data []byte, perm os.FileMode) error {
	return aside(name, whole(data), perm, func(from, to string) error {
		if err := os.Link(from, to); err != nil {
			return err
		}
		return os.Remove(from)
	})
}

// CheckPlace says whether a file can be written under the name, before there is anything to write. The folder is
// made where it is not there.
func CheckPlace(name string) error {
	folder := filepath.Dir(name)
	switch info, err := os.Stat(folder); {
	case errors.Is(err, fs.ErrNotExist):
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return fmt.Errorf("%s: the folder %s cannot be made: %w", name, folder, err)
		}
	case err == nil && !info.IsDir():
		return fmt.Errorf("%s: %s is not a folder", name, folder)
	}
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		return fmt.Errorf("%s is a folder; write the name of a file", name)
	}
	probe, err := os.CreateTemp(folder, ".testbench-*")
	if err != nil {
		return fmt.Errorf("%s: nothing can be written into %s: %w", name, folder, err)
	}
	_ = probe.Close()
	return os.Remove(probe.Name())
}

// Append opens a file to be written on at its end, for its owner alone. It and its folder are made where they
// are not there.
func Append(name string) (*os.File, error) {
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return nil, err
	}
	return os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
}

// aside writes into a file beside name and puts it in place.
func aside(name string, write func(io.Writer) error, perm os.FileMode, place func(from, to string) error) (err error) {
	sweep(name)
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	file, err := os.CreateTemp(filepath.Dir(name), fmt.Sprintf(".%s.%d-*", filepath.Base(name), os.Getpid()))
	defer func() {
		var refused *fs.PathError
		if errors.As(err, &refused) {
			refused.Path = name // nobody knows the name beside it
		}
	}()
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			_ = file.Close()
			_ = os.Remove(file.Name())
		}
	}()
	if err = write(file); err != nil {
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
