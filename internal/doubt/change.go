package doubt

import (
	"cmp"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/secret"
	"testbench/internal/soap"
)

// Kind is in what way an answer is changed.
type Kind string

// The kinds of changes: of a field, of a list, of the answer as a whole.
const (
	Gone   Kind = "gone"
	Null   Kind = "null"
	Type   Kind = "another type"
	Empty  Kind = "empty"
	Near   Kind = "just over or under"
	Sign   Kind = "another sign"
	Unit   Kind = "another unit"
	Moment Kind = "another date or zone"
	Value  Kind = "another value"
	Other  Kind = "the value of another element" // or of another answer
	Enum   Kind = "another value of its enumeration"

	Emptied Kind = "no elements"
	Fewer   Kind = "an element less"
	Twice   Kind = "an element twice"
	Doubled Kind = "all elements twice"
	Order   Kind = "another order"

	Status   Kind = "another status"
	Header   Kind = "a header field"
	Page     Kind = "a page in place of the answer"
	Fault    Kind = "an error under the same status"
	Nothing  Kind = "an empty answer"
	Row      Kind = "the answer of another row"
	Step     Kind = "the answer of another step"
	Previous Kind = "the answer of an earlier run"
)

// valueKinds change a single value to another of its type.
var valueKinds = []Kind{Near, Sign, Unit, Moment, Value, Other, Enum}

// Change is an answer with one thing changed.
type Change struct {
	Kind   Kind
	Path   string // of the field, [*] for every element; empty for the answer as a whole
	What   string // in words: 1.25 in place of 12.5
	value  *document.Node
	answer func() *exchange.Answer
}

// values are what is known of the fields of an answer beside it: what came in other answers, by the paths, and what a
// contract takes alone, by the paths without elements.
type values struct{ came, only map[string][]string }

// changes makes the changes of an answer, in the order of its fields. In a list the first element is changed, and
// the last.
func changes(a *exchange.Answer, inner []string, known values, mask func(string) string) []Change {
	out := wholeChanges(a)
	re := reply.Read(&exchange.Record{Answer: a})
	if re.Problem != nil || re.Payload == nil || len(re.Attachments) > 0 ||
		re.Format != document.JSON && re.Format != document.XML {
		return out
	}
	write := document.WriteJSON
	if re.Format == document.XML {
		write = document.WriteXML
	}
	c := &changer{
		isXML: re.Format == document.XML, mask: mask, values: maps.Clone(known.came), only: known.only,
		write: func() *exchange.Answer {
			one := *a
			one.Body = []byte(write(re.Body, document.Style{}))
			return &one
		},
	}
	if re.Message != nil {
		putPayload(re.Body, re.Payload)
	}
	payload := follow(re.Payload, inner)
	if payload == nil {
		return out
	}
	c.gather(payload, "")
	c.node(payload, "", nil)
	return append(out, c.out...)
}

// putPayload puts the payload of an envelope in its place, where references in it were followed (SOAP 1.1, 5.4.1): the
// answer has its values there then.
func putPayload(n, payload *document.Node) {
	items := n.Items()
	for i, item := range items {
		switch {
		case item == payload:
			return
		case item.Kind == document.Element && item.Name() == payload.Name():
			items[i] = payload
			return
		case item.Kind == document.Element:
			putPayload(item, payload)
		}
	}
}

// telling are header fields that say something of the answer.
var telling = []string{
	"Location", "Etag", "Link", "Content-Disposition", "Content-Language", "Www-Authenticate", "Retry-After",
}

func wholeChanges(a *exchange.Answer) []Change {
	var out []Change
	add := func(kind Kind, what string, change func(*exchange.Answer)) {
		out = append(out, Change{Kind: kind, What: what, answer: func() *exchange.Answer {
			one := *a
			one.Header = a.Header.Clone()
			change(&one)
			return &one
		}})
	}
	typed := func(one *exchange.Answer, mediaType string) {
		if one.Header == nil {
			one.Header = http.Header{}
		}
		one.Header.Set("Content-Type", mediaType)
		one.ReadAs = ""
	}
	for _, status := range []int{200, 404, 500} {
		if status != a.Status {
			add(Status, fmt.Sprintf("status %d in place of %d", status, a.Status), func(one *exchange.Answer) {
				one.Status, one.Reason = status, http.StatusText(status)
			})
		}
	}
	const html = "text/html; charset=utf-8"
	page := []byte("<!doctype html><html><head><title>Sign in</title></head><body><form>" +
		"<h1>Sign in</h1></form></body></html>")
	add(Page, "a page to sign in, status 200", func(one *exchange.Answer) {
		one.Status, one.Reason, one.Body = 200, "OK", page
		typed(one, html)
	})
	for _, name := range telling {
		if value := a.Header.Get(name); value != "" {
			add(Header, "without "+http.CanonicalHeaderKey(name), func(one *exchange.Answer) { one.Header.Del(name) })
		}
	}
	if len(a.Body) == 0 {
		return out
	}
	other := html
	if document.FormatOf(a.ContentType(), nil) == document.HTML {
		other = "application/octet-stream"
	}
	add(Header, "Content-Type "+other+" in place of "+cmp.Or(a.ContentType(), "none"), func(one *exchange.Answer) {
		typed(one, other)
	})
	add(Nothing, "no body", func(one *exchange.Answer) { one.Body = nil })
	if body := errorLike(a); body != nil {
		add(Fault, "an error, with the same status", func(one *exchange.Answer) {
			one.Body = body
			if mediaType := reply.Read(&exchange.Record{Answer: a}).Message; mediaType != nil {
				typed(one, mediaType.Version.ContentType(""))
			}
		})
	}
	return out
}

// errorLike is an error in the form of the answer; nil where the answer has no form, or tells an error itself.
func errorLike(a *exchange.Answer) []byte {
	re := reply.Read(&exchange.Record{Answer: a})
	switch {
	case re.Message != nil && re.Message.Fault == nil:
		return faultIn(re.Message.Version)
	case re.Format == document.JSON && re.Problem == nil && re.AnyError() == nil:
		return []byte(`{"error": {"code": "E-17", "message": "the order is locked"}}`)
	case re.Format == document.XML && re.Problem == nil && re.AnyError() == nil:
		return []byte("<error><code>E-17</code><message>the order is locked</message></error>")
	}
	return nil
}

// faultIn is a fault (SOAP 1.1, 4.4; SOAP 1.2 Part 1, 5.4).
func faultIn(version soap.Version) []byte {
	if version == soap.V12 {
		return []byte(`<e:Envelope xmlns:e="` + soap.Namespace12 + `"><e:Body><e:Fault>` +
			`<e:Code><e:Value>e:Receiver</e:Value></e:Code>` +
			`<e:Reason><e:Text xml:lang="en">the order is locked</e:Text></e:Reason></e:Fault></e:Body></e:Envelope>`)
	}
	return []byte(`<e:Envelope xmlns:e="` + soap.Namespace11 + `"><e:Body><e:Fault><faultcode>e:Server</faultcode>` +
		`<faultstring>the order is locked</faultstring></e:Fault></e:Body></e:Envelope>`)
}

// changer goes through a tree. It makes each change when it is asked for, and puts back what was there.
type changer struct {
	isXML  bool
	values map[string][]string // by the path, those that differ
	only   map[string][]string // by the path without elements, those that a contract takes alone
	write  func() *exchange.Answer
	mask   func(string) string
	mutex  sync.Mutex // one change is made at a time
	out    []Change
}

// place is where a node is, so that another can be there for a moment.
type place struct {
	put  func(*document.Node) // in its place; nil takes it out
	back func()
}

func (c *changer) add(kind Kind, at, what string, value *document.Node, put, back func()) {
	c.out = append(c.out, Change{Kind: kind, Path: at, What: what, value: value, answer: func() *exchange.Answer {
		c.mutex.Lock()
		defer c.mutex.Unlock()
		put()
		defer back()
		return c.write()
	}})
}

// each is the path of the elements of a list.
func each(at string) string { return cmp.Or(at, "answer") + "[*]" }

// children calls visit for what is below a node: its path, itself, and where it is.
func (c *changer) children(n *document.Node, at string,
	visit func(at string, child *document.Node, p *place, index, of int),
) {
	switch n.Kind {
	case document.Object:
		members := n.Members()
		for i, m := range members {
			visit(path.Below(at, m.Key), m.Value, &place{
				put: func(other *document.Node) {
					changed := slices.Clone(members)
					if other == nil {
						changed = slices.Delete(changed, i, i+1)
					} else {
						changed[i].Value = other
					}
					n.SetMembers(changed)
				},
				back: func() { n.SetMembers(members) },
			}, 0, 1)
		}
	case document.List, document.Element:
		items := n.Items()
		times := map[string]int{}
		for _, item := range items {
			times[item.Name().Local]++
		}
		seen := map[string]int{}
		for i, item := range items {
			where, of := each(at), len(items)
			if n.Kind == document.Element {
				if item.Kind != document.Element {
					continue
				}
				name := item.Name().Local
				if where, of = path.Below(at, name), times[name]; of > 1 {
					where += "[*]"
				}
			}
			index := seen[item.Name().Local]
			seen[item.Name().Local]++
			visit(where, item, &place{
				put: func(other *document.Node) {
					changed := slices.Clone(items)
					if other == nil {
						changed = slices.Delete(changed, i, i+1)
					} else {
						changed[i] = other
					}
					n.SetItems(changed)
				},
				back: func() { n.SetItems(items) },
			}, index, of)
		}
	}
}

// mostValues bounds the values of a field that are known.
const mostValues = 20

// gather learns which values there are at each path.
func (c *changer) gather(n *document.Node, at string) {
	if text, is := scalar(n); is {
		if values := c.values[at]; len(values) < mostValues && !slices.Contains(values, text) {
			c.values[at] = append(slices.Clip(values), text)
		}
		return
	}
	c.children(n, at, func(at string, child *document.Node, _ *place, _, _ int) { c.gather(child, at) })
}

// scalar is the text of a single value: of JSON, or of an element without others in it.
func scalar(n *document.Node) (string, bool) {
	v := n.Value()
	if v.Kind == document.Element || !v.IsScalar() || v.Kind == document.Null {
		return "", false
	}
	return v.Text, true
}

// node makes the changes of a node and of what is below it; p is nil for the payload itself.
func (c *changer) node(n *document.Node, at string, p *place) {
	if p != nil {
		c.field(n, at, p)
	}
	if n.Kind == document.List {
		c.list(n, cmp.Or(at, "answer"), n.Items())
	}
	if n.Kind == document.Element {
		c.attributes(n, at)
		c.repeated(n, at)
	}
	c.children(n, at, func(at string, child *document.Node, p *place, index, of int) {
		if of == 1 || index == 0 || index == of-1 {
			c.node(child, at, p)
		}
	})
}

// field makes the changes of what has a name, or is an element of a list.
func (c *changer) field(n *document.Node, at string, p *place) {
	isElement := strings.HasSuffix(at, "[*]")
	instead := func(kind Kind, what string, other *document.Node) {
		c.add(kind, at, what, other, func() { p.put(other) }, p.back)
	}
	if !isElement {
		c.add(Gone, at, "gone", nil, func() { p.put(nil) }, p.back)
	}
	if isElement && !n.IsScalar() {
		return // that elements are missing is tried of the list
	}
	if !c.isXML && n.Kind != document.Null {
		instead(Null, "null", &document.Node{Kind: document.Null})
	}
	text, isScalar := scalar(n)
	if !isScalar {
		if !c.isXML && n.Kind != document.Null {
			instead(Type, "a text", document.NewText("x"))
		}
		return
	}
	if strings.Contains(text, secret.Mask) {
		return
	}
	like := func(text string) *document.Node {
		if n.Kind != document.Element {
			return &document.Node{Kind: n.Kind, Text: text}
		}
		other := n.Copy()
		other.SetItems([]*document.Node{document.NewUntyped(text)})
		return other
	}
	if other := c.otherType(n, text); other != nil {
		instead(Type, "another type", other)
	}
	if text != "" && (n.Kind == document.Text || n.Kind == document.Element) {
		instead(Empty, "empty", like(""))
	}
	for _, one := range c.others(n.Value(), at, text) {
		instead(one.kind, c.instead(one.text, text), like(one.text))
	}
}

func (c *changer) otherType(n *document.Node, text string) *document.Node {
	switch {
	case n.Kind == document.Number || n.Kind == document.Boolean:
		return document.NewText(text)
	case n.Kind == document.Text:
		return document.NewNumber("17")
	case n.Kind == document.Element && (document.IsNumber(text) || text == "true" || text == "false"):
		other := n.Copy()
		other.SetItems([]*document.Node{document.NewUntyped("x")})
		return other
	}
	return nil
}

// another is a value in place of one.
type another struct {
	kind Kind
	text string
}

// others are values of the same type.
func (c *changer) others(v *document.Node, at, text string) []another {
	var out []another
	add := func(kind Kind, other string) {
		if other != text && !slices.ContainsFunc(out, func(a another) bool { return a.text == other }) {
			out = append(out, another{kind, other})
		}
	}
	for _, other := range c.values[at] {
		if other != text {
			add(Other, other)
			break
		}
	}
	for _, other := range c.only[strings.ReplaceAll(at, "[*]", "")] {
		if other != text {
			add(Enum, other)
			break
		}
	}
	switch {
	case v.Kind == document.Boolean || c.isXML && (text == "true" || text == "false"):
		add(Value, map[string]string{"true": "false", "false": "true"}[text])
	case document.IsNumber(text):
		for _, a := range otherNumbers(text) {
			add(a.kind, a.text)
		}
	default:
		moments := otherMoments(text)
		for _, a := range moments {
			add(a.kind, a.text)
		}
		if len(moments) == 0 && text != "" {
			add(Value, sameShape(text))
		}
	}
	return out
}

// otherNumbers are just over and under, with another sign, and in other units. The digits after the point stay as
// many.
func otherNumbers(text string) []another {
	value, ok := new(big.Rat).SetString(text)
	if !ok || len(text) > 40 {
		return nil
	}
	digits := 0
	if _, after, has := strings.Cut(text, "."); has && !strings.ContainsAny(after, "eE") {
		digits = len(after)
	}
	write := func(r *big.Rat) string { return r.FloatString(digits) }
	step := new(big.Rat).SetFrac(big.NewInt(1), new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(digits)), nil))
	out := []another{
		{Near, write(new(big.Rat).Add(value, step))},
		{Near, write(new(big.Rat).Sub(value, step))},
	}
	if value.Sign() == 0 {
		return out
	}
	out = append(out, another{Sign, write(new(big.Rat).Neg(value))})
	for _, times := range []int64{10, 1000} {
		out = append(out, another{Unit, write(new(big.Rat).Mul(value, big.NewRat(times, 1)))})
	}
	return out
}

// layouts are the forms of dates and moments that are changed (RFC 3339, and XML Schema without a zone).
var layouts = []string{time.DateOnly, time.RFC3339Nano, "2006-01-02T15:04:05.999999999"}

// otherMoments are the same on the next day, and in another zone where there is one; nil for what is none.
func otherMoments(text string) []another {
	for _, layout := range layouts {
		moment, err := time.Parse(layout, text)
		if err != nil {
			continue
		}
		next := moment.AddDate(0, 0, 1).Format(time.DateOnly)
		out := []another{{Moment, next + text[len(time.DateOnly):]}}
		if layout == time.RFC3339Nano {
			_, offset := moment.Zone()
			end := strings.TrimRight(text, "Zz")
			if end == text {
				end = text[:len(text)-len("+02:00")]
			}
			out = append(out, another{Moment, end + zone(offset+7200)})
		}
		return out
	}
	return nil
}

// zone writes an offset from UTC in seconds.
func zone(offset int) string {
	return time.Unix(0, 0).In(time.FixedZone("", offset)).Format("-07:00")
}

// sameShape is another text with letters where there were letters, and digits where there were digits. The last
// of them that can be changed is.
func sameShape(text string) string {
	runes := []rune(text)
	for i := len(runes) - 1; i >= 0; i-- {
		switch r := runes[i]; {
		case r >= '0' && r < '9', r >= 'a' && r < 'z', r >= 'A' && r < 'Z':
			runes[i]++
			return string(runes)
		case r == '9', r == 'z', r == 'Z':
			runes[i]--
			return string(runes)
		}
	}
	return text + text
}

// instead says in words that a value is in place of another.
func (c *changer) instead(other, text string) string {
	return short(c.mask(other)) + " in place of " + short(c.mask(text))
}

// short is a masked value as it is shown.
func short(text string) string {
	const most = 30
	if runes := []rune(text); len(runes) > most {
		return string(runes[:most]) + "…"
	}
	if text == "" {
		return `""`
	}
	return text
}

// list makes the changes of a list of JSON.
func (c *changer) list(n *document.Node, at string, items []*document.Node) {
	if len(items) == 0 {
		return
	}
	c.lists(at, items, func(changed []*document.Node) { n.SetItems(changed) }, func() { n.SetItems(items) })
}

// lists makes the changes of elements, which put puts in place of those that there are.
func (c *changer) lists(at string, items []*document.Node, put func([]*document.Node), back func()) {
	add := func(kind Kind, what string, changed []*document.Node) {
		c.add(kind, at, what, nil, func() { put(changed) }, back)
	}
	add(Emptied, "no elements", nil)
	if len(items) > 1 {
		add(Fewer, fmt.Sprintf("%d elements in place of %d", len(items)-1, len(items)), items[:len(items)-1])
		reversed := slices.Clone(items)
		slices.Reverse(reversed)
		add(Order, "in reverse", reversed)
	}
	add(Twice, "the first element twice", append([]*document.Node{items[0]}, items...))
	add(Doubled, "all elements twice", slices.Concat(items, items))
}

// repeated makes the changes of elements of XML that are there several times.
func (c *changer) repeated(n *document.Node, at string) {
	items := n.Items()
	var names []string
	groups := map[string][]*document.Node{}
	for _, item := range items {
		if item.Kind == document.Element {
			name := item.Name().Local
			if groups[name] == nil {
				names = append(names, name)
			}
			groups[name] = append(groups[name], item)
		}
	}
	for _, name := range names {
		group := groups[name]
		if len(group) < 2 {
			continue
		}
		c.lists(path.Below(at, name), group, func(changed []*document.Node) {
			// They go where the first of them was; what is between keeps its place.
			var all []*document.Node
			for _, item := range items {
				if item.Kind != document.Element || item.Name().Local != name {
					all = append(all, item)
				} else if item == group[0] {
					all = append(all, changed...)
				}
			}
			n.SetItems(all)
		}, func() { n.SetItems(items) })
	}
}

// attributes makes the changes of the attributes of an element.
func (c *changer) attributes(n *document.Node, at string) {
	all := n.Attributes()
	for i, a := range all {
		if a.IsDeclaration() || a.Name.Space != "" || strings.Contains(a.Value, secret.Mask) {
			continue
		}
		where := path.Below(at, a.Name.Local)
		if n.Child(a.Name.Local) != nil {
			where = at + ".@" + path.Segment(a.Name.Local)
		}
		back := func() { n.SetAttributes(all) }
		c.add(Gone, where, "gone", nil, func() { n.SetAttributes(slices.Delete(slices.Clone(all), i, i+1)) }, back)
		for _, one := range c.others(document.NewUntyped(a.Value), where, a.Value) {
			c.add(one.kind, where, c.instead(one.text, a.Value),
				document.NewUntyped(one.text), func() {
					changed := slices.Clone(all)
					changed[i].Value = one.text
					n.SetAttributes(changed)
				}, back)
		}
	}
}
