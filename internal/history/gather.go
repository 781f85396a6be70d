package history

import (
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"
)

// Gathered is the shares of a run put together.
type Gathered struct {
	head   *Run
	shares []Finished
	of     [][]place // for each sheet, where it stands in each share
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
		if _, err := fmt.Sscanf(run.Share, "%d/%d", &number, &of); err != nil || number < 1 || number > of || of > mostShares {
			return nil, fmt.Errorf("run %s is no share of one; shares are made with run -share I/N", run.ID)
		}
		if i == 0 {
			head := *run
			g.head, all = &head, of
			g.head.Sheets, g.head.Notes, g.head.Share, g.head.Counts, g.head.Outcome, g.head.Number = nil, nil, "", Counts{}, "", 0
			g.head.Ended = true
		}
		if of != all || run.Bench != g.head.Bench || !slices.Equal(run.Order.Files, g.head.Order.Files) {
			return nil, fmt.Errorf("run %s (share %s) and run %s (share %s) are not shares of the same run", shares[0].Run().ID, shares[0].Run().Share, run.ID, run.Share)
		}
		if other, twice := seen[number]; twice {
			return nil, fmt.Errorf("share %d is there twice: run %s and run %s", number, other, run.ID)
		}
		seen[number] = run.ID
		for name, digest := range run.Order.Inputs {
			if first, ok := g.head.Order.Inputs[name]; ok && first != digest {
				return nil, fmt.Errorf("%s was not the same for share %s as for share %s", name, run.Share, shares[0].Run().Share)
			}
		}
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
		g.head.Ended = false
		g.head.Outcome = Worst(g.head.Outcome, "interrupted")
		g.head.Notes = append(g.head.Notes, fmt.Sprintf("of %d shares these are missing: %s", all, strings.Join(missing, ", ")))
	}
	return g, nil
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
		head.Ended = false
		head.Outcome = Worst(head.Outcome, "interrupted")
		head.Notes = append(head.Notes, fmt.Sprintf("share %s was not run to its end", run.Share))
	}
	for _, note := range run.Notes {
		head.Notes = append(head.Notes, "share "+run.Share+": "+note)
	}
	for i, s := range run.Sheets {
		at := slices.IndexFunc(head.Sheets, func(o *Sheet) bool { return o.File == s.File && o.Site == s.Site })
		if at < 0 {
			one := *s
			one.Times, one.Checks = slices.Clone(s.Times), slices.Clone(s.Checks)
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
		if err := one.merge(s.Times); err != nil {
			return err
		}
	}
	head.Counts.Sheets = len(head.Sheets)
	return nil
}

// merge puts times that were taken elsewhere to those of the sheet.
func (s *Sheet) merge(times []*Times) error {
	for _, t := range times {
		at := slices.IndexFunc(s.Times, func(o *Times) bool { return o.Step == t.Step })
		if at < 0 {
			s.Times = append(s.Times, t)
			continue
		}
		w := NewWatch(t.Step)
		if err := w.Merge(s.Times[at]); err != nil {
			return err
		}
		if err := w.Merge(t); err != nil {
			return err
		}
		perSecond := s.Times[at].PerSecond + t.PerSecond // they ran side by side
		s.Times[at] = w.Times(time.Second)
		s.Times[at].PerSecond = perSecond
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
	return slices.Compare([]int{part(r.Phase), r.Turn, r.Number}, []int{part(o.Phase), o.Turn, o.Number}) < 0
}
