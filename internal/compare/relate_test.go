package compare_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/compare"
	"testbench/internal/document"
)

// What people did to a layout, and what is said of it.
func TestRelated(t *testing.T) {
	for _, c := range []struct {
		name, a, b string
		told       []string
	}{
		{"a field renamed", `{"keeper": "Ansel Thripp", "kilos": 40}`, `{"beekeeper": "Ansel Thripp", "kilos": 40}`, []string{
			"renamed keeper -> beekeeper 1",
		}},
		{"a short value renamed", `{"open": true, "n": 1}`, `{"isOpen": true, "n": 1}`, []string{"renamed open -> isOpen 0.7"}},
		{
			"an object renamed and changed", `{"depot": {"name": "north", "places": 40, "open": true}}`,
			`{"store": {"name": "north", "places": 41, "open": true}}`,
			[]string{
				"renamed depot -> store 0.83", "changed store.places 40 41",
			},
		},
		{
			"a group moved under another", `{"lot": {"id": "L-1"}, "address": {"street": "Moor Lane", "town": "Heatherfold"}}`,
			`{"lot": {"id": "L-1", "address": {"street": "Moor Lane", "town": "Heatherfold"}}}`,
			[]string{
				"moved address -> lot.address 1",
			},
		},
		{"a name split", `{"name": "Ansel Thripp", "id": 7}`, `{"first": "Ansel", "last": "Thripp", "id": 7}`, []string{
			"split name -> first, last 1",
		}},
		{"a name split into an object", `{"name": "Ansel Thripp"}`, `{"person": {"first": "Ansel", "last": "Thripp"}}`, []string{
			"split name -> person.first, person.last 1",
		}},
		{"a moment joined", `{"day": "2026-12-01", "time": "10:00:00"}`, `{"at": "2026-12-01T10:00:00"}`, []string{
			"joined day, time -> at 1",
		}},
		{"a value wrapped", `{"kilos": 40.5}`, `{"kilos": {"value": 40.5, "unit": "kg"}}`, []string{
			"wrapped kilos -> kilos.value 1", "added kilos.unit",
		}},
		{"a value unwrapped", `{"kilos": {"value": 40.5}}`, `{"kilos": 40.5}`, []string{"unwrapped kilos.value -> kilos 1"}},
		{"all wrapped", `{"id": "L-1", "grade": "A", "kilos": 40}`, `{"lot": {"id": "L-1", "grade": "A", "kilos": 40}}`, []string{
			"wrapped answer -> lot 1",
		}},
		{
			"a group wrapped", `{"x": {"id": "L-1", "grade": "A", "kilos": 40, "far": 1}}`,
			`{"x": {"lot": {"id": "L-1", "grade": "A", "kilos": 41}, "far": 1}}`,
			[]string{
				"wrapped x.id, x.grade, x.kilos -> x.lot 0.83", "changed x.lot.kilos 40 41",
			},
		},
		{
			"one column became two", `{"columns": [{"cells": [{"t": "Lot"}, {"t": "Kilos"}, {"t": "Grade"}, {"t": "Depot"}]}]}`,
			`{"columns": [{"cells": [{"t": "Lot"}, {"t": "Kilos"}]}, {"cells": [{"t": "Grade"}, {"t": "Depot"}]}]}`,
			[]string{
				"moved columns[0].cells[2] -> columns[1].cells[0] 1", "moved columns[0].cells[3] -> columns[1].cells[1] 1",
			},
		},
		{
			"elements without identifiers whose values all changed", `{"rows": [{"a": 1, "b": "x"}, {"a": 2, "b": "y"}]}`,
			`{"rows": [{"a": 3, "b": "p"}, {"a": 4, "b": "q"}]}`,
			[]string{
				"changed rows[0].a 1 3", "changed rows[0].b x p", "changed rows[1].a 2 4", "changed rows[1].b y q",
			},
		},
		{"nothing in common", `{"a": 1}`, `{"b": 2}`, []string{"removed a", "added b"}},
		{"small values that are equal by chance", `{"a": {"x": 1}, "b": 5}`, `{"a": {}, "b": 5, "c": {"y": 1}}`, []string{
			"removed a.x", "added c",
		}},
		{
			"XML, a group moved", `<r><a><street>Moor Lane</street><town>Heatherfold</town></a><b><n>1</n></b></r>`,
			`<r><b><n>1</n><a><street>Moor Lane</street><town>Heatherfold</town></a></b></r>`,
			[]string{"moved a -> b.a 1"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			var told []string
			for _, d := range compare.Related(tree(t, c.a), tree(t, c.b), compare.Options{}) {
				line := fmt.Sprintf("%s %s", d.Kind, d.Path)
				switch {
				case d.Into != "":
					line += fmt.Sprintf(" -> %s %v", d.Into, d.Sure)
				case d.Kind == compare.Changed:
					line += fmt.Sprintf(" %s %s", d.A.Text, d.B.Text)
				}
				told = append(told, line)
			}
			assert.Equal(t, c.told, told)
		})
	}
}

// made is a document with edits that are known.
type made struct {
	random *rand.Rand
	words  int
}

func (m *made) word() string {
	m.words++
	stems := []string{"heather", "clover", "linden", "Îlot", "wabe", "пасека", "smoker", "frame", "super", "brood"}
	return fmt.Sprintf("%s %d%d", stems[m.random.IntN(len(stems))], m.words, m.random.IntN(90))
}

func (m *made) scalar() *document.Node {
	m.words++
	switch m.random.IntN(4) {
	case 0:
		return document.NewNumber(fmt.Sprintf("%d.%d", 100+m.words*7, m.random.IntN(9)+1))
	case 1:
		return document.NewText(fmt.Sprintf("2026-%02d-%02d", 1+m.words%12, 1+m.random.IntN(28)))
	}
	return document.NewText(m.word())
}

func (m *made) object(fields, depth int) *document.Node {
	out := document.NewObject()
	for i := range fields {
		name := fmt.Sprintf("%s%d", []string{"lot", "depot", "keeper", "weight", "seen"}[m.random.IntN(5)], i)
		switch {
		case depth > 0 && i == 0:
			out.Set(name, m.object(3+m.random.IntN(3), depth-1))
		case depth > 0 && i == 1:
			list := document.NewList()
			for range 3 + m.random.IntN(4) {
				list.AppendItems(m.object(3, 0))
			}
			out.Set(name, list)
		default:
			out.Set(name, m.scalar())
		}
	}
	return out
}

// edit does something to a document, and says what is to be told.
func (m *made) edit(kind string, root *document.Node) string {
	members := root.Members()
	scalars, objects := []int{}, []int{}
	var list int
	for i, one := range members {
		switch {
		case one.Value.IsScalar():
			scalars = append(scalars, i)
		case one.Value.Kind == document.Object:
			objects = append(objects, i)
		default:
			list = i
		}
	}
	at := scalars[m.random.IntN(len(scalars))]
	group := objects[0]
	name, groupName := members[at].Key, members[group].Key
	put := func(i int, key string, value *document.Node) {
		members[i] = document.Member{Key: key, Value: value}
	}
	switch kind {
	case "rename":
		put(at, "other_"+name, members[at].Value)
		return fmt.Sprintf("renamed %s -> other_%s", name, name)
	case "rename a group":
		put(group, "place", members[group].Value)
		return fmt.Sprintf("renamed %s -> place", groupName)
	case "move":
		value := members[at].Value
		into := members[group].Key
		members[group].Value.Set(name, value)
		root.SetMembers(slices.Delete(members, at, at+1))
		return fmt.Sprintf("moved %s -> %s.%s", name, into, name)
	case "split":
		put(at, name, document.NewText("Ansel Thripp"))
		return "split " + name
	case "wrap":
		put(at, name, document.NewObject(document.Member{Key: "value", Value: members[at].Value},
			document.Member{Key: "unit", Value: document.NewText("kg")}))
		return fmt.Sprintf("wrapped %s -> %s.value, added %s.unit", name, name, name)
	case "wrap a group":
		inner := members[group].Value
		put(group, members[group].Key, document.NewObject(document.Member{Key: "data", Value: inner}))
		return fmt.Sprintf("wrapped %s -> %s.data", members[group].Key, members[group].Key)
	case "reorder":
		items := slices.Clone(members[list].Value.Items())
		items = append(items[1:], items[0])
		members[list].Value.SetItems(items)
		return "moved " + members[list].Key + "[0]"
	case "change":
		put(at, name, document.NewText("quite another"))
		return "changed " + name
	case "take an element":
		members[list].Value.SetItems(members[list].Value.Items()[1:])
		return "removed " + members[list].Key + "[0]"
	}
	panic(kind)
}

// deep copies a tree.
func deep(n *document.Node) *document.Node {
	out := n.Copy()
	if n.Kind == document.Object {
		members := slices.Clone(n.Members())
		for i := range members {
			members[i].Value = deep(members[i].Value)
		}
		out.SetMembers(members)
	}
	if n.Kind == document.List {
		items := slices.Clone(n.Items())
		for i := range items {
			items[i] = deep(items[i])
		}
		out.SetItems(items)
	}
	return out
}

// applied makes what a JSON Patch makes of a document (RFC 6902).
func applied(t *testing.T, n *document.Node, patch []compare.Operation) *document.Node {
	t.Helper()
	root := deep(n)
	at := func(pointer string) (*document.Node, string) {
		parts := strings.Split(pointer, "/")[1:]
		node := root
		for _, part := range parts[:len(parts)-1] {
			node = child(node, part)
		}
		return node, parts[len(parts)-1]
	}
	take := func(pointer string) *document.Node {
		in, name := at(pointer)
		taken := child(in, name)
		if in.Kind == document.List {
			i, _ := strconv.Atoi(name)
			in.SetItems(slices.Delete(slices.Clone(in.Items()), i, i+1))
			return taken
		}
		in.SetMembers(slices.DeleteFunc(slices.Clone(in.Members()), func(m document.Member) bool { return m.Key == unescaped(name) }))
		return taken
	}
	put := func(pointer string, value *document.Node) {
		in, name := at(pointer)
		if in.Kind == document.List {
			i, _ := strconv.Atoi(name)
			in.SetItems(slices.Insert(slices.Clone(in.Items()), i, value))
			return
		}
		in.Set(unescaped(name), value)
	}
	for _, one := range patch {
		switch one.Op {
		case "remove":
			take(one.Path)
		case "add":
			put(one.Path, tree(t, string(one.Value)))
		case "replace":
			in, name := at(one.Path)
			if in.Kind == document.List {
				take(one.Path)
				put(one.Path, tree(t, string(one.Value)))
			} else {
				in.Set(unescaped(name), tree(t, string(one.Value)))
			}
		case "move":
			put(one.Path, take(one.From))
		}
	}
	return root
}

func unescaped(name string) string { return strings.NewReplacer("~1", "/", "~0", "~").Replace(name) }

func child(n *document.Node, name string) *document.Node {
	if n.Kind == document.List {
		i, _ := strconv.Atoi(name)
		return n.Items()[i]
	}
	return n.Get(unescaped(name))
}

// sorted is a document as JSON, whatever the order of its members is.
func sorted(n *document.Node) string {
	var any any
	_ = json.Unmarshal([]byte(document.WriteJSON(n, document.Style{})), &any)
	text, _ := json.Marshal(any)
	return string(text)
}

// Of 200 pairs with an edit that is known at least 95 in 100 are told as what they are, and nothing else is; the patch
// still makes the other document.
func TestMadePairs(t *testing.T) {
	kinds := []string{"rename", "rename a group", "move", "split", "wrap", "wrap a group", "reorder", "change", "take an element"}
	right, all := 0, 200
	var wrong []string
	for seed := range all {
		m := &made{random: rand.New(rand.NewPCG(uint64(seed), 7))}
		a := m.object(5+m.random.IntN(4), 1)
		b := deep(a)
		kind := kinds[seed%len(kinds)]
		var expected string
		switch kind {
		case "split":
			expected = m.edit(kind, a)
			name := strings.TrimPrefix(expected, "split ")
			b = deep(a)
			at := slices.IndexFunc(b.Members(), func(one document.Member) bool { return one.Key == name })
			b.SetMembers(slices.Insert(slices.Delete(b.Members(), at, at+1), at,
				document.Member{Key: "first", Value: document.NewText("Ansel")}, document.Member{Key: "last", Value: document.NewText("Thripp")}))
			expected += " -> first, last"
		default:
			expected = m.edit(kind, b)
		}
		var told []string
		for _, d := range compare.Related(a, b, compare.Options{}) {
			line := fmt.Sprintf("%s %s", d.Kind, d.Path)
			if d.Into != "" {
				line += " -> " + d.Into
			}
			told = append(told, line)
		}
		if strings.Join(told, ", ") == expected {
			right++
		} else {
			wrong = append(wrong, fmt.Sprintf("%d %s: expected %s, told %v", seed, kind, expected, told))
		}
		assert.Equal(t, sorted(b), sorted(applied(t, a, compare.Patch(a, b))), seed)
	}
	assert.GreaterOrEqual(t, right, all*95/100, strings.Join(wrong, "\n"))
	t.Logf("%d of %d", right, all)
}
