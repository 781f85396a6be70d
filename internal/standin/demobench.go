package standin

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

//go:embed all:demo
var demo embed.FS

// SheetThatFalls is the sheet of the demo bench that falls short on purpose.
const SheetThatFalls = "too moist"

// demoAddress is where the files of the demo say that the stand-in is.
const demoAddress = "http://127.0.0.1:8720"

// BooksFile is where the demo bench looks for the ledger's own database.
const BooksFile = "books.db"

// WriteBench writes the demo bench into a folder, with the stand-in's address.
// A folder that holds another bench is left as it is, and that is an error.
func WriteBench(dir, base string) error {
	if data, err := os.ReadFile(filepath.Join(dir, "bench.yaml")); err == nil && !strings.HasPrefix(string(data), "bench: heatherfold\n") {
		return fmt.Errorf("there is another bench in %s already; choose another folder", dir)
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	// The lab's contract lies in the bench as a tester would save it.
	contracts := filepath.Join(dir, "contracts")
	if err := os.MkdirAll(contracts, 0o755); err != nil {
		return err
	}
	saved := strings.NewReplacer("@BASE@/lab?xsd", "lab.xsd", "@BASE@", base).Replace(labWSDL)
	next, err := nextStores()
	if err != nil {
		return err
	}
	for name, text := range map[string]string{"lab.wsdl": saved, "lab.xsd": labXSD, "stores-next.yaml": strings.ReplaceAll(next, demoAddress, base)} {
		if err := os.WriteFile(filepath.Join(contracts, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	root, err := fs.Sub(demo, "demo")
	if err != nil {
		return err
	}
	return fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
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
		text := strings.ReplaceAll(string(data), demoAddress, base)
		return os.WriteFile(to, []byte(text), 0o644)
	})
}

// nextStores is the version of the stores that the depots plan: what a tester compares
// with today's before it comes.
func nextStores() (string, error) {
	today, err := fs.ReadFile(demo, "demo/contracts/stores.yaml")
	if err != nil {
		return "", err
	}
	text := string(today)
	for _, change := range [][2]string{
		{"version: 1.4.0", "version: 2.0.0"},
		{"        - name: keeper\n          in: query\n", "        - name: beekeeper\n          in: query\n"},
		{"        harvested:\n          type: string\n          format: date\n", "        harvested:\n          type: string\n          format: date-time\n        hive:\n          type: string\n          description: Where the honey comes from.\n"},
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
