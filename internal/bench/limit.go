package bench

import (
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/mapping"
	"testbench/internal/rule"
	"testbench/internal/yamlfile"
)

// mostOfLimit is how many calls a limit may let out at once: their moments are remembered.
const mostOfLimit = 1_000_000

// readLimit reads how many calls there may be in a time: 60/min, 100/10 s. It is nil where it is none.
func readLimit(r *mapping.Reader, n *yamlfile.Node) *exchange.Quota {
	text := r.PlainText(n)
	r.TakesOf(n, func() *document.Node {
		return mapping.PatternSchema(`^\s*[1-9][0-9]*\s*/\s*([0-9.]+\s*)?[a-z]+\s*$`)
	})
	count, unit, _ := strings.Cut(text, "/")
	most, err := strconv.Atoi(strings.TrimSpace(count))
	if unit = strings.TrimSpace(unit); unit != "" && strings.Trim(unit, "abcdefghijklmnopqrstuvwxyz") == "" {
		unit = "1 " + unit
	}
	span, wrong := rule.Duration(unit)
	if err != nil || wrong != nil || most < 1 || most > mostOfLimit || span < time.Millisecond {
		r.File.Report(n, "write it like 60/min, 5/s or 100/10 s", "%q is not a limit of calls", text)
		return nil
	}
	return exchange.NewQuota(most, span)
}
