package secret

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"

	"testbench/internal/safefile"
	"testbench/internal/value"
)

const (
	extension      = ".age"
	recipientsFile = "recipients.txt"
	environment    = "TESTBENCH_SEALED_"
	maxFile        = 1 << 20
)

// Store is the sealed store of a bench: one armoured file for each secret in
// Dir, and in Dir/SITE those of a site, which come first. Every file is sealed
// to the recipients of Dir/recipients.txt and to the user's own identity.
type Store struct {
	Dir      string // the folder of the sealed files
	Identity string // the file of the user's identity
	// Mine is the folder of the user's own secrets, outside of the bench: each is in
	// place of the one of its name that is shared. Empty for none.
	Mine string
	// Environ looks up environment variables; nil means os.LookupEnv.
	Environ func(string) (string, bool)
	// Passphrase asks for the passphrase of a locked identity; nil means that
	// nobody can be asked.
	Passphrase func(file string) (string, error)
	// Work is how hard guessing the passphrase is made, as a power of two; 0 means
	// what takes about a second.
	Work int

	once   sync.Once
	opened *openedIdentity
}

// NotFoundError says that a secret is neither in the environment nor sealed.
type NotFoundError struct {
	Name  string
	Known []string // the names that are there
}

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("the secret %s is not there: set it with `testbench secret set %s`, or in the environment as "+
		"%s%s",
		e.Name, e.Name, environment, strings.ToUpper(e.Name))
}

// DefaultIdentity returns the file of the user's identity: TESTBENCH_IDENTITY,
// else identity.txt in the user's configuration folder.
func DefaultIdentity() (string, error) {
	if file := os.Getenv("TESTBENCH_IDENTITY"); file != "" {
		return file, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", errNoFolder
	}
	return filepath.Join(dir, "testbench", "identity.txt"), nil
}

// MineOf gives the folder of the user's own secrets for the bench in a folder: it lies beside
// the identity. It gives "" without an identity.
func MineOf(dir, identity string) string {
	whole, err := filepath.Abs(dir)
	if identity == "" || err != nil {
		return ""
	}
	sum := sha256.Sum256([]byte(whole))
	return filepath.Join(filepath.Dir(identity), "mine", filepath.Base(whole)+"-"+hex.EncodeToString(sum[:6]))
}

// Get returns a secret as the site sees it: from TESTBENCH_SEALED_NAME or the
// file that TESTBENCH_SEALED_NAME_FILE names, else from the user's own sealed files, else from
// the site's, else from the bench's. A secret that is nowhere is a *NotFoundError.
func (s *Store) Get(site, name string) (string, error) {
	lookup := s.Environ
	if lookup == nil {
		lookup = os.LookupEnv
	}
	variable := environment + strings.ToUpper(name)
	if text, ok := lookup(variable); ok {
		return text, nil
	}
	if file, ok := lookup(variable + "_FILE"); ok {
		data, err := readBounded(file)
		if err != nil {
			return "", fmt.Errorf("the secret %s (by %s_FILE): %w", name, variable, err)
		}
		return strings.TrimRight(string(data), "\r\n"), nil
	}
	for _, file := range s.files(site, name) {
		data, err := readBounded(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return "", err
		}
		return s.open(file, data)
	}
	return "", &NotFoundError{Name: name, Known: s.names(site)}
}

// Has says whether Get would find the secret, without opening it.
func (s *Store) Has(site, name string) bool {
	lookup := s.Environ
	if lookup == nil {
		lookup = os.LookupEnv
	}
	variable := environment + strings.ToUpper(name)
	for _, v := range []string{variable, variable + "_FILE"} {
		if _, ok := lookup(v); ok {
			return true
		}
	}
	for _, file := range s.files(site, name) {
		if _, err := os.Stat(file); err == nil {
			return true
		}
	}
	return false
}

// files are where a secret may be sealed, that of the user and of the site first.
func (s *Store) files(site, name string) []string {
	var files []string
	for _, dir := range []string{s.Mine, s.Dir} {
		if dir != "" && site != "" {
			files = append(files, filepath.Join(dir, site, name+extension))
		}
		if dir != "" {
			files = append(files, filepath.Join(dir, name+extension))
		}
	}
	return files
}

// file is where Set seals a secret.
func (s *Store) file(site, name string) string { return filepath.Join(s.Dir, site, name+extension) }

// Own is the store of the user's own secrets of this bench.
func (s *Store) Own() *Store { return s.Beside(s.Mine) }

// Sealed tells how many keys open the secret as Set would replace it, and whether the user's
// is one of them; 0 where it is not there.
func (s *Store) Sealed(site, name string) (keys int, isMine bool, err error) {
	file := s.file(site, name)
	data, err := readBounded(file)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, false, nil
	}
	if err != nil {
		return 0, false, err
	}
	// The header has a line for each key (age-encryption.org/v1, "Recipient stanza").
	header, _ := io.ReadAll(armor.NewReader(bytes.NewReader(data)))
	for line := range bytes.Lines(header) {
		if bytes.HasPrefix(line, []byte("---")) {
			break
		}
		if bytes.HasPrefix(line, []byte("-> X25519 ")) {
			keys++
		}
	}
	_, wrong := s.open(file, data)
	return max(keys, 1), wrong == nil, nil
}

func readBounded(file string) ([]byte, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	data, err := io.ReadAll(io.LimitReader(f, maxFile+1))
	if err == nil && len(data) > maxFile {
		err = fmt.Errorf("%s is larger than a secret can be (%d bytes)", file, maxFile)
	}
	return data, err
}

func (s *Store) open(file string, sealed []byte) (string, error) {
	identities, err := s.identity(false)
	if err != nil {
		return "", fmt.Errorf("%s cannot be opened: %w", file, err)
	}
	reader, err := age.Decrypt(armor.NewReader(bytes.NewReader(sealed)), identities...)
	if err == nil {
		var opened []byte
		if opened, err = io.ReadAll(reader); err == nil {
			return string(opened), nil
		}
	}
	var noMatch *age.NoIdentityMatchError
	if errors.As(err, &noMatch) {
		return "", fmt.Errorf("%s is not sealed for your identity (%s): ask a team mate to run `testbench secret "+
			"share %s`", file, s.Identity, publicKey(identities))
	}
	return "", fmt.Errorf("%s is damaged or was tampered with: %v; take it from version control again, or set the "+
		"secret anew", file, err)
}

// CheckName says what is wrong with the name of a secret, if anything is.
func CheckName(name string) error {
	if !value.IsIdentifier(name) {
		return fmt.Errorf("%q cannot name a secret: a name has letters (A to Z, a to z), digits and _, and starts "+
			"with a letter or _", name)
	}
	return nil
}

// Set seals text under name, for the whole bench or, where site is not empty,
// for that site. It returns the file.
func (s *Store) Set(site, name, text string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	recipients, err := s.recipients(site, name)
	if err != nil {
		return "", err
	}
	file := s.file(site, name)
	return file, s.seal(file, text, recipients)
}

func (s *Store) seal(file, text string, recipients []age.Recipient) error {
	data, err := sealed(text, recipients)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return safefile.Write(file, data, 0o644)
}

// sealed encrypts a text to recipients, in armour.
func sealed(text string, recipients []age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	armored := armor.NewWriter(&out)
	writer, err := age.Encrypt(armored, recipients...)
	if err != nil {
		return nil, err
	}
	if _, err := io.WriteString(writer, text); err != nil {
		return nil, err
	}
	if err := writer.Close(); err != nil {
		return nil, err
	}
	err = armored.Close()
	return out.Bytes(), err
}

// Remove takes a sealed secret away. It returns the file.
func (s *Store) Remove(site, name string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	file := s.file(site, name)
	err := os.Remove(file)
	if errors.Is(err, fs.ErrNotExist) {
		return file, &NotFoundError{Name: name, Known: s.names(site)}
	}
	return file, err
}

// Entry is a sealed secret as it may be listed.
type Entry struct {
	Name    string    `json:"name"`
	Site    string    `json:"site,omitempty"` // empty for the whole bench
	Changed time.Time `json:"changed"`
	Mine    bool      `json:"mine,omitempty"` // the user's own, outside of the bench
}

// List returns what is sealed, by name and date.
func (s *Store) List() ([]Entry, error) {
	var entries []Entry
	err := filepath.WalkDir(s.Dir, func(file string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) && file == s.Dir {
			return fs.SkipAll
		}
		if err != nil || d.IsDir() || filepath.Ext(file) != extension {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		entry := Entry{
			Name:    strings.TrimSuffix(d.Name(), extension),
			Changed: info.ModTime().UTC().Truncate(time.Second),
		}
		if parent := filepath.Dir(file); parent != filepath.Clean(s.Dir) {
			entry.Site = filepath.Base(parent)
		}
		entries = append(entries, entry)
		return nil
	})
	slices.SortFunc(entries, func(a, b Entry) int {
		return strings.Compare(a.Name+"\x00"+a.Site, b.Name+"\x00"+b.Site)
	})
	return entries, err
}

func (s *Store) names(site string) []string {
	entries, err := s.List()
	if err != nil {
		return nil
	}
	if s.Mine != "" {
		own, _ := s.Own().List()
		entries = append(entries, own...)
	}
	var names []string
	for _, e := range entries {
		if e.Site == "" || e.Site == site {
			names = append(names, e.Name)
		}
	}
	return names
}
