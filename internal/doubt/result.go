package doubt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/fields"
	"testbench/internal/path"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/sheet"
)

// Result tells what the checks of a sheet notice. A change counts where it was judged, and where nothing lets it pass
// on purpose.
type Result struct {
	Sheet   string   `json:"sheet"`
	File    string   `json:"file"`
	Site    string   `json:"site"`
	Run     int      `json:"run,omitempty"`        // in the history; 0 for answers in memory
	Rows    int      `json:"rows"`                 // whose answers were changed
	Noticed int      `json:"noticed"`              // changes that some check noticed
	Missed  int      `json:"missed"`               // and that none did
	Allowed int      `json:"allowed"`              // and that a rule or the contract lets pass, or that come each time
	Unknown int      `json:"unknown"`              // and after which a later step would ask for something else
	Tried   int      `json:"tried"`                // all of these
	ByRules int      `json:"noticed by the rules"` // of those missed, what the rules of the fields would notice
	Of      int      `json:"of"`                   // how many changes there are; more than Tried of a sample
	Fields  []*Field `json:"fields"`               // in the order of the steps and of their answers
	// Idle are checks that none of the changes made fail, Same those that failed at the same changes.
	Idle    []string    `json:"checks that never failed,omitempty"`
	Same    [][2]string `json:"checks that say the same,omitempty"`
	Notes   []string    `json:"notes,omitempty"` // what could not be judged
	Seconds float64     `json:"seconds"`

	checks map[string]bool // by their names: that can be made fail by an answer
	mask   func(string) string
}

// Field is a field of the answer of a step, or the answer as a whole, with how well it is guarded.
type Field struct {
	Step    string   `json:"step"`
	Path    string   `json:"path,omitempty"` // empty for the answer as a whole
	Kind    string   `json:"kind,omitempty"` // as rules know it; list, object
	Noticed int      `json:"noticed"`
	Missed  int      `json:"missed"`
	Allowed int      `json:"allowed,omitempty"`
	Unknown int      `json:"unknown,omitempty"`
	Words   []string `json:"nobody notices,omitempty"` // what passes
	// Rules would notice, and hold for all recorded answers; ByRules is how many of those missed they were seen to.
	Rules   []string `json:"rules,omitempty"`
	ByRules int      `json:"noticed by the rules,omitempty"`
	// Matters is how much it matters, from 0: what is the answer at all, numbers and identifiers, states, dates, texts,
	// the rest.
	Matters int `json:"matters"`

	tried []*tried
}

func newResult(s *Subject) *Result {
	return &Result{
		Sheet: s.Sheet.Name, File: sheet.Inside(s.Bench, s.Sheet.File()), Site: s.Options.Site, Fields: []*Field{},
		checks: map[string]bool{}, mask: s.mask,
	}
}

// leave notes what is not judged, once.
func (r *Result) leave(format string, args ...any) {
	if note := r.mask(fmt.Sprintf(format, args...)); !slices.Contains(r.Notes, note) {
		r.Notes = append(r.Notes, note)
	}
}

// addBaseline takes in which checks there are.
func (r *Result) addBaseline(b *baseline) {
	r.Rows++
	for _, step := range b.steps {
		recorded := b.row.Steps[step.name]
		for _, c := range step.checks {
			switch {
			case c.Judged && !c.Passed:
				r.leave("%s: %s fails with the recorded answer already: expected %s, got %s", step.name, c.Subject,
					c.Expected, c.Got)
			case recorded == nil || !recorded.isThere(), c.Kind == "keep",
				c.Subject == "time" || c.Subject == "size" || c.Subject == "relation":
			case c.Judged:
				r.checks[r.mask(checkName(step.of, c))] = true
			}
		}
		if recorded != nil && !recorded.isThere() && step.outcome == result.NotRun && step.reason != "" {
			r.leave("%s: not run: %s", step.name, step.reason)
		}
	}
}

// Share is which part of the changes was noticed, from 0 to 1; 1 where there was none.
func (r *Result) Share() float64 {
	if r.Noticed+r.Missed == 0 {
		return 1
	}
	return float64(r.Noticed) / float64(r.Noticed+r.Missed)
}

// Findings are the fields with changes that nobody notices, those that matter most first.
func (r *Result) Findings() []*Field {
	var out []*Field
	for _, f := range r.Fields {
		if f.Missed > 0 {
			out = append(out, f)
		}
	}
	slices.SortStableFunc(out, func(a, b *Field) int {
		return cmp.Or(cmp.Compare(a.Matters, b.Matters), cmp.Compare(b.Missed, a.Missed))
	})
	return out
}

// sum sums up what came of the changes.
func (r *Result) sum(s *Subject, all []*tried, of int) {
	r.Of = of
	byPlace := map[[2]string]*Field{}
	for _, t := range all {
		if t.verdict == untried {
			continue
		}
		key := [2]string{t.of, t.change.Path}
		f := byPlace[key]
		if f == nil {
			f = &Field{Step: t.of, Path: t.change.Path}
			byPlace[key] = f
			r.Fields = append(r.Fields, f)
		}
		f.tried = append(f.tried, t)
	}
	rules := map[string][]sheet.FieldRule{}
	s.Sheet.EveryStep(func(_ *sheet.Sheet, step *sheet.Step) { rules[step.Name] = step.Fields })
	ofStep := map[string][]*tried{}
	for _, t := range all {
		ofStep[t.of] = append(ofStep[t.of], t)
	}
	known := map[string]*answers{}
	for _, f := range r.Fields {
		if known[f.Step] == nil {
			known[f.Step] = s.known(ofStep[f.Step])
		}
		f.sum(rules[lastName(f.Step)], known[f.Step])
		r.Noticed += f.Noticed
		r.Missed += f.Missed
		r.Allowed += f.Allowed
		r.Unknown += f.Unknown
	}
	r.Tried = r.Noticed + r.Missed + r.Allowed + r.Unknown
	r.sumChecks(all)
}

// lastName is the name of a step without those of the sheets that it is in.
func lastName(step string) string {
	if at := strings.LastIndex(step, ": "); at >= 0 {
		return step[at+2:]
	}
	return step
}

// sum counts what came of the changes of a field, and says what passes.
func (f *Field) sum(rules []sheet.FieldRule, known *answers) {
	f.Kind = known.kinds[f.Path]
	byContract := slices.ContainsFunc(f.tried, func(t *tried) bool {
		return t.change.Kind == Type && slices.ContainsFunc(t.by, isOfContract)
	})
	for _, t := range f.tried {
		if t.verdict == missed {
			t.verdict = f.onPurpose(t, rules, byContract, known)
		}
		switch t.verdict {
		case noticed:
			f.Noticed++
		case missed:
			f.Missed++
		case allowed:
			f.Allowed++
		case unknown:
			f.Unknown++
		}
	}
	f.Matters = f.matters()
	if f.Missed > 0 {
		f.Words = f.words()
		f.Rules = known.rules[f.Path]
	}
}

// onPurpose says whether a change that nobody noticed may pass: by a rule for the field, by the contract, or because
// it is new each time.
func (f *Field) onPurpose(t *tried, rules []sheet.FieldRule, byContract bool, known *answers) verdict {
	kind := t.change.Kind
	isValue := slices.Contains(valueKinds, kind)
	for _, one := range rules {
		if anyElement(one.Source) != anyElement(f.Path) {
			continue
		}
		switch {
		case kind == Gone && one.Rule.LetsAbsent(),
			kind == Null && one.Rule.LetsNull(),
			(isValue || kind == Empty) && one.Rule.HasRoom(),
			(kind == Emptied || kind == Fewer || kind == Twice || kind == Doubled) && one.Rule.CountsWithRoom():
			return allowed
		}
	}
	switch {
	case (kind == Gone || kind == Null) && byContract: // it describes the field, and lets it be absent
		return allowed
	case isValue && known.isNew[f.Path]:
		return allowed
	case kind == Previous && known.onlyNew:
		return allowed
	}
	return missed
}

// anyElement is a path with [*] for each element.
func anyElement(path string) string {
	path = strings.TrimPrefix(path, "answer.")
	var out strings.Builder
	for {
		before, after, found := strings.Cut(path, "[")
		out.WriteString(before)
		if !found {
			return out.String()
		}
		inside, rest, _ := strings.Cut(after, "]")
		if strings.HasPrefix(inside, `"`) {
			out.WriteString("[" + inside + "]")
		} else {
			out.WriteString("[*]")
		}
		path = rest
	}
}

// What matters, from what does most.
const (
	mattersAtAll = iota
	mattersNumber
	mattersState
	mattersDate
	mattersText
	mattersRest
)

func (f *Field) matters() int {
	name := strings.ToLower(strings.Trim(f.Path[strings.LastIndex(f.Path, ".")+1:], "@[]*\""))
	is := func(words ...string) bool {
		return slices.ContainsFunc(words, func(word string) bool { return strings.HasSuffix(name, word) })
	}
	switch {
	case f.Path == "":
		if slices.ContainsFunc(f.tried, func(t *tried) bool { return t.verdict == missed && t.change.Kind != Header }) {
			return mattersAtAll
		}
		return mattersRest
	case f.Kind == "number" || f.Kind == "integer" || f.Kind == "uuid",
		is("id", "number", "code", "key", "reference", "ref"):
		return mattersNumber
	case f.Kind == "boolean" || is("state", "status", "outcome", "result", "phase"):
		return mattersState
	case f.Kind == "date" || f.Kind == "datetime":
		return mattersDate
	case f.Kind == "" || f.Kind == "list" || f.Kind == "object":
		return mattersRest
	}
	return mattersText
}

// words say what of a field nobody notices.
func (f *Field) words() []string {
	count := func(of func(Kind) bool) (missed_, tried int) {
		for _, t := range f.tried {
			if !of(t.change.Kind) {
				continue
			}
			if tried++; t.verdict == missed {
				missed_++
			}
		}
		return missed_, tried
	}
	examples := func(of func(Kind) bool) string {
		var out []string
		for _, t := range f.tried {
			if t.verdict == missed && of(t.change.Kind) && len(out) < 2 && !slices.Contains(out, t.change.What) {
				out = append(out, t.change.What)
			}
		}
		return strings.Join(out, ", ")
	}
	if f.Path == "" {
		var out []string
		for _, t := range f.tried {
			if line := t.change.What + ": passes"; t.verdict == missed && !slices.Contains(out, line) {
				out = append(out, line)
			}
		}
		return out
	}
	var out []string
	isValue := func(k Kind) bool { return slices.Contains(valueKinds, k) }
	if f.Noticed+f.Unknown == 0 && len(f.tried) > 1 {
		return []string{"nobody looks"}
	}
	isMadeUp := func(k Kind) bool { return isValue(k) && k != Other && k != Enum }
	madeUp, _ := count(isMadeUp)
	if passed, of := count(isValue); passed == of && madeUp > 0 {
		out = append(out, "any "+cmp.Or(f.Kind, "value")+" passes")
	} else if passed > 0 {
		out = append(out, "other values pass: "+examples(isValue))
	}
	for _, one := range []struct {
		kind  Kind
		words string
	}{
		{Gone, "it may be missing"},
		{Null, "it may be null"},
		{Type, "it may be of another type"},
		{Empty, "it may be empty"},
		{Emptied, "it may have no elements"},
		{Fewer, "elements may be missing"},
		{Twice, "an element may come twice"},
		{Doubled, "all elements may come twice"},
		{Order, "its elements may come in another order"},
	} {
		if passed, _ := count(func(k Kind) bool { return k == one.kind }); passed > 0 {
			out = append(out, one.words)
		}
	}
	return out
}

// dropRules takes out rules that fail where nothing was changed.
func (r *Result) dropRules(was *stepResult, now stepResult) {
	for i, c := range now.checks {
		if c.Passed || !c.Judged || c.Kind != "field" || was != nil && failedBefore(was.checks, i, c) {
			continue
		}
		for _, f := range r.Fields {
			if f.Step == now.of && f.Path == c.Subject {
				f.Rules = nil
			}
		}
	}
}

// missed are the changes that nobody noticed.
func (r *Result) missed() []*tried {
	var out []*tried
	for _, f := range r.Fields {
		for _, t := range f.tried {
			if t.verdict == missed {
				out = append(out, t)
			}
		}
	}
	return out
}

// sumRules leaves the rules that notice something, and counts what they do.
func (r *Result) sumRules() {
	for _, f := range r.Fields {
		for _, t := range f.tried {
			if t.verdict == missed && t.byRules {
				f.ByRules++
			}
		}
		if f.ByRules == 0 {
			f.Rules = nil
		}
		r.ByRules += f.ByRules
	}
}

// sumChecks finds checks that never failed, and those that failed at the same changes.
func (r *Result) sumChecks(all []*tried) {
	failed, ofFields := map[string][]int{}, map[string][]int{}
	tried := map[string]bool{}
	for i, t := range all {
		tried[t.of] = tried[t.of] || t.verdict != untried
		for _, by := range t.by {
			failed[by] = append(failed[by], i)
			if t.change.Path != "" {
				ofFields[by] = append(ofFields[by], i)
			}
		}
	}
	var names []string
	for name := range r.checks {
		names = append(names, name)
	}
	slices.Sort(names)
	for i, name := range names {
		step, _, _ := strings.Cut(name, ": ")
		if len(failed[name]) == 0 {
			if tried[step] && len(all) == r.Of {
				r.Idle = append(r.Idle, name)
			}
			continue
		}
		for _, other := range names[i+1:] {
			if isOfFields(name) && isOfFields(other) && len(ofFields[name]) >= leastSame &&
				slices.Equal(ofFields[name], ofFields[other]) {
				r.Same = append(r.Same, [2]string{name, other})
			}
		}
	}
}

// leastSame is at how many changes two checks must have failed together, and never alone, to say the same.
const leastSame = 3

func isOfContract(name string) bool { return strings.Contains(name, ": contract ") }

func isOfFields(name string) bool {
	return strings.Contains(name, ": field ") || strings.Contains(name, ": where ")
}

// answers is what all recorded answers of a step tell of its fields.
type answers struct {
	kinds map[string]string
	rules map[string][]string
	isNew map[string]bool // each time another value, for the same row
	// onlyNew says that an earlier answer differs in nothing else.
	onlyNew bool
}

// known learns from all recorded answers of a step.
func (s *Subject) known(of []*tried) *answers {
	out := &answers{kinds: map[string]string{}, rules: map[string][]string{}, isNew: map[string]bool{}, onlyNew: true}
	p := fields.NewProposer(func(text string) bool { return s.mask(text) != text })
	seen, steps := map[string]bool{}, map[string]string{}
	for _, t := range of {
		steps[t.step] = t.of
		if seen[t.step+t.row.Name] {
			continue
		}
		seen[t.step+t.row.Name] = true
		payload := t.row.payload(t.step, s.inner[t.of])
		if payload == nil {
			continue
		}
		p.Tree(payload)
		values := []map[string]string{out.scalars(payload)}
		for _, earlier := range s.Earlier {
			if earlier.Row != t.row.Row || earlier.Name != t.row.Name {
				continue
			}
			if other := earlier.payload(t.step, s.inner[t.of]); other != nil {
				p.Tree(other)
				values = append(values, out.scalars(other))
			}
		}
		out.learnNew(t.row, values)
	}
	for _, other := range s.Others {
		for step, of := range steps {
			if payload := other.payload(step, s.inner[of]); payload != nil && other.passed(step) {
				p.Tree(payload)
			}
		}
	}
	for _, proposal := range p.Propose() {
		out.rules[proposal.Path] = proposal.Rules
	}
	return out
}

// scalars are the first value at each path, and adds the kinds.
func (a *answers) scalars(payload *document.Node) map[string]string {
	out := map[string]string{}
	c := &changer{}
	var look func(n *document.Node, at string)
	look = func(n *document.Node, at string) {
		if text, is := scalar(n); is {
			if _, had := out[at]; !had {
				out[at] = text
			}
			a.kinds[at] = rule.KindOf(document.NewUntyped(text))
			return
		}
		if n.Kind == document.List {
			a.kinds[cmp.Or(at, "answer")] = "list"
		} else if at != "" && a.kinds[at] == "" && n.Kind != document.Null {
			a.kinds[at] = "object"
		}
		c.children(n, at, func(at string, child *document.Node, _ *place, _, _ int) {
			look(child, at)
		})
		for _, attribute := range n.Attributes() {
			at := path.Below(at, attribute.Name.Local)
			if _, had := out[at]; !had && !attribute.IsDeclaration() {
				out[at] = attribute.Value
				a.kinds[at] = rule.KindOf(document.NewUntyped(attribute.Value))
			}
		}
	}
	look(payload, "")
	return out
}

// near is how close to the moment of its answer a time is that is taken for new, where there is one answer only.
const near = 24 * time.Hour

// learnNew finds values that are new each time: in none of several answers the same; of one alone, an identifier made
// by chance and a time close to that of the answer.
func (a *answers) learnNew(row *Recorded, values []map[string]string) {
	for at, first := range values[0] {
		seen := map[string]bool{}
		for _, one := range values {
			seen[one[at]] = true
		}
		isNew := len(values) > 1 && len(seen) == len(values)
		if len(values) == 1 {
			moment, err := time.Parse(time.RFC3339Nano, first)
			isNew = a.kinds[at] == "uuid" || err == nil && moment.Sub(row.begun).Abs() < near
		}
		if isNew {
			a.isNew[at] = true
		} else if len(seen) > 1 {
			a.onlyNew = false
		}
	}
}
