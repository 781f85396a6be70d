package sheet

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/soap"
	"testbench/internal/table"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Sheet is a sheet file as it was read.
type Sheet struct {
	Name    string
	About   string
	Site    string
	Rows    *Rows
	First   []*Step // once, before the rows
	Steps   []*Step // for each row
	Finally []*Step // at the end of each row, whatever happened
	Last    []*Step // once, after the rows
	Names   map[string]string
	Takes   []Take  // what it is given by whoever runs it
	Limits  *Limits // of the times of its steps; nil for none

	bench *Bench
	file  *yamlfile.File
	uses  []use
	reads []string // the files that it names
}

// Rows says where the inputs of a sheet come from.
type Rows struct {
	From   string // a file, or what else they are, in words
	Label  string // the column that names a row in output
	When   *rule.Condition
	Limit  int
	Sample int    // so many by chance; 0 for all
	Seed   string // decides which

	options       table.Options
	list          *yamlfile.Node // in the file itself
	numbers, days string
	step          int
	column        string
	at            *yamlfile.Node
	source        *table.Source // nil for a query
	query         query
}

// Step is one step of a sheet. Exactly one of the fields from Call to Listen says what
// it does.
type Step struct {
	Name  string
	About string

	Call    string          // service/operation
	Request *requestLine    // SERVICE METHOD PATH, or METHOD and URL
	Follow  *value.Template // an address out of an answer
	Set     []request.Field
	WorkOut []expression
	Batch   *Batch // several requests as one
	Pause   time.Duration
	Group   []*Step // carried out one after the other
	Lookup  *Lookup // looks into the other side
	Sub     *Sub    // runs another sheet
	Listen  *Listen // waits to be called back

	Service string
	Site    string
	Login   *loginChoice // nil: the service's own
	SOAP    soap.Version
	// Addressing is true or false where the step says whether WS-Addressing blocks go
	// with it, else empty.
	Addressing string
	// Contract says what is held against it: both, request, answer, off; empty is both.
	Contract string
	Action   *value.Template
	Fill     *request.Tree
	Spec     request.Spec // headers, query, body and so on, as the step adds them
	Stay     bool         // redirects: off
	Pages    int          // how many pages are read and put together; 0 and 1 read one
	Timeout  *yamlfile.Node
	Names    map[string]string
	HTTP     string

	When   *rule.Condition
	Wait   *Waiting // asks again until something is so; nil for once
	Undo   *Step    // takes back what the step did, at the end of the row
	Each   *Each    // once for each item; nil for once
	Stop   string   // row or sheet: what ends where the step falls short
	Again  *Again   // tries again where it goes wrong; nil for never
	Keep   []Keep
	Expect Expect
	Fields []FieldRule
	Where  []condition

	at        *yamlfile.Node
	callAt    *yamlfile.Node
	serviceAt *yamlfile.Node
	siteAt    *yamlfile.Node
	fillAt    *yamlfile.Node
	contents  []string // the body keys that were given
	uses      []use
	textAt    *yamlfile.Node
	textFile  string
	bytesFile string // of a command line
}

// requestLine is SERVICE METHOD PATH, or METHOD and URL.
type requestLine struct {
	service, method string
	path            *value.Template
	source          string
}

// loginChoice is what a step says about logins.
type loginChoice struct {
	names []string // empty: none
	spoil string   // how, where the login is spoilt
	at    *yamlfile.Node
}

type expression struct {
	name      string
	condition *rule.Condition
}

type condition struct {
	*rule.Condition
	at *yamlfile.Node
}

// Keep says which part of an answer is kept under which name.
type Keep struct {
	Name    string
	Source  string
	Path    *path.Path
	Filters *value.Template // ${it | filters}; nil without filters
	Default bool            // one of them is default
	Secret  bool
}

// FieldRule is a path with the rule that holds for it.
type FieldRule struct {
	Source string
	Path   *path.Path
	Rule   *rule.Rule
}

// OpenSheet reads a sheet of a bench. Mistakes in it are given as problems.
func (b *Bench) OpenSheet(name string) (*Sheet, error) {
	if inside, ok := relativeTo(b.Dir, name); ok && b.Dir != "" {
		if _, err := safefile.Inside(b.Dir, inside); err != nil {
			return nil, err
		}
	}
	data, err := os.ReadFile(name)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &NotFoundError{"sheet", name, b.sheetsNear(name)}
	}
	if err != nil {
		return nil, err
	}
	return b.ReadSheet(displayName(name), data), nil
}

// sheetsNear lists the sheets in the folder where one was looked for; of a bare name, which
// may be that of a sheet without its folder, those of the bench too.
func (b *Bench) sheetsNear(name string) []string {
	near, _ := filepath.Glob(filepath.Join(filepath.Dir(name), "*.yaml"))
	if filepath.Base(name) == name && b.Dir != "" {
		inside, _ := filepath.Glob(filepath.Join(b.Dir, "sheets", "*.yaml"))
		for _, file := range inside {
			if shown := displayName(file); !slices.Contains(near, shown) {
				near = append(near, shown)
			}
		}
	}
	return slices.DeleteFunc(near, func(f string) bool { return filepath.Base(f) == BenchFile })
}

// ReadSheet reads a sheet from memory.
func (b *Bench) ReadSheet(name string, data []byte) *Sheet {
	full, err := filepath.Abs(name)
	if err != nil {
		full = name
	}
	return b.readSheet(name, data, []string{full})
}

func (b *Bench) readSheet(name string, data []byte, within []string) *Sheet {
	s := &Sheet{bench: b, file: yamlfile.Read(name, data)}
	if s.file.Root == nil {
		return s
	}
	r := &reader{file: s.file, dir: b.Dir, uses: &s.uses, reads: &s.reads, bench: b, within: within}
	readMapping(r, "a sheet", s.file.Root, s, sheetKeys)
	if s.Name == "" {
		s.Name = strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	}
	if steps := s.file.Root.Get("steps"); len(s.Steps) == 0 && (steps == nil || steps.Kind == yamlfile.Sequence && len(steps.Items) == 0) {
		s.file.Report(s.file.Root, "write steps: and below it a step with - step: NAME", "the sheet has no steps")
	}
	return s
}

// allSteps are the steps from first to last.
func (s *Sheet) allSteps() []*Step { return slices.Concat(s.First, s.Steps, s.Finally, s.Last) }

// Problems lists what is wrong with the sheet.
func (s *Sheet) Problems() yamlfile.Problems { return s.file.Problems }

// inside names a file relative to the bench folder, where it is in there.
func (b *Bench) inside(name string) string {
	if relative, ok := relativeTo(b.Dir, name); ok {
		return relative
	}
	return name
}

// relativeTo names a file relative to a folder, with slashes; it says no of one that is not
// in there.
func relativeTo(folder, file string) (name string, ok bool) {
	folder, err := filepath.Abs(folder)
	if err != nil {
		return "", false
	}
	if file, err = filepath.Abs(file); err != nil {
		return "", false
	}
	name, err = filepath.Rel(folder, file)
	if err != nil || name == ".." || strings.HasPrefix(name, ".."+string(filepath.Separator)) {
		return "", false
	}
	return filepath.ToSlash(name), true
}

// File returns the name of the sheet's file.
func (s *Sheet) File() string { return s.file.Name }

var sheetKeys = []key[Sheet]{
	{"sheet", "the sheet's name", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Name = r.plainText(n) }},
	{"about", "what it shows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.About = r.text(n) }},
	{"site", "the site, unless another is asked for", func(r *reader, s *Sheet, n *yamlfile.Node) {
		s.Site = r.plainText(n)
		if s.bench.Site(s.Site) == nil && s.Site != "" {
			r.notThere(n, "site", s.Site, s.bench.SiteNames())
		}
	}},
	{"names", "prefixes of XML names", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Names = r.names(n) }},
	{"takes", "values that whoever runs the sheet gives it: required, or what is meant without", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Takes = r.takes(n) }},
	{"rows", "the inputs: a CSV file, or from: with more keys", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Rows = r.rowsOf(n) }},
	{"expect", "limits of the times of its steps: p50, p90, p95, p99, max, per second", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Limits = r.limits(n) }},
	{"first", "steps before the rows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.First = r.steps(n) }},
	{"steps", "steps for each row", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Steps = r.steps(n) }},
	{"finally", "steps at the end of each row, whatever happened", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Finally = r.steps(n) }},
	{"last", "steps after the rows", func(r *reader, s *Sheet, n *yamlfile.Node) { s.Last = r.steps(n) }},
}

func (r *reader) notThere(at *yamlfile.Node, what, name string, known []string) {
	err := &NotFoundError{what, name, known}
	message, try, _ := strings.Cut(err.Error(), "; ")
	r.file.Report(at, try, "%s", message)
}
