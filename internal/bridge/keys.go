package bridge

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"testbench/internal/safefile"
)

// Keys are those by which a bridge is asked, in a file. Of a key only its hash is held;
// keys are random and long, so a plain hash tells nothing.
type Keys struct {
	file  string
	mutex sync.Mutex
	read  time.Time // when the file was read, by its own time
	list  []*Key
}

// Key is what is known of a key.
type Key struct {
	Name       string    `json:"name"`
	Hash       string    `json:"hash"` // SHA-256, hexadecimal
	Operations []string  `json:"operations,omitempty"`
	Issued     time.Time `json:"issued"`
	Until      time.Time `json:"until,omitzero"`
	Withdrawn  time.Time `json:"withdrawn,omitzero"`
}

// Allows says whether the key is for an operation.
func (k *Key) Allows(operation string) bool {
	return len(k.Operations) == 0 || slices.Contains(k.Operations, operation)
}

// OpenKeys reads the keys in a file; one that is not there holds none.
func OpenKeys(file string) (*Keys, error) {
	k := &Keys{file: file}
	return k, k.refresh()
}

// refresh reads the file again where it changed: keys that are issued or withdrawn count
// at once.
func (k *Keys) refresh() error {
	info, err := os.Stat(k.file)
	if errors.Is(err, fs.ErrNotExist) {
		k.list = nil
		return nil
	}
	if err != nil {
		return err
	}
	if info.ModTime().Equal(k.read) {
		return nil
	}
	data, err := os.ReadFile(k.file)
	if err != nil {
		return err
	}
	var list []*Key
	if err := json.Unmarshal(data, &list); err != nil {
		return fmt.Errorf("%s: %w", k.file, err)
	}
	k.list, k.read = list, info.ModTime()
	return nil
}

// List gives the keys that were issued.
func (k *Keys) List() []*Key {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return slices.Clone(k.list)
}

// Issue makes a key, and gives it: it can be had this once only.
func (k *Keys) Issue(name string, operations []string, until time.Time) (string, error) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	unlock, err := safefile.Lock(k.file)
	if err != nil {
		return "", err
	}
	defer unlock()
	if err := k.refresh(); err != nil {
		return "", err
	}
	for _, key := range k.list {
		if key.Name == name && key.Withdrawn.IsZero() {
			return "", fmt.Errorf("there is a key %s already; withdraw it first, or take another name", name)
		}
	}
	text := "key-" + rand.Text() + rand.Text()
	k.list = append(k.list, &Key{Name: name, Hash: hashOf(text), Operations: operations, Issued: time.Now().UTC().Round(time.Second), Until: until})
	return text, k.write()
}

// Withdraw takes a key back.
func (k *Keys) Withdraw(name string) error {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	unlock, err := safefile.Lock(k.file)
	if err != nil {
		return err
	}
	defer unlock()
	if err := k.refresh(); err != nil {
		return err
	}
	for _, key := range k.list {
		if key.Name == name && key.Withdrawn.IsZero() {
			key.Withdrawn = time.Now().UTC().Round(time.Second)
			return k.write()
		}
	}
	return fmt.Errorf("there is no key %s that could be withdrawn", name)
}

func (k *Keys) write() error {
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(k.list, "", "  ")
	if err != nil {
		return err
	}
	return safefile.Write(k.file, append(data, '\n'), 0o600)
}

func hashOf(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// Check finds the key that a text is; nil and why where it is none that is good.
func (k *Keys) Check(text string, now time.Time) (*Key, string) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if err := k.refresh(); err != nil {
		return nil, "the keys cannot be read"
	}
	hash := hashOf(text)
	for _, key := range k.list {
		if subtle.ConstantTimeCompare([]byte(hash), []byte(key.Hash)) != 1 {
			continue
		}
		switch {
		case !key.Withdrawn.IsZero():
			return nil, "the key was withdrawn"
		case !key.Until.IsZero() && now.After(key.Until):
			return nil, "the key was good until " + key.Until.Format(time.RFC3339)
		}
		return key, ""
	}
	return nil, "the key is unknown"
}
