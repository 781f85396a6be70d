// Package session holds what steps share while they run: the site, contracts, logins,
// cookies, versions and the values of placeholders. It makes the request of a step, puts the
// credentials in and sends it; what comes back is judged elsewhere.
package session

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/bench"
	"testbench/internal/callback"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/login"
	"testbench/internal/mapping"
	"testbench/internal/secret"
	"testbench/internal/value"
)

// Options say how a bench is worked with.
type Options struct {
	Site     string
	Set      map[string]string // overrides all other values
	Write    string            // the guarded site that may be written to
	Insecure bool
	Allow    []string // hosts that requests may go to beside those of the site
	// Named are hosts that a command line names as what it asks: requests may go there,
	// and a contract that came from elsewhere may not lead there.
	Named   []string
	Timeout time.Duration
	Jobs    int // how many rows are at work side by side
	// Fresh asks for contracts again, though they were fetched a short time ago.
	Fresh   bool
	MaxBody int64
	Masker  *secret.Masker // may be nil
	Store   *secret.Store  // nil: there are no secrets
	// Kept opens a value that an earlier call kept; nil when there are none.
	Kept      func(name string) (*document.Node, bool)
	KeptNames []string
	Log       *slog.Logger
	// Environ looks up environment variables; nil means os.LookupEnv.
	Environ func(string) (string, bool)
	// Now is the clock; nil means time.Now.
	Now func() time.Time
	// Prompter shows somebody what to do, for logins that need a person; nil means
	// that nobody is there.
	Prompter func(login.Prompt)
	// Accepted takes answers for what they must be (same as file:); nil judges them.
	Accepted *Accepted
	// Receiver takes the calls that services make back; nil for none.
	Receiver *callback.Receiver
	// Around puts a sender around the one that sends, or in its place; nil leaves it.
	Around func(exchange.Sender) exchange.Sender
	// Replay answers in place of services, databases and secrets; nil asks them.
	Replay Replay
	// Tokens keeps the tokens of a site between commands; nil keeps none.
	Tokens func(site string) login.KeptTokens
}

// Session is a bench at work at one site: connections, logins and values. It
// is safe for use by several goroutines.
type Session struct {
	Bench   *bench.Bench
	Site    *bench.Site
	Sender  exchange.Sender
	Logins  *login.TokenManager
	RunID   string
	Notes   []string
	Options Options
	mutex   sync.Mutex
	// others are sessions of other sites that steps ask for.
	others    map[string]*Session
	observed  asked // login exchanges that no step needed
	sealed    map[string]string
	versions  Versions // outside of sheets
	Contracts *bench.ContractCache
	databases databases
}

// NewSession prepares a bench for work at a site.
func NewSession(b *bench.Bench, options Options) (*Session, error) {
	site, err := b.At(options.Site)
	if err != nil {
		return nil, err
	}
	if options.Masker == nil {
		options.Masker = &secret.Masker{}
	}
	if options.Now == nil {
		options.Now = time.Now
	}
	if options.Environ == nil {
		options.Environ = os.LookupEnv
	}
	s := &Session{
		Bench: b, Site: site, Options: options, RunID: newRunID(options.Now()), others: map[string]*Session{},
		sealed: map[string]string{}, Contracts: &bench.ContractCache{},
	}
	if options.Replay != nil {
		s.Contracts = options.Replay.Contracts()
	}
	client, err := s.newClient()
	if err != nil {
		return nil, err
	}
	s.Sender = client
	if options.Around != nil {
		s.Sender = options.Around(client)
	}
	s.Logins = s.newTokenManager()
	return s, nil
}

// newClient makes what sends: by the site's certificates, proxy and time limit.
func (s *Session) newClient() (*exchange.Client, error) {
	options, site := s.Options, s.Site
	file := func(name string) string {
		if name == "" {
			return ""
		}
		return filepath.Join(s.Bench.Dir, name)
	}
	insecure := options.Insecure || site.TLS.Insecure
	if insecure {
		s.Notes = append(s.Notes, "server certificates are NOT checked: what is sent may reach somebody else")
	}
	password := ""
	if site.TLS.Password != nil {
		text, err := site.TLS.Password.Text(s.Scope(nil, nil), value.Raw)
		if err != nil {
			return nil, fmt.Errorf("tls password: %w", err)
		}
		password = text.Sent
	}
	proxy, err := proxyOf(s)
	if err != nil {
		return nil, err
	}
	var atProxy exchange.ProxyLogin
	if site.Proxy.Login != "" {
		atProxy = proxyLogin{s}
	}
	return exchange.NewClient(exchange.Options{
		Timeout: cmp.Or(options.Timeout, site.Timeout), MaxBody: options.MaxBody, CA: file(site.TLS.CA),
		Certificate: file(site.TLS.Certificate), Key: file(site.TLS.Key), Password: password,
		Insecure: insecure, Allowed: s.allowed(), Log: options.Log, Proxy: proxy, ProxyLogin: atProxy,
		Jobs: options.Jobs,
	})
}

// newTokenManager makes what the logins of the bench share in the session.
func (s *Session) newTokenManager() *login.TokenManager {
	options := s.Options
	kinds := map[string]login.Kind{}
	for _, l := range s.Bench.Logins {
		if l.Kind != nil {
			kinds[l.Name] = l.Kind
		}
	}
	env := login.Env{
		Scope: s.Scope(nil, nil), Sender: s.Sender, Observe: s.observe, Now: options.Now,
		Prompter: options.Prompter, Substitutes: s.Site.Logins,
	}
	if dir := s.Bench.Dir; dir != "" {
		env.ReadFile = func(name string) ([]byte, error) { return mapping.ReadInside(dir, name) }
	}
	if options.Tokens != nil {
		env.Kept = options.Tokens(s.Site.Name)
	}
	return login.NewTokenManager(env, kinds)
}

// newRunID makes an id that sorts by time.
func newRunID(now time.Time) string {
	random := make([]byte, 3)
	_, _ = rand.Read(random)
	return now.UTC().Format("20060102-150405-") + hex.EncodeToString(random)
}

// note remembers something to be said at the end, once.
func (s *Session) note(text string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if !slices.Contains(s.Notes, text) {
		s.Notes = append(s.Notes, text)
	}
}

// Masker returns what masks the session's output.
func (s *Session) Masker() *secret.Masker { return s.Options.Masker }

// Close gives tokens back and deletes connections.
func (s *Session) Close(ctx context.Context) error {
	err := s.Logins.Close(ctx)
	s.Sender.Close()
	s.databases.close()
	for _, other := range s.others {
		err = errors.Join(err, other.Close(ctx))
	}
	return err
}

// At returns the session of another site.
func (s *Session) At(site string) (*Session, error) {
	if site == "" || site == s.Site.Name {
		return s, nil
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if other, ok := s.others[site]; ok {
		return other, nil
	}
	options := s.Options
	options.Site = site
	other, err := NewSession(s.Bench, options)
	if err != nil {
		return nil, err
	}
	other.RunID = s.RunID
	s.others[site] = other
	return other, nil
}

// asked gathers the exchanges that logins make for one step.
type asked struct {
	mutex   sync.Mutex
	records []*exchange.Record
}

// askedKey leads to them in a context.
type askedKey struct{}

// GatherLogins gives a context whose exchanges of logins are gathered, and what hands them
// over.
func GatherLogins(ctx context.Context) (gathering context.Context, take func() []*exchange.Record) {
	logins := &asked{}
	return context.WithValue(ctx, askedKey{}, logins), logins.take
}

// observe takes an exchange of a login: for the step that needed it, else for the session.
func (s *Session) observe(ctx context.Context, record *exchange.Record) {
	a, ok := ctx.Value(askedKey{}).(*asked)
	if !ok {
		a = &s.observed
	}
	a.mutex.Lock()
	defer a.mutex.Unlock()
	a.records = append(a.records, record)
}

// take hands over the exchanges since the last time, in order.
func (a *asked) take() []*exchange.Record {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	records := a.records
	a.records = nil
	slices.SortFunc(records, func(a, b *exchange.Record) int { return a.Started.Compare(b.Started) })
	return records
}

// allowed says which hosts requests may go to: those that are in the site's
// values, in the addresses of services and logins, and on the command line.
func (s *Session) allowed() func(string) bool {
	hosts := map[string]bool{}
	add := func(address string) {
		if u, err := url.Parse(address); err == nil && u.Hostname() != "" {
			hosts[strings.ToLower(u.Hostname())] = true
		}
	}
	scope := s.Scope(nil, nil)
	fill := func(t *value.Template) {
		if t != nil {
			if text, err := t.Text(withoutSecrets{scope}, value.Address); err == nil {
				add(text.Sent)
			}
		}
	}
	for _, f := range s.Site.Set {
		if f.Value.Scalar != nil {
			fill(f.Value.Scalar)
		}
	}
	for _, text := range s.Options.Set {
		add(text)
	}
	for _, service := range s.Bench.Services {
		fill(service.Address)
		fill(service.Contract)
	}
	for _, address := range s.Site.Services {
		fill(address)
	}
	for _, l := range s.Bench.Logins {
		if asking, ok := l.Kind.(interface{ Addresses() []*value.Template }); ok {
			for _, address := range asking.Addresses() {
				fill(address)
			}
		}
	}
	for _, host := range slices.Concat(s.Options.Allow, s.Options.Named) {
		add("http://" + strings.TrimPrefix(strings.TrimPrefix(host, "https://"), "http://"))
	}
	return func(host string) bool { return hosts[strings.ToLower(host)] }
}

// withoutSecrets is a scope that leaves secrets closed: addresses hold none, and
// opening them would need an identity that may not be there.
type withoutSecrets struct{ value.Scope }

func (q withoutSecrets) Lookup(space, name string) (*document.Node, error) {
	if space == "sealed" {
		return nil, errors.New("not opened here")
	}
	return q.Scope.Lookup(space, name)
}

// Values says where the names of placeholders lead, for one row.
type Values struct {
	session *Session
	Row     *document.Node            // may be nil
	Kept    map[string]*document.Node // may be nil
	// listening gives the address of a step that waits for a callback; nil where none can.
	Listening func(step string) (string, error)
	// Cookies are those of the row, nil where none are kept.
	Cookies *exchange.Cookies
	// Versions are those of the row; nil outside of sheets.
	Versions *Versions
	depth    int
}

// Scope returns the values of a session with the row's values and what was kept so far. Both
// may be nil.
func (s *Session) Scope(row *document.Node, kept map[string]*document.Node) *Values {
	return &Values{session: s, Row: row, Kept: kept}
}

// Hide masks a secret from now on.
func (c *Values) Hide(text string) { c.session.Options.Masker.Hide(text) }

// maxDepth bounds site values that are made of one another.
const maxDepth = 20

// Lookup finds a name: from -set, then kept or set in this row, then the row,
// then the site.
func (c *Values) Lookup(space, name string) (*document.Node, error) {
	s := c.session
	switch space {
	case "":
		if text, ok := s.Options.Set[name]; ok {
			return document.NewUntyped(text), nil
		}
		if node, ok := c.Kept[name]; ok {
			return node, nil
		}
		if node := c.Row.Get(name); node != nil {
			return node, nil
		}
		return c.site(name)
	case "kept":
		if node, ok := c.Kept[name]; ok {
			return node, nil
		}
		if s.Options.Kept != nil {
			if node, ok := s.Options.Kept(name); ok {
				return node, nil
			}
		}
	case "row":
		if node := c.Row.Get(name); node != nil {
			return node, nil
		}
	case "site":
		if text, ok := s.Options.Set[name]; ok && s.Site.Value(name) != nil {
			return document.NewUntyped(text), nil
		}
		return c.site(name)
	case "sealed":
		return c.sealed(name)
	case "machine":
		if text, ok := s.Options.Environ(name); ok {
			return document.NewUntyped(text), nil
		}
		return nil, fmt.Errorf("%w: the environment variable %s is not set", value.ErrNothing, name)
	case "run":
		if name == "id" {
			return document.NewText(s.RunID), nil
		}
	case "callback":
		if s.Options.Replay != nil {
			return document.NewText("http://127.0.0.1/" + name), nil // nobody calls it
		}
		if c.Listening == nil {
			return nil, fmt.Errorf("%w: only a step of a sheet can receive a callback", value.ErrNothing)
		}
		address, err := c.Listening(name)
		if err != nil {
			return nil, err
		}
		return document.NewText(address), nil
	case "now":
		return document.NewUntyped(s.Options.Now().Format("2006-01-02T15:04:05Z07:00")), nil
	case "today":
		return document.NewUntyped(s.Options.Now().Format(time.DateOnly)), nil
	case "uuid":
		if s.Options.Replay != nil {
			return document.NewText(s.Options.Replay.UUID()), nil
		}
		return document.NewText(newUUID()), nil
	case "file":
		data, err := mapping.ReadInside(s.Bench.Dir, name)
		if err != nil {
			return nil, err
		}
		return document.NewText(string(data)), nil
	}
	return nil, fmt.Errorf("%w here", value.ErrNothing)
}

func (c *Values) site(name string) (*document.Node, error) {
	tree := c.session.Site.Value(name)
	if tree == nil {
		return nil, fmt.Errorf("%w: nothing defines it", value.ErrNothing)
	}
	if c.depth >= maxDepth {
		return nil, fmt.Errorf("the values of the site %s are made of one another in a circle", c.session.Site.Name)
	}
	inner := *c
	inner.depth++
	return tree.Node(&inner)
}

func (c *Values) sealed(name string) (*document.Node, error) {
	s := c.session
	if s.Options.Replay != nil {
		if text, isKnown := s.Options.Replay.Sealed(); isKnown {
			return &document.Node{Kind: document.Text, Text: text, Secret: true}, nil
		}
	}
	s.mutex.Lock()
	text, ok := s.sealed[name]
	s.mutex.Unlock()
	if !ok {
		if s.Options.Store == nil {
			return nil, &secret.NotFoundError{Name: name}
		}
		var err error
		if text, err = s.Options.Store.Get(s.Site.Name, name); err != nil {
			return nil, err
		}
		s.mutex.Lock()
		s.sealed[name] = text
		s.mutex.Unlock()
		if value.IsShort(text) {
			s.note(fmt.Sprintf("the secret %s is shorter than six characters: it is masked where it is put in, not "+
				"where an answer repeats it", name))
		}
	}
	c.Hide(text)
	return &document.Node{Kind: document.Text, Text: text, Secret: true}, nil
}

// newUUID makes a random UUID (RFC 9562, section 5.4).
func newUUID() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	b[6], b[8] = b[6]&0x0F|0x40, b[8]&0x3F|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}
