package run

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/session"
	"testbench/internal/sheet"
)

// longestPause is how long is waited before another try, whatever grows or a service
// asks for: longer ones are for somebody to come back to.
const longestPause = 2 * time.Minute

// nextPause is the pause behind one that was made; nothing was before the first.
func nextPause(a *sheet.Again, before time.Duration) time.Duration {
	if before == 0 {
		return min(a.Pause, longestPause)
	}
	return time.Duration(min(float64(before)*a.Grow, float64(longestPause)))
}

// final are statuses after which the same request does not come out better: another try
// could lock an account, and is made only where the status is named.
var final = []int{400, 401, 402, 403, 405, 406, 410, 411, 413, 414, 415, 417, 422, 426, 428, 431, 451, 501, 505}

// wantsAgain says whether what came of a try asks for another one; data is what the condition
// sees.
func wantsAgain(a *sheet.Again, res *result.Step, data func() *rule.Data) bool {
	if a.When != nil && res.Reply != nil && res.Outcome != result.Interrupted && a.When.Judge(data()).Held {
		return true
	}
	switch last := res.Last(); {
	case res.Outcome == result.Interrupted || res.Outcome == result.Faulty || last == nil:
		return false
	case last.Failure != nil:
		return a.Refused
	case last.Answer == nil:
		return false
	case res.Outcome == result.FellShort && a.Fell && !slices.Contains(final, last.Answer.Status):
		return true
	case res.Outcome != result.Held:
		return slices.ContainsFunc(a.On, func(status *bench.StatusRule) bool { return status.Holds(last.Answer.Status) })
	}
	return false
}

// tries carries a step out, and again as it says.
func (x *rowRun) tries(ctx context.Context, sess *session.Session, step *sheet.Step, scope *session.Values, res *result.Step) {
	pause := time.Duration(0)
	var said []string
	for try := 1; ; try++ {
		before := *res
		carryOut(ctx, sess, step, scope, x.sheet.Names, res, x)
		a := step.Again
		if a == nil || x.options.Dry {
			return
		}
		said = append(said, cameOf(res))
		wanted := wantsAgain(a, res, func() *rule.Data {
			return sess.Data(scope, x.values, x.kept, res.Reply, x.sheet.Names)
		}) && try < a.Times
		asked := sess.RetryAfter(res.Last())
		if !wanted || asked > longestPause {
			note := fmt.Sprintf("tried %s: %s", session.HowOften(try), strings.Join(said, ", "))
			if wanted {
				note += fmt.Sprintf("; the service asks to be left alone for %s", asked)
			}
			if last := res.Last(); last != nil && (try > 1 || wanted) {
				last.Notes = append(last.Notes, note)
			}
			return
		}
		pause = nextPause(a, pause)
		// A tenth by chance, so that many do not come back at the same moment.
		wait := max(pause+time.Duration(rand.Int64N(int64(pause/10)+1)), asked)
		if session.Sleep(ctx, wait) != nil {
			res.Outcome, res.Reason = result.Interrupted, "interrupted"
			return
		}
		exchanges, logins := res.Exchanges, res.Logins
		*res = before
		res.Exchanges, res.Logins = exchanges, logins
	}
}

// cameOf says in a word what came of a try.
func cameOf(result *result.Step) string {
	last := result.Last()
	switch {
	case last == nil:
		return string(result.Outcome)
	case last.Answer == nil:
		return "no answer"
	}
	return strconv.Itoa(last.Answer.Status)
}
