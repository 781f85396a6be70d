package session

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"time"

	"testbench/internal/contract/source"
	"testbench/internal/safefile"
)

// keptFor is how long a document of a contract is good without asking for it again; afterwards it is
// asked for by its version (RFC 9110, 13.1.2 and 13.1.3).
const keptFor = 10 * time.Minute

// keptDocument is a document of a contract as it was fetched.
type keptDocument struct {
	Address, ETag, Modified string
	Fetched                 time.Time
	Public                  bool // what answered is public
	Body                    []byte
}

// keptContracts are the documents that a bench keeps between commands, in its folder; "" keeps none.
type keptContracts string

// file is where a document is, "" where nothing is kept.
func (k keptContracts) file(address string) string {
	if k == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(address))
	name := filepath.Join(".testbench", "contracts", hex.EncodeToString(sum[:12])+".json")
	if _, err := safefile.Inside(string(k), name); err != nil {
		return "" // a link that leads out
	}
	return filepath.Join(string(k), name)
}

// read gives a document that is kept; nil where none is, or where it cannot be read.
func (k keptContracts) read(address string) *keptDocument {
	name := k.file(address)
	if name == "" {
		return nil
	}
	f, err := os.Open(name)
	if err != nil {
		return nil
	}
	defer func() { _ = f.Close() }()
	data, err := io.ReadAll(io.LimitReader(f, 2*source.MaxDocument))
	d := &keptDocument{}
	if err != nil || json.Unmarshal(data, d) != nil || d.Address != address {
		return nil
	}
	return d
}

// write keeps a document. That it cannot be kept does not matter: it is fetched again.
func (k keptContracts) write(d *keptDocument) {
	name := k.file(d.Address)
	if name == "" || os.MkdirAll(filepath.Dir(name), 0o700) != nil {
		return
	}
	if data, err := json.Marshal(d); err == nil {
		_ = safefile.Write(name, data, 0o600)
	}
}
