package safefile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
)

// Inside gives where a file lies that is named relative to a folder. A name that leads out of the
// folder is an error, by its own steps or by a link; one that is not there is none.
func Inside(dir, name string) (string, error) {
	if IsRooted(name) {
		return "", fmt.Errorf("%s: files are named relative to the bench folder", name)
	}
	clean := filepath.Clean(filepath.FromSlash(name))
	if !filepath.IsLocal(clean) {
		return "", fmt.Errorf("%s leads out of the bench folder", name)
	}
	full := filepath.Join(dir, clean)
	if leadsOut(dir, full) {
		return "", fmt.Errorf("%s is a link that leads out of the bench folder", name)
	}
	return full, nil
}

// IsRooted says whether a name does not hang on the folder that it is used in: it is absolute, or begins with a slash,
// which on Windows means the root of whatever drive is in use.
func IsRooted(name string) bool {
	return filepath.IsAbs(name) || strings.HasPrefix(filepath.ToSlash(name), "/")
}

// IsMissing says whether an error is that there is no file of a name: nobody made it, or the system has no such names.
func IsMissing(err error) bool { return errors.Is(err, fs.ErrNotExist) || isNoName(err) }

// leadsOut says whether a file lies outside of a folder once all links are followed. Where it is not
// there, that is asked of the first step that is missing. Links in a circle lead nowhere, and so out.
func leadsOut(dir, full string) bool {
	root, err := real(dir)
	if err != nil {
		return false
	}
	file, err := real(full)
	missing := (*fs.PathError)(nil)
	switch {
	case errors.As(err, &missing):
		file = missing.Path // with the links before it followed
	case errors.Is(err, syscall.ENOTDIR):
		return false
	case err != nil:
		return true
	}
	inside, err := filepath.Rel(root, file)
	return err != nil || !filepath.IsLocal(inside)
}

// real is the absolute name of a file without links.
func real(name string) (string, error) {
	name, err := filepath.Abs(name)
	if err != nil {
		return "", err
	}
	return filepath.EvalSymlinks(name)
}

// CheckLinks goes through the folders of that name in dir and is an error for the first link that
// leads out.
func CheckLinks(dir string, names ...string) error {
	for _, name := range names {
		full, err := Inside(dir, name)
		if err != nil {
			return err
		}
		err = filepath.WalkDir(full, func(file string, d fs.DirEntry, err error) error {
			if err != nil || d.Type()&fs.ModeSymlink == 0 {
				return nil
			}
			short, err := filepath.Rel(dir, file)
			if err == nil {
				_, err = Inside(dir, short)
			}
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// isStale says whether a file was begun by a command that is no more: its name says by which.
func isStale(name, base string) bool {
	rest, ok := strings.CutPrefix(name, "."+base+".")
	if !ok {
		return false
	}
	var pid int
	_, err := fmt.Sscanf(rest, "%d-", &pid)
	return err == nil && pid > 0 && pid != os.Getpid() && !isAlive(pid)
}

// sweep takes away what commands that were killed left beside a file.
func sweep(name string) {
	entries, err := os.ReadDir(filepath.Dir(name))
	if err != nil {
		return
	}
	for _, e := range entries {
		if isStale(e.Name(), filepath.Base(name)) {
			_ = os.Remove(filepath.Join(filepath.Dir(name), e.Name()))
		}
	}
}
