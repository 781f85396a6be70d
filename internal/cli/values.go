package cli

import (
	"fmt"
	"path/filepath"
	"strings"

	"testbench/internal/history"
	"testbench/internal/report"
)

// checkSeriesFiles says whether a series can be written into files, before anything is done for it.
func checkSeriesFiles(s *session, out []string) error {
	isPicture := false
	for _, name := range out {
		if err := report.CheckSeriesName(name); err != nil {
			return usagef("", "-out: %v", err)
		}
		isPicture = isPicture || !strings.EqualFold(filepath.Ext(name), ".csv")
	}
	if s.used.has("size") && !isPicture {
		return usagef("-out values.png -size 1600x900", "-size is about a picture, and no -out names one")
	}
	return nil
}

// showValues shows what rows kept, over the runs: a line each.
func showValues(s *session, store *history.Store, q history.RunQuery, o *historyOptions) (int, error) {
	if err := checkSeriesFiles(s, o.out); err != nil {
		return 0, err
	}
	found, err := store.Values(q, o.values)
	if err != nil {
		return 0, err
	}
	series := report.SeriesOf(found, o.values)
	series.Size = o.size
	for _, name := range o.out {
		if err := series.WriteFile(name); err != nil {
			return 0, fmt.Errorf("-out: %w", err)
		}
		s.tell.note("written: %s", name)
	}
	if s.common.json {
		return ExitPassed, s.tell.json(found)
	}
	for _, one := range found.Rows {
		var shown []string
		for _, name := range o.values {
			if value, kept := one.Values[name]; kept {
				shown = append(shown, name+" "+string(value))
			}
		}
		for _, where := range []string{one.Row, one.File, one.Site} {
			if where != "" {
				shown = append(shown, where)
			}
		}
		s.tell.printf("%3d  %s  %s\n", one.Run, one.Started.Local().Format("2006-01-02 15:04:05"),
			strings.TrimLeft(s.tell.wrap(strings.Join(shown, s.tell.sign(" · ", " - ")), s.tell.width, 26), " "))
	}
	noteShares(s.tell, found.Shares)
	return ExitPassed, nil
}
