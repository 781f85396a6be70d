package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/callstep"
	"testbench/internal/compare"
	"testbench/internal/document"
	"testbench/internal/history"
	"testbench/internal/path"
	"testbench/internal/report"
	"testbench/internal/rule"
	"testbench/internal/workbench"
)

type compareOptions struct {
	callOptions
	ignore, keys list
	roots, out   list
	as           string
	breaks       bool
	values       bool
	whole        bool // -full
}

// What compare takes its arguments for.
const (
	asAnswers   = "answers"
	asContracts = "contracts"
	asRuns      = "runs"
)

func compareCommand() *command {
	return &command{
		name: "compare", group: "finding one's way in answers",
		purpose: "says what differs between two answers, two runs or two versions of a contract",
		usage:   "A B | TARGET [field=value ...] -site ONE -site OTHER",
		examples: []string{
			"testbench compare before.json after.json -ignore lots[*].seen",
			"testbench compare 17.2 18.2 -key lots=id",
			"testbench compare v1.json v2.json -root 1=data.lot -root 2=lot -out sides.html",
			"testbench compare stores/search grade=A -site local -site south", "testbench compare 17 18",
			"testbench compare monday.json last -full",
			"testbench compare stores-1.yaml stores-2.yaml -breaks",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &compareOptions{}
			f.Var(&o.ignore, "ignore",
				"a `path` that is not looked at, with all below it, or \"is datetime\" for a kind; repeatable")
			f.StringVar(&o.as, "as", "", "what they are: answers, runs or contracts (`kind`); by itself it is seen")
			f.BoolVar(&o.breaks, "breaks", false, "of two contracts, only what breaks callers or readers")
			f.BoolVar(&o.values, "values", false,
				"of two runs, the values of answers too, not only which fields they have")
			f.BoolVar(&o.whole, "full", false,
				fmt.Sprintf("of two answers, values in full; of two runs, every place of a change, and not only "+
					"the first %d", mostPlacesShown))
			f.Var(&o.roots, "root",
				"compare what is at this `path`; with 1= or 2= before it of the one or the other alone: "+
					"2=data.lot; repeatable")
			f.Var(&o.out, "out", "of two answers, both sides beside each other as a `page` (.html); repeatable")
			o.shape(f)
			f.Var(&o.keys, "key", "`list=field`: by which field the elements of a list are matched; repeatable")
			return o.run
		},
	}
}

// asked makes the options of a comparison of those of the command line.
func (o *compareOptions) asked() (compare.Options, error) {
	out := compare.Options{Keys: map[string]string{}}
	for _, text := range o.ignore {
		if kind, ok := strings.CutPrefix(text, "is "); ok {
			if err := oneOf("ignore", kind, fieldKinds()...); err != nil {
				return out, err
			}
			out.Kinds = append(out.Kinds, kind)
			continue
		}
		out.Ignore = append(out.Ignore, text)
	}
	for _, text := range o.keys {
		where, field, ok := strings.Cut(text, "=")
		if !ok || field == "" {
			return out, usagef("-key lots=id", "-key takes list=field, not %q", text)
		}
		out.Keys[where] = field
	}
	return out, nil
}

func (o *compareOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	asked, err := o.asked()
	if err != nil {
		return 0, err
	}
	if len(s.common.sites) == 1 {
		return 0, usagef("-site ONE -site OTHER", "-site has no effect in compare unless it is given twice")
	}
	kind, err := comparedAs(s, o, args)
	if err != nil {
		return 0, err
	}
	form := "of " + kind
	if kind == asAnswers && len(s.common.sites) > 0 {
		form += " at two sites"
	}
	if kind == asAnswers && s.common.json && o.whole {
		return 0, usagef("take it out, or take -json out",
			"-full has no effect in compare with -json, which has values in full")
	}
	if err := checkInForm(s, form); err != nil {
		return 0, err
	}
	switch kind {
	case asContracts:
		return compareContracts(ctx, s, o, args)
	case asRuns:
		return compareRuns(s, compare.RunOptions{Values: o.values, Options: asked}, o.whole, args)
	}
	return compareAnswers(ctx, s, o, asked, args)
}

// compareAnswers shows what differs between two answers: saved ones, or of a call at two sites.
func compareAnswers(ctx context.Context, s *session, o *compareOptions, asked compare.Options, args []string,
) (int, error) {
	if err := pagesOnly(o.out); err != nil {
		return 0, err
	}
	roots, err := o.rootPaths()
	if err != nil {
		return 0, err
	}
	names, a, b, err := bothSides(ctx, s, o, args)
	if err != nil {
		return 0, err
	}
	if a, err = rootOf(a, roots[0], names[0]); err != nil {
		return 0, err
	}
	if b, err = rootOf(b, roots[1], names[1]); err != nil {
		return 0, err
	}
	var seen compare.Seen
	seen.Add(a, asked)
	seen.Add(b, asked)
	if err := seen.Unmatched(asked); err != nil {
		return 0, err
	}
	differences := compare.Related(a, b, asked)
	for _, name := range o.out {
		if err := report.WriteComparison(name, names, differences, s.masker); err != nil {
			return 0, fmt.Errorf("-out: %w", err)
		}
		s.tell.note("written: %s", name)
	}
	switch {
	case s.common.json && isJSON(a) && isJSON(b) && len(asked.Ignore)+len(asked.Kinds)+len(asked.Keys) == 0:
		err = s.tell.json(compare.Patch(a, b))
	case s.common.json:
		err = s.tell.json(differencesJSON(differences))
	default:
		showDifferences(s.tell, names, differences, o.whole)
	}
	if err != nil {
		return 0, err
	}
	if len(differences) > 0 {
		return ExitFailed, nil
	}
	return ExitPassed, nil
}

// bothSides reads the two answers, or makes the call at both sites; names are what they are called.
func bothSides(ctx context.Context, s *session, o *compareOptions, args []string) (names []string, a, b *document.Node,
	err error,
) {
	switch {
	case len(s.common.sites) == 2 && len(args) > 0:
		a, b, err = atTwoSites(ctx, s, o, args)
		return s.common.sites, a, b, err
	case len(s.common.sites) > 2:
		return nil, nil, nil, usagef("", "two sites are compared, and %d are named", len(s.common.sites))
	case len(args) != 2:
		return nil, nil, nil, usagef(
			"testbench compare before.json after.json, testbench compare TARGET -site ONE -site OTHER",
			"compare which two answers?")
	}
	if a, err = readTree(s, args[0]); err == nil {
		b, err = readTree(s, args[1])
	}
	return args, a, b, err
}

// rootPaths are the paths at which the two sides begin; nil for the whole answer.
func (o *compareOptions) rootPaths() (roots [2]*path.Path, err error) {
	for _, text := range o.roots {
		sides, where := []int{0, 1}, text
		switch {
		case strings.HasPrefix(text, "1="):
			sides, where = []int{0}, text[2:]
		case strings.HasPrefix(text, "2="):
			sides, where = []int{1}, text[2:]
		}
		at, err := path.Compile(where)
		if err != nil {
			return roots, usagef("", "-root %s: %v", text, err)
		}
		for _, side := range sides {
			if roots[side] != nil {
				return roots, usagef("-root 1=PATH -root 2=PATH", "-root %s: that side has a root already", text)
			}
			roots[side] = at
		}
	}
	return roots, nil
}

// rootOf is what is at a path of a side.
func rootOf(n *document.Node, at *path.Path, name string) (*document.Node, error) {
	if at == nil {
		return n, nil
	}
	found, err := at.Find(path.Roots{Answer: n}, nil)
	if err != nil {
		return nil, usagef("", "-root %s: %v", at.Source, err)
	}
	if miss := found.Missed(); miss != nil {
		return nil, usagef("", "-root %s: in %s there is no such place: %s", at.Source, name, miss)
	}
	return found.Whole(), nil
}

// comparedAs says what the arguments are: whole runs of the history by their numbers,
// contracts, or else answers.
func comparedAs(s *session, o *compareOptions, args []string) (string, error) {
	if o.as != "" {
		if err := oneOf("as", o.as, asAnswers, asRuns, asContracts); err != nil {
			return "", err
		}
		if o.as != asAnswers && len(args) != 2 {
			return "", usagef("testbench compare 17 18, testbench compare old.wsdl new.wsdl", "compare which two %s?",
				o.as)
		}
		return o.as, nil
	}
	if len(args) != 2 || len(s.common.sites) > 0 {
		return asAnswers, nil
	}
	kinds := map[string]bool{}
	for _, name := range args {
		kinds[kindOfSource(s, name)] = true
	}
	switch {
	case len(kinds) > 1 && (kinds[asRuns] || kinds[asContracts]):
		for _, name := range args {
			if kindOfSource(s, name) != asAnswers {
				continue
			}
			from, _, err := openSource(s, name)
			if err != nil {
				return "", err // what is not there is neither
			}
			_ = from.Close()
		}
		return "", usagef("-as answers, -as runs or -as contracts says what they are",
			"%s is one of two %s, and %s of two %s", args[0], kindOfSource(s, args[0]), args[1], kindOfSource(s,
				args[1]))
	case kinds[asRuns]:
		return asRuns, nil
	case kinds[asContracts]:
		return asContracts, nil
	}
	return asAnswers, nil
}

// kindOfSource says what an argument stands for.
func kindOfSource(s *session, name string) string {
	isRun := func(name string) bool {
		_, err := strconv.Atoi(name)
		return err == nil || history.IsFile(name)
	}
	// Beside a run, last is the last run and not its last exchange.
	if isRun(name) || name == "last" && slices.ContainsFunc(s.used.args, isRun) {
		return asRuns
	}
	file, err := os.Open(name)
	if err != nil {
		bench, err := s.openOrNone()
		switch {
		case strings.Contains(name, "://"), err == nil && bench.HasService(name):
			return asContracts
		}
		return asAnswers
	}
	defer func() { _ = file.Close() }()
	start, err := io.ReadAll(io.LimitReader(file, 64<<10))
	if err == nil && workbench.LooksLikeContract(start) {
		return asContracts
	}
	return asAnswers
}

func isJSON(n *document.Node) bool { return n.Kind != document.Element && n.Kind != document.Untyped }

// readTree reads a source as a tree: of an envelope, its payload.
func readTree(s *session, name string) (*document.Node, error) {
	from, mediaType, err := openSource(s, name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = from.Close() }()
	const most = 256 << 20
	data, err := io.ReadAll(io.LimitReader(from, most+1))
	if err != nil {
		return nil, err
	}
	if len(data) > most {
		return nil, fmt.Errorf("%s is larger than %d MiB", name, most>>20)
	}
	node, err := workbench.ReadAnswer(mediaType, data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return node, nil
}

// atTwoSites makes one call at both sites and gives what was answered.
func atTwoSites(ctx context.Context, s *session, o *compareOptions, args []string) (a, b *document.Node, err error) {
	bench, err := s.open()
	if err != nil {
		return nil, nil, err
	}
	var answers []*document.Node
	for _, site := range s.common.sites {
		s.common.site = site
		o.Pages = 1
		step, options, err := prepareCall(s, bench, &o.callOptions, args)
		if err != nil {
			return nil, nil, err
		}
		result, notes, err := bench.Do(ctx, step, options)
		if err != nil {
			return nil, nil, err
		}
		for _, note := range notes {
			s.tell.note("note: at %s: %s", s.tell.visible(site), s.tell.visible(note))
		}
		if last := result.Last(); result.Reply == nil || result.Reply.Payload == nil ||
			last != nil && last.Failure != nil {
			return nil, nil, &noAnswerError{site, result}
		}
		if result.Outcome != workbench.Passed {
			s.tell.note("note: at %s the call %s: %s", s.tell.visible(site), result.Outcome,
				s.tell.visible(strings.TrimSpace(result.Reason+" "+result.Response)))
		}
		answers = append(answers, result.Reply.Payload)
	}
	return answers[0], answers[1], nil
}

// noAnswerError says that a call came to nothing that could be looked at.
type noAnswerError struct {
	site   string
	result *workbench.StepResult
}

func (e *noAnswerError) Error() string {
	reason := e.result.Reason
	if reason == "" {
		reason = "the answer has no content"
	}
	return "at " + e.site + ": " + reason
}

// oneCall makes the call that arguments describe.
func oneCall(ctx context.Context, s *session, bench *workbench.Bench,
	args []string,
) (*workbench.StepResult, []string, error) {
	call := workbench.Call{Pages: 1}
	call.Target, call.Fields = callstep.Split(args)
	step, err := bench.Prepare(call, s.options())
	if err != nil {
		return nil, nil, err
	}
	return bench.Do(ctx, step, s.options())
}

// differencesJSON is the form of differences that are not a patch.
func differencesJSON(differences []compare.Difference) []map[string]any {
	out := []map[string]any{}
	for _, d := range differences {
		one := map[string]any{"kind": d.Kind, "path": d.Path}
		if d.A != nil {
			one["a"] = shortValue(d.A)
		}
		if d.B != nil {
			one["b"] = shortValue(d.B)
		}
		if d.Kind == compare.Moved {
			one["from"], one["to"] = d.From, d.To
		}
		if d.Into != "" {
			one["into"], one["sure"] = d.Into, d.Sure
			delete(one, "from")
			delete(one, "to")
		}
		out = append(out, one)
	}
	return out
}

// shortValue is a value in a line.
func shortValue(n *document.Node) string {
	if n == nil {
		return ""
	}
	if n.IsScalar() && rule.KindOf(n) != "text" && n.Kind != document.Text {
		return n.Text
	}
	return document.WriteJSON(n, document.Style{})
}

// differenceWords are the kinds of differences as they are shown.
var differenceWords = map[compare.Kind]string{
	compare.Changed: "changed", compare.Added: "added", compare.Removed: "removed", compare.Moved: "moved",
	compare.Retyped: "kind", compare.Renamed: "renamed", compare.Wrapped: "wrapped", compare.Unwrapped: "unwrapped",
	compare.Split: "split", compare.Joined: "joined",
}

// showDifferences shows what differs: first how much of each kind, then side by side where there is room.
func showDifferences(t *printer, names []string, differences []compare.Difference, whole bool) {
	if len(differences) == 0 {
		t.printf("%s\n", t.in(green, "no difference"))
		return
	}
	kinds, counts := compare.Summary(differences)
	var parts []string
	for _, kind := range kinds {
		parts = append(parts, fmt.Sprintf("%d %s", counts[kind], differenceWords[kind]))
	}
	t.printf("%s: %s\n", t.in(bold, count(len(differences), "difference")), strings.Join(parts, ", "))
	width := 4
	for _, d := range differences {
		width = max(width, len([]rune(d.Path)))
	}
	width = min(width, t.width*2/5)
	const word = 9
	side := (t.width - width - 2 - 2 - word - 1 - 2) / 2
	wide := side >= 16 && !whole
	if wide {
		t.printf("%s\n", t.in(faint, strings.Repeat(" ", word+2)+t.fit("path", width)+"  "+
			t.fit(names[0], side)+"  "+names[1]))
	}
	for _, d := range differences {
		a, b := shortValue(d.A), shortValue(d.B)
		switch {
		case d.Into != "":
			b = t.sign("→ ", "-> ") + d.Into
			if d.Sure < 1 {
				b += fmt.Sprintf(" (%.0f %% sure)", 100*d.Sure)
			}
		case d.Kind == compare.Moved:
			a, b = fmt.Sprintf("at %d", d.From), fmt.Sprintf("at %d", d.To)
		}
		style := map[compare.Kind]string{compare.Added: green, compare.Removed: red}[d.Kind]
		kind := t.fit(differenceWords[d.Kind], word)
		if style != "" {
			kind = t.in(style, kind)
		}
		if wide {
			t.printf("%s\n", strings.TrimRight(kind+"  "+t.fit(d.Path, width)+"  "+t.fit(a, side)+"  "+
				t.fit(b, side), " "))
			continue
		}
		t.printf("%s  %s\n", kind, t.visible(d.Path))
		for _, line := range []string{a, b} {
			if line != "" {
				t.printf("%s\n", t.wrap(line, t.width, word+2))
			}
		}
	}
}
