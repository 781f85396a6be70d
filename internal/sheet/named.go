package sheet

import (
	"slices"

	"testbench/internal/bench"
	"testbench/internal/mapping"
	"testbench/internal/yamlfile"
)

// keysOfChecks are the keys of a step that a named check of the bench may hold.
func keysOfChecks() []mapping.Key[Step] {
	return slices.DeleteFunc(StepKeys(nil), func(k mapping.Key[Step]) bool {
		return !slices.Contains([]string{"expect", "fields", "where"}, k.Name)
	})
}

// takeIn gives a step as if what it names of the bench (checks:, fills:) stood in it, at the
// place of the name. A key of expect:, a field or a fill-in that the step has itself goes before.
// Two names that say the same key are a mistake: one of them would have no effect.
func takeIn(r *mapping.Reader, b *bench.Bench, kind *Kind, n *yamlfile.Node) *yamlfile.Node {
	checks, fills := namesAt(kind, n, "checks"), namesAt(kind, n, "fills")
	if b == nil || len(checks)+len(fills) == 0 {
		return n
	}
	t := &taking{r: r, step: *n, said: map[string]string{}}
	t.step.Entries = slices.Clone(n.Entries)
	for _, name := range checks {
		if named := t.find(name, "check", b.Checks); named != nil {
			for _, e := range named.Entries {
				t.add(name, e)
			}
		}
	}
	for _, name := range fills {
		if named := t.find(name, "fill-in", b.Fills); named != nil {
			t.add(name, yamlfile.Entry{
				Key:   &yamlfile.Node{Text: "fill", Line: name.Line, Column: name.Column},
				Value: named,
			})
		}
	}
	return &t.step
}

// namesAt are the names under a key that the kind of the step has: one, or a list.
func namesAt(kind *Kind, step *yamlfile.Node, key string) []*yamlfile.Node {
	n := step.Get(key)
	if n == nil || n.Kind == yamlfile.Mapping || !kind.has(key) {
		return nil
	}
	if n.Kind == yamlfile.Scalar {
		return []*yamlfile.Node{n}
	}
	return n.Items
}

// taking puts what is named into a step.
type taking struct {
	r    *mapping.Reader
	step yamlfile.Node
	said map[string]string // key: the name that brought it
}

// find gives what the bench has under a name, moved to where the name stands; nil where it is not
// there or not right, which is told.
func (t *taking) find(name *yamlfile.Node, what string, all []bench.Named) *yamlfile.Node {
	for _, one := range all {
		if one.Name != name.Text {
			continue
		}
		if one.IsBroken {
			return nil
		}
		return moved(one.At, name)
	}
	bench.NotThere(t.r, name, what, name.Text, bench.Names(all, func(n bench.Named) string { return n.Name }))
	return nil
}

// add puts one key into the step: what is below it is added to what is there.
func (t *taking) add(name *yamlfile.Node, e yamlfile.Entry) {
	e.Value = asList(e.Value)
	at := slices.IndexFunc(t.step.Entries, func(own yamlfile.Entry) bool { return own.Key.Text == e.Key.Text })
	if at < 0 {
		empty := &yamlfile.Node{Kind: e.Value.Kind, Line: name.Line, Column: name.Column}
		at = len(t.step.Entries)
		t.step.Entries = append(t.step.Entries, yamlfile.Entry{Key: e.Key, Value: empty})
	}
	own := *asList(t.step.Entries[at].Value)
	own.Items = slices.Concat(own.Items, e.Value.Items)
	entries := slices.Clone(own.Entries)
	for _, inner := range e.Value.Entries {
		key := e.Key.Text + " " + inner.Key.Text
		before, isSaid := t.said[key]
		switch {
		case isSaid && before != name.Text:
			t.r.File.Report(name, "say it in one of them, or in the step itself", "%s and %s both say %s of %s:",
				before,
				name.Text, inner.Key.Text, e.Key.Text)
		case own.Get(inner.Key.Text) == nil:
			t.said[key] = name.Text
			entries = append(entries, inner)
		}
	}
	own.Entries = entries
	t.step.Entries[at].Value = &own
}

// asList makes a list of one of a single value: where one may be written, a list may be.
func asList(n *yamlfile.Node) *yamlfile.Node {
	if n.Kind != yamlfile.Scalar {
		return n
	}
	return &yamlfile.Node{Kind: yamlfile.Sequence, Line: n.Line, Column: n.Column, Items: []*yamlfile.Node{n}}
}

// moved is a copy of a value in which everything stands at one place.
func moved(n, to *yamlfile.Node) *yamlfile.Node {
	copied := *n
	copied.Line, copied.Column, copied.Block = to.Line, to.Column, false
	copied.Entries, copied.Items = nil, nil
	for _, e := range n.Entries {
		copied.Entries = append(copied.Entries, yamlfile.Entry{Key: moved(e.Key, to), Value: moved(e.Value, to)})
	}
	for _, item := range n.Items {
		copied.Items = append(copied.Items, moved(item, to))
	}
	return &copied
}

// CheckNamed finds what is wrong with the checks and fill-ins that a bench names. Those with
// mistakes are marked as broken; a remark is none.
func CheckNamed(b *bench.Bench) {
	keys := keysOfChecks()
	r := &mapping.Reader{File: b.Source, Dir: b.Dir, Uses: new([]mapping.Use)}
	each := func(all []bench.Named, read func(one *bench.Named)) {
		for i := range all {
			before := len(b.Source.Problems.Serious())
			read(&all[i])
			all[i].IsBroken = len(b.Source.Problems.Serious()) > before
		}
	}
	each(b.Checks, func(one *bench.Named) {
		mapping.Read(r, "a check", one.At, &Step{}, keys)
		r.NotEmpty(one.At, "the check "+one.Name)
	})
	each(b.Fills, func(one *bench.Named) {
		r.Entries(one.At, "a fill-in")
		r.Tree(one.At)
		r.NotEmpty(one.At, "the fill-in "+one.Name)
	})
}
