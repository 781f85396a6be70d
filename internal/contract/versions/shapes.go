package versions

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
)

// way says which way a value goes.
type way uint8

const (
	toService way = iota // what takes less breaks callers
	toReader             // what holds more breaks readers
	bothWays
)

// shaping compares two shapes that go one way.
type shaping struct {
	*comparing
	where string
	way   way
	depth int
}

// sharedPart is a part of two schemas that other parts refer to.
type sharedPart struct {
	a, b any
	way  way
}

// shapes compares what two schemas say of a document.
func (c *comparing) shapes(where string, way way, before, after *schema.Shape) {
	s := &shaping{comparing: c, where: where, way: way}
	s.pair(before, after, "")
}

// tell adds a change by what it does to the values that are allowed: narrows says that
// some of before are not any more, widens that some are that were not.
func (s *shaping) tell(path, what, before, after string, narrows, widens bool) {
	s.add(Change{
		Where: s.where, Path: path, What: what, Before: before, After: after,
		Callers: narrows && s.way != toReader, Readers: widens && s.way != toService,
	})
}

// How deep two schemas are followed, and how many changes are told.
const (
	mostDepth   = 60
	mostChanges = 20_000
)

func (s *shaping) pair(a, b *schema.Shape, path string) {
	if a.ID != nil && b.ID != nil {
		key := sharedPart{a.ID, b.ID, s.way}
		if s.seen[key] || s.alike[key] || s.depth > mostDepth || len(s.changes) > mostChanges {
			return
		}
		// A part that is used in several places is told of in each, but not within itself;
		// one that is the same is not looked at again.
		s.seen[key] = true
		from := len(s.changes)
		defer func() {
			delete(s.seen, key)
			s.alike[key] = len(s.changes) == from
		}()
	}
	s.depth++
	defer func() { s.depth-- }()
	if s.isOtherKind(a, b, path) {
		return
	}
	s.formats(a, b, path)
	s.names(a.Only, b.Only, path, "value")
	s.names(a.Variants, b.Variants, path, "type in its place")
	s.facets(a, b, path)
	if a.Rest != b.Rest {
		s.tell(path, "is said in another way; whom that breaks cannot be told", a.Rest, b.Rest, true, true)
	}
	s.fields(a, b, path)
	s.choices(a, b, path)
	if a.Items != nil && b.Items != nil {
		old, now := a.Items(), b.Items()
		if old != nil || now != nil {
			s.pair(orAnything(old), orAnything(now), path+"[*]")
		}
	}
}

// isOtherKind compares kinds of values; where there is none in common, the rest says
// nothing more.
func (s *shaping) isOtherKind(a, b *schema.Shape, path string) bool {
	takes := func(shape *schema.Shape, kind string) bool {
		return len(shape.Kinds) == 0 || slices.Contains(shape.Kinds, kind) ||
			kind == "integer" && slices.Contains(shape.Kinds, "number")
	}
	var narrows, widens, common bool
	for _, kind := range a.Kinds {
		common = common || takes(b, kind) && kind != "null"
		narrows = narrows || !takes(b, kind)
	}
	for _, kind := range b.Kinds {
		common = common || takes(a, kind) && kind != "null"
		widens = widens || !takes(a, kind)
	}
	narrows = narrows || len(a.Kinds) == 0 && len(b.Kinds) > 0
	widens = widens || len(b.Kinds) == 0 && len(a.Kinds) > 0
	nullable := func(shape *schema.Shape) bool { return slices.Contains(shape.Kinds, "null") }
	without := func(shape *schema.Shape) string {
		return strings.Join(slices.DeleteFunc(slices.Clone(shape.Kinds), func(k string) bool { return k == "null" }),
			" or ")
	}
	switch {
	case !narrows && !widens:
	case without(a) == without(b) && nullable(b) && !nullable(a):
		s.tell(path, "may be null now", "", "", false, true)
	case without(a) == without(b) && nullable(a) && !nullable(b):
		s.tell(path, "may not be null any more", "", "", true, false)
	default:
		s.tell(path, "is of another kind", orWord(without(a)), orWord(without(b)), narrows, widens)
	}
	return (narrows || widens) && !common && len(a.Kinds) > 0 && len(b.Kinds) > 0
}

func orWord(text string) string {
	if text == "" {
		return "anything"
	}
	return text
}

// formats compares types that are named beyond their kind.
func (s *shaping) formats(a, b *schema.Shape, path string) {
	switch old, now := first(a.Formats), first(b.Formats); {
	case old == now:
	case slices.Contains(b.Formats, old) || now != "" && old == "":
		s.tell(path, "has a narrower type", old, now, true, false)
	case slices.Contains(a.Formats, now) || old != "" && now == "":
		s.tell(path, "has a wider type", old, now, false, true)
	default:
		s.tell(path, "has another type", old, now, true, true)
	}
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// names compares lists of which one is chosen; nil takes anything.
func (s *shaping) names(before, after []string, path, word string) {
	switch {
	case before == nil && after == nil:
	case before == nil:
		s.tell(path, "takes only certain "+word+"s now", "", strings.Join(after, ", "), true, false)
	case after == nil:
		s.tell(path, "takes any "+word+" now", strings.Join(before, ", "), "", false, true)
	default:
		var gone, more []string
		for _, v := range before {
			if !slices.Contains(after, v) {
				gone = append(gone, v)
			}
		}
		for _, v := range after {
			if !slices.Contains(before, v) {
				more = append(more, v)
			}
		}
		if len(gone) > 0 {
			s.tell(path, "does not take this "+word+" any more", strings.Join(gone, ", "), "", true, false)
		}
		if len(more) > 0 {
			s.tell(path, "takes one more "+word, "", strings.Join(more, ", "), false, true)
		}
	}
}

func (s *shaping) facets(a, b *schema.Shape, path string) {
	s.limit(a.Least, b.Least, path, "the least value", 1)
	s.limit(a.Most, b.Most, path, "the greatest value", -1)
	word := "length"
	if slices.Contains(a.Kinds, "list") {
		word = "number of items"
	}
	s.bound(a.MinLength, b.MinLength, path, "the least "+word, 1)
	s.bound(a.MaxLength, b.MaxLength, path, "the greatest "+word, -1)
	s.bound(a.TotalDigits, b.TotalDigits, path, "the number of digits", -1)
	s.bound(a.FractionDigits, b.FractionDigits, path, "the number of digits after the point", -1)
	if a.Unique != b.Unique {
		what := "may hold an item twice now"
		if b.Unique {
			what = "may hold no item twice now"
		}
		s.tell(path, what, "", "", b.Unique, a.Unique)
	}
	if a.MultipleOf != b.MultipleOf {
		s.tell(path, "is a multiple of something else", a.MultipleOf, b.MultipleOf,
			b.MultipleOf != "" && !isMultiple(a.MultipleOf, b.MultipleOf),
			a.MultipleOf != "" && !isMultiple(b.MultipleOf, a.MultipleOf))
	}
	if !slices.Equal(a.Patterns, b.Patterns) {
		s.tell(path, "matches another pattern", strings.Join(a.Patterns, " and "), strings.Join(b.Patterns, " and "),
			hasMore(b.Patterns, a.Patterns), hasMore(a.Patterns, b.Patterns))
	}
}

// isMultiple says whether every multiple of one number is one of the other.
func isMultiple(of, other string) bool {
	x, errX := strconv.ParseFloat(of, 64)
	y, errY := strconv.ParseFloat(other, 64)
	return errX == nil && errY == nil && y != 0 && x/y == float64(int64(x/y))
}

// hasMore says whether the first list holds something that the second does not.
func hasMore(list, other []string) bool {
	return slices.ContainsFunc(list, func(v string) bool { return !slices.Contains(other, v) })
}

// bound compares counts; sign is 1 where a greater one allows less.
func (s *shaping) bound(a, b *int, path, what string, sign int) {
	text := func(n *int) string {
		if n == nil {
			return ""
		}
		return strconv.Itoa(*n)
	}
	switch {
	case text(a) == text(b):
	case a == nil:
		s.tell(path, what+" is bounded now", "", text(b), true, false)
	case b == nil:
		s.tell(path, what+" is not bounded any more", text(a), "", false, true)
	default:
		narrows := (*b-*a)*sign > 0
		s.tell(path, what+" is another", text(a), text(b), narrows, !narrows)
	}
}

// limit compares ends of ranges; sign is 1 where a greater one allows less.
func (s *shaping) limit(a, b *schema.Limit, path, what string, sign int) {
	switch {
	case a == nil && b == nil:
		return
	case a == nil:
		s.tell(path, what+" is bounded now", "", limitWords(b), true, false)
		return
	case b == nil:
		s.tell(path, what+" is not bounded any more", limitWords(a), "", false, true)
		return
	}
	x, okX := document.Decimal(a.Text)
	y, okY := document.Decimal(b.Text)
	order := strings.Compare(b.Text, a.Text) // dates and times are written so that they sort
	if okX && okY {
		order = y.Cmp(x)
	}
	switch {
	case order*sign > 0, order == 0 && b.Exclusive && !a.Exclusive:
		s.tell(path, what+" is another", limitWords(a), limitWords(b), true, false)
	case order*sign < 0, order == 0 && a.Exclusive && !b.Exclusive:
		s.tell(path, what+" is another", limitWords(a), limitWords(b), false, true)
	}
}

func limitWords(l *schema.Limit) string {
	if l.Exclusive {
		return l.Text + " excluded"
	}
	return l.Text
}

func (s *shaping) fields(a, b *schema.Shape, path string) {
	var before, after []schema.ShapeField
	if a.Fields != nil {
		before = a.Fields()
	}
	if b.Fields != nil {
		after = b.Fields()
	}
	if a.Fields == nil && b.Fields == nil {
		return
	}
	if a.Members != b.Members && (a.Members == schema.Closed || b.Members == schema.Closed) {
		what := "takes fields that are not described now"
		if b.Members == schema.Closed {
			what = "takes only the fields that are described now"
		}
		s.tell(path, what, "", "", b.Members == schema.Closed, a.Members == schema.Closed)
	}
	if a.Ordered && b.Ordered {
		s.order(before, after, path)
	}
	pairs(before, after, func(f *schema.ShapeField) string {
		return f.Name
	}, func(name string, old, now *schema.ShapeField) {
		at := schema.Below(path, name)
		switch {
		case now == nil:
			s.removed(old, b.Members, at)
		case old == nil:
			s.added(now, a.Members, at)
		default:
			s.field(old, now, at)
		}
	})
}

// removed tells of a field that is gone. A request that gives it is not heard any more,
// where it is not refused; who read it in an answer finds it no more.
func (s *shaping) removed(f *schema.ShapeField, members schema.Openness, path string) {
	if f.Name == "*" {
		if members != schema.Closed { // else that is told already
			s.tell(path, "fields of other names are not described any more", "", "", false, true)
		}
		return
	}
	s.tell(path, "is gone", "", "", members != schema.Open, true)
}

// added tells of a field that is new. Who reads strictly has no place for one where the
// earlier version takes only what it describes.
func (s *shaping) added(f *schema.ShapeField, members schema.Openness, path string) {
	what := "is new"
	if s.way != toReader {
		what = isNew(f.Required && f.Default == "")
	}
	s.tell(path, what, "", f.Choice, f.Required && f.Default == "", members == schema.Closed)
}

func (s *shaping) field(a, b *schema.ShapeField, path string) {
	mandatory := func(f *schema.ShapeField) bool { return f.Required && (f.Default == "" || s.way == toReader) }
	switch {
	case mandatory(a) == mandatory(b):
	case s.way == toReader:
		what := "is always there now"
		if mandatory(a) {
			what = "may be missing now"
		}
		s.tell(path, what, "", "", mandatory(b), mandatory(a))
	default:
		what := "has to be given now"
		if mandatory(a) {
			what = "may be left out now"
		}
		s.tell(path, what, "", "", mandatory(b), mandatory(a))
	}
	s.occurs(a, b, path)
	if a.Choice != b.Choice && (a.Choice == "" || b.Choice == "") {
		what := "may be beside the others now"
		if a.Choice == "" {
			what = "may not be beside the others of its choice any more"
		}
		s.tell(path, what, a.Choice, b.Choice, a.Choice == "", a.Choice != "")
	}
	if a.Default != b.Default && s.way != toReader {
		s.add(Change{
			Where: s.where, Path: path, What: "stands for something else where it is left out",
			Before: a.Default, After: b.Default, Callers: a.Default != "",
		})
	}
	if !a.Deprecated && b.Deprecated {
		s.tell(path, "is deprecated now", "", "", false, false)
	}
	if a.Max > 1 || a.Max < 0 || b.Max > 1 || b.Max < 0 {
		path += "[*]"
	}
	s.pair(a.Shape(), b.Shape(), path)
}

// occurs compares how often an element may occur. That it may be missing at all is told
// before.
func (s *shaping) occurs(a, b *schema.ShapeField, path string) {
	least := func(f *schema.ShapeField) int { return max(f.Min, 1) }
	most := func(f *schema.ShapeField) int {
		switch {
		case f.Max < 0:
			return 1 << 30
		case f.Max == 0:
			return 1
		}
		return f.Max
	}
	if least(a) == least(b) && most(a) == most(b) {
		return
	}
	words := func(f *schema.ShapeField) string {
		switch {
		case most(f) == least(f):
			return strconv.Itoa(least(f))
		case f.Max < 0:
			return fmt.Sprintf("%d or more", least(f))
		}
		return fmt.Sprintf("%d to %d", least(f), most(f))
	}
	s.tell(path, "may occur another number of times", words(a), words(b), least(b) > least(a) || most(b) < most(a),
		least(b) < least(a) || most(b) > most(a))
}

// order tells when elements that both versions have follow one another in another order.
func (s *shaping) order(before, after []schema.ShapeField, path string) {
	names := func(list, other []schema.ShapeField) []string {
		var out []string
		for _, f := range list {
			if !strings.HasPrefix(f.Name, "@") && slices.ContainsFunc(other, func(o schema.ShapeField) bool {
				return o.Name == f.Name
			}) {
				out = append(out, f.Name)
			}
		}
		return out
	}
	if old, now := names(before, after), names(after, before); !slices.Equal(old, now) {
		s.tell(path, "holds its elements in another order", strings.Join(old, ", "), strings.Join(now, ", "), true,
			true)
	}
}

// choices compares alternatives, those that are called the same.
func (s *shaping) choices(a, b *schema.Shape, path string) {
	if a.Choices == nil && b.Choices == nil {
		return
	}
	var before, after []*schema.Shape
	if a.Choices != nil {
		before = a.Choices()
	}
	if b.Choices != nil {
		after = b.Choices()
	}
	switch {
	case len(before) == 0:
		s.tell(path, "has alternatives now", "", wordsOf(after), true, false)
		return
	case len(after) == 0:
		s.tell(path, "has no alternatives any more", wordsOf(before), "", false, true)
		return
	}
	pairs(before, after, func(k **schema.Shape) string {
		return (*k).Words
	}, func(words string, old, now **schema.Shape) {
		switch {
		case now == nil:
			s.tell(path, "this alternative is gone", words, "", true, false)
		case old == nil:
			s.tell(path, "there is one more alternative", "", words, false, true)
		default:
			s.pair(*old, *now, path)
		}
	})
}

func wordsOf(shapes []*schema.Shape) string {
	var words []string
	for _, one := range shapes {
		words = append(words, one.Words)
	}
	return strings.Join(words, " or ")
}
