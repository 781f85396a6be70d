package mapping

import (
	"fmt"
	"os"
	"path"

	"testbench/internal/safefile"
	"testbench/internal/syntax"
	"testbench/internal/yamlfile"
)

// MaxInput bounds the files that requests are made of.
const MaxInput = 256 << 20

// ReadInside reads a file of the bench folder; a name or a link that leads out of it is an error.
func ReadInside(dir, name string) ([]byte, error) {
	full, err := FileInside(dir, name)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(full); err == nil && info.Size() > MaxInput {
		return nil, fmt.Errorf("%s is larger than %d MiB", name, MaxInput>>20)
	}
	data, err := os.ReadFile(full)
	if err != nil {
		return nil, err
	}
	return data, syntax.CheckConflict(name, data)
}

// FileInside resolves the name of a file that must be there.
func FileInside(dir, name string) (string, error) {
	full, err := safefile.Inside(dir, name)
	if err != nil {
		return "", err
	}
	switch info, err := os.Stat(full); {
	case err != nil:
		return "", fmt.Errorf("there is no file %s in the bench folder", name)
	case info.IsDir():
		return "", fmt.Errorf("%s is a folder", name)
	}
	return full, nil
}

// NotFile reports the name of a file of the bench where its content is expected: the name would be sent in its place.
func (r *Reader) NotFile(n *yamlfile.Node, key, try string) {
	if n.Kind != yamlfile.Scalar || path.Ext(n.Text) == "" {
		return
	}
	if _, err := FileInside(r.Dir, n.Text); err == nil {
		r.File.Report(n, try, "%s is a file, and %s: takes the content itself", n.Text, key)
	}
}
