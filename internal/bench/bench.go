// Package bench reads bench.yaml: sites, services with the operations that are described there,
// logins and databases as they are configured, and finds what is wrong in it. Its Reader and
// the tables of keys are those of sheets, too. It sends nothing and runs nothing.
package bench

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/rule"

	"testbench/internal/contract"
	"testbench/internal/login"
	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rpc"
	"testbench/internal/safefile"
	"testbench/internal/soap"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// BenchFile is the name of the file that makes a folder a bench.
const FileName = "bench.yaml"

// Bench is a bench file as it was read.
type Bench struct {
	Exits []Exit // exit statuses of failures, the first that happened counts
	// Kept gives the contract of a service that was fetched before; nil, and a function that is nil, for none.
	Kept     func(*Service) contract.Contract
	Dir      string // the folder; empty for a bench made of nothing but the command line
	Name     string
	Sites    []*Site
	Services []*Service
	Logins   []*Login
	// Databases are other sides that steps look into.
	Databases []*Database
	Names     map[string]string // prefixes of XML names
	// Checks and Fills are what steps take in by name, as it is in the file.
	Checks, Fills []Named

	Source    *yamlfile.File
	Local     *yamlfile.File // local.yaml; nil where there is none
	Contracts *ContractCache // read from files
	Reads     []string       // the files that it names
	paths     sync.Map       // of services, as they are found: []string
}

// Named is a value of the file that others take in by its name.
type Named struct {
	Name     string
	At       *yamlfile.Node
	IsBroken bool // there are mistakes in it, which are told where it is
}

// Site is a place with its addresses, work areas and credentials.
type Site struct {
	Limit    *exchange.Quota // how many calls there may be of all services; nil for as many as there are
	Name     string
	Like     string
	Set      []request.Field
	Reading  bool // guard: read only
	TLS      TLS
	Proxy    Proxy
	Logins   map[string]string          // login: the one this site uses in its place
	Services map[string]*value.Template // service: its address here
	Timeout  time.Duration

	at   *yamlfile.Node
	Uses []mapping.Use
}

// TLS says how encrypted connections of a site are made.
type TLS struct {
	CA, Certificate, Key string // files, relative to the bench
	Password             *value.Template
	Insecure             bool
}

// Service is one endpoint with what is known of it.
type Service struct {
	Name       string
	Contract   *value.Template
	Address    *value.Template
	Logins     []string // names; empty for none
	Always     Defaults
	SOAP       soap.Version // empty: not a SOAP service
	Port       string       // of the contract; empty takes the first that fits
	Addressing bool         // WS-Addressing blocks go with each request
	Addressed  request.Addressed
	Speaks     rpc.Kind      // how methods are called by name; empty for none of those ways
	Timeout    time.Duration // of each exchange; 0 is what the site says
	HTTP       string
	Names      map[string]string
	Operations []*contract.Endpoint

	at        *yamlfile.Node
	loginAt   *yamlfile.Node
	Uses      []mapping.Use
	marks     []mark
	Limit     *exchange.Quota                  // how many calls there may be; nil for as many as there are
	GoodAll   *rule.Status                     // of operations that are not in Good
	Outcome   *Outcome                         // how success and errors are told in answers; nil where it is not said
	Outcomes  map[string]*Outcome              // operation: the same for it alone
	Templates map[string]*request.Template     // operation: what its body is made of
	Streams   map[string]*exchange.Stream      // operation: when a stream that it answers has ended
	AnswerAs  string                           // the media type as which answers are read; empty for their own
	AnswersAs map[string]string                // operation: the same for it alone
	Short     map[string]map[string]*path.Path // operation: paths of its answers by short names
	Good      map[string]*rule.Status          // operation: the statuses that are good
	Filled    map[string][]filledParameter
}

// Reads says whether the bench marks an operation of the contract as one that
// changes nothing.
func (s *Service) Reads(operation string) bool {
	for _, m := range s.marks {
		if m.op.Name == operation {
			return m.op.Reads
		}
	}
	return false
}

// Overlays are what the bench says of operations beyond the contract, by their names.
func (s *Service) Overlays() map[string]*contract.Endpoint {
	out := map[string]*contract.Endpoint{}
	for _, m := range s.marks {
		if m.op.About != "" || m.op.Deprecated || len(m.op.Parameters) > 0 {
			out[m.op.Name] = m.op
		}
	}
	return out
}

// Always is what goes into each request to a service.
type Defaults struct {
	Headers, Query, Cookies []request.Pair
	Blocks                  *request.Tree
}

// Login is a named way of getting in.
type Login struct {
	Name string
	Kind login.Kind

	at    *yamlfile.Node
	Uses  []mapping.Use
	names []mapping.Mention // other logins that it needs
}

// FindBench returns the nearest folder upward from dir that holds a bench file,
// or "".
func Find(dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for {
		if _, err := os.Stat(filepath.Join(dir, FileName)); err == nil {
			return dir, nil
		}
		parent := filepath.Dir(dir)
		if parent == dir {
			return "", nil
		}
		dir = parent
	}
}

// OpenBench reads the bench file of a folder. Mistakes in it are given as
// problems; the error is for a file that cannot be read at all.
func Open(dir string) (*Bench, error) {
	name, err := safefile.Inside(dir, FileName)
	if err != nil {
		return nil, err
	}
	data, err := os.ReadFile(name)
	if safefile.IsMissing(err) {
		return nil, fmt.Errorf("there is no %s in %s; `testbench new %s` starts a bench", FileName, dir, dir)
	}
	if err != nil {
		return nil, err
	}
	b := Read(dir, DisplayName(name), data)
	return b, readLocal(b)
}

// ReadBench reads a bench file from memory.
func Read(dir, name string, data []byte) *Bench {
	b := &Bench{Dir: dir, Contracts: &ContractCache{}, Source: yamlfile.Read(name, data)}
	if b.Source.Root != nil {
		r := &mapping.Reader{File: b.Source, Dir: dir, Uses: new([]mapping.Use), Reads: &b.Reads}
		mapping.Read(r, "the bench", b.Source.Root, b, benchKeys)
		check(b)
	}
	return b
}

// EmptyBench is a bench of one site without a file, for requests to plain
// addresses.
func Empty() *Bench {
	return &Bench{
		Contracts: &ContractCache{}, Source: &yamlfile.File{Name: FileName},
		Sites: []*Site{{Name: noSite, at: &yamlfile.Node{}}},
	}
}

// DisplayName names a file as it is reached from the current folder, if that is
// shorter, with slashes on every system, as the files of a bench name others.
func DisplayName(name string) string {
	if here, err := os.Getwd(); err == nil {
		if abs, err := filepath.Abs(name); err == nil {
			if relative, err := filepath.Rel(here, abs); err == nil && len(relative) < len(name) {
				return filepath.ToSlash(relative)
			}
		}
	}
	return filepath.ToSlash(name)
}

// Problems lists what is wrong with the bench file, and with local.yaml beside it.
func (b *Bench) Problems() yamlfile.Problems {
	var all yamlfile.Problems
	for _, file := range b.Files() {
		all = append(all, file.Problems...)
	}
	return all
}

// Files are the bench file, and local.yaml where it is there.
func (b *Bench) Files() []*yamlfile.File {
	if b.Local == nil {
		return []*yamlfile.File{b.Source}
	}
	return []*yamlfile.File{b.Source, b.Local}
}

// IsUnreadable says whether one of the files is not YAML, so that it is not known what is in the bench.
func (b *Bench) IsUnreadable() bool {
	return slices.ContainsFunc(b.Files(), func(f *yamlfile.File) bool { return f.Root == nil && len(f.Problems) > 0 })
}

// File returns the name of the bench file.
func (b *Bench) File() string { return b.Source.Name }

var benchKeys = []mapping.Key[Bench]{
	mapping.TextKey("bench", "the bench's name", func(b *Bench) *string { return &b.Name }),
	mapping.NewKey("about", "what it is for", func(r *mapping.Reader, _ *Bench, n *yamlfile.Node) { r.Text(n) }),
	mapping.NewKey("sites", "sites by name", func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
		for _, e := range r.Entries(n, "sites") {
			s := &Site{Name: e.Key.Text, at: e.Key}
			inner := *r
			inner.Uses = &s.Uses
			mapping.Read(&inner, "a site", e.Value, s, siteKeys)
			b.Sites = append(b.Sites, s)
		}
	}),
	mapping.NewKey("services", "services by name", func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
		for _, e := range r.Entries(n, "services") {
			s := &Service{Name: e.Key.Text, at: e.Key}
			inner := *r
			inner.Uses = &s.Uses
			if strings.ContainsAny(s.Name, " /\t") {
				r.File.Report(e.Key, "", "%q cannot be the name of a service: it has a space or a slash", s.Name)
			}
			if e.Value.Kind == yamlfile.Scalar {
				s.Contract = inner.Address(e.Value)
			} else {
				mapping.Read(&inner, "a service", e.Value, s, serviceKeys)
				finishService(&inner, e.Value, s)
			}
			b.Services = append(b.Services, s)
		}
	}),
	mapping.NewKey("logins", "logins by name", func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
		for _, e := range r.Entries(n, "logins") {
			l := &Login{Name: e.Key.Text, at: e.Key}
			inner := *r
			inner.Uses, inner.Logins = &l.Uses, &l.names
			r.Identifier(e.Key, "a login")
			l.Kind = login.Read(&inner, e.Value)
			b.Logins = append(b.Logins, l)
		}
	}),
	mapping.NewKey("databases", "databases and folders to look into, by name",
		func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
			for _, e := range r.Entries(n, "databases") {
				b.Databases = append(b.Databases, readDatabase(r, e))
			}
		}),
	mapping.NewKey("exit", "the exit status of run for a failure, 10 to 99; failures are failed, error, unreachable, "+
		"login failed, timed out, failed state, state NAME, error CODE",
		func(r *mapping.Reader, b *Bench, n *yamlfile.Node) { readExit(r, b, n) }),
	mapping.NewKey("checks", "expect:, fields: and where: by name, for steps that name them",
		func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
			b.Checks = readNamed(r, n, "checks", "a check")
		}),
	mapping.NewKey("fills", "fields by name, for steps that name them",
		func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
			b.Fills = readNamed(r, n, "fills", "a fill-in")
		}),
	mapping.NewKey("names", "prefixes of XML names", func(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
		b.Names = r.Names(n)
	}),
}

func readNamed(r *mapping.Reader, n *yamlfile.Node, key, what string) []Named {
	var all []Named
	for _, e := range r.Entries(n, key) {
		all = append(all, Named{Name: r.Identifier(e.Key, what), At: e.Value})
	}
	return all
}

var siteKeys = []mapping.Key[Site]{
	mapping.TextKey("like", "the site this one is like", func(s *Site) *string { return &s.Like }),
	mapping.NewKey("about", "what it is", func(r *mapping.Reader, _ *Site, n *yamlfile.Node) { r.Text(n) }),
	mapping.NewKey("set", "values by name", func(r *mapping.Reader, s *Site, n *yamlfile.Node) {
		for _, e := range r.Entries(n, "set") {
			r.Identifier(e.Key, "a value")
			s.Set = append(s.Set, request.Field{Name: e.Key.Text, Value: r.Named(e)})
		}
	}),
	mapping.NewKey("limit", "how many calls at most, of all services: 60/min, 5/s, 100/10 s",
		func(r *mapping.Reader, s *Site, n *yamlfile.Node) { s.Limit = readLimit(r, n) }),
	mapping.NewKey("guard", "reading: nothing that could write is sent",
		func(r *mapping.Reader, s *Site, n *yamlfile.Node) {
			s.Reading = r.Choice(n, "guard", "read only") != ""
		}),
	mapping.TimeoutKey("timeout", "how long an exchange may take; 30 s unless said",
		func(s *Site) *time.Duration { return &s.Timeout }),
	mapping.NewKey("tls", "certificates", func(r *mapping.Reader, s *Site, n *yamlfile.Node) {
		mapping.Read(r, "tls", n, &s.TLS, tlsKeys)
		r.Together(n, tlsTogether)
	}),
	mapping.NewKey(
		"proxy", "what requests go through, in place of what the environment names",
		func(r *mapping.Reader, s *Site, n *yamlfile.Node) { readProxy(r, n, &s.Proxy) },
	),
	mapping.NewKey("logins", "login: the one used here in its place",
		func(r *mapping.Reader, s *Site, n *yamlfile.Node) {
			s.Logins = map[string]string{}
			for _, e := range r.Entries(n, "logins") {
				s.Logins[e.Key.Text] = r.PlainText(e.Value)
			}
		}),
	mapping.NewKey("services", "service: its address here", func(r *mapping.Reader, s *Site, n *yamlfile.Node) {
		s.Services = map[string]*value.Template{}
		for _, e := range r.Entries(n, "services") {
			s.Services[e.Key.Text] = r.Address(e.Value)
		}
	}),
}

var tlsKeys = []mapping.Key[TLS]{
	mapping.NewKey("ca", "file of further authorities (PEM)", func(r *mapping.Reader, t *TLS, n *yamlfile.Node) {
		t.CA = r.BenchFile(n)
	}),
	mapping.NewKey("certificate", "file of the client certificate (PEM, PKCS#12)",
		func(r *mapping.Reader, t *TLS, n *yamlfile.Node) {
			t.Certificate = r.BenchFile(n)
		}),
	mapping.NewKey("key", "file of its key (PEM)", func(r *mapping.Reader, t *TLS, n *yamlfile.Node) {
		t.Key = r.BenchFile(n)
	}),
	mapping.SecretKey("password", "password of the key, from ${sealed.x}",
		func(t *TLS) **value.Template { return &t.Password }),
	mapping.YesKey("insecure", "true: certificates are not checked", func(t *TLS) *bool { return &t.Insecure }),
}

var serviceKeys = []mapping.Key[Service]{
	mapping.NewKey("about", "what it is", func(r *mapping.Reader, _ *Service, n *yamlfile.Node) { r.Text(n) }),
	mapping.AddressKey("contract", "file or address of its description",
		func(s *Service) **value.Template { return &s.Contract }),
	mapping.AddressKey("address", "where it is", func(s *Service) **value.Template { return &s.Address }),
	mapping.NewKey("login", "a login, several as a list, or none",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
			s.Logins, s.loginAt = ReadLoginNames(r, n), n
		}),
	mapping.NewKey("always", "what goes into each request", func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
		mapping.Read(r, "always", n, &s.Always, alwaysKeys)
	}),
	mapping.NewKey("addressing", "true: WS-Addressing blocks go with each request; or a mapping of how",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
			use, how := r.Addressing(n)
			s.Addressing, s.Addressed = use == "true", how
		}),
	mapping.NewKey("protocol", "json-rpc (2.0), json-rpc 1.0 or xml-rpc: methods are called by name",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
			s.Speaks = rpc.Kind(r.Choice(n, "way to call methods", rpc.Kinds()...))
		}),
	mapping.TextKey("port", "a port of the contract", func(s *Service) *string { return &s.Port }),
	mapping.NewKey("soap", "1.1 or 1.2; what the contract says unless said",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
			s.SOAP = readSOAPVersion(r, n)
		}),
	mapping.NewKey("http", "1.1 or 2; what both sides can unless said",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
			s.HTTP = r.Choice(n, "version of HTTP", "1.1", "2")
		}),
	mapping.NewKey("answer as", mapping.AnswerAsHelp,
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) { s.AnswerAs = r.AnswerAs(n) }),
	mapping.TimeoutKey("timeout", "how long an exchange may take: 5 s; that of the site unless said",
		func(s *Service) *time.Duration { return &s.Timeout }),
	mapping.NewKey("names", "prefixes of XML names", func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
		s.Names = r.Names(n)
	}),
	mapping.NewKey("limit", "how many calls at most: 60/min, 5/s, 100/10 s",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) { s.Limit = readLimit(r, n) }),
	mapping.NewKey("success",
		"the statuses of success: 200 or 404, or a list; or a condition: answer.outcome == \"OK\"",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) { readSuccess(r, n, &s.GoodAll, &s.Outcome) }),
	mapping.NewKey("error", "how answers tell of errors: when:, and the paths of code:, text:, target:",
		func(r *mapping.Reader, s *Service, n *yamlfile.Node) { readError(r, n, &s.Outcome) }),
	mapping.NewKey("operations", "operations by name", func(r *mapping.Reader, s *Service, n *yamlfile.Node) {
		for _, e := range r.Entries(n, "operations") {
			if op := readOperation(r, e, s); op != nil {
				s.Operations = append(s.Operations, op)
			}
		}
	}),
}

var alwaysKeys = []mapping.Key[Defaults]{
	mapping.NewKey("headers", "header fields", func(r *mapping.Reader, a *Defaults, n *yamlfile.Node) {
		a.Headers = r.Pairs(n, "headers")
	}),
	mapping.NewKey("query", "query values", func(r *mapping.Reader, a *Defaults, n *yamlfile.Node) {
		a.Query = r.Values(n, "query")
	}),
	mapping.NewKey("cookies", "cookies", func(r *mapping.Reader, a *Defaults, n *yamlfile.Node) {
		a.Cookies = r.Values(n, "cookies")
	}),
	mapping.TreeKey("blocks", "SOAP header blocks", func(a *Defaults) **request.Tree { return &a.Blocks }),
}

func readSOAPVersion(r *mapping.Reader, n *yamlfile.Node) soap.Version {
	return soap.Version(r.Choice(n, "version of SOAP", "1.1", "1.2"))
}

// ReadLoginNames reads `none`, a name, or a list of names.
func ReadLoginNames(r *mapping.Reader, n *yamlfile.Node) []string {
	if n.Kind == yamlfile.Sequence {
		var names []string
		for _, item := range r.List(n) {
			names = append(names, r.PlainText(item))
		}
		return names
	}
	name := r.PlainText(n)
	if name == "none" || name == "" {
		return nil
	}
	return []string{name}
}

// Site returns the site with the name.
func (b *Bench) Site(name string) *Site {
	for _, s := range b.Sites {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Service returns the service with the name.
func (b *Bench) Service(name string) *Service {
	for _, s := range b.Services {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Login returns the login with the name.
func (b *Bench) Login(name string) *Login {
	for _, l := range b.Logins {
		if l.Name == name {
			return l
		}
	}
	return nil
}

// LoginAt gives the login that a site uses in the place of one.
func (b *Bench) LoginAt(site, name string) string {
	at, err := b.At(site)
	if err != nil {
		return name
	}
	if other, ok := at.Logins[name]; ok && b.Login(other) != nil {
		return other
	}
	return name
}

// Operation returns the operation with the name.
func (s *Service) Operation(name string) *contract.Endpoint {
	for _, op := range s.Operations {
		if op.Name == name {
			return op
		}
	}
	return nil
}

// OperationNames lists the operations of a service.
func (s *Service) OperationNames() []string {
	names := make([]string, len(s.Operations))
	for i, op := range s.Operations {
		names[i] = op.Name
	}
	return names
}

// SiteNames lists the sites.
func (b *Bench) SiteNames() []string { return Names(b.Sites, func(s *Site) string { return s.Name }) }

// ServiceNames lists the services.
func (b *Bench) ServiceNames() []string {
	return Names(b.Services, func(s *Service) string { return s.Name })
}

// LoginNames lists the logins.
func (b *Bench) LoginNames() []string {
	return Names(b.Logins, func(l *Login) string { return l.Name })
}

// Names are those of all, in order.
func Names[T any](all []T, name func(T) string) []string {
	names := make([]string, len(all))
	for i, one := range all {
		names[i] = name(one)
	}
	return names
}

// NotFoundError says that something the bench should have is not there.
type NotFoundError struct {
	What, Name string
	Known      []string
}

// mostKnown is how many names a message lists whole.
const mostKnown = 20

func (e *NotFoundError) Error() string {
	text := fmt.Sprintf("there is no %s %q", e.What, e.Name)
	switch {
	case suggest.Closest(e.Name, e.Known) != "":
		return text + "; " + suggest.DidYouMean(e.Name, e.Known)
	case len(e.Known) > 0:
		if len(e.Known) > mostKnown {
			return text + "; there are: " + suggest.FewNames(e.Known)
		}
		return text + "; there are: " + strings.Join(e.Known, ", ")
	}
	return text + "; there are none"
}

// noSite is the name of the site of a bench that has none: runs are recorded under it, and it can be asked for.
const noSite = "none"

// At merges a site with those it is like. An empty name means the first site.
func (b *Bench) At(name string) (*Site, error) {
	switch {
	case len(b.Sites) == 0 && (name == "" || name == noSite):
		return &Site{Name: noSite, at: &yamlfile.Node{}}, nil
	case name == "":
		name = b.Sites[0].Name
	}
	s := b.Site(name)
	if s == nil {
		return nil, &NotFoundError{"site", name, b.SiteNames()}
	}
	merged := &Site{Name: s.Name, Logins: map[string]string{}, at: s.at}
	var chain []*Site
	for s != nil && !slices.Contains(chain, s) {
		chain = append(chain, s)
		s = b.Site(s.Like)
	}
	slices.Reverse(chain)
	for _, s := range chain {
		merged.override(s)
		for k, v := range s.Logins {
			merged.Logins[k] = v
		}
		merged.Reading = merged.Reading || s.Reading
		if s.Timeout > 0 {
			merged.Timeout = s.Timeout
		}
		if s.TLS.CA != "" {
			merged.TLS.CA = s.TLS.CA
		}
		if s.TLS.Certificate != "" {
			merged.TLS.Certificate, merged.TLS.Key, merged.TLS.Password = s.TLS.Certificate, s.TLS.Key, s.TLS.Password
		}
		if s.Proxy.Address != nil {
			merged.Proxy = s.Proxy
		}
		if s.Limit != nil {
			merged.Limit = s.Limit
		}
		merged.TLS.Insecure = merged.TLS.Insecure || s.TLS.Insecure
	}
	return merged, nil
}

// Value returns what the site sets under a name.
func (s *Site) Value(name string) *request.Tree {
	for _, f := range s.Set {
		if f.Name == name {
			return f.Value
		}
	}
	return nil
}
