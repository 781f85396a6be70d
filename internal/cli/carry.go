package cli

import (
	"context"
	"fmt"
	"slices"

	"testbench/internal/history"
	"testbench/internal/workbench"
)

// importRuns takes in runs that were written elsewhere.
func importRuns(ctx context.Context, s *session, bench *workbench.Bench, store *history.Store,
	names []string,
) (int, error) {
	var runs []*history.File
	for _, name := range names {
		files, err := history.FilesOfRuns(name)
		if err != nil {
			return 0, usagef("", "-import: there is no file or folder %s", name)
		}
		for _, file := range files {
			run, err := history.OpenFile(file)
			if err != nil {
				return 0, err
			}
			runs = append(runs, run)
		}
	}
	// In the order in which they were run, so that their numbers go up.
	slices.SortStableFunc(runs, func(a, b *history.File) int { return a.Run().Started.Compare(b.Run().Started) })
	taken := 0
	for _, run := range runs {
		number, isNew, err := bench.Import(ctx, store, run, false)
		if err != nil {
			return 0, fmt.Errorf("%s: %w", run.Name, err)
		}
		if isNew {
			taken++
			s.tell.note("run %d: %s", number, run.Name)
		}
	}
	s.tell.note("%s taken in%s", count(taken, "run"), there(len(runs)-taken, "here"))
	return ExitPassed, nil
}

// exportRuns writes runs into a folder: those that are named, or the newest ones that had sheets.
func exportRuns(s *session, store *history.Store, o *historyOptions, names []string) (int, error) {
	var numbers []int
	for _, name := range names {
		number, err := runNumber(store, name)
		if err != nil {
			return 0, err
		}
		numbers = append(numbers, number)
	}
	if len(names) == 0 {
		runs, err := store.RecentRuns(o.most)
		if err != nil {
			return 0, err
		}
		for _, run := range runs {
			numbers = append(numbers, run.Number)
		}
	}
	written := 0
	for _, number := range numbers {
		run, err := store.Get(number)
		if err != nil {
			return 0, err
		}
		_, isNew, err := history.Export(run, o.export)
		if err != nil {
			return 0, fmt.Errorf("-export: %w", err)
		}
		if isNew {
			written++
		}
	}
	s.tell.note("%s written into %s%s", count(written, "run"), o.export, there(len(numbers)-written, "there"))
	return ExitPassed, nil
}

// there says how many runs needed no carrying.
func there(runs int, where string) string {
	if runs == 0 {
		return ""
	}
	return fmt.Sprintf("; %s already: %d", where, runs)
}
