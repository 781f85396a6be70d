package workbench

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/yamlfile"
)

// SheetFiles lists the sheets of the bench: the YAML files of its folder
// sheets, in order.
func (b *Bench) SheetFiles() ([]string, error) {
	found, err := filepath.Glob(filepath.Join(b.Dir, "sheets", "*.yaml"))
	slices.Sort(found)
	return found, err
}

// Tags are those of the sheets of the bench and of their steps.
func (b *Bench) Tags() []string {
	var tags []string
	files, _ := b.SheetFiles()
	for _, file := range files {
		if s, err := sheet.Open(b.inner, file, step.Kinds); err == nil {
			tags = append(tags, s.Tags...)
			for _, one := range s.AllSteps() {
				tags = append(tags, one.AllTags()...)
			}
		}
	}
	return tags
}

// expectsFile says whether a step of a sheet expects an answer as a file holds it.
func expectsFile(s *sheet.Sheet) bool {
	found := false
	s.EveryStep(func(_ *sheet.Sheet, step *sheet.Step) { found = found || step.Expect.SameAs != nil })
	return found
}

// openSheet reads a sheet: a file, or what comes from standard input (-),
// of which no more is read than a file may hold.
func openSheet(b *Bench, name string) (*sheet.Sheet, error) {
	if name != "-" || b.Standard == nil {
		return sheet.Open(b.inner, foundSheet(b, name), step.Kinds)
	}
	data, err := io.ReadAll(io.LimitReader(b.Standard, yamlfile.MaxSize+1))
	if err != nil {
		return nil, err
	}
	return sheet.Read(b.inner, standardInput, data, step.Kinds), nil
}

// standardInput is what a sheet that came from there is called.
const standardInput = "standard input"

// foundSheet is a file or folder of the bench by a name that is relative to it, where there is none of that
// name from here.
func foundSheet(b *Bench, name string) string {
	if _, err := os.Stat(name); err != nil && !safefile.IsRooted(name) && b.Dir != "" {
		inside := filepath.Join(b.Dir, name)
		if _, err := os.Stat(inside); err == nil {
			return inside
		}
	}
	return name
}

// sheetFiles gives the files of sheets that are named: a folder stands for the sheets in it, and a
// pattern (sheets/0*.yaml), which some shells leave as it is, for those that match.
func sheetFiles(b *Bench, names []string) ([]string, error) {
	var files []string
	for _, name := range names {
		at := foundSheet(b, name)
		info, err := os.Stat(at)
		isFolder := err == nil && info.IsDir()
		if isFolder {
			at = filepath.Join(at, "*.yaml")
		} else if err == nil || !strings.ContainsAny(name, "*?[") {
			files = append(files, name)
			continue
		}
		matches, err := filepath.Glob(at)
		if len(matches) == 0 && !isFolder && !safefile.IsRooted(name) {
			matches, err = filepath.Glob(filepath.Join(b.Dir, name))
		}
		matches = slices.DeleteFunc(matches, func(file string) bool { return filepath.Base(file) == bench.FileName })
		if err != nil || len(matches) == 0 {
			return nil, &bench.NotFoundError{What: "sheet", Name: name, Known: sheet.Near(b.inner, name)}
		}
		for _, file := range matches {
			files = append(files, bench.DisplayName(file))
		}
	}
	return files, nil
}

// SheetNames are sheets as the history names them; folders and patterns stand for those in them. A sheet
// that is not there any more may still be in the history.
func (b *Bench) SheetNames(names []string) ([]string, error) {
	files, err := sheetFiles(b, names)
	for i, file := range files {
		files[i] = sheet.Inside(b.inner, foundSheet(b, file))
	}
	return files, err
}
