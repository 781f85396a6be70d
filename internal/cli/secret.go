package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/term"

	"testbench/internal/nearest"
	"testbench/internal/secret"
)

func secretCommand() *command {
	return &command{name: "secret", group: "getting in", purpose: "seals passwords, keys and tokens in the bench", usage: "set NAME | list | remove NAME | share PUBLIC-KEY",
		examples: []string{"testbench secret set clerk", "printf %s \"$PASSWORD\" | testbench secret set clerk -site live", "testbench secret list", "testbench secret share age1…"},
		options:  func(*flag.FlagSet) any { return nil },
		run: func(_ context.Context, s *session, _ any, args []string) (int, error) {
			return s.secret(args)
		}}
}

var secretWords = []string{"set", "list", "remove", "share"}

func (s *session) secret(args []string) (int, error) {
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	if len(args) == 0 {
		return 0, usagef("testbench secret list", "secret what? %s", strings.Join(secretWords, ", "))
	}
	store := bench.Store
	if store.Identity == "" {
		return 0, fmt.Errorf("there is no place for your identity; set TESTBENCH_IDENTITY to a file")
	}
	if s.common.site != "" && bench.Model().Site(s.common.site) == nil {
		_, err := bench.Model().At(s.common.site)
		return 0, err
	}
	switch word := args[0]; word {
	case "set", "remove", "share":
		if len(args) != 2 {
			return 0, usagef("", "secret %s takes one name; a secret itself is never given on the command line, where others can read it", word)
		}
		return ExitHeld, s.changeSecret(store, word, args[1])
	case "list":
		return ExitHeld, s.listSecrets(store)
	default:
		return 0, usagef(nearest.Try(word, secretWords), "there is no secret %q; there are: %s", word, strings.Join(secretWords, ", "))
	}
}

func (s *session) changeSecret(store *secret.Store, word, name string) error {
	switch word {
	case "set":
		if err := secret.CheckName(name); err != nil {
			return usagef("", "%v", err)
		}
		_, missing := os.Stat(store.Identity)
		text, err := s.readSecret(name)
		if err != nil {
			return err
		}
		s.masker.Hide(text)
		file, err := store.Set(s.common.site, name, text)
		if err != nil {
			return err
		}
		if missing != nil {
			s.tell.note("your identity was made: %s; keep a copy of it in a safe place", store.Identity)
		}
		s.tell.note("sealed: %s", file)
	case "remove":
		file, err := store.Remove(s.common.site, name)
		var notThere *secret.NotFoundError
		if errors.As(err, &notThere) {
			return usagef(nearest.Try(name, notThere.Known), "there is no sealed secret %s", name)
		}
		if err != nil {
			return err
		}
		s.tell.note("removed: %s; what was under version control stays in its past", file)
	case "share":
		number, err := store.Share(name)
		if err != nil {
			return err
		}
		s.tell.note("%s sealed anew; the key %s opens them from now on", count(number, "secret"), name)
	}
	return nil
}

// readSecret reads a secret: without echo from a terminal, else all of standard
// input but for a line break at its end.
func (s *session) readSecret(name string) (string, error) {
	if f, ok := s.stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		// Echo is off before the prompt invites to type, not a moment after it.
		before, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return "", err
		}
		s.tell.prompt("the secret %s (it is not shown): ", name)
		typed, err := term.ReadPassword(int(f.Fd()))
		if restored := term.Restore(int(f.Fd()), before); err == nil {
			err = restored
		}
		s.tell.note("")
		if err == nil && len(typed) == 0 {
			err = usagef("", "nothing was typed")
		}
		return string(typed), err
	}
	const most = 1 << 20
	data, err := io.ReadAll(io.LimitReader(s.stdin, most+1))
	if err != nil {
		return "", err
	}
	text := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	switch {
	case len(data) > most:
		return "", usagef("", "a secret can have at most %d bytes", most)
	case text == "":
		return "", usagef("printf %s \"$PASSWORD\" | testbench secret set "+name, "nothing came from standard input")
	case strings.TrimSpace(text) != text:
		s.tell.note("note: the secret begins or ends with a blank; that is kept")
	}
	return text, nil
}

// prompt writes without a line break.
func (t *teller) prompt(format string, args ...any) {
	_, _ = t.err.Unmasked([]byte(fmt.Sprintf(format, args...)))
}

func (s *session) listSecrets(store *secret.Store) error {
	entries, err := store.List()
	if err != nil {
		return err
	}
	if s.common.json {
		if entries == nil {
			entries = []secret.Entry{}
		}
		return s.tell.json(entries)
	}
	if len(entries) == 0 {
		s.tell.note("nothing is sealed in %s", filepath.Clean(store.Dir))
		return nil
	}
	t := s.tell
	for _, e := range entries {
		site := e.Site
		if site == "" {
			site = "every site"
		}
		t.printf("%s  %s  %s\n", fit(e.Name, 20), fit(site, 12), e.Changed.Format("2006-01-02 15:04"))
	}
	if key, err := store.PublicKey(false); err == nil {
		t.note("your public key: %s", key)
	}
	return nil
}
