package bridge

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"testbench/internal/safefile"
	"testbench/internal/suggest"
)

// Keys are those by which a bridge is asked, in a file. Of a key only its hash is kept;
// keys are random and long, so a plain hash tells nothing.
type Keys struct {
	file  string
	mutex sync.Mutex
	read  time.Time // when the file was written that was read, and its size
	size  int64
	issued
}

// issued is what is in the file.
type issued struct {
	Keys  []*Key          `json:"keys"`
	Roles map[string]Role `json:"roles,omitempty"`
}

// Role says what those who have it may ask for.
type Role struct {
	Operations []string `json:"operations,omitempty"` // empty for all
	Methods    []string `json:"methods,omitempty"`    // GET and POST; empty for both
}

func (r Role) allows(op *Operation, method string) bool {
	return (op == nil || len(r.Operations) == 0 || slices.Contains(r.Operations, op.Name)) &&
		(len(r.Methods) == 0 || slices.Contains(r.Methods, method))
}

// Key is what is known of a key.
type Key struct {
	Name       string    `json:"name"`
	Hash       string    `json:"hash"` // SHA-256, hexadecimal
	Operations []string  `json:"operations,omitempty"`
	Roles      []string  `json:"roles,omitempty"`
	Issued     time.Time `json:"issued"`
	Until      time.Time `json:"until,omitzero"`
	Withdrawn  time.Time `json:"withdrawn,omitzero"`
}

// Allows says whether a key is for an operation, or for what the bridge says of itself where op
// is nil: by the operations that it was issued for, and by one of its roles, where it has some.
func (k *Keys) Allows(key *Key, op *Operation, method string) bool {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if op != nil && len(key.Operations) > 0 && !slices.Contains(key.Operations, op.Name) {
		return false
	}
	return len(key.Roles) == 0 || slices.ContainsFunc(key.Roles, func(name string) bool {
		role, ok := k.Roles[name]
		return ok && role.allows(op, method)
	})
}

// Any says whether a key was ever issued. Keys that cannot be read count as issued: nothing is
// opened by a damaged file.
func (k *Keys) Any() bool {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return k.refresh() != nil || len(k.Keys) > 0
}

// SetRole says what a role is for.
func (k *Keys) SetRole(name string, role Role) error {
	return k.change(func() error {
		if k.Roles == nil {
			k.Roles = map[string]Role{}
		}
		k.Roles[name] = role
		return nil
	})
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
		k.issued, k.read, k.size = issued{}, time.Time{}, 0
		return nil
	}
	if err != nil {
		return err
	}
	if info.ModTime().Equal(k.read) && info.Size() == k.size {
		return nil
	}
	data, err := os.ReadFile(k.file)
	if err != nil {
		return err
	}
	var found issued
	if bytes.HasPrefix(bytes.TrimSpace(data), []byte("[")) { // as it was before there were roles
		err = json.Unmarshal(data, &found.Keys)
	} else {
		err = json.Unmarshal(data, &found)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", k.file, err)
	}
	k.issued, k.read, k.size = found, info.ModTime(), info.Size()
	return nil
}

// change writes the file anew, with what others wrote into it meanwhile.
func (k *Keys) change(what func() error) error {
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
	if err := what(); err != nil {
		return err
	}
	return k.write()
}

// List gives the keys that were issued.
func (k *Keys) List() []*Key {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return slices.Clone(k.Keys)
}

// Issue makes a key, and gives it: it can be had this once only. A role that is not known is
// an error.
func (k *Keys) Issue(name string, operations, roles []string, until time.Time) (string, error) {
	text := "key-" + rand.Text() + rand.Text()
	return text, k.change(func() error {
		for _, key := range k.Keys {
			if key.Name == name && key.Withdrawn.IsZero() {
				return fmt.Errorf("there is a key %s already; withdraw it first, or take another name", name)
			}
		}
		for _, role := range roles {
			if _, ok := k.Roles[role]; !ok {
				return fmt.Errorf("there is no role %q; %s", role,
					cmp.Or(suggest.DidYouMean(role, slices.Sorted(maps.Keys(k.Roles))), "-role NAME makes one"))
			}
		}
		k.Keys = append(k.Keys,
			&Key{
				Name: name, Hash: hashOf(text), Operations: operations, Roles: roles,
				Issued: time.Now().UTC().Round(time.Second), Until: until,
			})
		return nil
	})
}

// Withdraw takes a key back.
func (k *Keys) Withdraw(name string) error {
	return k.change(func() error {
		for _, key := range k.Keys {
			if key.Name == name && key.Withdrawn.IsZero() {
				key.Withdrawn = time.Now().UTC().Round(time.Second)
				return nil
			}
		}
		return fmt.Errorf("there is no key %s that could be withdrawn", name)
	})
}

func (k *Keys) write() error {
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	data, err := json.MarshalIndent(k.issued, "", "  ")
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
	for _, key := range k.Keys {
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
