package sheet

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/history"
	"testbench/internal/mapping"
	"testbench/internal/yamlfile"
)

// Kind is one thing that a step can do. A key that the kind does not name cannot be written
// at it: each key either has its effect or is a mistake.
type Kind struct {
	Word string // the key that makes a step one
	What string // in messages: a pause
	// Common are the keys that it has of those that several kinds share.
	Common []string
	// Own are the keys that read its action; the first is that of its word.
	Own []mapping.Key[Step]
	// Instead says what to write in place of a key that it does not have; the empty key
	// stands for all others. Nil for nothing of its own.
	Instead map[string]string
	New     func() Action
}

// has says whether a key may be written at a step of the kind.
func (k *Kind) has(name string) bool {
	return slices.Contains(k.Common, name) || slices.ContainsFunc(k.Own, func(own mapping.Key[Step]) bool {
		return own.Name == name
	})
}

// Keys are the keys of the kind beside its word.
func (k *Kind) Keys() []string { return append(mapping.KeyNames(k.Own[1:]), k.Common...) }

// StepKeys are all keys of steps of some kinds: the name and what the step shows, the words of
// the kinds, what kinds share, and what is the kinds' own beside it.
func StepKeys(kinds []Kind) []mapping.Key[Step] {
	var keys []mapping.Key[Step]
	add := func(more ...mapping.Key[Step]) {
		for _, key := range more {
			if !slices.ContainsFunc(keys, func(one mapping.Key[Step]) bool { return one.Name == key.Name }) {
				keys = append(keys, key)
			}
		}
	}
	add(commonKeys[:namingKeys]...)
	for _, k := range kinds {
		add(k.Own[0])
	}
	add(commonKeys...)
	for _, k := range kinds {
		add(k.Own...)
	}
	return keys
}

// keysAt are the keys by which a step is read. Those that its kind does not have are passed
// by: they are reported as a whole. A step of no kind, or of more than one, is reported too.
func keysAt(kinds []Kind, kind *Kind) []mapping.Key[Step] {
	keys := StepKeys(kinds)
	for i, key := range keys {
		if kind == nil {
			if !slices.ContainsFunc(commonKeys, func(c mapping.Key[Step]) bool { return c.Name == key.Name }) {
				keys[i].Read = passBy
			}
			continue
		}
		own := slices.IndexFunc(kind.Own, func(one mapping.Key[Step]) bool { return one.Name == key.Name })
		switch {
		case own >= 0:
			keys[i] = kind.Own[own]
		case !kind.has(key.Name):
			keys[i].Read = passBy
		}
	}
	return keys
}

func passBy(*mapping.Reader, *Step, *yamlfile.Node) {}

// ReadSteps reads the steps that a step holds.
func (s *Step) ReadSteps(r *mapping.Reader, n *yamlfile.Node) []*Step {
	return readSteps(r, n, s.from)
}

// HasKey says whether steps have a key of a name, of whatever kind they are.
func (s *Step) HasKey(name string) bool {
	return slices.ContainsFunc(StepKeys(s.from.kinds), func(key mapping.Key[Step]) bool { return key.Name == name })
}

// origin is what the steps of a sheet are read with.
type origin struct {
	bench  *bench.Bench
	kinds  []Kind   // that steps may be of
	within []string // the sheets that lead to the one that is read, and itself
}

func readSteps(r *mapping.Reader, n *yamlfile.Node, from origin) []*Step {
	var steps []*Step
	seen := map[string]bool{}
	for i, item := range r.List(n) {
		step := readStep(r, item, fmt.Sprintf("step %d", i+1), from)
		if step == nil {
			continue
		}
		if history.StepOf(step.Name) != step.Name {
			r.File.Report(item.Get("step"), fmt.Sprintf("call the step %q", history.StepOf(step.Name)),
				"the name %q is like those that for each: gives to the steps of its items", step.Name)
		}
		if seen[step.Name] {
			r.File.Report(item, "", "a second step is named %q", step.Name)
		}
		seen[step.Name] = true
		steps = append(steps, step)
	}
	return steps
}

// readStep reads one step; nil where it is none.
func readStep(r *mapping.Reader, n *yamlfile.Node, otherwise string, from origin) *Step {
	kind := kindAt(n, from.kinds)
	if kind != nil {
		n = takeIn(r, from.bench, kind, n)
	}
	step := &Step{At: n, from: from}
	inner := *r
	inner.Uses = &step.Uses
	before := len(r.File.Problems.Serious())
	if kind != nil {
		step.Action = kind.New()
	}
	mapping.Read(&inner, "a step", n, step, keysAt(from.kinds, kind))
	if n.Kind != yamlfile.Mapping {
		return nil
	}
	if step.Name == "" {
		step.Name = otherwise
	}
	if kind == nil {
		reportKind(r, step)
		return step
	}
	finishStep(&inner, step, kind)
	if step.Action == nil && len(r.File.Problems.Serious()) == before {
		r.File.Report(n.Get(kind.Word), "write what it does, or take the step out",
			"%s: leaves the step with nothing to do", kind.Word)
	}
	return step
}

// kindAt is the kind whose word is at a step, nil where there is none or more than one.
func kindAt(n *yamlfile.Node, kinds []Kind) *Kind {
	var found *Kind
	for i := range kinds {
		if n.Get(kinds[i].Word) == nil {
			continue
		}
		if found != nil {
			return nil
		}
		found = &kinds[i]
	}
	return found
}

// reportKind reports a step that does nothing, or more than one thing.
func reportKind(r *mapping.Reader, s *Step) {
	var words []string
	for _, k := range s.from.kinds {
		if s.At.Get(k.Word) != nil {
			words = append(words, k.Word)
		}
	}
	if len(words) > 0 {
		r.File.Report(s.At, "make two steps of it", "the step %q does more than one thing: %s", s.Name,
			strings.Join(words, " and "))
		return
	}
	try := "write call:, request:, follow:, lookup:, listen:, sheet:, set: or calculate:"
	for _, e := range s.At.Entries {
		if mapping.NewName(e.Key.Text, kindWords(s.from.kinds)) != "" {
			return // which is told already
		}
		if kinds := kindsWith(s.from.kinds, e.Key.Text); len(kinds) == 1 {
			try = e.Key.Text + ": goes with " + kinds[0] + ":"
			break
		}
	}
	r.File.Report(s.At, try, "the step %q does nothing", s.Name)
}

func kindWords(kinds []Kind) []string {
	words := make([]string, len(kinds))
	for i, k := range kinds {
		words[i] = k.Word
	}
	return words
}

// kindsWith lists the kinds at which a key may be written.
func kindsWith(kinds []Kind, name string) []string {
	var words []string
	for _, k := range kinds {
		if k.Word != name && k.has(name) {
			words = append(words, k.Word)
		}
	}
	return words
}

// checkKeys reports the keys of a step that its kind does not have.
func checkKeys(r *mapping.Reader, s *Step, k *Kind) {
	for _, e := range s.At.Entries {
		if name := e.Key.Text; !k.has(name) && s.HasKey(name) {
			r.File.Report(e.Key, insteadOf(s.from.kinds, k, name), "%s has no %s", k.What, name)
		}
	}
}

// insteadOf says what to write in place of a key that a kind does not have.
func insteadOf(kinds []Kind, k *Kind, name string) string {
	for _, key := range []string{name, ""} {
		if try := k.Instead[key]; try != "" {
			return try
		}
	}
	if kinds := kindsWith(kinds, name); len(kinds) > 0 {
		return "take it out; " + name + ": goes with " + strings.Join(kinds, ", ")
	}
	return "take it out"
}

// finishStep checks what only the whole step can tell, and reads bodies, whose
// format may hang on a header.
func finishStep(r *mapping.Reader, s *Step, k *Kind) {
	checkKeys(r, s, k)
	if !s.Action.Check(r, s) {
		s.Action = nil
	}
	if s.Wait != nil && len(s.Wait.Until) == 0 && k.has("every") {
		r.File.Report(s.At, "write until: and below it PATH: RULE", "the step %q waits, and does not say until when",
			s.Name)
	}
	if len(s.Contents) > 1 {
		r.File.Report(s.At, "keep one of them", "the step %q has more than one body: %s", s.Name,
			strings.Join(s.Contents, ", "))
	}
	finishRefused(r, s)
	if len(s.Expect.Except) > 0 && s.Expect.SameAs == nil {
		r.File.Report(s.At.Get("expect").Get("except"), "write same as file: FILE beside it, or take it out",
			"except: has no effect without same as file:")
	}
	if s.textAt != nil {
		finishText(r, s)
	}
}

// finishRefused reports what is expected of an answer beside that there is none.
func finishRefused(r *mapping.Reader, s *Step) {
	if s.Expect.Refused == "" {
		return
	}
	report := func(e yamlfile.Entry) {
		r.File.Report(e.Key, "take one of them out",
			"where the connection is refused there is no answer, and nothing to check %s against", e.Key.Text)
	}
	for _, e := range s.At.Entries {
		if slices.Contains([]string{"fields", "where", "keep", "until", "pages"}, e.Key.Text) {
			report(e)
		}
		if e.Key.Text == "expect" {
			for _, inner := range e.Value.Entries {
				if inner.Key.Text != "refused" {
					report(inner)
				}
			}
		}
	}
}
