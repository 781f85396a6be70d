package workbench

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/contract"
	"testbench/internal/contract/source"
	"testbench/internal/cover"
	"testbench/internal/history"
	"testbench/internal/lazy"
	"testbench/internal/safefile"
	"testbench/internal/sheet"
	"testbench/internal/yamlfile"
)

// Covered tells what of the contract of a service was touched.
type Covered = cover.Service

// CoverOptions say which services are looked at, and in which runs.
type CoverOptions struct {
	Options
	Services []string // empty for all that are described
	Runs     int      // the newest so many runs that had sheets
}

// Cover tells what recorded runs touched of the contracts of services, and where these are wrong. It gives the runs
// that were looked at, the newest first.
func (b *Bench) Cover(ctx context.Context, o CoverOptions) ([]*Covered, []*history.Run, error) {
	store, err := b.History()
	if err != nil {
		return nil, nil, err
	}
	defer func() { _ = store.Close() }()
	q := history.RunQuery{Most: o.Runs}
	if o.Site != "" {
		q.Sites = []string{o.Site}
	}
	runs, err := store.Runs(q)
	if err != nil {
		return nil, nil, err
	}
	var heads []*history.Run
	uses := map[string][]cover.Use{}
	for _, run := range runs {
		heads = append(heads, run.Run())
		number := 0
		for source, e := range history.Exchanges(run) {
			number++
			if source.Step.Service == "" || o.Site != "" && source.Sheet.Site != o.Site {
				continue
			}
			use := useOf(source, e)
			use.Name = fmt.Sprintf("%d.%d", run.Run().Number, number)
			uses[source.Step.Service] = append(uses[source.Step.Service], use)
		}
	}
	services := o.Services
	for _, name := range services {
		if b.inner.Service(name) == nil {
			return nil, nil, &bench.NotFoundError{What: "service", Name: name, Known: b.inner.ServiceNames()}
		}
	}
	if len(services) == 0 {
		for _, s := range b.inner.Services {
			if s.Contract != nil || len(s.Operations) > 0 {
				services = append(services, s.Name)
			}
		}
	}
	var out []*Covered
	for _, name := range services {
		c, err := b.Contract(ctx, name, nil, o.Options)
		if err != nil {
			if len(o.Services) > 0 {
				return nil, nil, err
			}
			out = append(out, &Covered{Name: name, Wrong: err.Error()})
			continue
		}
		if !c.HasOperations() {
			continue
		}
		out = append(out, cover.Of(name, locationOf(b, c), operationsOf{c}, uses[name]))
	}
	return out, heads, nil
}

// locationOf is where a contract is, as the bench names it.
func locationOf(b *Bench, c *Contract) string {
	if at := c.Head().Location; source.IsAddress(at) {
		return at
	}
	return sheet.Inside(b.inner, c.Head().Location)
}

// operationsOf are the operations of a contract as the bench binds them.
type operationsOf struct{ contract *Contract }

func (o operationsOf) Names() []string {
	as := contract.Binding{}
	if o.contract.Service != nil {
		as.Port = o.contract.Service.Port
	}
	return o.contract.Names(as)
}

func (o operationsOf) Operation(name string) (contract.Operation, error) {
	return o.contract.Operation(name, contract.Binding{})
}

// inCondition are the paths that a condition looks at.
var inCondition = lazy.Regexp(`\banswer((?:\.[A-Za-z_]\w*|\[\d+\])+)`)

// pathsOf are the paths in a condition, without the functions that are called of them.
func pathsOf(condition string) []string {
	var out []string
	for _, at := range inCondition().FindAllStringSubmatchIndex(condition, -1) {
		path := condition[at[2]:at[3]]
		if strings.HasPrefix(condition[at[3]:], "(") {
			path = path[:strings.LastIndex(path, ".")]
		}
		out = append(out, strings.TrimPrefix(path, "."))
	}
	return out
}

// useOf is an exchange as far as it tells what was touched.
func useOf(of *history.Source, e *history.Exchange) cover.Use {
	use := cover.Use{Target: of.Step.Target, Status: e.Status}
	if rest, ok := strings.CutPrefix(of.Step.Target, of.Step.Service+"/"); ok {
		use.Operation = rest
	}
	if e.Request != nil {
		use.Record, use.Blind = e.Record(), !history.IsWhole(e.Request.Body)
	}
	for _, c := range of.Step.Checks {
		switch {
		case !c.Judged:
		case c.Kind == "field" || c.Kind == "until":
			use.Judged = append(use.Judged, string(c.Subject))
		case c.Kind == "where":
			use.Judged = append(use.Judged, pathsOf(string(c.Subject))...)
		case c.Subject == "same as file":
			use.JudgedAll = true
		}
	}
	slices.Sort(use.Judged)
	return use
}

// PutStatuses puts statuses that came and are not described into the operations that bench.yaml describes with
// statuses:, each with the exchange that shows it. It gives how many were put in; those of contracts are not, for
// somebody else writes these.
func (b *Bench) PutStatuses(covered []*Covered) (int, error) {
	name := b.inner.File()
	unlock, err := safefile.Lock(name)
	if err != nil {
		return 0, err
	}
	defer unlock()
	source, err := os.ReadFile(name)
	if err != nil {
		return 0, err
	}
	count := 0
	for _, one := range covered {
		for _, r := range one.Remarks {
			status, err := strconv.Atoi(r.Of)
			services := yamlfile.Read(name, source).Root.Get("services")
			operation := services.Get(one.Name).Get("operations").Get(r.Operation)
			if err != nil || r.What != cover.NotDescribed || operation.Get("statuses") == nil {
				continue
			}
			entry := fmt.Sprintf("%d: %s, seen in %s", status, cmp.Or(http.StatusText(status), "no known status"),
				r.Exchange)
			if source, err = yamlfile.InsertInto(source, operation, "statuses", entry+"\n"); err != nil {
				return 0, fmt.Errorf("%s, the operation %s: %w", bench.FileName, r.Operation, err)
			}
			count++
		}
	}
	if count == 0 {
		return 0, nil
	}
	return count, safefile.Write(name, source, 0o644)
}
