package cli

import (
	"fmt"
	"time"

	"github.com/schollz/progressbar/v3"
)

// bar shows on a terminal how far a sheet is.
type bar struct {
	*progressbar.ProgressBar
	name    string
	done    int
	failed  int
	total   int           // 0 where it is not known
	drawn   time.Duration // when, from the beginning
	said    string
	hidden  bool // a line was written meanwhile
	started time.Time
	during  time.Duration // where the time says when it is over
}

// startBar begins to show how far something is, on a terminal only. A total of 0 is not
// known.
func (t *printer) startBar(name string, total int, during time.Duration) {
	if t.errTerminal == nil {
		return
	}
	most := int64(total)
	switch {
	case during > 0:
		most = int64(during / time.Millisecond)
	case total == 0:
		most = -1
	}
	b := &bar{name: t.visible(name), total: total, started: time.Now(), during: during}
	options := []progressbar.Option{
		progressbar.OptionSetWriter(t.errTerminal), progressbar.OptionSetWidth(24),
		progressbar.OptionClearOnFinish(), progressbar.OptionSetPredictTime(false),
		progressbar.OptionSetElapsedTime(false), progressbar.OptionSetDescription(b.name),
		progressbar.OptionSetTheme(progressbar.Theme{
			Saucer: t.sign("━", "="), SaucerHead: t.sign("━", ">"),
			SaucerPadding: t.sign("─", "-"), BarStart: " ", BarEnd: " ",
		}),
	}
	if during == 0 {
		options = append(options, progressbar.OptionShowCount())
	}
	b.ProgressBar = progressbar.NewOptions64(most, options...)
	t.bar = b
}

// stepBar says that one more is done.
func (t *printer) stepBar(failed bool) {
	b := t.bar
	if b == nil {
		return
	}
	b.done++
	if failed {
		b.failed++
	}
	// It is drawn anew where a line took its place, else a few times in a second.
	passed := time.Since(b.started)
	if !b.hidden && passed-b.drawn < time.Second/8 {
		return
	}
	b.drawn, b.hidden = passed, false
	if words := b.words(passed, t.sign(" · ", " - ")); words != b.said {
		b.said = words
		b.Describe(words)
	}
	if b.during > 0 {
		_ = b.Set64(min(int64(passed/time.Millisecond), int64(b.during/time.Millisecond)-1))
		return
	}
	_ = b.Set(b.done)
}

// words say what the bar stands for, and how long it still takes.
func (b *bar) words(passed time.Duration, dot string) string {
	words := b.name
	if b.failed > 0 {
		words += dot + fmt.Sprintf("%d failed", b.failed)
	}
	left := b.during - passed
	if b.during == 0 && b.total > 0 {
		left = time.Duration(float64(passed) / float64(b.done) * float64(b.total-b.done))
	}
	if left > time.Second {
		words += dot + "about " + left.Round(time.Second).String() + " left"
	}
	return words
}

// endBar takes the bar away.
func (t *printer) endBar() {
	if t.bar != nil {
		_ = t.bar.Clear()
		t.bar = nil
	}
}

// hideBar takes the bar out of the way of a line.
func (t *printer) hideBar() {
	if t.bar != nil && !t.bar.hidden {
		_ = t.bar.Clear()
		t.bar.hidden = true
	}
}
