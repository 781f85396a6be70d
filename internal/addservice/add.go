// Package addservice puts a service into a bench file: from a contract, from an example of a request,
// or from a command line. What looks like a credential is sealed. It sends nothing but what reads the
// contract.
package addservice

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/contract/formats"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/safefile"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Added is what was put into a bench.
type Added struct {
	What    string   // what the source was, in words
	Entries []string // of the bench file, each in YAML below its place: services.x
	Files   []string // that were copied into the bench
	Secrets []string // that were sealed
	Notes   []string
}

// Addition says what is to be added to a bench.
type Addition struct {
	Name    string
	Source  string // a file (- for standard input), an address of a contract, or an example address
	Example bool   // the address is an example, and not fetched
	Login   string // that the service has, and that its contract is fetched with; "" for none
	Sample  []byte // a request out of documentation, sent to the source where it does not say where; nil for none
	HAR     []byte // recorded traffic, of which that to the source is taken; nil for none
	Shell   bool   // the source is a command line out of somebody's documentation
	// ReadFile reads the files that a command line names; nil reads none.
	ReadFile func(name string) ([]byte, error)
	// Seal seals a value that looks like a key.
	Seal func(name, text string) error
}

// Add puts a service into the bench file, and keeps all else of it as it is. What
// the source is, its content tells; an address that leads to no contract is an
// example of a request.
//
// from is how contracts are read.
func Add(b *bench.Bench, from *source.Source, a Addition) (*Added, error) {
	if strings.ContainsAny(a.Name, " /\t:") || a.Name == "" {
		return nil, fmt.Errorf("%q cannot be the name of a service: it has a space, a slash or a colon, or nothing",
			a.Name)
	}
	adder := &adder{bench: b, a: a, added: &Added{}, file: filepath.Join(b.Dir, bench.FileName)}
	var err error
	if adder.text, err = os.ReadFile(adder.file); err != nil {
		return nil, err
	}
	adder.before = len(b.Problems().Serious())
	if a.Login != "" && b.Login(a.Login) == nil {
		return nil, &bench.NotFoundError{What: "login", Name: a.Login, Known: b.LoginNames()}
	}
	if b.Service(a.Name) != nil {
		return nil, fmt.Errorf("there is a service %s already; take another name, or change it in %s", a.Name,
			b.File())
	}
	c, err := adder.contract(from)
	switch {
	case err != nil:
		return nil, err
	case c != nil:
		err = adder.described(c)
	default:
		err = adder.example()
	}
	if err != nil {
		return nil, err
	}
	return adder.added, adder.write()
}

// standardInput is what is written in place of the name of a file.
const standardInput = "-"

type adder struct {
	bench *bench.Bench
	a     Addition
	added *Added
	file  string
	text  []byte
	// inserts are the entries that were put into it, each after the path of its mapping.
	inserts [][2]string
	before  int               // mistakes that the bench had
	files   map[string][]byte // that the contract consists of
	notYet  error             // why the address is not a contract
	// location is what the contract itself is called among the files.
	location string
	// bases are beginnings of addresses that were put into the site, by the names they have there.
	bases [][2]string
}

// contract reads the source as a contract; nil where it is an example.
func (d *adder) contract(from *source.Source) (contract.Contract, error) {
	isAddress := source.IsAddress(d.a.Source)
	if d.a.Example || d.a.Shell || d.a.Sample != nil || d.a.HAR != nil || isAddress && looksLikeExample(d.a.Source) {
		return nil, nil
	}
	resolved, data, err := d.fetch(from.Fetch)("", d.a.Source)
	if err != nil {
		var missing *source.NoFileError
		var unread *bench.FetchError
		if errors.As(err, &unread) && unread.Record.Answer != nil && d.a.Login == "" &&
			!leadsToContract(d.a.Source) {
			d.notYet = err // it is there, and gives no contract to one without a login
			return nil, nil
		}
		if errors.As(err, &missing) {
			return nil, fmt.Errorf("%w, and an address begins with http:// or https://", err)
		}
		return nil, err
	}
	d.location = resolved
	c, err := formats.Read(resolved, data, d.fetch(from.Fetch))
	if err != nil && isAddress && d.a.Login == "" && !looksLikeContract(data) {
		d.notYet = err
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !c.HasOperations() {
		return nil, fmt.Errorf(
			"%s is a schema alone: `testbench validate` checks messages against it; a service needs a contract with "+
				"operations", d.a.Source)
	}
	return c, nil
}

// fetch remembers what is read, to copy it.
func (d *adder) fetch(get formats.Fetch) formats.Fetch {
	return func(base, location string) (string, []byte, error) {
		resolved, data, err := get(base, location)
		if err == nil && !source.IsAddress(resolved) {
			if d.files == nil {
				d.files = map[string][]byte{}
			}
			d.files[resolved] = data
		}
		return resolved, data, err
	}
}

// looksLikeExample says whether an address asks for data: it has a query that is
// not how contracts are asked for.
func looksLikeExample(address string) bool {
	u, err := url.Parse(address)
	if err != nil || u.RawQuery == "" {
		return false
	}
	first, _, _ := strings.Cut(strings.ToLower(u.RawQuery), "=")
	switch first {
	case "wsdl", "singlewsdl", "xsd", "wadl", "openapi", "swagger", "_wadl", "sap-language", "sap-client", "format",
		"$format":
		return false
	}
	return !strings.HasSuffix(u.Path, "$metadata")
}

// leadsToContract says whether an address surely is that of a contract, whatever it answers.
func leadsToContract(address string) bool {
	u, err := url.Parse(address)
	if err != nil {
		return false
	}
	switch path.Ext(u.Path) {
	case ".wsdl", ".wadl", ".xsd", ".edmx", ".yaml", ".yml":
		return true
	}
	return slices.Contains([]string{"wsdl", "singleWsdl", "singlewsdl", "xsd", "_wadl"}, u.RawQuery) ||
		regexp.MustCompile(`(?i)openapi|swagger|api-docs|\$metadata$`).MatchString(u.Path)
}

// looksLikeContract says whether data that cannot be read was meant as a contract.
func looksLikeContract(data []byte) bool {
	head := bytes.ToLower(data[:min(len(data), 2_000)])
	for _, word := range []string{"definitions", "edmx", "openapi", "swagger", "<application", "wadl"} {
		if bytes.Contains(head, []byte(word)) {
			return true
		}
	}
	return false
}

// insert puts an entry into the text of the bench file.
func (d *adder) insert(at string, entry string) error {
	text, err := yamlfile.InsertEntry(d.text, strings.Split(at, "."), entry)
	if err != nil {
		return fmt.Errorf("%s: %w", d.bench.File(), err)
	}
	d.text, d.inserts = text, append(d.inserts, [2]string{at, entry})
	d.added.Entries = append(d.added.Entries, at+":\n"+indentLines(entry))
	return nil
}

func indentLines(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n  ") + "\n"
}

// address writes an address with what a site sets in its place; where no value of
// the site is how it begins, the base goes to the site under a name of its own.
func (d *adder) address(whole string) (string, error) {
	if len(d.bench.Sites) == 0 {
		return whole, nil
	}
	site := d.bench.Sites[0]
	best, text := "", ""
	look := func(name, base string) {
		if rest, ok := strings.CutPrefix(whole, base); ok && (rest == "" || rest[0] == '/') && len(base) > len(text) {
			best, text = name, base
		}
	}
	for _, base := range d.bases {
		look(base[0], base[1])
	}
	for _, f := range site.Set {
		if node := f.Value.Known(nil); node != nil && node.IsScalar() && source.IsAddress(node.Text) {
			look(f.Name, node.Text)
		}
	}
	if best != "" {
		return "${" + best + "}" + strings.TrimPrefix(whole, text), nil
	}
	u, err := url.Parse(whole)
	if err != nil || u.Host == "" {
		return whole, nil
	}
	service := strings.ReplaceAll(d.a.Name, "-", "_")
	for _, name := range []string{"base", service + "_base", service + "_address"} {
		if !value.IsIdentifier(name) || d.hasValue(site, name) {
			continue
		}
		base := u.Scheme + "://" + u.Host
		if err := d.insert("sites."+site.Name+".set", name+": "+base+"\n"); err != nil {
			return "", err
		}
		d.bases = append(d.bases, [2]string{name, base})
		return "${" + name + "}" + strings.TrimPrefix(whole, base), nil
	}
	return whole, nil
}

func (d *adder) hasValue(site *bench.Site, name string) bool {
	return site.Value(name) != nil || slices.ContainsFunc(d.bases, func(base [2]string) bool { return base[0] == name })
}

// described adds a service that a contract describes. A file from elsewhere is
// copied into the bench.
func (d *adder) described(c contract.Contract) error {
	head, own := c.Overview(), c.Address(contract.Binding{})
	d.added.What = head.Format
	if len(head.Security) > 0 && d.a.Login == "" {
		d.added.Notes = append(d.added.Notes,
			fmt.Sprintf("it asks for a login: `testbench survey %s -logins` drafts it", d.a.Name))
	}
	entry := yamlfile.ScalarText(d.a.Name) + ":\n"
	if source.IsAddress(d.a.Source) {
		contract, err := d.address(d.a.Source)
		if err != nil {
			return err
		}
		entry += "  contract: " + yamlfile.ScalarText(contract) + "\n"
	} else {
		name, err := d.keepFile()
		if err != nil {
			return err
		}
		entry += "  contract: " + yamlfile.ScalarText(name) + "\n"
		if own == "" {
			d.note("the contract says no address: write address: at the service")
		}
	}
	if own != "" && source.IsAddress(own) {
		address, err := d.address(own)
		if err != nil {
			return err
		}
		entry += "  address: " + yamlfile.ScalarText(address) + "\n"
	}
	if d.a.Login != "" {
		entry += "  login: " + d.a.Login + "\n"
	}
	return d.insert("services", entry)
}

// keepFile makes sure that a contract lies in the bench, and gives its name there.
func (d *adder) keepFile() (string, error) {
	if d.a.Source == standardInput {
		data := d.files[d.location]
		ending := map[document.Format]string{
			document.JSON: ".json",
			document.XML:  ".xml",
		}[mapping.GuessText(string(data))]
		if ending == "" {
			ending = ".yaml"
		}
		name := path.Join("contracts", d.a.Name+ending)
		return name, d.copy(name, data)
	}
	full, err := filepath.Abs(d.a.Source)
	if err != nil {
		return "", err
	}
	home, err := filepath.Abs(d.bench.Dir)
	if err != nil {
		return "", err
	}
	if isBelow(home, full) {
		inside, err := filepath.Rel(home, full)
		return filepath.ToSlash(inside), err
	}
	folder := filepath.Dir(full)
	files := map[string][]byte{}
	for file, data := range d.files {
		if file, err = filepath.Abs(file); err != nil {
			return "", err
		}
		files[file] = data
		above := folder
		for up := 0; up < foldersUp && !isBelow(above, file); up++ {
			above = filepath.Dir(above)
		}
		if isBelow(above, file) && above != filepath.Dir(above) {
			folder = above
		}
	}
	for file, data := range files {
		if !isBelow(folder, file) {
			d.note("%s belongs to the contract, lies elsewhere and was not copied", file)
		} else if err := d.copy(nameBelow(folder, file), data); err != nil {
			return "", err
		}
	}
	slices.Sort(d.added.Files)
	return nameBelow(folder, full), nil
}

// foldersUp is how far above a contract its other files may lie to be copied with it.
const foldersUp = 3

func isBelow(folder, file string) bool {
	relative, err := filepath.Rel(folder, file)
	return err == nil && relative != ".." && !strings.HasPrefix(relative, ".."+string(filepath.Separator))
}

// nameBelow is the name that a file of a contract gets in the bench: its files lie to one
// another as they did.
func nameBelow(folder, file string) string {
	relative, err := filepath.Rel(folder, file)
	if err != nil {
		relative = filepath.Base(file)
	}
	return path.Join("contracts", filepath.ToSlash(relative))
}

// copy puts a file into the bench; another of that name stays as it is.
func (d *adder) copy(name string, data []byte) error {
	to := filepath.Join(d.bench.Dir, filepath.FromSlash(name))
	if old, err := os.ReadFile(to); err == nil {
		if !bytes.Equal(old, data) {
			return fmt.Errorf("there is another %s in the bench already; put the file into the bench under a name of "+
				"its own first", name)
		}
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	d.added.Files = append(d.added.Files, name)
	return safefile.Write(to, data, 0o644)
}

// example adds a service with the one operation that an address shows.
func (d *adder) example() error {
	e, err := d.read()
	if err != nil {
		return err
	}
	if d.notYet != nil {
		d.note("the address gives no contract (%v), so it was taken for an example", d.notYet)
	}
	d.added.Notes = append(d.added.Notes, e.Notes...)
	address, err := d.address(e.Address)
	if err != nil {
		return err
	}
	logins, err := d.seal(e)
	if err != nil {
		return err
	}
	for _, f := range e.Fields {
		if f.In == "path" && f.Default != "" {
			d.note("%q looks like an identifier: it is the field %s, and %q where nothing is filled in", f.Default, f.Name,
				f.Default)
		}
	}
	if err := d.writeFiles(e); err != nil {
		return err
	}
	return d.insert("services", e.ServiceYAML(d.a.Name, address, logins))
}

func (d *adder) note(format string, args ...any) {
	d.added.Notes = append(d.added.Notes, fmt.Sprintf(format, args...))
}

// read reads the example in the form in which it is given.
func (d *adder) read() (*Example, error) {
	switch {
	case d.a.Shell:
		d.added.What = "a command line"
		return ReadCommandLine(d.a.Name, d.a.Source, d.a.ReadFile)
	case d.a.HAR != nil:
		d.added.What = "recorded traffic"
		return ReadHAR(d.a.Name, d.a.HAR, d.a.Source)
	case d.a.Sample != nil:
		d.added.What = "a sample of a request"
		return ReadSample(d.a.Name, string(d.a.Sample), d.a.Source)
	}
	d.added.What = "an example of a request"
	return ReadExample(d.a.Name, d.a.Source)
}

// seal seals the secrets of an example, and gives the logins that were made of them.
func (d *adder) seal(e *Example) ([]string, error) {
	var logins []string
	for _, s := range e.Secrets {
		if d.a.Seal == nil {
			return nil, errors.New("the address holds what looks like a key, and there is nowhere to seal it")
		}
		if err := d.a.Seal(s.Name, s.Text); err != nil {
			return nil, err
		}
		d.added.Secrets = append(d.added.Secrets, s.Name)
		if s.Loose {
			continue
		}
		if err := d.insert("logins", s.login(e)); err != nil {
			return nil, err
		}
		logins = append(logins, s.Name)
	}
	return logins, nil
}

// login is the login that a secret of an example becomes.
func (s *ExampleSecret) login(e *Example) string {
	sealed := "${sealed." + s.Name + "}\n"
	if s.Password {
		return s.Name + ":\n  kind: " + cmp.Or(e.LoginKind, "basic") + "\n  user: " + yamlfile.ScalarText(e.User) +
			"\n  password: " + sealed
	}
	login := s.Name + ":\n  kind: key\n  key: " + sealed
	if s.Header == "" {
		return login + "  query: " + yamlfile.ScalarText(s.Wire) + "\n"
	}
	login += "  header: " + yamlfile.ScalarText(s.Header) + "\n"
	if s.Word != "" {
		login += "  scheme: " + yamlfile.ScalarText(s.Word) + "\n"
	}
	return login
}

// writeFiles writes what of an example does not go into the bench file: its body, files, and a sheet with its checks.
func (d *adder) writeFiles(e *Example) error {
	if e.Body != "" {
		endings := map[document.Format]string{document.JSON: ".json", document.XML: ".xml"}
		name := path.Join("data", d.a.Name+"-"+e.Operation+endings[document.FormatOf(e.BodyType, []byte(e.Body))])
		if err := d.copy(name, []byte(e.Body)); err != nil {
			return err
		}
		d.note("its body is kept: `testbench call %s/%s -body %s` sends it", d.a.Name, e.Operation, name)
	}
	for name, data := range e.Files {
		if err := d.copy(name, data); err != nil {
			return err
		}
	}
	if len(e.Parts) > 0 {
		d.note("its parts are in a step: `testbench run sheets/%s.yaml` sends them", d.a.Name)
	}
	if e.Checks == "" && len(e.Parts) == 0 {
		return nil
	}
	return d.copy(path.Join("sheets", d.a.Name+".yaml"), []byte(e.sheet(d.a.Name)))
}

// write puts the new text in place, once it can be read as a bench. What others wrote into
// it meanwhile stays.
func (d *adder) write() error {
	unlock, err := safefile.Lock(d.file)
	if err != nil {
		return err
	}
	defer unlock()
	if d.text, err = os.ReadFile(d.file); err != nil {
		return err
	}
	for _, one := range d.inserts {
		if d.text, err = yamlfile.InsertEntry(d.text, strings.Split(one[0], "."), one[1]); err != nil {
			return fmt.Errorf("%s: %w", d.bench.File(), err)
		}
	}
	read := bench.Read(d.bench.Dir, d.bench.File(), d.text)
	if serious := read.Problems().Serious(); len(serious) > d.before {
		return fmt.Errorf("the bench would not be right afterwards, so nothing was written: %w", serious)
	}
	return safefile.Write(d.file, d.text, 0o644)
}
