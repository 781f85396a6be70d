package session

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"testbench/internal/safefile"
)

// Accepted are the answers that a run takes for what they must be: it writes them into files.
// It is safe for use by several goroutines.
type Accepted struct {
	mutex sync.Mutex
	files map[string]string // by their full names
}

// Write writes an answer into a file, unless that is so already. An error is a file that cannot be
// written, or to which the run has written another answer.
func (a *Accepted) Write(file, text string) error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	if before, ok := a.files[file]; ok {
		if before == text {
			return nil
		}
		return fmt.Errorf("another answer of this run is in %s: put a value of the row into its name",
			filepath.Base(file))
	}
	if info, err := os.Stat(file); err == nil && info.IsDir() {
		return fmt.Errorf("%s is a folder; write the name of a file", filepath.Base(file))
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	if err := safefile.Write(file, []byte(text), 0o644); err != nil {
		return err
	}
	if a.files == nil {
		a.files = map[string]string{}
	}
	a.files[file] = text
	return nil
}

// Files are the files that were written.
func (a *Accepted) Files() []string {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	var names []string
	for name := range a.files {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}
