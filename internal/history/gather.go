package history

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"

	"testbench/internal/secret"
)

// Gathered is the shares of a run put together.
type Gathered struct {
	head   *Run
	shares []Finished
	of     [][]place // for each sheet, where it is in each share
}

type place struct{ share, sheet int }

// mostShares bounds how many machines share a run.
const mostShares = 10_000

// Gather puts the shares of a run together. It says which are missing, which are there
// twice, and which were not run to their end; an error is for those that do not belong
// together.
func Gather(shares []Finished) (*Gathered, error) {
	g := &Gathered{shares: shares}
	all := 0
	seen := map[int]string{}
	for i, s := range shares {
		run := s.Run()
		var number, of int
		if _, err := fmt.Sscanf(run.Share, "%d/%d", &number, &of); err != nil || number < 1 || number > of ||
			of > mostShares {
			return nil, fmt.Errorf("run %s is not a share of one; shares are made with run -share I/N", run.ID)
		}
		if i == 0 {
			head := *run
			g.head, all = &head, of
			g.head.Sheets, g.head.Notes, g.head.Broken, g.head.Share = nil, nil, nil, ""
			g.head.Counts, g.head.Outcome, g.head.Number = Counts{}, "", 0
			g.head.Ended, g.head.ID = true, wholeID(run)
		}
		first := shares[0].Run()
		if reason := notOfOneRun(first, run); of != all || reason != "" {
			return nil, fmt.Errorf("run %s (share %s) and run %s (share %s) are not shares of the same run: %s",
				first.ID, first.Share, run.ID, run.Share, cmp.Or(reason, "the number of shares is another"))
		}
		if other, twice := seen[number]; twice {
			return nil, fmt.Errorf("share %d is there twice: run %s and run %s", number, other, run.ID)
		}
		seen[number] = run.ID
		if err := g.add(i, run); err != nil {
			return nil, err
		}
	}
	var missing []string
	for number := 1; number <= all; number++ {
		if seen[number] == "" {
			missing = append(missing, fmt.Sprintf("%d/%d", number, all))
		}
	}
	if len(missing) > 0 {
		g.head.breakOff(fmt.Sprintf("of %d shares these are missing: %s", all, strings.Join(missing, ", ")))
	}
	g.judge()
	return g, nil
}

// wholeID is the ID of the run that a share belongs to: the same whichever of its shares are there.
func wholeID(share *Run) string {
	digest := sha256.Sum256([]byte(strings.Join(
		append([]string{share.Bench, share.Of, share.Order.Site}, share.Order.Files...), "\x00")))
	return share.Of + "-" + hex.EncodeToString(digest[:4])
}

// breakOff notes why a run is not whole.
func (r *Run) breakOff(why string) {
	r.Ended = false
	r.Outcome = Worst(r.Outcome, "interrupted")
	r.Broken = append(r.Broken, why)
}

// notOfOneRun says why two shares cannot be of the same run, or "".
func notOfOneRun(a, b *Run) string {
	switch x, y := a.Order, b.Order; {
	case a.Of != b.Of:
		return fmt.Sprintf("they belong to %q and %q", a.Of, b.Of)
	case a.Bench != b.Bench:
		return "the bench is another"
	case !slices.Equal(x.Files, y.Files):
		return "the sheets are others"
	case x.Site != y.Site:
		return fmt.Sprintf("the site is %q and %q", x.Site, y.Site)
	case !slices.Equal(x.Steps, y.Steps) || !slices.Equal(x.Tags, y.Tags) || !slices.Equal(x.Rows, y.Rows):
		return "other steps or rows were chosen"
	case x.Repeat != y.Repeat || x.For != y.For:
		return "the rows were repeated in another way"
	}
	for _, pair := range [][2]map[string]string{{a.Order.Inputs, b.Order.Inputs}, {b.Order.Inputs, a.Order.Inputs}} {
		for _, name := range slices.Sorted(maps.Keys(pair[0])) {
			// What was fetched is known to those that needed it.
			if other, known := pair[1][name]; other != pair[0][name] && (known || !strings.Contains(name, "://")) {
				return name + " was not the same"
			}
		}
	}
	return ""
}

// judge holds the times of each sheet, over all shares, against its limits: a share alone
// judges none.
func (g *Gathered) judge() {
	for _, s := range g.head.Sheets {
		for _, c := range s.JudgeLimits() {
			s.Checks = append(s.Checks, c)
			s.Counts.Checks++
			g.head.Counts.Checks++
			if !c.Passed {
				s.Counts.ChecksFailed++
				g.head.Counts.ChecksFailed++
				s.Outcome = Worst(s.Outcome, "failed")
				g.head.Outcome = Worst(g.head.Outcome, "failed")
			}
		}
	}
}

// add puts one share to the others.
func (g *Gathered) add(share int, run *Run) error {
	head := g.head
	head.Counts.Add(run.Counts)
	head.Outcome = Worst(head.Outcome, run.Outcome)
	end := max(head.Started.UnixNano()+int64(head.Seconds*1e9), run.Started.UnixNano()+int64(run.Seconds*1e9))
	if run.Started.Before(head.Started) {
		head.Started = run.Started
	}
	head.Seconds = float64(end-head.Started.UnixNano()) / 1e9
	if !run.Ended {
		head.breakOff(fmt.Sprintf("share %s was not run to its end", run.Share))
	}
	for _, note := range run.Notes {
		head.Notes = append(head.Notes, "share "+secret.Plain(run.Share)+": "+note)
	}
	for i, s := range run.Sheets {
		at := slices.IndexFunc(head.Sheets, func(o *Sheet) bool { return o.File == s.File && o.Site == s.Site })
		if at < 0 {
			one := *s
			one.Checks, one.Notes = slices.Clone(s.Checks), notesOf(run, s)
			one.Times = nil
			for _, t := range s.Times {
				copied := *t
				one.Times = append(one.Times, &copied)
			}
			head.Sheets = append(head.Sheets, &one)
			g.of = append(g.of, []place{{share, i}})
			continue
		}
		g.of[at] = append(g.of[at], place{share, i})
		one := head.Sheets[at]
		one.Counts.Add(s.Counts)
		one.Counts.Sheets = min(one.Counts.Sheets, 1)
		one.Outcome = Worst(one.Outcome, s.Outcome)
		one.Seconds = max(one.Seconds, s.Seconds)
		one.Checks = append(one.Checks, s.Checks...)
		one.Notes = append(one.Notes, notesOf(run, s)...)
		all := one.span().with(s.span())
		one.Started, one.Running = all.from, all.seconds()
		if err := one.merge(s.Times); err != nil {
			return err
		}
	}
	head.Counts.Sheets = len(head.Sheets)
	return nil
}

// notesOf are the notes of a sheet, with the share that they are of.
func notesOf(share *Run, s *Sheet) []string {
	var notes []string
	for _, note := range s.Notes {
		notes = append(notes, "share "+share.Share+": "+note)
	}
	return notes
}

// merge puts times that were taken elsewhere to those of the sheet.
func (s *Sheet) merge(times []*Times) error {
	for _, t := range times {
		at := slices.IndexFunc(s.Times, func(o *Times) bool { return o.Step == t.Step })
		if at < 0 {
			s.Times = append(s.Times, t)
			continue
		}
		w := NewHistogram(t.Step)
		if err := w.Merge(s.Times[at]); err != nil {
			return err
		}
		if err := w.Merge(t); err != nil {
			return err
		}
		s.Times[at] = w.Times(0)
	}
	for _, t := range s.Times {
		t.PerSecond = 0
		if s.Running > 0 {
			// From the beginning of the first share to the end of the last, whether they ran
			// side by side or one after the other.
			t.PerSecond = float64(t.Count) / s.Running
		}
	}
	return nil
}

// Run is the whole run.
func (g *Gathered) Run() *Run { return g.head }

// Rows goes through the rows of a sheet, merged from the shares in their order: what was
// before the rows comes first, once for each share.
func (g *Gathered) Rows(sheet int) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		type source struct {
			next func() (*Row, error, bool)
			row  *Row
		}
		var sources []*source
		advance := func(s *source) error {
			row, err, ok := s.next()
			if s.row = row; !ok {
				s.row = nil
			}
			return err
		}
		for _, p := range g.of[sheet] {
			next, stop := iter.Pull2(g.shares[p.share].Rows(p.sheet))
			defer stop()
			s := &source{next: next}
			if err := advance(s); err != nil {
				yield(nil, err)
				return
			}
			sources = append(sources, s)
		}
		for {
			var first *source
			for _, s := range sources {
				if s.row != nil && (first == nil || s.row.before(first.row)) {
					first = s
				}
			}
			if first == nil {
				return
			}
			if !yield(first.row, nil) {
				return
			}
			if err := advance(first); err != nil {
				yield(nil, err)
				return
			}
		}
	}
}

// before orders rows as the history does.
func (r *Row) before(o *Row) bool {
	return slices.Compare([]int{part(r.Phase), r.Iteration, r.Number}, []int{part(o.Phase), o.Iteration, o.Number}) < 0
}
