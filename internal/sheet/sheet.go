// Package sheet reads sheets: their head, their rows, what steps of all kinds have in common,
// what is expected, and what is wrong in the file itself. The kinds of steps are package
// step's; what can only be told with the bench and a site is vetted by package vet.
package sheet

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/mapping"
	"testbench/internal/rule"
	"testbench/internal/safefile"
	"testbench/internal/table"
	"testbench/internal/yamlfile"
)

// Sheet is a sheet file as it was read.
type Sheet struct {
	Name    string
	Tags    []string // by which its steps are chosen, all of them
	About   string
	Site    string
	Rows    *Rows
	First   []*Step // once, before the rows
	Steps   []*Step // for each row
	Finally []*Step // at the end of each row, whatever happened
	Last    []*Step // once, after the rows
	Names   map[string]string
	Takes   []Param  // what it is given by whoever runs it
	Limits  *Limits  // of the times of its steps; nil for none
	Table   []Column // of results that are written as a table; empty for all that there are
	// KeepsCookies says that cookies that answers set go with the later steps of the row.
	KeepsCookies bool

	Bench  *bench.Bench
	Source *yamlfile.File
	Uses   []mapping.Use
	Reads  []string // the files that it names

	from origin
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
	At            *yamlfile.Node
	Source        *table.Source // nil for a query
	Query         Query
}

// Open reads a sheet of a bench, whose steps are of the kinds. Mistakes in it are given as
// problems.
func Open(b *bench.Bench, name string, kinds []Kind) (*Sheet, error) {
	if _, err := os.Stat(name); safefile.IsMissing(err) {
		return nil, &bench.NotFoundError{What: "sheet", Name: name, Known: Near(b, name)}
	}
	if inside, ok := RelativeTo(b.Dir, name); ok && b.Dir != "" {
		if _, err := safefile.Inside(b.Dir, inside); err != nil {
			return nil, err
		}
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	return Read(b, bench.DisplayName(name), data, kinds), nil
}

// Near lists the sheets in the folder where one was looked for, from here and from the bench; where there
// are none, and of a bare name, which may be that of a sheet without its folder, those of the bench too.
func Near(b *bench.Bench, name string) []string {
	folder := filepath.Dir(name)
	near, _ := filepath.Glob(filepath.Join(folder, "*.yaml"))
	add := func(folder string, nameOf func(file string) string) {
		inside, _ := filepath.Glob(filepath.Join(b.Dir, folder, "*.yaml"))
		for _, file := range inside {
			if name := nameOf(file); !slices.Contains(near, name) {
				near = append(near, name)
			}
		}
	}
	if b.Dir != "" && !safefile.IsRooted(name) {
		add(folder, func(file string) string { return filepath.Join(folder, filepath.Base(file)) })
	}
	if b.Dir != "" && (len(near) == 0 || filepath.Base(name) == name) {
		add("sheets", bench.DisplayName)
	}
	for i, file := range near {
		near[i] = filepath.ToSlash(file)
	}
	return slices.DeleteFunc(near, func(f string) bool { return filepath.Base(f) == bench.FileName })
}

// Read reads a sheet from memory.
func Read(b *bench.Bench, name string, data []byte, kinds []Kind) *Sheet {
	full, err := filepath.Abs(name)
	if err != nil {
		full = name
	}
	return readSheet(name, data, origin{b, kinds, []string{full}})
}

func readSheet(name string, data []byte, from origin) *Sheet {
	b := from.bench
	s := &Sheet{Bench: b, from: from, Source: yamlfile.Read(name, data)}
	if s.Source.Root == nil {
		return s
	}
	r := &mapping.Reader{File: s.Source, Dir: b.Dir, Uses: &s.Uses, Reads: &s.Reads}
	mapping.Read(r, "a sheet", s.Source.Root, s, sheetKeys)
	if s.Name == "" {
		s.Name = strings.TrimSuffix(filepath.Base(name), filepath.Ext(name))
	}
	s.EveryStep(func(of *Sheet, step *Step) {
		if step.Once && of == s && !slices.Contains(s.First, step) && !slices.Contains(s.Last, step) {
			at := step.At.Get("once")
			s.Source.Report(at, "take it out; a row is run on one machine in any case",
				"once: is for the steps of first: and last:")
		}
	})
	s.checkTable()
	if steps := s.Source.Root.Get("steps"); len(s.Steps) == 0 &&
		(steps == nil || steps.Kind == yamlfile.Sequence && len(steps.Items) == 0) {
		s.Source.Report(s.Source.Root, "write steps: and below it a step with - step: NAME", "the sheet has no steps")
	}
	return s
}

// AllSteps are the steps from first to last.
func (s *Sheet) AllSteps() []*Step { return slices.Concat(s.First, s.Steps, s.Finally, s.Last) }

// Problems lists what is wrong with the sheet.
func (s *Sheet) Problems() yamlfile.Problems { return s.Source.Problems }

// Inside names a file relative to the bench folder, where it is in there.
func Inside(b *bench.Bench, name string) string {
	if relative, ok := RelativeTo(b.Dir, name); ok {
		return relative
	}
	return name
}

// RelativeTo names a file relative to a folder, with slashes; it says no of one that is not
// in there.
func RelativeTo(folder, file string) (name string, ok bool) {
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
func (s *Sheet) File() string { return s.Source.Name }

var sheetKeys = []mapping.Key[Sheet]{
	mapping.TextKey("sheet", "the sheet's name", func(s *Sheet) *string { return &s.Name }),
	mapping.NewKey("about", "what it shows",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.About = r.Text(n) }),
	mapping.NewKey("site", "the site, where no other is asked for; the first of the bench unless said",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) {
			s.Site = r.PlainText(n)
			if s.Bench.Site(s.Site) == nil && s.Site != "" {
				bench.NotThere(r, n, "site", s.Site, s.Bench.SiteNames())
			}
		}),
	mapping.NewKey("tags", "words by which sheets are chosen (run -tag)",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Tags = r.Words(n) }),
	mapping.NewKey("names", "prefixes of XML names", func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) {
		s.Names = r.Names(n)
	}),
	mapping.NewKey("takes", "values that whoever runs the sheet gives it: required, or what is meant without",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Takes = readTakes(r, n) }),
	mapping.YesKey("keep cookies", "true: cookies that answers set go with the later steps of the row",
		func(s *Sheet) *bool { return &s.KeepsCookies }),
	mapping.NewKey("rows", "the inputs: a CSV file, or from: with more keys",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Rows = readRows(r, n) }),
	mapping.NewKey("expect", "limits of the times of its steps: p50, p90, p95, p99, max, per second",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Limits = readLimits(r, n) }),
	mapping.NewKey("table", "the columns of results as a table: a list, or NAME: COLUMN; all unless said",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Table = readTable(r, n) }),
	mapping.NewKey("first", "steps before the rows", func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) {
		s.First = readSteps(r, n, s.from)
	}),
	mapping.NewKey("steps", "steps for each row", func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) {
		s.Steps = readSteps(r, n, s.from)
	}),
	mapping.NewKey("finally", "steps at the end of each row, whatever happened",
		func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) { s.Finally = readSteps(r, n, s.from) }),
	mapping.NewKey("last", "steps after the rows", func(r *mapping.Reader, s *Sheet, n *yamlfile.Node) {
		s.Last = readSteps(r, n, s.from)
	}),
}

// EveryStep goes through the steps of a sheet, with those within them.
func (s *Sheet) EveryStep(do func(*Sheet, *Step)) {
	var each func(steps []*Step)
	each = func(steps []*Step) {
		for _, step := range steps {
			do(s, step)
			inner, other := step.Inner()
			each(inner)
			if step.Undo != nil {
				each([]*Step{step.Undo})
			}
			if other != nil {
				other.EveryStep(do)
			}
		}
	}
	each(s.AllSteps())
}
