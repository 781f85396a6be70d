package history

import (
	"fmt"
	"slices"

	"testbench/internal/suggest"
)

// RunQuery says which runs are looked at, and which of their sheets.
type RunQuery struct {
	Most  int      // the newest so many runs; 0 for all that are looked at
	Sites []string // only these; empty for all
	Files []string // only these sheets; empty for all
	// UpTo leaves the sheets that this run has, each at its site, and no run that was started after it; nil for all.
	UpTo *Run
}

// mostLookedAt bounds the runs and calls among which those with sheets are looked for.
const mostLookedAt = 1_000

// wants says whether a sheet is among those asked for; a call is none.
func (q RunQuery) wants(s *Sheet) bool {
	return s.File != "" && (len(q.Sites) == 0 || slices.Contains(q.Sites, s.Site)) &&
		(len(q.Files) == 0 || slices.Contains(q.Files, s.File)) &&
		(q.UpTo == nil || slices.ContainsFunc(q.UpTo.Sheets, func(of *Sheet) bool {
			return of.File == s.File && of.Site == s.Site
		}))
}

// runsOf finds the runs of a query, the oldest first. Those are left out that are parts of one that several
// machines share; shares is how many.
func (s *Store) runsOf(q RunQuery) (runs []*Stored, shares int, err error) {
	heads, err := s.Recent(mostLookedAt)
	if err != nil {
		return nil, 0, err
	}
	if err := q.check(heads); err != nil {
		return nil, 0, err
	}
	if q.UpTo != nil {
		at := slices.IndexFunc(heads, func(r *Run) bool { return r.Number == q.UpTo.Number })
		heads = heads[max(at, 0):]
	}
	for _, head := range heads {
		if !slices.ContainsFunc(head.Sheets, q.wants) {
			continue
		}
		if head.Share != "" {
			shares++
			continue
		}
		if q.Most > 0 && len(runs) == q.Most {
			break // and not before: the shares of the oldest run are older than it
		}
		runs = append(runs, &Stored{store: s, head: head})
	}
	slices.Reverse(runs)
	return runs, shares, nil
}

// Runs gives the runs of a query, the newest first, without the parts of one that several machines share.
func (s *Store) Runs(q RunQuery) ([]*Stored, error) {
	runs, _, err := s.runsOf(q)
	slices.Reverse(runs)
	return runs, err
}

// check finds a sheet or a site that no run has.
func (q RunQuery) check(heads []*Run) error {
	var sites, files []string
	for _, head := range heads {
		for _, sheet := range head.Sheets {
			if sheet.File != "" {
				sites, files = append(sites, sheet.Site), append(files, sheet.File)
			}
		}
	}
	if err := allKnown("sheet", q.Files, files); err != nil {
		return err
	}
	return allKnown("site", q.Sites, sites)
}

// allKnown says whether all names are among those that runs have.
func allKnown(what string, names, known []string) error {
	for _, name := range names {
		if !slices.Contains(known, name) {
			slices.Sort(known)
			return &UnknownError{what, name, slices.Compact(known)}
		}
	}
	return nil
}

// UnknownError is about a name that no run of the history has.
type UnknownError struct {
	What  string // sheet, site or value
	Name  string
	Known []string // those that runs have; empty for none
}

func (e *UnknownError) Error() string {
	text := fmt.Sprintf("no run in the history has the %s %s", e.What, e.Name)
	if len(e.Known) == 0 {
		return text
	}
	return text + "; " + suggest.Instead(e.Name, e.Known)
}
