package sheet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/exchange"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// retryAfter is how long a service asks to be left alone (RFC 9110, 10.2.3).
func (s *Session) retryAfter(record *exchange.Record) time.Duration {
	if record == nil || record.Answer == nil {
		return 0
	}
	text := record.Answer.Header.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 {
		return time.Duration(seconds) * time.Second
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(at.Sub(s.options.Now()), 0)
	}
	return 0
}

// sleep waits, unless the run ends meanwhile.
func sleep(ctx context.Context, pause time.Duration) error {
	timer := time.NewTimer(pause)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// Again says when a step is tried again.
type Again struct {
	Times   int // at most, the first one too
	Pause   time.Duration
	Grow    float64 // by what each pause is longer than the one before
	On      []*StatusRule
	Refused bool            // where no answer came
	Fell    bool            // where it fell short of what it expects
	When    *rule.Condition // where this is so of the answer; nil for nothing
	onAt    *yamlfile.Node
}

// longestPause is how long is waited before another try, whatever grows or a service
// asks for: longer ones are for somebody to come back to.
const longestPause = 2 * time.Minute

// usualAgain are the statuses that say that another try may go better (RFC 9110,
// 15.6.3 to 15.6.5; RFC 6585, 4).
const usualAgain = "429 or 502 or 503 or 504"

// next is the pause behind one that was made; nothing was before the first.
func (a *Again) next(before time.Duration) time.Duration {
	if before == 0 {
		return min(a.Pause, longestPause)
	}
	return time.Duration(min(float64(before)*a.Grow, float64(longestPause)))
}

// final are statuses after which the same request does not come out better: another try
// could lock an account, and is made only where the status is named.
var final = []int{400, 401, 402, 403, 405, 406, 410, 411, 413, 414, 415, 417, 422, 426, 428, 431, 451, 501, 505}

// wants says whether what came of a try asks for another one; data is what the condition
// sees.
func (a *Again) wants(result *StepResult, data func() *rule.Data) bool {
	if a.When != nil && result.Reply != nil && result.Outcome != Interrupted && a.When.Judge(data()).Held {
		return true
	}
	switch last := result.Last(); {
	case result.Outcome == Interrupted || result.Outcome == Faulty || last == nil:
		return false
	case last.Failure != nil:
		return a.Refused
	case last.Answer == nil:
		return false
	case result.Outcome == FellShort && a.Fell && !slices.Contains(final, last.Answer.Status):
		return true
	case result.Outcome != Held:
		return slices.ContainsFunc(a.On, func(status *StatusRule) bool { return status.Holds(last.Answer.Status) })
	}
	return false
}

// tries carries a step out, and again as it says.
func (x *rowRun) tries(ctx context.Context, session *Session, step *Step, scope *Scope, result *StepResult) {
	pause := time.Duration(0)
	var said []string
	for try := 1; ; try++ {
		before := *result
		session.exchange(ctx, step, scope, x.sheet.Names, result, x)
		a := step.Again
		if a == nil || x.options.Dry {
			return
		}
		said = append(said, cameOf(result))
		wanted := a.wants(result, func() *rule.Data {
			return session.data(scope, x.values, x.kept, result.Reply, x.sheet.Names)
		}) && try < a.Times
		asked := session.retryAfter(result.Last())
		if !wanted || asked > longestPause {
			note := fmt.Sprintf("tried %s: %s", times(try), strings.Join(said, ", "))
			if wanted {
				note += fmt.Sprintf("; the service asks to be left alone for %s", asked)
			}
			if last := result.Last(); last != nil && (try > 1 || wanted) {
				last.Notes = append(last.Notes, note)
			}
			return
		}
		pause = a.next(pause)
		// A tenth by chance, so that many do not come back at the same moment.
		wait := max(pause+time.Duration(rand.Int64N(int64(pause/10)+1)), asked)
		if sleep(ctx, wait) != nil {
			result.Outcome, result.Reason = Interrupted, "interrupted"
			return
		}
		exchanges, logins := result.Exchanges, result.Logins
		*result = before
		result.Exchanges, result.Logins = exchanges, logins
	}
}

// cameOf says in a word what came of a try.
func cameOf(result *StepResult) string {
	last := result.Last()
	switch {
	case last == nil:
		return string(result.Outcome)
	case last.Answer == nil:
		return "no answer"
	}
	return strconv.Itoa(last.Answer.Status)
}

var againKeys = []key[Again]{
	{"times", "how often at most", func(r *reader, a *Again, n *yamlfile.Node) { a.Times = r.whole(n, "how often") }},
	{"pause", "how long before the second try", func(r *reader, a *Again, n *yamlfile.Node) { a.Pause = r.duration(n) }},
	{"grow", "by what each pause is longer than the one before; 2", func(r *reader, a *Again, n *yamlfile.Node) {
		factor, err := strconv.ParseFloat(r.plainText(n), 64)
		if err != nil || factor < 1 || factor > 10 {
			r.file.Report(n, "grow: 2", "pauses grow by a factor from 1 to 10")
			return
		}
		a.Grow = factor
	}},
	{"when", "a condition on the answer: it is tried again where it holds", func(r *reader, a *Again, n *yamlfile.Node) { a.When = r.condition(n) }},
	{"on", "statuses, refused, fell short (not 400, 401, 403 and the like, unless they are named)", func(r *reader, a *Again, n *yamlfile.Node) { a.onAt = n }},
}

func (r *reader) again(n *yamlfile.Node) *Again {
	a := &Again{Pause: 200 * time.Millisecond, Grow: 2}
	if n.Kind == yamlfile.Scalar {
		a.Times = r.whole(n, "how often")
	} else {
		readMapping(r, "again", n, a, againKeys)
		if a.Times == 0 {
			r.file.Report(n, "write times: 3", "again does not say how often")
		}
	}
	if a.onAt == nil && a.When == nil {
		usual, _ := ParseStatus(usualAgain)
		a.On, a.Refused = []*StatusRule{usual}, true
		return a
	}
	if a.onAt == nil {
		return a
	}
	items := []*yamlfile.Node{a.onAt}
	if a.onAt.Kind == yamlfile.Sequence {
		items = r.list(a.onAt)
	}
	for _, item := range items {
		switch text := r.text(item); text {
		case "refused":
			a.Refused = true
		case "fell short":
			a.Fell = true
		default:
			status, err := ParseStatus(text)
			if err != nil {
				r.file.Report(item, "write statuses (503, 5xx), refused, or fell short", "%q says nothing that a step could be tried again on", text)
				continue
			}
			a.On = append(a.On, status)
		}
	}
	return a
}
