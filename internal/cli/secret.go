package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/term"

	"testbench/internal/secret"
	"testbench/internal/suggest"
)

func secretCommand() *command {
	return &command{
		name: "secret", group: "getting in", purpose: "seals passwords, keys and tokens in the bench",
		usage: "set NAME | list | remove NAME | share PUBLIC-KEY [NAME] | lock | unlock",
		examples: []string{
			"testbench secret set clerk", "printf %s \"$PASSWORD\" | testbench secret set clerk -site live",
			"testbench secret set clerk -mine", "testbench secret list",
			"testbench secret share age1…", "testbench secret share age1… clerk -withdraw", "testbench secret lock",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &secretOptions{}
			f.BoolVar(&o.mine, "mine", false,
				"set, remove: your own secret, kept outside of the bench, in place of the shared one of its name")
			f.BoolVar(&o.replace, "replace", false, "set: replace a secret that others can open too, without asking")
			f.BoolVar(&o.withdraw, "withdraw", false, "share: take the key away instead of adding it")
			return o.run
		},
	}
}

type secretOptions struct {
	withdraw, mine, replace bool
}

var secretWords = []string{"set", "list", "remove", "share", "lock", "unlock"}

func (o *secretOptions) run(_ context.Context, s *session, args []string) (int, error) {
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	if len(args) == 0 {
		return 0, usagef("testbench secret list", "secret what? %s", strings.Join(secretWords, ", "))
	}
	store := bench.Store
	if s.common.site != "" && bench.Model().Site(s.common.site) == nil {
		_, err := bench.Model().At(s.common.site)
		return 0, err
	}
	word := args[0]
	if slices.Contains([]string{"list", "lock", "unlock"}, word) && len(args) > 1 {
		return 0, usagef("testbench secret "+word, "secret %s takes no name, and there is %q", word, args[1])
	}
	switch word {
	case "share":
		if len(args) != 2 && len(args) != 3 {
			return 0, usagef("testbench secret list shows yours",
				"secret share takes a public key (age1…), and a secret's name where it is for that one alone")
		}
		return ExitPassed, shareSecrets(s, store, o.withdraw, args[1], strings.Join(args[2:], ""))
	case "lock", "unlock":
		return ExitPassed, lockIdentity(s, store, word == "lock")
	case "set", "remove":
		if len(args) != 2 {
			return 0, usagef("",
				"secret %s takes one name; a secret itself is never given on the command line, where "+
					"others can read it", word)
		}
		if o.mine {
			store = store.Own()
		}
		return ExitPassed, changeSecret(s, store, word, args[1], o)
	case "list":
		return ExitPassed, listSecrets(s, store)
	default:
		return 0, usagef(suggest.DidYouMean(word, secretWords), "secret has no %q; there are: %s", word,
			strings.Join(secretWords, ", "))
	}
}

func changeSecret(s *session, store *secret.Store, word, name string, o *secretOptions) error {
	switch word {
	case "set":
		if err := secret.CheckName(name); err != nil {
			return usagef("", "%v", err)
		}
		if err := mayReplace(s, store, name, o); err != nil {
			return err
		}
		_, missing := os.Stat(store.Identity)
		text, err := readSecret(s, name)
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
			return usagef(suggest.DidYouMean(name, notThere.Known), "there is no sealed secret %s", name)
		}
		if err != nil {
			return err
		}
		s.tell.note("removed: %s; what was under version control stays in its past", file)
	}
	return nil
}

// mayReplace says whether a secret may be set: one that others can open, or that was sealed for
// others alone, is replaced only where that is meant.
func mayReplace(s *session, store *secret.Store, name string, o *secretOptions) error {
	keys, isMine, err := store.Sealed(s.common.site, name)
	if err != nil || keys == 0 || keys == 1 && isMine || o.replace {
		return err
	}
	is := fmt.Sprintf("%s is sealed for %s that you are not one of", name, count(keys, "key"))
	if isMine {
		is = fmt.Sprintf("%s is sealed for %s beside yours", name, count(keys-1, "key"))
	}
	f, ok := s.stdin.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return usagef("testbench secret set "+name+" -mine keeps one for you alone; -replace replaces it for all", "%s",
			is)
	}
	s.tell.prompt("%s; replace it for all of them? (yes or no; -mine keeps one for you alone): ", is)
	var answer string
	if _, err := fmt.Fscanln(f, &answer); err != nil || answer != "yes" {
		return usagef("testbench secret set "+name+" -mine keeps one for you alone", "%s was left as it is", name)
	}
	return nil
}

// shareSecrets adds a team mate's key to all secrets or to one, or takes it away.
func shareSecrets(s *session, store *secret.Store, withdraw bool, key, name string) error {
	if name != "" && s.common.site != "" {
		name = s.common.site + "/" + name
	}
	change := store.Share
	if withdraw {
		change = store.Withdraw
	}
	number, err := change(key, name)
	var notThere *secret.NotFoundError
	if errors.As(err, &notThere) {
		return usagef(suggest.DidYouMean(name, notThere.Known), "there is no sealed secret %s", name)
	}
	if err != nil {
		return err
	}
	if withdraw {
		s.tell.note("%s sealed anew without the key %s", count(number, "secret"), key)
		s.tell.note("  copies that were made before, also those in version control, stay readable with it: change " +
			"the secrets themselves")
		return nil
	}
	s.tell.note("%s sealed anew; the key %s opens %s from now on", count(number, "secret"), key,
		map[bool]string{true: "it", false: "them"}[number == 1])
	return nil
}

// passphraseVariable holds the passphrase of a locked identity where nobody can
// be asked.
const passphraseVariable = "TESTBENCH_PASSPHRASE"

// lockIdentity protects the user's identity by a passphrase, or frees it.
func lockIdentity(s *session, store *secret.Store, lock bool) error {
	if _, err := store.PublicKey(true); err != nil {
		return err
	}
	passphrase := ""
	if lock {
		var err error
		if passphrase, err = askSecret(s, "a new passphrase for your identity", passphraseVariable); err != nil {
			return err
		}
	}
	if err := store.Lock(passphrase); err != nil {
		return err
	}
	if lock {
		s.tell.note("locked: %s; whoever opens a secret is asked for the passphrase, or has it in %s", store.Identity,
			passphraseVariable)
	} else {
		s.tell.note("unlocked: %s is protected by nothing but the file's own permissions", store.Identity)
	}
	return nil
}

// askPassphrase gets the passphrase of a locked identity.
func askPassphrase(s *session, file string) (string, error) {
	return askSecret(s, "the passphrase of "+file, passphraseVariable)
}

// askSecret gets something that must not be shown: from the environment, else from a
// terminal without echo.
func askSecret(s *session, what, variable string) (string, error) {
	if text := os.Getenv(variable); text != "" {
		s.masker.Hide(text)
		return text, nil
	}
	f, ok := s.stdin.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usagef("set "+variable+" where nobody can type", "%s is needed, and there is no terminal to ask at",
			what)
	}
	text, err := readUnseen(s.tell, f, what)
	if err == nil {
		s.masker.Hide(text)
	}
	return text, err
}

// askLine asks at a terminal for a line that may be seen; it is empty where there is no terminal. An
// interrupt ends the waiting; the reading ends with the program.
func askLine(ctx context.Context, s *session, prompt string) (string, error) {
	f, isFile := s.stdin.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) || !s.tell.terminal {
		return "", nil
	}
	s.tell.prompt("%s", prompt)
	lines := make(chan string, 1)
	go func() {
		line, _ := bufio.NewReader(f).ReadString('\n') // what was typed before the end counts
		lines <- strings.TrimSpace(line)
	}()
	select {
	case line := <-lines:
		return line, nil
	case <-ctx.Done():
		return "", ctx.Err()
	}
}

// readUnseen reads a line from a terminal without echo.
func readUnseen(t *printer, f *os.File, what string) (string, error) {
	// Echo is off before the prompt invites to type, not a moment after it.
	before, err := term.MakeRaw(int(f.Fd()))
	if err != nil {
		return "", err
	}
	t.prompt("%s (it is not shown): ", what)
	typed, err := term.ReadPassword(int(f.Fd()))
	if restored := term.Restore(int(f.Fd()), before); err == nil {
		err = restored
	}
	t.note("")
	if err == nil && len(typed) == 0 {
		err = usagef("", "nothing was typed")
	}
	return string(typed), err
}

// readSecret reads a secret: without echo from a terminal, else all of standard
// input but for a line break at its end.
func readSecret(s *session, name string) (string, error) {
	if f, ok := s.stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		return readUnseen(s.tell, f, "the secret "+name)
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
		s.tell.note("note: the secret begins or ends with a space; that is kept")
	}
	return text, nil
}

func listSecrets(s *session, store *secret.Store) error {
	entries, err := store.List()
	if err != nil {
		return err
	}
	own, err := store.Own().List()
	if err != nil {
		return err
	}
	for i := range own {
		own[i].Mine = true
	}
	entries = append(own, entries...)
	if s.common.json {
		return jsonList(s.tell, entries)
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
		t.printf("%s  %s  %s%s\n", t.fit(e.Name, 20), t.fit(site, 12), e.Changed.Format("2006-01-02 15:04"),
			map[bool]string{true: "  yours alone"}[e.Mine])
	}
	if key, err := store.PublicKey(false); err == nil {
		t.note("your public key: %s", key)
	}
	return nil
}
