package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
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
	// Environ looks up environment variables; nil means os.LookupEnv.
	Environ func(string) (string, bool)
}

// NotFoundError says that a secret is neither in the environment nor sealed.
type NotFoundError struct {
	Name  string
	Known []string // the names that are there
}

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("the secret %s is not there: set it with `testbench secret set %s`, or in the environment as %s%s",
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
		return "", fmt.Errorf("no folder for the identity of the sealed store: %w; set TESTBENCH_IDENTITY to a file", err)
	}
	return filepath.Join(dir, "testbench", "identity.txt"), nil
}

// Get returns a secret as the site sees it: from TESTBENCH_SEALED_NAME or the
// file that TESTBENCH_SEALED_NAME_FILE names, else from the site's own sealed
// file, else from the bench's. A secret that is nowhere is a *NotFoundError.
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

func (s *Store) files(site, name string) []string {
	common := filepath.Join(s.Dir, name+extension)
	if site == "" {
		return []string{common}
	}
	return []string{filepath.Join(s.Dir, site, name+extension), common}
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
	identities, err := s.identities(false)
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
		return "", fmt.Errorf("%s is not sealed for your identity (%s): ask a team mate to run `testbench secret share %s`", file, s.Identity, recipientOf(identities))
	}
	return "", fmt.Errorf("%s is damaged or was tampered with: %v; take it from version control again, or set the secret anew", file, err)
}

func recipientOf(identities []age.Identity) string {
	for _, identity := range identities {
		if x, ok := identity.(*age.X25519Identity); ok {
			return x.Recipient().String()
		}
	}
	return "YOUR-PUBLIC-KEY"
}

// identities reads the user's identity; with create it is made when missing.
func (s *Store) identities(create bool) ([]age.Identity, error) {
	data, err := readBounded(s.Identity)
	if errors.Is(err, fs.ErrNotExist) {
		if !create {
			return nil, fmt.Errorf("you have no identity yet (%s): `testbench secret set` makes one", s.Identity)
		}
		return s.newIdentity()
	}
	if err != nil {
		return nil, err
	}
	identities, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s is no identity: %w", s.Identity, err)
	}
	return identities, nil
}

func (s *Store) newIdentity() ([]age.Identity, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(s.Identity), 0o700); err != nil {
		return nil, err
	}
	text := fmt.Sprintf("# identity of the sealed store; keep it to yourself\n# public key: %s\n%s\n", identity.Recipient(), identity)
	err = safefile.Create(s.Identity, []byte(text), 0o600)
	if errors.Is(err, fs.ErrExist) {
		return s.identities(false) // another command was quicker
	}
	if err != nil {
		return nil, err
	}
	return []age.Identity{identity}, nil
}

// recipients are the user and those of recipients.txt.
func (s *Store) recipients() ([]age.Recipient, error) {
	identities, err := s.identities(true)
	if err != nil {
		return nil, err
	}
	var recipients []age.Recipient
	own := map[string]bool{}
	for _, identity := range identities {
		if x, ok := identity.(*age.X25519Identity); ok {
			recipients = append(recipients, x.Recipient())
			own[x.Recipient().String()] = true
		}
	}
	for _, line := range s.recipientLines() {
		if own[line] {
			continue
		}
		recipient, err := age.ParseX25519Recipient(line)
		if err != nil {
			return nil, fmt.Errorf("%s: %q is no public key: %w", filepath.Join(s.Dir, recipientsFile), line, err)
		}
		recipients = append(recipients, recipient)
	}
	if len(recipients) == 0 {
		return nil, fmt.Errorf("%s holds no identity that can seal", s.Identity)
	}
	return recipients, nil
}

func (s *Store) recipientLines() []string {
	data, err := readBounded(filepath.Join(s.Dir, recipientsFile))
	if err != nil {
		return nil
	}
	var lines []string
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line != "" && !strings.HasPrefix(line, "#") {
			lines = append(lines, line)
		}
	}
	return lines
}

// CheckName says what is wrong with the name of a secret, if anything is.
func CheckName(name string) error {
	if !value.IsIdentifier(name) {
		return fmt.Errorf("%q cannot name a secret: a name has letters, digits and _ and starts with a letter or _", name)
	}
	return nil
}

// Set seals text under name, for the whole bench or, where site is not empty,
// for that site. It returns the file.
func (s *Store) Set(site, name, text string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	recipients, err := s.recipients()
	if err != nil {
		return "", err
	}
	file := s.files(site, name)[0]
	return file, s.seal(file, text, recipients)
}

func (s *Store) seal(file, text string, recipients []age.Recipient) error {
	var sealed bytes.Buffer
	armored := armor.NewWriter(&sealed)
	writer, err := age.Encrypt(armored, recipients...)
	if err != nil {
		return err
	}
	if _, err := io.WriteString(writer, text); err != nil {
		return err
	}
	if err := writer.Close(); err != nil {
		return err
	}
	if err := armored.Close(); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	return safefile.Write(file, sealed.Bytes(), 0o644)
}

// Remove takes a sealed secret away. It returns the file.
func (s *Store) Remove(site, name string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	file := s.files(site, name)[0]
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
		entry := Entry{Name: strings.TrimSuffix(d.Name(), extension), Changed: info.ModTime().UTC().Truncate(time.Second)}
		if parent := filepath.Dir(file); parent != filepath.Clean(s.Dir) {
			entry.Site = filepath.Base(parent)
		}
		entries = append(entries, entry)
		return nil
	})
	slices.SortFunc(entries, func(a, b Entry) int { return strings.Compare(a.Name+"\x00"+a.Site, b.Name+"\x00"+b.Site) })
	return entries, err
}

func (s *Store) names(site string) []string {
	entries, err := s.List()
	if err != nil {
		return nil
	}
	var names []string
	for _, e := range entries {
		if e.Site == "" || e.Site == site {
			names = append(names, e.Name)
		}
	}
	return names
}

// Share adds a team mate's public key and seals every secret anew, so that the
// key opens them too. It returns how many there were.
func (s *Store) Share(recipient string) (int, error) {
	recipient = strings.TrimSpace(recipient)
	if _, err := age.ParseX25519Recipient(recipient); err != nil {
		return 0, fmt.Errorf("%q is no public key (age1…): %w", recipient, err)
	}
	lines := s.recipientLines()
	own, err := s.PublicKey(true)
	if err != nil {
		return 0, err
	}
	for _, key := range []string{own, recipient} {
		if !slices.Contains(lines, key) {
			lines = append(lines, key)
		}
	}
	entries, err := s.List()
	if err != nil {
		return 0, err
	}
	// Everything is opened before anything is written.
	opened := make([]string, len(entries))
	for i, e := range entries {
		file := s.files(e.Site, e.Name)[0]
		data, err := readBounded(file)
		if err != nil {
			return 0, err
		}
		if opened[i], err = s.open(file, data); err != nil {
			return 0, err
		}
	}
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return 0, err
	}
	text := "# public keys that the secrets of this bench are sealed to\n" + strings.Join(lines, "\n") + "\n"
	if err := safefile.Write(filepath.Join(s.Dir, recipientsFile), []byte(text), 0o644); err != nil {
		return 0, err
	}
	recipients, err := s.recipients()
	if err != nil {
		return 0, err
	}
	for i, e := range entries {
		if err := s.seal(s.files(e.Site, e.Name)[0], opened[i], recipients); err != nil {
			return i, err
		}
	}
	return len(entries), nil
}

// PublicKey returns the user's public key. With create an identity is made if
// there is none.
func (s *Store) PublicKey(create bool) (string, error) {
	identities, err := s.identities(create)
	if err != nil {
		return "", err
	}
	return recipientOf(identities), nil
}
