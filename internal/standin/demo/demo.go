// Package demo is the bench of the Heatherfold Honey Co-operative with its contracts and keys, and
// writes it into a folder.
package demo

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/safefile"
)

//go:embed all:bench
var bench embed.FS

// Files are the files of the bench.
func Files() fs.FS { return bench }

// File is one of the bench's files: "contracts/stores.yaml".
func File(name string) string {
	data, err := bench.ReadFile("bench/" + name)
	if err != nil {
		panic(err) // it is part of the program
	}
	return string(data)
}

// SheetThatFails is the sheet of the demo bench that fails on purpose.
const SheetThatFails = "too moist"

// demoAddress is where the files of the demo say that the stand-in is.
const demoAddress = "http://127.0.0.1:8720"

// BooksFile is where the demo bench looks for the ledger's own database.
const BooksFile = "books.db"

// Write writes the demo bench into a folder, with the stand-in's address.
// A folder that holds another bench is left as it is, and that is an error.
func Write(dir, base string) error {
	_, err := Renew(dir, base)
	return err
}

// Renew writes the bench as Write does, into a folder where it may lie already,
// and names the files that their owner changed and that stay as they are.
func Renew(dir, base string) (kept []string, err error) {
	if data, err := os.ReadFile(filepath.Join(dir, "bench.yaml")); err == nil &&
		!strings.HasPrefix(string(data), "bench: heatherfold\n") {
		return nil, fmt.Errorf("there is another bench in %s already; choose another folder", dir)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	// The lab's contract lies in the bench as a tester would save it.
	contracts := filepath.Join(dir, "contracts")
	if err := os.MkdirAll(contracts, 0o755); err != nil {
		return nil, err
	}
	saved := strings.NewReplacer("@BASE@/lab?xsd", "lab.xsd", "@BASE@", base).Replace(LabWSDL)
	next, err := nextStores()
	if err != nil {
		return nil, err
	}
	w := &benchWriter{dir: dir, written: map[string]string{}}
	w.read()
	for name, text := range map[string]string{
		"lab.wsdl": saved, "lab.xsd": LabXSD,
		"stores-next.yaml": strings.ReplaceAll(next, demoAddress, base),
	} {
		if err := w.write(path.Join("contracts", name), text); err != nil {
			return nil, err
		}
	}
	root, err := fs.Sub(bench, "bench")
	if err != nil {
		return nil, err
	}
	err = fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(strings.TrimSuffix(name, ".keep")))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := fs.ReadFile(root, name)
		if err != nil {
			return err
		}
		return w.write(strings.TrimSuffix(name, ".keep"), strings.ReplaceAll(string(data), demoAddress, base))
	})
	if err != nil {
		return nil, err
	}
	slices.Sort(w.kept)
	return w.kept, w.remember()
}

// benchWriter writes the files of the demo bench, and leaves those alone that their owner
// changed since they were written.
type benchWriter struct {
	dir     string
	written map[string]string // file: the digest of what was written
	kept    []string
}

// record is where the digests are kept.
func (w *benchWriter) record() string { return filepath.Join(w.dir, ".testbench", "demo.json") }

func (w *benchWriter) read() {
	if data, err := os.ReadFile(w.record()); err == nil {
		_ = json.Unmarshal(data, &w.written) // a damaged record keeps every file
	}
}

func (w *benchWriter) remember() error {
	data, err := json.MarshalIndent(w.written, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(w.record()), 0o755); err != nil {
		return err
	}
	return safefile.Write(w.record(), data, 0o644)
}

func (w *benchWriter) write(name, text string) error {
	to := filepath.Join(w.dir, filepath.FromSlash(name))
	if strings.HasSuffix(name, "/") {
		return os.MkdirAll(to, 0o755)
	}
	if old, err := os.ReadFile(to); err == nil && string(old) != text && digest(string(old)) != w.written[name] {
		w.kept = append(w.kept, name)
		return nil
	}
	w.written[name] = digest(text)
	return os.WriteFile(to, []byte(text), 0o644)
}

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// nextStores is the version of the stores that the depots plan: what a tester compares
// with today's before it comes.
func nextStores() (string, error) {
	text := File("contracts/stores.yaml")
	for _, change := range [][2]string{
		{"version: 1.4.0", "version: 2.0.0"},
		{"        - name: keeper\n          in: query\n", "        - name: beekeeper\n          in: query\n"},
		{
			"        harvested:\n          type: string\n          format: date\n",
			"        harvested:\n          type: string\n          format: date-time\n        hive:\n          type: " +
				"string\n          description: Where the honey comes from.\n",
		},
		{"          maxItems: 5\n", "          maxItems: 20\n"},
		{"          maxLength: 40\n", "          maxLength: 80\n"},
	} {
		if !strings.Contains(text, change[0]) {
			return "", fmt.Errorf("the stores' contract has no %q any more", change[0])
		}
		text = strings.Replace(text, change[0], change[1], 1)
	}
	return text, nil
}
