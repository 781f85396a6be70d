package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/history"
	"testbench/internal/report"
	"testbench/internal/workbench"
)

// mostStepsShown is up to how many steps each is shown; of more only those with something to notice.
const mostStepsShown = 200

// showTrends shows how each step fared over the runs, and at the end what is to be noticed.
func showTrends(s *session, store *history.Store, q history.RunQuery) (int, error) {
	trends, err := store.Trends(q)
	if err != nil {
		return 0, err
	}
	t := s.tell
	if s.common.json {
		return ExitPassed, t.json(trends)
	}
	if len(trends.Runs) == 0 {
		if trends.Shares == 0 {
			t.note("no sheet was run yet")
		}
		noteShares(t, trends.Shares)
		return ExitPassed, nil
	}
	width := 4
	for _, trend := range trends.Steps {
		width = max(width, len([]rune(trend.Step)))
	}
	width = min(width, 30)
	head, left := "", 0
	for _, trend := range trends.Steps {
		if len(trends.Steps) > mostStepsShown && len(trend.Findings) == 0 {
			left++
			continue
		}
		if is := trend.File + t.sign(" · ", " - ") + "site " + trend.Site; is != head {
			head = is
			t.printf("%s\n", t.in(bold, t.visible(head)))
		}
		showTrend(t, trends.Runs, trend, width)
	}
	first, last := trends.Runs[0], trends.Runs[len(trends.Runs)-1]
	t.note("%s", t.wrap(fmt.Sprintf("%s, run %d of %s to run %d of %s, the newest at the right",
		count(len(trends.Runs), "run"), first.Number, first.Started.Local().Format("2006-01-02"), last.Number,
		last.Started.Local().Format("2006-01-02")), t.width, 0))
	t.note("%s", t.wrap(fmt.Sprintf("%s passed, %s failed, %s reached nobody, %s not run", t.sign("•", "+"),
		t.sign("✗", "x"), t.sign("○", "o"), t.sign("·", ".")), t.width, 0))
	if left > 0 {
		t.note("%s", t.wrap(count(left, "step")+" more with nothing to notice; name the sheet to see them", t.width, 0))
	}
	noteShares(t, trends.Shares)
	showFindings(t, trends)
	return ExitPassed, nil
}

// noteShares says how many runs were left out because they are parts of one.
func noteShares(t *printer, shares int) {
	if shares > 0 {
		t.note("%s", t.wrap(count(shares, "share")+" left out: testbench report -merge makes one run of them", t.width,
			0))
	}
}

// showTrend shows how a step fared, a sign for each of the runs.
func showTrend(t *printer, runs []history.RunOf, trend *history.Trend, width int) {
	outcomes := map[int]string{}
	for _, night := range trend.Nights {
		outcomes[night.Run] = night.Outcome
	}
	var signs strings.Builder
	for _, run := range runs {
		if outcome, had := outcomes[run.Number]; had {
			signs.WriteString(signOf(t, outcome))
		} else {
			signs.WriteByte(' ')
		}
	}
	took := ""
	if now := trend.Nights[len(trend.Nights)-1].Median; now > 0 {
		took = milliseconds(time.Duration(now * float64(time.Millisecond)))
	}
	t.printf("%s\n", strings.TrimRight("  "+t.fit(trend.Step, width)+"  "+signs.String()+"  "+took, " "))
}

func signOf(t *printer, outcome string) string {
	switch outcome {
	case string(workbench.Passed):
		return t.in(green, t.sign("•", "+"))
	case string(workbench.NotRun), string(workbench.Interrupted):
		return t.in(faint, t.sign("·", "."))
	case string(workbench.Unreachable), string(workbench.LoginFailed):
		return t.in(red, t.sign("○", "o"))
	}
	return t.in(red, t.sign("✗", "x"))
}

// mostFindings is how many findings are told.
const mostFindings = 40

// showFindings tells what is to be noticed.
func showFindings(t *printer, trends *history.Trends) {
	found := report.Found(trends)
	for i, one := range found[:min(len(found), mostFindings)] {
		if i == 0 {
			t.printf("\n")
		}
		style := faint
		if slices.Contains([]history.FindingKind{history.NewlyFailing, history.Failing, history.Slower, history.Flaky},
			one.Finding.Kind) {
			style = red
		}
		t.printf("%s\n%s\n", t.in(style, t.visible(one.Trend.Step))+t.sign(" · ", " - ")+
			t.visible(one.Trend.File+t.sign(" · ", " - ")+"site "+one.Trend.Site),
			t.wrap(report.FindingWords(one.Finding), t.width, 4))
	}
	if more := len(found) - mostFindings; more > 0 {
		t.note("and %d more; -json has all", more)
	}
	for i, line := range report.DownLines(trends.Down) {
		if i == 0 {
			t.printf("\n")
		}
		t.printf("%s\n", t.wrap(line, t.width, 0))
	}
}

// runsOfTrends is how many runs trends look back at.
const runsOfTrends = 30

// trendsUpTo tells how the steps of a run fared in the runs up to it; nil where it is in no history.
func trendsUpTo(s *session, run *history.Run) (*history.Trends, error) {
	if run.Number == 0 {
		return nil, nil
	}
	_, store, err := s.history()
	if err != nil {
		return nil, err
	}
	trends, err := store.Trends(history.RunQuery{Most: runsOfTrends, UpTo: run})
	return trends, errors.Join(err, store.Close())
}
