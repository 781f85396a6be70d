package lookup

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/table"
)

// Folder is the kind of what is not a database, but a folder in which files appear.
const Folder = "folder"

// Limits of what is taken from a folder.
const (
	mostFiles = 10_000
	mostFile  = 64 << 20
)

// Find lists the files of a folder whose names fit a pattern (as path.Match has it;
// it may name folders below): name, size, changed, in the order of their names.
func Find(dir, pattern string) (*document.Node, error) {
	root, err := openFolder(dir)
	if err != nil {
		return nil, err
	}
	defer func() { _ = root.Close() }()
	names, err := matches(root, pattern)
	if err != nil {
		return nil, err
	}
	list := document.NewList()
	for _, name := range names {
		info, err := root.Stat(name)
		if errors.Is(err, fs.ErrNotExist) || err == nil && info.IsDir() {
			continue // gone meanwhile
		}
		if err != nil {
			return nil, err
		}
		list.AppendItems(document.NewObject().
			Set("name", document.NewText(name)).
			Set("size", document.NewNumber(strconv.FormatInt(info.Size(), 10))).
			Set("changed", document.NewText(info.ModTime().UTC().Format(time.RFC3339))))
	}
	return list, nil
}

// openFolder opens a folder so that nothing outside of it can be reached through it.
func openFolder(dir string) (*os.Root, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		var cause *fs.PathError
		if errors.As(err, &cause) {
			err = cause.Err
		}
		return nil, &UnreachedError{"the folder " + dir, err}
	}
	return root, nil
}

func matches(root *os.Root, pattern string) ([]string, error) {
	if _, err := path.Match(pattern, ""); err != nil || pattern == "" || strings.HasPrefix(pattern, "/") ||
		slices.Contains(strings.Split(pattern, "/"), "..") {
		return nil, fmt.Errorf("%q is neither a file of the folder nor a pattern", pattern)
	}
	names, err := fs.Glob(root.FS(), pattern)
	if err != nil {
		return nil, err
	}
	if len(names) > mostFiles {
		return nil, fmt.Errorf("%s fits more than %d files", pattern, mostFiles)
	}
	return names, nil
}

// NotThereError says that no file fits yet.
type NotThereError struct{ Pattern string }

func (e *NotThereError) Error() string { return "there is no file " + e.Pattern + " in the folder" }

// Content reads the one file whose name fits a pattern. What has rows is a list of
// them; other files are read by their content. sum is the file's SHA-256.
func Content(dir, pattern string, o table.Options) (content *document.Node, name, sum string, err error) {
	root, err := openFolder(dir)
	if err != nil {
		return nil, "", "", err
	}
	defer func() { _ = root.Close() }()
	names, err := matches(root, pattern)
	switch {
	case err != nil:
		return nil, "", "", err
	case len(names) == 0:
		return nil, "", "", &NotThereError{pattern}
	case len(names) > 1:
		return nil, "", "", fmt.Errorf("%s fits %d files: %s; open one", pattern, len(names), suggest.FewNames(names))
	}
	name = names[0]
	file, err := root.Open(name)
	if err != nil {
		return nil, name, "", err
	}
	defer func() { _ = file.Close() }()
	data, err := io.ReadAll(io.LimitReader(file, mostFile+1))
	if err != nil {
		return nil, name, "", err
	}
	if len(data) > mostFile {
		return nil, name, "", fmt.Errorf("%s is larger than %d MiB", name, mostFile>>20)
	}
	digest := sha256.Sum256(data)
	content, err = read(name, data, o)
	return content, name, hex.EncodeToString(digest[:]), err
}

func read(name string, data []byte, o table.Options) (*document.Node, error) {
	switch ending := strings.ToLower(path.Ext(name)); ending {
	case ".csv", ".ndjson", ".jsonl", ".xlsx":
		source, err := table.Open(name, func() (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(string(data))), nil
		}, o)
		if err != nil {
			return nil, err
		}
		list := document.NewList()
		for row, err := range source.All() {
			if err != nil {
				return nil, err
			}
			list.AppendItems(row)
		}
		return list, nil
	case ".json":
		return document.ReadJSON(data)
	case ".xml":
		return document.ReadXML(data, "")
	}
	format := document.FormatOf("", data)
	if node, err := document.ReadAs(format, "", data); err == nil && node != nil {
		return node, nil
	}
	return document.NewText(string(data)), nil
}
