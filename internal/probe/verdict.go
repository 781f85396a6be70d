package probe

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/reply"
	"testbench/internal/soap"
)

// Verdict says how a service took a wrong request.
type Verdict string

// The verdicts, from the best to the worst.
const (
	Clearly   Verdict = "refused clearly"   // a 4xx or a fault of the client's that names what is wrong
	Unclearly Verdict = "refused unclearly" // refused, and not why
	Accepted  Verdict = "accepted"
	Broke     Verdict = "broke"  // 5xx, cut off, too slow
	LetIn     Verdict = "let in" // without the right to
	NotSent   Verdict = "not sent"
)

// Verdicts lists the verdicts.
var Verdicts = []Verdict{Clearly, Unclearly, Accepted, Broke, LetIn, NotSent}

// IsBad says whether it is one for which a probe fails.
func (v Verdict) IsBad() bool { return v == Broke || v == LetIn }

// Judged is how a service took a case.
type Judged struct {
	Verdict Verdict
	Said    string // what came back, in a few words: 400, fault Client
	Why     string // why that is the verdict, where it does not go without saying
}

// Judge judges what came back for a case. Slow is how long an answer may take; 0 is for
// ever.
func (c *Case) Judge(record *exchange.Record, re *reply.Reply, slow time.Duration) Judged {
	switch {
	case record.Failure != nil && record.Answer == nil:
		return Judged{Broke, string(record.Failure.Kind), record.Failure.Message}
	case record.Failure != nil:
		return Judged{Broke, fmt.Sprint(record.Answer.Status), "the answer was cut off: " + record.Failure.Message}
	case slow > 0 && record.Phases.Total > slow:
		return Judged{
			Broke, fmt.Sprint(record.Answer.Status),
			"it took " + record.Phases.Total.Round(time.Millisecond).String(),
		}
	}
	status := record.Answer.Status
	out := Judged{Said: fmt.Sprint(status)}
	if fault := re.Fault(); fault != nil {
		return c.faulted(out, fault, re)
	}
	told := re.Error()
	switch {
	case re.Failed != nil && status < 400: // as the protocol tells errors, or the bench says that the service does
		out.Verdict, out.Why = c.refused(0, re, "an error")
		out.Said += ", error"
	case re.IsSuccess():
		out = c.taken(out)
	case status >= 400 && re.Message != nil && re.Message.Payload != nil &&
		re.Message.Payload.Name().Local == "EncryptedData":
		out.Verdict, out.Why = Unclearly, "what it says is encrypted, and whoever has no key reads nothing of it"
	case status >= 500 && !slices.Contains(c.Clear, status):
		out.Verdict, out.Why = Broke, "a status of the server's own fault"
	case status >= 400:
		out.Verdict, out.Why = c.refused(status, re, "a status")
	case status >= 300:
		out.Verdict, out.Why = Unclearly, "it leads elsewhere: "+record.Answer.Header.Get("Location")
	case told != nil:
		out.Verdict, out.Why = Unclearly, "it is told under a status of success"
		out.Said += ", error"
	default:
		out = c.taken(out)
	}
	return out
}

// taken judges a wrong request that was taken.
func (c *Case) taken(out Judged) Judged {
	switch {
	case c.Kind == Credentials:
		out.Verdict = LetIn
	case c.Allowed:
		out.Verdict, out.Why = Accepted, "it may be"
	default:
		out.Verdict = Accepted
	}
	return out
}

// faulted judges a SOAP fault: who is to blame, its code says (SOAP 1.1, 4.4.1; SOAP 1.2,
// Part 1, 5.4.6).
func (c *Case) faulted(out Judged, fault *soap.Fault, re *reply.Reply) Judged {
	code := fault.Code
	if fault.Subcode != "" {
		code = fault.Subcode
	}
	out.Said += " " + code
	switch {
	case (fault.Code == "Server" || fault.Code == "Receiver") && fault.Subcode == "":
		out.Verdict, out.Why = Broke, "the fault says that the service itself is to blame: "+short(fault.Text)
	case c.Kind == Credentials && (fault.Subcode != "" || securityCodes[fault.Code]):
		out.Verdict = Clearly // WS-Security 1.1, section 12
	default:
		out.Verdict, out.Why = c.refused(0, re, "a fault")
	}
	return out
}

// securityCodes are the codes of faults of WS-Security (1.1, section 12).
var securityCodes = map[string]bool{
	"UnsupportedSecurityToken": true, "UnsupportedAlgorithm": true, "InvalidSecurity": true,
	"InvalidSecurityToken": true,
	"FailedAuthentication": true, "FailedCheck": true, "SecurityTokenUnavailable": true, "MessageExpired": true,
}

// refused tells a clear refusal from one that leaves the caller guessing.
func (c *Case) refused(status int, re *reply.Reply, what string) (Verdict, string) {
	if slices.Contains(c.Clear, status) {
		return Clearly, ""
	}
	said := c.told(re)
	switch {
	case c.name == "" && c.Field == "" && len(c.Clear) > 0 && status != 0:
		why := statusWords(c.Clear) + " would say it"
		if said != "" {
			why += "; it says: " + short(said)
		}
		return Unclearly, why
	case c.name == "" && said != "":
		return Clearly, "" // a fault that says what is wrong with the message as a whole
	case c.name != "" && names(said, c.name):
		return Clearly, ""
	case said == "":
		return Unclearly, what + " and no word more"
	case c.name != "":
		return Unclearly, fmt.Sprintf("%s is not named: %s", c.name, short(said))
	}
	return Unclearly, short(said)
}

// told is all that an answer says.
func (c *Case) told(re *reply.Reply) string {
	if re == nil || re.Record == nil || re.Record.Answer == nil {
		return ""
	}
	var words []string
	if e := re.Error(); e != nil {
		var gather func(e reply.Error)
		gather = func(e reply.Error) {
			words = append(words, e.Target, e.Text)
			for _, d := range e.Details {
				gather(d)
			}
		}
		gather(*e)
	}
	if fault := re.Fault(); fault != nil && fault.Detail != nil {
		fault.Detail.Scalars(func(n *document.Node) { words = append(words, n.Text) })
	}
	if len(words) == 0 {
		words = append(words, string(re.Record.Answer.Body))
	}
	return strings.TrimSpace(strings.Join(words, " "))
}

// names says whether a text names a field: as a word of its own, in any case.
func names(text, name string) bool {
	pattern, err := regexp.Compile(`(?i)(^|[^\pL\pN])` + regexp.QuoteMeta(name) + `($|[^\pL\pN])`)
	return err == nil && pattern.MatchString(text)
}

func short(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if runes := []rune(text); len(runes) > 120 {
		return string(runes[:117]) + "…"
	}
	return text
}

func statusWords(statuses []int) string {
	var words []string
	for _, s := range statuses {
		words = append(words, fmt.Sprint(s))
	}
	return strings.Join(words, " or ")
}
