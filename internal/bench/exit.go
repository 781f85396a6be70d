package bench

import (
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/mapping"
	"testbench/internal/suggest"
	"testbench/internal/yamlfile"
)

// Exit gives a failure of a name an exit status of its own.
type Exit struct {
	Name   string
	Status int
}

// The exit statuses that a bench can give: others mean something else.
const (
	leastExit = 10
	mostExit  = 99
)

// failureNames are the names of failures beside "state NAME" and "error CODE".
var failureNames = []string{"failed", "error", "unreachable", "login failed", "timed out", "failed state"}

func readExit(r *mapping.Reader, b *Bench, n *yamlfile.Node) {
	for _, e := range r.Entries(n, "exit") {
		name := e.Key.Text
		r.TakesOf(e.Value, func() *document.Node {
			return document.NewObject().Set("type", document.NewText("integer")).
				Set("minimum", document.NewNumber(strconv.Itoa(leastExit))).Set("maximum",
				document.NewNumber(strconv.Itoa(mostExit)))
		})
		if kind, which, _ := strings.Cut(name, " "); !slices.Contains(failureNames, name) &&
			(kind != "state" && kind != "error" || strings.TrimSpace(which) == "") {
			try := suggest.DidYouMean(name, failureNames)
			if try == "" {
				try = "there are: " + strings.Join(failureNames, ", ") + ", state NAME, error CODE"
			}
			r.File.Report(e.Key, try, "%q is not the name of a failure", name)
			continue
		}
		status, err := strconv.Atoi(r.Text(e.Value))
		if err != nil || status < leastExit || status > mostExit {
			r.File.Report(e.Value, "exit: {"+name+": 10}", "an exit status of the bench is from %d to %d", leastExit,
				mostExit)
			continue
		}
		b.Exits = append(b.Exits, Exit{name, status})
	}
}
