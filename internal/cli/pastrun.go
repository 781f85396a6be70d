package cli

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/secret"
)

// pastRun shows a run with its exchanges, or one exchange in full.
func pastRun(s *session, name string) (int, error) {
	run, number, ok := exchangeName(name)
	if !ok {
		return 0, usagef("testbench history 18, testbench history 18.3, testbench history last",
			"%q is neither a run nor an exchange", name)
	}
	if name == "last" || strings.Contains(name, ".") {
		return pastExchange(s, run, number)
	}
	stored, done, err := storedRun(s, name)
	if err != nil {
		return 0, err
	}
	defer done()
	if s.common.json {
		return ExitPassed, history.WriteJSON(s.tell.out, stored)
	}
	t := s.tell
	head := stored.Run()
	t.printf("%s\n", t.in(bold,
		fmt.Sprintf("run %d", run))+t.sign(" · ", " - ")+head.Started.Local().Format("2006-01-02 15:04:05")+
		t.sign(" · ", " - ")+colouredOutcome(s.tell, head.Outcome, len(head.Outcome)))
	exchange := 0
	for i, sheet := range head.Sheets {
		t.printf("%s%ssite %s\n", t.in(bold, t.visible(sheet.Sheet)), t.sign(" · ", " - "), t.visible(sheet.Site))
		for row, err := range stored.Rows(i) {
			if err != nil {
				return 0, err
			}
			if row.Name() != "" {
				t.printf("  %s\n", t.oneLine(row.Name()))
			}
			for _, step := range row.Steps {
				which := ""
				if n := len(step.Exchanges) + step.Sent; n > 0 {
					which = fmt.Sprintf("%d.%d", run, exchange+n)
					exchange += n
				}
				status := "   "
				if step.Status > 0 {
					status = fmt.Sprintf("%3d", step.Status)
				}
				t.printf("  %s  %s  %s  %s  %s\n", t.fit(which, 8), t.fit(step.Step, 24), t.fit(step.Target, 28),
					status, colouredOutcome(s.tell, step.Outcome, 0+len(step.Outcome)))
			}
		}
	}
	t.note("next: testbench history %d.1   (an exchange in full)", run)
	return ExitPassed, nil
}

// pastExchange shows one exchange as it was.
func pastExchange(s *session, run, number int) (int, error) {
	e, err := recordedExchange(s, run, number)
	if err != nil {
		return 0, err
	}
	if s.common.json {
		return ExitPassed, s.tell.json(e)
	}
	t := s.tell
	lines := func(headers map[string][]secret.Text) {
		for _, name := range sortedHeader(headers) {
			for _, v := range headers[name] {
				t.printf("%s\n", t.in(faint, t.visible(name+": "+string(v))))
			}
		}
	}
	body := func(mediaType string, text secret.Text) {
		if text == "" {
			return
		}
		node, format, err := document.Read(mediaType, []byte(text))
		if err != nil {
			node = nil
		}
		t.printf("%s\n", bodyText(s, format, node, []byte(text), ""))
	}
	t.printf("%s %s\n", t.in(bold, t.visible(e.Request.Method)), t.visible(string(e.Request.Address)))
	lines(e.Request.Headers)
	body(e.Request.MediaType(), e.Request.Body)
	t.printf("\n")
	if e.Failure != "" {
		t.printf("%s\n", t.in(red, t.visible(string(e.Failure))))
	}
	if e.Status > 0 {
		dot := t.sign(" · ", " - ")
		t.printf("%s%s%.1f ms%s%s\n", t.in(bold, t.visible(string(e.StatusLine()))), dot, e.Milliseconds, dot,
			size(len(e.Body)))
		if words := exchange.PhasesOf(e.Phases).Words(); words != "" {
			t.printf("%s\n", t.in(faint, words))
		}
		if e.TLS != nil {
			t.printf("%s\n", t.in(faint, t.visible(e.TLS.Words())))
		}
		lines(e.Headers)
		body(e.MediaType(), e.Body)
	}
	for _, note := range e.Notes {
		t.printf("%s\n", t.wrap("note: "+string(note), t.width, 0))
	}
	return ExitPassed, nil
}

// storedRun opens a run: a file, or one of the history by its number or as the last one; done closes it.
func storedRun(s *session, name string) (run history.Finished, done func(), err error) {
	if isFile(name) {
		run, err := history.OpenFile(name)
		if err != nil {
			return nil, nil, err
		}
		return run, func() {}, nil
	}
	_, store, err := s.history()
	if err != nil {
		return nil, nil, err
	}
	number, err := runNumber(store, name)
	if err == nil {
		run, err = store.Get(number)
	}
	if err != nil {
		_ = store.Close()
		return nil, nil, err
	}
	return run, func() { _ = store.Close() }, nil
}

// isFile says whether a name of a run is that of a file: a number and last are of the history.
func isFile(name string) bool {
	if _, err := strconv.Atoi(name); err == nil || name == "last" {
		return false
	}
	info, err := os.Stat(name)
	return err == nil && !info.IsDir()
}

// runNumber finds a run of the history: by its number, or the last one.
func runNumber(store *history.Store, text string) (int, error) {
	if text == "last" {
		number, err := store.Last()
		if err == nil && number == 0 {
			err = &history.NotThereError{}
		}
		return number, err
	}
	number, err := strconv.Atoi(text)
	if err != nil || number < 1 {
		return 0, usagef("write its number or last; a file of a run is one that run -out FILE.json wrote",
			"%q is not a run of the history, and there is no such file", text)
	}
	return number, nil
}

// recordedExchange finds an exchange of the history: the newest run where run is 0, its last
// exchange where number is 0.
func recordedExchange(s *session, run, number int) (*history.Exchange, error) {
	_, store, err := s.history()
	if err != nil {
		return nil, err
	}
	defer func() { _ = store.Close() }()
	if run == 0 {
		if run, err = store.Last(); err != nil {
			return nil, err
		}
	}
	stored, err := store.Get(run)
	if err != nil {
		return nil, err
	}
	var found *history.Exchange
	count := 0
	for _, e := range history.Exchanges(stored) {
		count++
		if number == 0 || count == number {
			found = e
		}
	}
	switch {
	case found == nil && count == 0:
		return nil, fmt.Errorf("run %d has no exchange", run)
	case found == nil:
		return nil, usagef(fmt.Sprintf("they are numbered from %d.1 to %d.%d", run, run, count),
			"run %d has no exchange %d", run, number)
	case found.Request == nil:
		return nil, errors.New("that exchange passed, and is recorded without what was sent: of long runs only the " +
			"first ones and those that failed are whole")
	}
	return found, nil
}

// exchangeName reads 18.3, 18 for its last exchange, or last.
func exchangeName(text string) (run, number int, ok bool) {
	if text == "last" {
		return 0, 0, true
	}
	first, second, hasSecond := strings.Cut(text, ".")
	run, err := strconv.Atoi(first)
	if err != nil || run < 1 {
		return 0, 0, false
	}
	if hasSecond {
		if number, err = strconv.Atoi(second); err != nil || number < 1 {
			return 0, 0, false
		}
	}
	return run, number, true
}
