package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"testbench/internal/callstep"
	"testbench/internal/path"
	"testbench/internal/report"
	"testbench/internal/rule"
	"testbench/internal/secret"
	"testbench/internal/workbench"
)

type watchOptions struct {
	every, during time.Duration
	times         int
	until, alarm  string
	picks, out    list
	size          report.Size
	login         string
}

func watchCommand() *command {
	return &command{
		name: "watch", group: "finding one's way in answers",
		purpose: "repeats a call, a line a time: status, time, values, what changed",
		usage:   "SERVICE/OPERATION | SERVICE METHOD PATH | METHOD ADDRESS [field=value ...]",
		examples: []string{
			"testbench watch stores/search grade=A -pick total -every 2s -times 3",
			"testbench watch press/job number=1 -pick state -every 500ms -until \"state: done\"",
			"testbench watch stores/search grade=A -pick total -alarm \"total: over 100\" -out totals.csv -out " +
				"totals.svg",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &watchOptions{}
			f.DurationVar(&o.every, "every", 5*time.Second, "how long is waited between two calls")
			f.DurationVar(&o.during, "for", 0, "end after this `time`")
			f.IntVar(&o.times, "times", 0, "how many calls are made")
			f.StringVar(&o.until, "until", "", "end when a `rule` holds, as \"state: done\"")
			f.StringVar(&o.alarm, "alarm", "",
				"say when a `rule` begins and ends to hold, as \"total: over 100\"; then the exit status is 1")
			f.Var(&o.out, "out", "what came over time into a `file`: "+report.SeriesEndings+"; repeatable")
			f.Var(&o.size, "size", "the `size` of the picture in pixels (1280x480)")
			f.Var(&o.picks, "pick", "show the value at this `path`; repeatable")
			f.StringVar(&o.login, "login", "", "another login, by `name` (several with commas between), or none")
			return o.run
		},
	}
}

// watching is a call that is repeated.
type watching struct {
	*session
	bench  *workbench.Bench
	step   workbench.Call
	paths  []*path.Path
	until  *awaited // nil for nothing
	alarm  *awaited // nil for none
	series *report.Series
	before []string
	status int
	times  []float64
	isOn   bool // the alarm
	rang   bool // at any time
}

// awaited is a rule that is to hold at a path of the answer.
type awaited struct {
	option string
	path   *path.Path
	rule   *rule.Rule
	// isMissTold says that it was told that there is nothing at the path.
	isMissTold bool
}

// readAwaited reads a path and a rule; nil for no text.
func readAwaited(option, text string) (*awaited, error) {
	if text == "" {
		return nil, nil
	}
	where, words, ok := strings.Cut(text, ": ")
	if !ok {
		return nil, usagef("-"+option+" \"state: done\"", "-%s takes a path, a colon, a space and a rule", option)
	}
	a := &awaited{option: option}
	var err error
	if a.path, err = path.Compile(where); err == nil {
		a.rule, err = rule.Parse(words, false)
	}
	if err == nil {
		err = a.rule.CheckLead(a.path)
	}
	if err != nil {
		return nil, usagef("", "-%s %s: %v", option, text, err)
	}
	return a, nil
}

func (o *watchOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	w := &watching{session: s, step: workbench.Call{Pages: 1, Login: o.login}}
	w.step.Target, w.step.Fields = callstep.Split(args)
	switch {
	case len(args) == 0:
		return 0, usagef("testbench watch stores/search grade=A", "watch what?")
	case o.every < 10*time.Millisecond:
		return 0, usagef("-every 1s", "between two calls there must be a pause")
	case o.times < 0 || o.during < 0:
		return 0, usagef("", "-times and -for cannot be less than nothing")
	}
	var err error
	if w.bench, err = s.openOrNone(); err != nil {
		return 0, err
	}
	for _, text := range o.picks {
		p, err := path.Compile(text)
		if err != nil {
			return 0, usagef("", "-pick %s: %v", text, err)
		}
		w.paths = append(w.paths, p)
	}
	if w.until, err = readAwaited("until", o.until); err != nil {
		return 0, err
	}
	if w.alarm, err = readAwaited("alarm", o.alarm); err != nil {
		return 0, err
	}
	if err := checkSeriesFiles(s, o.out); err != nil {
		return 0, err
	}
	w.series = &report.Series{Of: "call", Title: s.masker.Text(strings.Join(args, " ")), Paths: o.picks, Size: o.size}
	status, err := w.repeat(ctx, o)
	if len(w.series.Points()) == 0 {
		return status, err
	}
	for _, name := range o.out {
		if err := w.series.WriteFile(name); err != nil {
			return 0, fmt.Errorf("-out: %w", err)
		}
		s.tell.note("written: %s", name)
	}
	if err == nil && w.rang && status == ExitPassed {
		status = ExitFailed
	}
	return status, err
}

// repeat makes the call again and again, until it is over.
func (w *watching) repeat(ctx context.Context, o *watchOptions) (int, error) {
	s := w.session
	start := time.Now()
	for n := 1; ; n++ {
		isThere, outcome, err := w.once(ctx, n)
		switch {
		case err != nil:
			return 0, err
		case isThere:
			return ExitPassed, nil
		case ctx.Err() != nil:
			return ExitInterrupted, nil
		case o.times > 0 && n >= o.times, o.during > 0 && time.Since(start)+o.every > o.during:
			if w.until != nil {
				s.tell.note("%s did not become true", s.tell.visible(o.until))
				return max(ExitFailed, outcome.ExitStatus()), nil
			}
			return outcome.ExitStatus(), nil
		}
		select {
		case <-ctx.Done():
			return ExitInterrupted, nil
		case <-time.After(o.every):
		}
	}
}

// once makes the call and tells a line of it.
func (w *watching) once(ctx context.Context, n int) (isThere bool, outcome workbench.Outcome, err error) {
	step, err := w.bench.Prepare(w.step, w.options())
	if err != nil {
		return false, "", err
	}
	at := time.Now()
	result, notes, err := w.bench.Do(ctx, step, w.options())
	if err != nil {
		return false, "", err
	}
	for _, note := range notes {
		if n == 1 {
			w.tell.note("note: %s", w.tell.visible(note))
		}
	}
	status, took := 0, 0.0
	if record := result.Last(); record != nil {
		took = float64(record.Phases.Total) / float64(time.Millisecond)
		if record.Answer != nil {
			status = record.Answer.Status
		}
	}
	w.times = append(w.times, took)
	values, plain := make([]string, len(w.paths)), make([]string, len(w.paths))
	for i, p := range w.paths {
		node, err := findInAnswer(result, p)
		switch {
		case err != nil:
			values[i] = "-"
			if n == 1 && result.Outcome == workbench.Passed {
				w.tell.note("note: %s", w.tell.visible(err.Error()))
			}
		case node.Secret:
			values[i], plain[i] = secret.Mask, secret.Mask
		default:
			values[i], plain[i] = shortValue(node), w.masker.Text(shortValue(node))
			if node.IsScalar() {
				plain[i] = w.masker.Text(node.Text)
			}
		}
	}
	w.line(n, at, result, status, values)
	w.before, w.status = values, status
	if err := w.ring(at, result); err != nil {
		return false, "", err
	}
	w.series.Add(report.Point{
		At: at, Number: n, Status: status, Millis: took, Outcome: string(result.Outcome), Values: plain, Alarm: w.isOn,
	})
	isThere, err = w.holds(w.until, result)
	return isThere, result.Outcome, err
}

// ring says when the alarm begins and ends.
func (w *watching) ring(at time.Time, result *workbench.StepResult) error {
	isOn, err := w.holds(w.alarm, result)
	if err != nil || isOn == w.isOn {
		return err
	}
	w.isOn, w.rang = isOn, true
	word := map[bool]string{true: "alarm", false: "alarm over"}[isOn]
	if w.common.json {
		return w.tell.jsonLine(map[string]any{"at": at.UTC(), "alarm": isOn})
	}
	w.tell.printf("%s  %s\n", at.Format("15:04:05"), w.tell.in(red, word+": "+
		w.tell.visible(w.alarm.path.Source+": "+w.alarm.rule.Source)))
	return nil
}

// holds says whether a rule holds that is waited for; not where none is.
func (w *watching) holds(a *awaited, result *workbench.StepResult) (bool, error) {
	if a == nil || result.Reply == nil || result.Last() == nil || result.Last().Answer == nil {
		return false, nil
	}
	roots := result.Reply.Roots(nil)
	found, err := a.path.Find(roots, nil)
	if err != nil {
		return false, err
	}
	if miss := found.Missed(); miss != nil && found.First() == nil && !a.isMissTold &&
		result.Outcome == workbench.Passed {
		a.isMissTold = true // it may come later; a name that is mistyped never does
		w.tell.note("note: -%s: %s", a.option, w.tell.visible(miss.String()))
	}
	verdict, err := a.rule.Judge(found, roots, nil)
	return verdict.Passed, err
}

// sparks are the heights of a line that shows times.
var sparks = []rune("▁▂▃▄▅▆▇█")

// mostSparks is how many times the line shows.
const mostSparks = 20

// spark draws the last times, the largest as the highest.
func (w *watching) spark() string {
	last := w.times[max(0, len(w.times)-mostSparks):]
	highest := 0.0
	for _, ms := range last {
		highest = max(highest, ms)
	}
	var out strings.Builder
	for _, ms := range last {
		height := 0
		if highest > 0 {
			height = int(ms / highest * float64(len(sparks)-1))
		}
		out.WriteRune(sparks[height])
	}
	return out.String()
}

func (w *watching) line(n int, at time.Time, result *workbench.StepResult, status int, values []string) {
	t := w.tell
	var changed []string
	if n > 1 && status != w.status {
		changed = append(changed, "status")
	}
	named := map[string]string{}
	var shown []string
	for i, p := range w.paths {
		named[p.Source] = values[i]
		text := p.Source + " " + values[i]
		if n > 1 && values[i] != w.before[i] {
			changed = append(changed, p.Source)
			text = t.in(bold, t.visible(text))
		} else {
			text = t.visible(text)
		}
		shown = append(shown, text)
	}
	if w.common.json {
		_ = t.jsonLine(map[string]any{
			"call": n, "at": at.UTC(), "status": status,
			"milliseconds": w.times[len(w.times)-1], "outcome": result.Outcome, "values": named, "changed": changed,
		})
		return
	}
	took := milliseconds(time.Duration(w.times[len(w.times)-1] * float64(time.Millisecond)))
	shownStatus := "-" // nothing came
	if status > 0 {
		shownStatus = strconv.Itoa(status)
	}
	line := fmt.Sprintf("%s  %3s  %8s", at.Format("15:04:05"), shownStatus, took)
	if !t.ascii {
		line += "  " + w.spark() + strings.Repeat(" ", mostSparks-min(len(w.times), mostSparks))
	}
	if len(shown) > 0 {
		line += "  " + strings.Join(shown, "  ")
	}
	if len(changed) > 0 {
		line += "  " + t.in(bold, "changed: "+t.visible(strings.Join(changed, ", ")))
	}
	t.printf("%s\n", strings.TrimRight(line, " "))
	if result.Outcome != workbench.Passed {
		reason := strings.TrimSpace(result.Reason + " " + result.Response)
		if reason == "" {
			reason = string(result.Outcome)
		}
		t.printf("%s\n", t.wrap(t.in(red, t.visible(reason)), t.width, 10))
	}
}
