package sheet

import (
	"cmp"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/yamlfile"
)

// stepKind is one thing that a step can do. A key that the kind does not name cannot be
// written at it: each key either has its effect or is a mistake.
type stepKind struct {
	word string // the key that makes it one
	what string // in messages: a pause
	keys []string
	is   func(s *Step) bool
}

// Keys that several kinds share.
var (
	anyStep  = bench.KeysOf("step, about, when, stop, for each")
	ofAsking = bench.KeysOf("site, login, http, redirects, headers, query, cookies, soap, action, addressing, blocks, attach, "+
		"body, text, file, bytes, form, parts, drop empty, pages, until, every, within, states, again, undo, keep, expect, fields, where", anyStep)
)

// stepKinds are all that there are. It is filled in below, for steps hold steps.
var stepKinds []stepKind

func init() {
	stepKinds = []stepKind{
		{"call", "a call", bench.KeysOf("fill, contract", ofAsking), func(s *Step) bool { return s.Call != "" }},
		{"request", "a request without an operation", ofAsking, func(s *Step) bool { return s.Request != nil }},
		{"follow", "a step that follows an address", bench.KeysOf("service", ofAsking), func(s *Step) bool { return s.Follow != nil }},
		{"set", "a step that sets values", bench.KeysOf("site, where", anyStep), func(s *Step) bool { return len(s.Set) > 0 }},
		{"work out", "a step that works values out", bench.KeysOf("site, where", anyStep), func(s *Step) bool { return len(s.WorkOut) > 0 }},
		{"pause", "a pause", bench.KeysOf("step, about, when, for each"), func(s *Step) bool { return s.Pause > 0 }},
		{"steps", "a group", anyStep, func(s *Step) bool { return len(s.Group) > 0 }},
		{"lookup", "a lookup", bench.KeysOf("sql, find, open, fill, site, until, every, within, states, keep, expect, fields, where", anyStep),
			func(s *Step) bool { return s.Lookup != nil && s.Lookup.Database != "" }},
		{"sheet", "a step that runs a sheet", bench.KeysOf("fill, keep, fields, where", anyStep), func(s *Step) bool { return s.Sub != nil }},
		{"listen", "a step that listens", bench.KeysOf("step, about, when, stop, until, within, states, keep, fields, where"),
			func(s *Step) bool { return s.Listen != nil }},
		{"batch", "a batch", bench.KeysOf("as, together, parts, site, login, http, redirects, headers, query, cookies, undo, keep, expect, fields, where", anyStep),
			func(s *Step) bool { return s.Batch != nil && s.Batch.Service != "" }},
	}
}

// ofPart are the keys of a part of a batch: all else is said of the batch as a whole.
var ofPart = bench.KeysOf("step, about, call, request, follow, service, fill, contract, headers, query, body, text, file, bytes, form, parts, " +
	"drop empty, keep, expect, fields, where")

// kindOfStep finds what a step does. It reports steps that do nothing or more than one thing, and
// gives nil for them.
func kindOfStep(r *bench.Reader, s *Step) *stepKind {
	var does []*stepKind
	isMeant := false
	for i := range stepKinds {
		k := &stepKinds[i]
		if k.is(s) {
			does = append(does, k)
		}
		isMeant = isMeant || s.At.Get(k.word) != nil
	}
	switch {
	case len(does) == 1:
		return does[0]
	case len(does) > 1:
		var words []string
		for _, k := range does {
			words = append(words, k.word)
		}
		r.File.Report(s.At, "make two steps of it", "the step %q does more than one thing: %s", s.Name, strings.Join(words, " and "))
	case !isMeant:
		r.File.Report(s.At, kindOfKeys(r, s), "the step %q does nothing", s.Name)
	}
	return nil
}

// kindOfKeys proposes what a step that does nothing may be meant to do.
func kindOfKeys(r *bench.Reader, s *Step) string {
	for _, e := range s.At.Entries {
		if kinds := kindsWith(e.Key.Text); len(kinds) == 1 {
			return e.Key.Text + ": goes with " + kinds[0] + ":"
		}
	}
	return "write call:, request:, follow:, lookup:, listen:, sheet:, set: or work out:"
}

// kindsWith lists the kinds at which a key may be written.
func kindsWith(name string) []string {
	var words []string
	for _, k := range stepKinds {
		if slices.Contains(k.keys, name) {
			words = append(words, k.word)
		}
	}
	return words
}

// checkKeys reports the keys of a step that its kind does not have.
func checkKeys(r *bench.Reader, s *Step, k *stepKind) {
	for _, e := range s.At.Entries {
		name := e.Key.Text
		if name == k.word || slices.Contains(k.keys, name) || !slices.ContainsFunc(stepKeys, func(one bench.Key[Step]) bool { return one.Name == name }) {
			continue
		}
		r.File.Report(e.Key, insteadOf(k, name), "%s has no %s", k.what, name)
	}
}

// insteadOf says what to write in place of a key that a kind does not have.
func insteadOf(k *stepKind, name string) string {
	switch {
	case k.word == "steps":
		return "put it into the steps of the group"
	case name == "fill" && (k.word == "request" || k.word == "follow"):
		return "write body:, form: or query:, or describe the operation and use call:"
	case name == "contract" && (k.word == "request" || k.word == "follow"):
		return "nothing describes the request; describe the operation and use call:"
	case name == "fields" && (k.word == "set" || k.word == "work out"):
		return "write a condition under where:, as kept.NAME > 5"
	case name == "for each" && k.word == "listen":
		return "make a step of its own for each call"
	}
	if kinds := kindsWith(name); len(kinds) > 0 {
		return "take it out; " + name + ": goes with " + strings.Join(kinds, ", ")
	}
	return "take it out"
}

// finishStep checks what only the whole step can tell, and reads bodies, whose
// format may hang on a header.
func finishStep(r *bench.Reader, s *Step) {
	if group := s.At.Get("steps"); group != nil && group.Kind == yamlfile.Sequence && len(group.Items) == 0 {
		r.File.Report(group, "write a step with - step: NAME", "the group %q has no steps", s.Name)
	}
	k := kindOfStep(r, s)
	if k == nil {
		return
	}
	checkKeys(r, s, k)
	switch k.word {
	case "lookup":
		finishLookup(r, s)
	case "batch":
		finishBatch(r, s)
	case "steps":
		// A group is known by its steps: what it shows is said of them.
		for _, inner := range s.Group {
			inner.About = cmp.Or(inner.About, s.About)
		}
	}
	if s.Wait != nil && len(s.Wait.Until) == 0 && s.Listen == nil && slices.Contains(k.keys, "until") {
		r.File.Report(s.At, "write until: and below it PATH: RULE", "the step %q waits, and does not say until when", s.Name)
	}
	if len(s.Contents) > 1 {
		r.File.Report(s.At, "keep one of them", "the step %q has more than one body: %s", s.Name, strings.Join(s.Contents, ", "))
	}
	finishRefused(r, s)
	if s.textAt != nil {
		finishText(r, s)
	}
}

// finishRefused reports what is expected of an answer beside that there is none.
func finishRefused(r *bench.Reader, s *Step) {
	if s.Expect.Refused == "" {
		return
	}
	report := func(e yamlfile.Entry) {
		r.File.Report(e.Key, "take one of them out", "where the connection is refused there is no answer, and nothing to hold %s against", e.Key.Text)
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
