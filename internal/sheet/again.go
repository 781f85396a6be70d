package sheet

import (
	"strconv"
	"time"

	"testbench/internal/mapping"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// Again says when a step is tried again.
type Again struct {
	Times   int // at most, the first one too
	Pause   time.Duration
	Grow    float64 // by what each pause is longer than the one before
	On      []*rule.Status
	Refused bool            // where no answer came
	Failed  bool            // where it failed of what it expects
	When    *rule.Condition // where this is so of the answer; nil for nothing
	onAt    *yamlfile.Node
}

// usualAgain are the statuses that say that another try may go better (RFC 9110,
// 15.6.3 to 15.6.5; RFC 6585, 4).
const usualAgain = "429 or 502 or 503 or 504"

var againKeys = []mapping.Key[Again]{
	mapping.NewKey("times", "how often at most", func(r *mapping.Reader, a *Again, n *yamlfile.Node) {
		a.Times = r.Whole(n, "times")
	}),
	mapping.DurationKey("pause", "how long before the second try; 200 ms unless said",
		func(a *Again) *time.Duration { return &a.Pause }),
	mapping.NewKey("grow", "by what each pause is longer than the one before; 2 unless said",
		func(r *mapping.Reader, a *Again, n *yamlfile.Node) {
			factor, err := strconv.ParseFloat(r.PlainText(n), 64)
			if err != nil || factor < 1 || factor > 10 {
				r.File.Report(n, "grow: 2", "pauses grow by a factor from 1 to 10")
				return
			}
			a.Grow = factor
		}),
	mapping.NewKey("when", "a condition on the answer: it is tried again where it holds",
		func(r *mapping.Reader, a *Again, n *yamlfile.Node) { a.When = r.Condition(n) }),
	mapping.NewKey("on",
		"statuses, refused, failed (not 400, 401, 403 and the like, unless they are named); 429, 502, 503, 504 and "+
			"refused unless said",
		func(r *mapping.Reader, a *Again, n *yamlfile.Node) { a.onAt = n }),
}

func readAgain(r *mapping.Reader, n *yamlfile.Node) *Again {
	a := &Again{Pause: 200 * time.Millisecond, Grow: 2}
	if n.Kind == yamlfile.Scalar {
		a.Times = r.Whole(n, "times")
	} else {
		mapping.Read(r, "again", n, a, againKeys)
		r.Needs(n, "times")
		if a.Times == 0 {
			r.File.Report(n, "write times: 3", "again does not say how often")
		}
	}
	if a.onAt == nil && a.When == nil {
		usual, _ := rule.ParseStatus(usualAgain)
		a.On, a.Refused = []*rule.Status{usual}, true
		return a
	}
	if a.onAt == nil {
		return a
	}
	r.NotEmpty(a.onAt, "on")
	items := []*yamlfile.Node{a.onAt}
	if a.onAt.Kind == yamlfile.Sequence {
		items = r.List(a.onAt)
	}
	for _, item := range items {
		switch text := r.Text(item); text {
		case "refused":
			a.Refused = true
		case "failed":
			a.Failed = true
		default:
			status, err := rule.ParseStatus(text)
			if err != nil {
				r.File.Report(item, "write statuses (503, 5xx), refused, or failed",
					"%q says nothing that a step could be tried again on", text)
				continue
			}
			a.On = append(a.On, status)
		}
	}
	return a
}
