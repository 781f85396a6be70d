package secret_test

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/secret"
	"testbench/internal/secret/secrettest"
)

// Random secrets with every odd character are masked in each encoding in use, and in three of
// them one inside another, whatever stands around them.
func TestMasking(t *testing.T) {
	random := rand.New(rand.NewSource(7))
	letters := []rune(`abcXYZ019 "'\/<>&%+=:;?#{}[]|~^` + "`$@!*-_.,üß蜂🐝\t")
	names := slices.Sorted(maps.Keys(secrettest.Encodings))
	secretText := func() string {
		runes := make([]rune, 8+random.Intn(30))
		for i := range runes {
			runes[i] = letters[random.Intn(len(letters))]
		}
		// Blanks at its ends are what a form of writing may take away.
		return "k" + string(runes) + "k"
	}
	check := func(chain ...string) {
		text := secretText()
		form, around := "before "+text+" after", "before  after"
		for _, name := range chain {
			form, around = secrettest.Encodings[name](form), secrettest.Encodings[name](around)
		}
		m := &secret.Masker{}
		m.Hide("another one")
		m.Hide(text)
		masked := m.Text(form)
		left := len(strings.ReplaceAll(masked, secret.Mask, ""))
		// What is left is what stands around it, but for letters that hold a part of both.
		shared := 6 * len(form) / len(text)
		assert.LessOrEqual(t, left, len(around)+40*len(chain)+shared, "%q of %q: %q became %q", chain, text, form,
			masked)
		assert.Contains(t, masked, secret.Mask, "%q of %q: %q", chain, text, form)
	}
	for _, one := range names {
		for range 20 {
			check(one)
		}
		for _, two := range names {
			check(one, two)
		}
	}
	for range 2000 {
		check(names[random.Intn(len(names))], names[random.Intn(len(names))], names[random.Intn(len(names))])
	}
	m := &secret.Masker{}
	m.Hide("short")
	assert.Equal(t, "short", m.Text("short"), "too short to be searched for")
	m.Hide("twelve-letters")
	m.Hide("twelve")
	assert.Equal(t, "a [masked] b [masked]", m.Text("a twelve-letters b twelve"), "the longest first")
}

func TestWriter(t *testing.T) {
	var out bytes.Buffer
	m := &secret.Masker{}
	m.Hide("heather-bell")
	w := secret.NewWriter(&out, m)
	for _, part := range []string{"one heath", "er-be", "ll two\nthree heather-", "bell"} {
		_, err := fmt.Fprint(w, part)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	assert.Equal(t, "one [masked] two\nthree [masked]", out.String())
}

func TestStore(t *testing.T) {
	dir := t.TempDir()
	environment := map[string]string{}
	store := &secret.Store{
		Dir: filepath.Join(dir, "secrets"), Identity: filepath.Join(dir, "id", "identity.txt"),
		Environ: func(name string) (string, bool) {
			text, ok := environment[name]
			return text, ok
		},
	}
	_, err := store.Get("", "clerk")
	var missing *secret.NotFoundError
	require.ErrorAs(t, err, &missing)
	_, err = store.Set("", "clerk", "for all")
	require.NoError(t, err)
	_, err = store.Set("live", "clerk", "for live")
	require.NoError(t, err)
	for site, want := range map[string]string{"": "for all", "local": "for all", "live": "for live"} {
		got, err := store.Get(site, "clerk")
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	environment["TESTBENCH_SEALED_CLERK"] = "from outside"
	got, err := store.Get("live", "clerk")
	require.NoError(t, err)
	assert.Equal(t, "from outside", got)
	delete(environment, "TESTBENCH_SEALED_CLERK")
	entries, err := store.List()
	require.NoError(t, err)
	assert.Len(t, entries, 2)
	_, err = store.Set("", "../outside", "x")
	assert.ErrorContains(t, err, "cannot name a secret")

	// Tampered with in any place, it is refused.
	file := filepath.Join(dir, "secrets", "clerk.age")
	sealed, err := os.ReadFile(file)
	require.NoError(t, err)
	for at := 40; at < len(sealed)-40; at += 17 {
		broken := bytes.Clone(sealed)
		if broken[at] == '\n' {
			continue
		}
		broken[at] = map[bool]byte{true: 'B', false: 'A'}[broken[at] == 'A']
		require.NoError(t, os.WriteFile(file, broken, 0o600))
		_, err := store.Get("", "clerk")
		assert.Error(t, err, "byte %d", at)
	}
	require.NoError(t, os.WriteFile(file, bytes.Repeat([]byte("x"), 2<<20), 0o600))
	_, err = store.Get("", "clerk")
	assert.ErrorContains(t, err, "larger than a secret can be")
}

// Of many that need an identity at once, one makes it and all use it.
func TestOneIdentity(t *testing.T) {
	dir := t.TempDir()
	open := func() *secret.Store {
		return &secret.Store{
			Dir: filepath.Join(dir, "secrets"), Identity: filepath.Join(dir, "id", "identity.txt"),
			Environ: func(string) (string, bool) { return "", false },
		}
	}
	var all sync.WaitGroup
	for i := range 16 {
		all.Go(func() {
			_, err := open().Set("", fmt.Sprintf("s%d", i), "x")
			assert.NoError(t, err)
		})
	}
	all.Wait()
	for i := range 16 {
		text, err := open().Get("", fmt.Sprintf("s%d", i))
		assert.NoError(t, err)
		assert.Equal(t, "x", text)
	}
}

// A recipients' file is read as people write it, and a wrong line is told.
func TestRecipients(t *testing.T) {
	dir := t.TempDir()
	mine := &secret.Store{Dir: filepath.Join(dir, "secrets"), Identity: filepath.Join(dir, "mine.txt")}
	mate := &secret.Store{Dir: mine.Dir, Identity: filepath.Join(dir, "mate.txt")}
	_, err := mine.PublicKey(false)
	assert.ErrorContains(t, err, "you have no identity yet")
	key, err := mate.PublicKey(true)
	require.NoError(t, err)
	_, err = mine.Set("", "a", "for both")
	require.NoError(t, err)
	_, err = mate.Get("", "a")
	assert.ErrorContains(t, err, "testbench secret share "+key)
	number, err := mine.Share(key, "")
	require.NoError(t, err)
	assert.Equal(t, 1, number)
	text, err := mate.Get("", "a")
	require.NoError(t, err)
	assert.Equal(t, "for both", text)
	_, err = mate.Set("", "b", "from the mate")
	require.NoError(t, err)
	text, err = mine.Get("", "b")
	require.NoError(t, err)
	assert.Equal(t, "from the mate", text, "what either seals, both open")
	_, err = mine.Share("age1nonsense", "")
	assert.ErrorContains(t, err, "not a public key")
	require.NoError(t, os.WriteFile(filepath.Join(mine.Dir, "recipients.txt"), []byte("# comment\n\nnobody\n"), 0o600))
	_, err = mine.Set("", "c", "x")
	assert.ErrorContains(t, err, `"nobody" is not a public key`)
	require.NoError(t, os.WriteFile(mine.Identity, []byte("no identity"), 0o600))
	_, err = (&secret.Store{Dir: mine.Dir, Identity: mine.Identity}).Get("", "a")
	assert.ErrorContains(t, err, "is not an identity")
}

// A key can open one secret alone, and be taken away again from one or from all.
func TestShareOneAndWithdraw(t *testing.T) {
	dir := t.TempDir()
	store := func(name string) *secret.Store {
		return &secret.Store{Dir: filepath.Join(dir, "secrets"), Identity: filepath.Join(dir, name)}
	}
	mine, mate := store("mine"), store("mate")
	key, err := mate.PublicKey(true)
	require.NoError(t, err)
	set := func(site, name string) {
		_, err := mine.Set(site, name, "text of "+name)
		require.NoError(t, err)
	}
	opens := func(site, name string) bool {
		_, err := mate.Get(site, name)
		return err == nil
	}
	set("", "a")
	set("", "b")
	set("live", "a")
	for _, c := range []struct {
		withdraw        bool
		name            string
		number          int
		a, b, live, new bool
	}{
		{false, "a", 1, true, false, false, false},
		{false, "live/a", 1, true, false, true, false},
		{true, "a", 1, false, false, true, false},
		{false, "", 3, true, true, true, true},
		{true, "b", 1, true, false, true, false}, // what is there now stays open, what comes is not
		{true, "", 3, false, false, false, false},
	} {
		change := mine.Share
		if c.withdraw {
			change = mine.Withdraw
		}
		number, err := change(key, c.name)
		require.NoError(t, err)
		assert.Equal(t, c.number, number, "%+v", c)
		set("", "new")
		assert.Equal(t, []bool{c.a, c.b, c.live, c.new},
			[]bool{opens("", "a"), opens("", "b"), opens("live", "a"), opens("", "new")}, "%+v", c)
		_, err = mine.Remove("", "new")
		require.NoError(t, err)
	}
	_, err = mine.Withdraw(key, "")
	assert.ErrorContains(t, err, "not shared with")
	var notThere *secret.NotFoundError
	_, err = mine.Share(key, "c")
	assert.ErrorAs(t, err, &notThere)
	own, err := mine.PublicKey(false)
	require.NoError(t, err)
	_, err = mine.Withdraw(own, "")
	assert.ErrorContains(t, err, "your own key")
}

// An identity can be locked by a passphrase and unlocked again; a wrong one
// opens nothing.
func TestLockedIdentity(t *testing.T) {
	dir := t.TempDir()
	store := func(passphrase string) *secret.Store {
		s := &secret.Store{Dir: filepath.Join(dir, "secrets"), Identity: filepath.Join(dir, "identity"), Work: 10}
		if passphrase != "" {
			s.Passphrase = func(string) (string, error) { return passphrase, nil }
		}
		return s
	}
	_, err := store("").Set("", "a", "sealed text")
	require.NoError(t, err)
	require.NoError(t, store("").Lock("queen excluder"))
	data, err := os.ReadFile(filepath.Join(dir, "identity"))
	require.NoError(t, err)
	assert.NotContains(t, string(data), "AGE-SECRET-KEY")
	opened := store("queen excluder")
	text, err := opened.Beside(filepath.Join(dir, "secrets")).Get("", "a")
	require.NoError(t, err)
	assert.Equal(t, "sealed text", text)
	_, err = store("wrong").Get("", "a")
	assert.ErrorContains(t, err, "the passphrase does not open")
	_, err = store("").Get("", "a")
	assert.ErrorContains(t, err, "nobody can be asked")
	require.NoError(t, opened.Lock(""))
	_, err = store("").Get("", "a")
	assert.NoError(t, err)
}

func BenchmarkMask(b *testing.B) {
	m := &secret.Masker{}
	for i := range 10 {
		m.Hide(fmt.Sprintf("hive-%d-%d", i, i*7919))
	}
	line := `{"id": "L-2201", "keeper": "Ansel Thripp", "refractiveIndex": 1.4912, "harvestedAt": "2026-08-14T10:00:00Z", "address": "https://stores.heatherfold.example/lots/L-2201"}` + "\n"
	for name, text := range map[string]string{
		"an answer": strings.Repeat(line, 6),
		"in JSON":   strings.ReplaceAll(strings.Repeat(line, 6), `"`, `\"`), "a megabyte": strings.Repeat(line, 6_000),
	} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				m.Text(text)
			}
		})
	}
}
