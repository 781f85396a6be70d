package secret

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"

	"testbench/internal/safefile"
)

// mate is a line of the file of recipients: a public key, and the secrets that
// it opens; none named means all of them.
type mate struct {
	key   string
	names []string
}

func (m mate) opens(site, name string) bool {
	return len(m.names) == 0 || slices.Contains(m.names, fullName(site, name))
}

// fullName is how a site's own secret is named: live/clerk.
func fullName(site, name string) string {
	if site == "" {
		return name
	}
	return site + "/" + name
}

func (s *Store) mates() ([]mate, error) {
	file := filepath.Join(s.Dir, recipientsFile)
	data, err := readBounded(file)
	if err != nil {
		return nil, nil // nobody beside the user
	}
	var mates []mate
	for line := range strings.Lines(string(data)) {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		if _, err := age.ParseX25519Recipient(fields[0]); err != nil {
			return nil, fmt.Errorf("%s: %q is not a public key: %w", file, fields[0], err)
		}
		mates = append(mates, mate{fields[0], fields[1:]})
	}
	return mates, nil
}

func (s *Store) writeMates(mates []mate) error {
	if err := os.MkdirAll(s.Dir, 0o755); err != nil {
		return err
	}
	text := "# public keys that the secrets of this bench are sealed to; names after a key: those alone\n"
	for _, m := range mates {
		text += strings.Join(append([]string{m.key}, m.names...), " ") + "\n"
	}
	return safefile.Write(filepath.Join(s.Dir, recipientsFile), []byte(text), 0o644)
}

// recipients are the user and those who may open the secret.
func (s *Store) recipients(site, name string) ([]age.Recipient, error) {
	identities, err := s.identity(true)
	if err != nil {
		return nil, err
	}
	mates, err := s.mates()
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
	for _, m := range mates {
		if own[m.key] || !m.opens(site, name) {
			continue
		}
		recipient, err := age.ParseX25519Recipient(m.key)
		if err != nil {
			return nil, err
		}
		recipients = append(recipients, recipient)
	}
	if len(recipients) == 0 {
		return nil, fmt.Errorf("%s holds no identity that can seal", s.Identity)
	}
	return recipients, nil
}

// Share lets a team mate's public key open every secret, or the one named
// (SITE/NAME for a site's own). It returns how many were sealed anew.
func (s *Store) Share(key, name string) (int, error) {
	key = strings.TrimSpace(key)
	if _, err := age.ParseX25519Recipient(key); err != nil {
		return 0, fmt.Errorf("%q is not a public key (age1…): %w", key, err)
	}
	own, err := s.PublicKey(true)
	if err != nil {
		return 0, err
	}
	return s.change(func(mates []mate) ([]mate, error) {
		if !slices.ContainsFunc(mates, func(m mate) bool { return m.key == own }) {
			mates = append(mates, mate{key: own})
		}
		at := slices.IndexFunc(mates, func(m mate) bool { return m.key == key })
		switch {
		case at < 0 && name == "":
			return append(mates, mate{key: key}), nil
		case at < 0:
			return append(mates, mate{key, []string{name}}), nil
		case name == "":
			mates[at].names = nil
		case len(mates[at].names) > 0 && !slices.Contains(mates[at].names, name):
			mates[at].names = append(mates[at].names, name)
		}
		return mates, nil
	}, name)
}

// Withdraw takes a public key away from every secret, or from the one named. A
// key that opened all of them goes on opening the others that are there now.
func (s *Store) Withdraw(key, name string) (int, error) {
	key = strings.TrimSpace(key)
	if own, err := s.PublicKey(false); err == nil && own == key {
		return 0, fmt.Errorf("%s is your own key: without it you could not open what you sealed", key)
	}
	entries, err := s.List()
	if err != nil {
		return 0, err
	}
	return s.change(func(mates []mate) ([]mate, error) {
		at := slices.IndexFunc(mates, func(m mate) bool { return m.key == key })
		if at < 0 {
			return nil, fmt.Errorf("the secrets are not shared with %s", key)
		}
		if name != "" && len(mates[at].names) == 0 {
			for _, e := range entries {
				mates[at].names = append(mates[at].names, fullName(e.Site, e.Name))
			}
		}
		mates[at].names = slices.DeleteFunc(mates[at].names, func(one string) bool { return one == name })
		if name == "" || len(mates[at].names) == 0 {
			mates = slices.Delete(mates, at, at+1)
		}
		return mates, nil
	}, name)
}

// change writes the file of recipients anew and seals again what it is about.
func (s *Store) change(edit func([]mate) ([]mate, error), name string) (int, error) {
	unlock, err := safefile.Lock(filepath.Join(s.Dir, recipientsFile))
	if err != nil {
		return 0, err
	}
	defer unlock()
	entries, err := s.List()
	if err != nil {
		return 0, err
	}
	if name != "" {
		known := []string{}
		for _, e := range entries {
			known = append(known, fullName(e.Site, e.Name))
		}
		if !slices.Contains(known, name) {
			return 0, &NotFoundError{Name: name, Known: known}
		}
		entries = slices.DeleteFunc(entries, func(e Entry) bool { return fullName(e.Site, e.Name) != name })
	}
	mates, err := s.mates()
	if err != nil {
		return 0, err
	}
	if mates, err = edit(mates); err != nil {
		return 0, err
	}
	// Everything is opened before anything is written.
	opened := make([]string, len(entries))
	for i, e := range entries {
		file := s.file(e.Site, e.Name)
		data, err := readBounded(file)
		if err != nil {
			return 0, err
		}
		if opened[i], err = s.open(file, data); err != nil {
			return 0, err
		}
	}
	if err := s.writeMates(mates); err != nil {
		return 0, err
	}
	for i, e := range entries {
		recipients, err := s.recipients(e.Site, e.Name)
		if err != nil {
			return i, err
		}
		if err := s.seal(s.file(e.Site, e.Name), opened[i], recipients); err != nil {
			return i, err
		}
	}
	return len(entries), nil
}
