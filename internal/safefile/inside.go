package safefile

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Inside gives where a file lies that is named relative to a folder. A name that leads out of the
// folder is an error, by its own steps or by a link; one that is not there is none.
func Inside(dir, name string) (string, error) {
	if filepath.IsAbs(name) {
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

// leadsOut says whether a link on the way to a file leads out of a folder. Where the file is not
// there, its folder is looked at.
func leadsOut(dir, full string) bool {
	root, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return false
	}
	for at := full; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err != nil {
			if target, err := os.Readlink(at); err == nil && !filepath.IsLocal(target) {
				return true // to what is not there yet, and would be made elsewhere
			}
			if at == dir || filepath.Dir(at) == at {
				return false
			}
			continue
		}
		inside, err := filepath.Rel(root, real)
		return err != nil || !filepath.IsLocal(inside)
	}
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
