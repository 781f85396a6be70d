package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/armor"

	"testbench/internal/safefile"
)

// openedIdentity is an identity that was read once, shared by stores that lie
// beside one another.
type openedIdentity struct {
	mutex      sync.Mutex
	identities []age.Identity
}

// Beside returns a store in another folder that is sealed to the same identity
// and looks nowhere else.
func (s *Store) Beside(dir string) *Store {
	return &Store{
		Dir: dir, Identity: s.Identity, Passphrase: s.Passphrase, opened: s.shared(),
		Environ: func(string) (string, bool) { return "", false },
	}
}

func (s *Store) shared() *openedIdentity {
	s.once.Do(func() {
		if s.opened == nil {
			s.opened = &openedIdentity{}
		}
	})
	return s.opened
}

// HasIdentity says whether the user has an identity.
func (s *Store) HasIdentity() bool {
	_, err := os.Stat(s.Identity)
	return s.Identity != "" && err == nil
}

// identity reads the user's identity once; with create it is made when missing.
func (s *Store) identity(create bool) ([]age.Identity, error) {
	opened := s.shared()
	opened.mutex.Lock()
	defer opened.mutex.Unlock()
	if opened.identities != nil {
		return opened.identities, nil
	}
	identities, err := s.readIdentity(create)
	opened.identities = identities
	return identities, err
}

// errNoFolder says why there is no identity, and cannot be one.
var errNoFolder = errors.New("there is no home folder, in which your identity would be: set HOME, or " +
	"TESTBENCH_IDENTITY to its file")

func (s *Store) readIdentity(create bool) ([]age.Identity, error) {
	if s.Identity == "" {
		return nil, errNoFolder
	}
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
	if isLocked(data) {
		if data, err = s.unlock(data); err != nil {
			return nil, err
		}
	}
	identities, err := age.ParseIdentities(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("%s is not an identity: %w", s.Identity, err)
	}
	return identities, nil
}

// isLocked says whether an identity file is itself sealed by a passphrase.
func isLocked(data []byte) bool {
	return bytes.HasPrefix(data, []byte(armor.Header)) || bytes.HasPrefix(data, []byte("age-encryption.org/"))
}

func (s *Store) unlock(data []byte) ([]byte, error) {
	if s.Passphrase == nil {
		return nil, fmt.Errorf("the identity %s is locked by a passphrase, and nobody can be asked for it", s.Identity)
	}
	passphrase, err := s.Passphrase(s.Identity)
	if err != nil {
		return nil, err
	}
	key, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, fmt.Errorf("the passphrase of %s: %w", s.Identity, err)
	}
	var from io.Reader = bytes.NewReader(data)
	if bytes.HasPrefix(data, []byte(armor.Header)) {
		from = armor.NewReader(from)
	}
	opened, err := age.Decrypt(from, key)
	if err != nil {
		var noMatch *age.NoIdentityMatchError
		if errors.As(err, &noMatch) {
			return nil, fmt.Errorf("the passphrase does not open %s", s.Identity)
		}
		return nil, fmt.Errorf("%s cannot be unlocked: %w", s.Identity, err)
	}
	return io.ReadAll(opened)
}

// Lock protects the identity by a passphrase, or by another one than before;
// an empty passphrase takes the protection away.
func (s *Store) Lock(passphrase string) error {
	identities, err := s.identity(true)
	if err != nil {
		return err
	}
	var text strings.Builder
	text.WriteString("# identity of the sealed store; keep it to yourself\n")
	for _, identity := range identities {
		x, ok := identity.(*age.X25519Identity)
		if !ok {
			return fmt.Errorf("%s holds a key of kind %T, which cannot be locked here", s.Identity, identity)
		}
		fmt.Fprintf(&text, "# public key: %s\n%s\n", x.Recipient(), x)
	}
	if passphrase == "" {
		return safefile.Write(s.Identity, []byte(text.String()), 0o600)
	}
	recipient, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return err
	}
	if s.Work > 0 {
		recipient.SetWorkFactor(s.Work)
	}
	sealed, err := sealed(text.String(), []age.Recipient{recipient})
	if err != nil {
		return err
	}
	return safefile.Write(s.Identity, sealed, 0o600)
}

func (s *Store) newIdentity() ([]age.Identity, error) {
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(s.Identity), 0o700); err != nil {
		return nil, err
	}
	text := fmt.Sprintf("# identity of the sealed store; keep it to yourself\n# public key: %s\n%s\n",
		identity.Recipient(), identity)
	err = safefile.Create(s.Identity, []byte(text), 0o600)
	if errors.Is(err, fs.ErrExist) {
		return s.readIdentity(false) // another command was quicker
	}
	if err != nil {
		return nil, err
	}
	return []age.Identity{identity}, nil
}

// publicKey is what others share a secret with.
func publicKey(identities []age.Identity) string {
	for _, identity := range identities {
		if x, ok := identity.(*age.X25519Identity); ok {
			return x.Recipient().String()
		}
	}
	return "YOUR-PUBLIC-KEY"
}

// PublicKey returns the user's public key. With create an identity is made if
// there is none.
func (s *Store) PublicKey(create bool) (string, error) {
	identities, err := s.identity(create)
	if err != nil {
		return "", err
	}
	return publicKey(identities), nil
}
