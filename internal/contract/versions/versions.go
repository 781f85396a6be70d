// Package versions holds two versions of a contract against each other and says of each
// change whom it breaks. Callers are broken where a request that the earlier version
// describes is refused by the later one, or no longer means the same; readers where the
// later one may answer what the earlier one does not describe. It reads no files and
// judges no messages.
package versions

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// Change is one thing that is not as it was.
type Change struct {
	Operation string `json:"operation,omitempty"` // empty for the contract as a whole
	Where     string `json:"where,omitempty"`     // request, answer 200, fault Refused, header X-Depot
	Path      string `json:"path,omitempty"`      // of a field, as paths and fields name it
	What      string `json:"what"`                // what became of it
	Before    string `json:"before,omitempty"`
	After     string `json:"after,omitempty"`
	Callers   bool   `json:"breaks callers"`
	Readers   bool   `json:"breaks readers"`
}

// Verdict says whom it breaks, in words.
func (c *Change) Verdict() string {
	switch {
	case c.Callers && c.Readers:
		return "breaks both"
	case c.Callers:
		return "breaks callers"
	case c.Readers:
		return "breaks readers"
	}
	return "breaks nobody"
}

// Compare lists the changes from one version to another, in the order of the operations.
// It fails where the two are not contracts of a kind.
func Compare(before, after contract.Contract) ([]Change, error) {
	c := &comparing{seen: map[sharedPart]bool{}, alike: map[sharedPart]bool{}}
	var err error
	if a, b, ok := both[*wsdl.Contract](before, after); ok {
		c.wsdl(a, b)
	} else if a, b, ok := both[*contract.Described](before, after); ok {
		err = c.described(a.Description, b.Description)
	} else if a, b, ok := both[*contract.JSONSchema](before, after); ok {
		c.document("document", a.Schema.Shape(), b.Schema.Shape())
	} else if a, b, ok := both[*contract.XMLSchema](before, after); ok {
		c.elements(a.Schema, b.Schema)
	} else {
		err = fmt.Errorf("the first is %s and the second is %s, and only contracts of one kind can be checked "+
			"against each other", before.Head().Format, after.Head().Format)
	}
	return c.changes, err
}

// both gives two contracts as what they are, where both are of one kind.
func both[C contract.Contract](before, after contract.Contract) (a, b C, ok bool) {
	a, isBefore := contract.Base(before).(C)
	b, isAfter := contract.Base(after).(C)
	return a, b, isBefore && isAfter
}

type comparing struct {
	operation string
	changes   []Change
	seen      map[sharedPart]bool // those that are being compared
	alike     map[sharedPart]bool // those that were, and are the same
}

// add tells of a change within the operation at hand.
func (c *comparing) add(change Change) {
	change.Operation = c.operation
	c.changes = append(c.changes, change)
}

// document holds what goes both ways: who writes it is a caller, who reads it a reader.
func (c *comparing) document(where string, before, after *schema.Shape) {
	c.shapes(where, bothWays, before, after)
}

// elements holds the global elements of two schemas against each other.
func (c *comparing) elements(before, after *xsd.Schema) {
	for _, e := range sortedElements(before) {
		other := after.Elements[e.Name]
		if other == nil {
			c.add(Change{Where: "element " + e.Name.Local, What: "is gone", Callers: true})
			continue
		}
		c.document("element "+e.Name.Local, instance.Form(before, e), instance.Form(after, other))
	}
	for _, e := range sortedElements(after) {
		if before.Elements[e.Name] == nil {
			c.add(Change{Where: "element " + e.Name.Local, What: "is new", Readers: true})
		}
	}
}

func sortedElements(s *xsd.Schema) []*xsd.Element {
	var all []*xsd.Element
	for _, e := range s.Elements {
		all = append(all, e)
	}
	slices.SortFunc(all, func(a, b *xsd.Element) int { return cmp.Compare(a.Name.Full(), b.Name.Full()) })
	return all
}

// pairs matches what two lists hold by a key, in the order of the first, then what is
// only in the second.
func pairs[T any](before, after []T, key func(*T) string, each func(key string, a, b *T)) {
	find := func(list []T, expected string) *T {
		for i := range list {
			if key(&list[i]) == expected {
				return &list[i]
			}
		}
		return nil
	}
	for i := range before {
		name := key(&before[i])
		each(name, &before[i], find(after, name))
	}
	for i := range after {
		if name := key(&after[i]); find(before, name) == nil {
			each(name, nil, &after[i])
		}
	}
}

// described holds the operations of two descriptions against each other: those of the
// same method and path, and else those of the same name.
func (c *comparing) described(before, after contract.Description) error {
	c.servers(before.Head().Servers, after.Head().Servers)
	c.callbacks("webhook ", before.Head().Webhooks, after.Head().Webhooks)
	older, err := operations(before)
	if err != nil {
		return err
	}
	newer, err := operations(after)
	if err != nil {
		return err
	}
	partner := map[*contract.Endpoint]*contract.Endpoint{}
	taken := map[*contract.Endpoint]bool{}
	match := func(same func(a, b *contract.Endpoint) bool) {
		for _, a := range older {
			for _, b := range newer {
				if partner[a] == nil && !taken[b] && same(a, b) {
					partner[a], taken[b] = b, true
				}
			}
		}
	}
	match(func(a, b *contract.Endpoint) bool { return line(a) == line(b) && a.Name == b.Name })
	match(func(a, b *contract.Endpoint) bool { return line(a) == line(b) })
	match(func(a, b *contract.Endpoint) bool { return a.Name == b.Name })
	for _, a := range older {
		c.operation = a.Name
		if b := partner[a]; b != nil {
			c.pair(a, b)
		} else {
			c.add(Change{What: "is gone", Before: a.Method + " " + a.Path, Callers: true})
		}
	}
	for _, b := range newer {
		if c.operation = b.Name; !taken[b] {
			c.add(Change{What: "is new", After: b.Method + " " + b.Path})
		}
	}
	return nil
}

func operations(d contract.Description) ([]*contract.Endpoint, error) {
	var all []*contract.Endpoint
	for _, name := range d.Names() {
		op, err := d.Operation(name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if op != nil {
			all = append(all, op)
		}
	}
	return all, nil
}

// line is the method and the path, whose parameters may be called anything.
func line(o *contract.Endpoint) string {
	path := o.Path
	for _, name := range contract.PathNames(path) {
		path = strings.Replace(path, "{"+name+"}", "{}", 1)
	}
	return o.Method + " " + path
}

func (c *comparing) servers(before, after []contract.Server) {
	if len(after) == 0 {
		return
	}
	pairs(before, after, func(s *contract.Server) string {
		return s.Address
	}, func(address string, a, b *contract.Server) {
		switch {
		case b == nil:
			c.add(Change{Where: "address " + address, What: "is gone", Callers: true})
		case a == nil:
			c.add(Change{Where: "address " + address, What: "is new"})
		}
	})
}

func (c *comparing) pair(a, b *contract.Endpoint) {
	switch {
	case line(a) != line(b):
		c.add(Change{
			What: "is asked for in another way", Before: a.Method + " " + a.Path,
			After: b.Method + " " + b.Path, Callers: true,
		})
	case a.Name != b.Name:
		c.add(Change{What: "has another name; what is sent is the same", Before: a.Name, After: b.Name})
	}
	if !a.Deprecated && b.Deprecated {
		c.add(Change{What: "is deprecated now"})
	}
	if !a.Versioned && b.Versioned {
		c.add(Change{Where: "request", What: "asks for the version that it is meant for, in If-Match", Callers: true})
	}
	c.security(a.Security, b.Security)
	c.parameters(a, b)
	for _, group := range b.Needs {
		if !slices.ContainsFunc(a.Needs, func(other []string) bool { return slices.Equal(group, other) }) {
			c.add(Change{
				Where: "request", What: "needs one of these now", After: strings.Join(group, ", "),
				Callers: true,
			})
		}
	}
	c.body(a.Body, b.Body)
	c.answers(a, b)
	c.callbacks("callback ", a.Callbacks, b.Callbacks)
}

// callbacks compares the requests that a service sends.
func (c *comparing) callbacks(what string, a, b []contract.Callback) {
	pairs(a, b, func(k *contract.Callback) string {
		return k.Name
	}, func(name string, old, now *contract.Callback) {
		where := what + name
		switch {
		case now == nil:
			c.add(Change{Where: where, What: "is gone", Readers: true})
		case old == nil:
			c.add(Change{Where: where, What: "is new"})
		case old.Method != now.Method || old.Address != now.Address:
			c.add(Change{
				Where: where, What: "goes to another address", Before: old.Method + " " + old.Address,
				After: now.Method + " " + now.Address, Readers: true,
			})
		}
	})
}

// security compares the ways in, of which a caller goes one.
func (c *comparing) security(before, after []string) {
	if len(before) == 0 && len(after) > 0 {
		c.add(Change{Where: "login", What: "is asked for now", After: strings.Join(after, " or "), Callers: true})
		return
	}
	if len(before) > 0 && len(after) == 0 {
		c.add(Change{Where: "login", What: "is not asked for any more", Before: strings.Join(before, " or ")})
		return
	}
	pairs(before, after, func(s *string) string { return *s }, func(way string, a, b *string) {
		switch {
		case b == nil:
			c.add(Change{Where: "login", What: "this way in is gone", Before: way, Callers: true})
		case a == nil:
			c.add(Change{Where: "login", What: "another way in is there", After: way})
		}
	})
}

func (c *comparing) parameters(a, b *contract.Endpoint) {
	// Parameters of the path are told apart by their place, so that their names do not
	// matter.
	key := func(o *contract.Endpoint) func(*contract.Parameter) string {
		names := contract.PathNames(o.Path)
		return func(p *contract.Parameter) string {
			switch p.In {
			case contract.InPath:
				return fmt.Sprintf("path %d", slices.Index(names, p.Wire))
			case contract.InHeader:
				return "header " + strings.ToLower(p.Wire)
			}
			return string(p.In) + " " + p.Wire
		}
	}
	type keyed struct {
		key string
		*contract.Parameter
	}
	list := func(o *contract.Endpoint) []keyed {
		var out []keyed
		for i := range o.Parameters {
			out = append(out, keyed{key(o)(&o.Parameters[i]), &o.Parameters[i]})
		}
		return out
	}
	pairs(list(a), list(b), func(k *keyed) string { return k.key }, func(_ string, old, now *keyed) {
		switch {
		case now == nil && old.In == contract.InPath, old == nil && now.In == contract.InPath:
			// the path itself is another
		case now == nil:
			c.add(Change{
				Where: "request", Path: parameterPath(old.Parameter),
				What: "is gone; what is sent there is not heard any more", Callers: true,
			})
		case old == nil:
			mandatory := now.IsMandatory()
			c.add(Change{
				Where: "request", Path: parameterPath(now.Parameter), What: isNew(mandatory),
				Callers: mandatory,
			})
		default:
			c.parameter(old.Parameter, now.Parameter)
		}
	})
}

func isNew(mandatory bool) string {
	if mandatory {
		return "is new and has to be given"
	}
	return "is new and may be left out"
}

// parameterPath names a parameter by its place, as fields of a call do.
func parameterPath(p *contract.Parameter) string { return string(p.In) + "." + p.Wire }

func (c *comparing) parameter(a, b *contract.Parameter) {
	path := parameterPath(b)
	switch {
	case !a.IsMandatory() && b.IsMandatory():
		c.add(Change{Where: "request", Path: path, What: "has to be given now", Callers: true})
	case a.IsMandatory() && !b.IsMandatory():
		c.add(Change{Where: "request", Path: path, What: "may be left out now"})
	}
	if styleOf(a) != styleOf(b) {
		c.add(Change{
			Where: "request", Path: path, What: "is written in another way", Before: styleOf(a),
			After: styleOf(b), Callers: true,
		})
	}
	if old, now := meantWithout(a), meantWithout(b); old != now {
		c.add(Change{
			Where: "request", Path: path, What: "stands for something else where it is left out", Before: old,
			After: now, Callers: old != "",
		})
	}
	if a.Fixed.OwnText() != b.Fixed.OwnText() {
		c.add(Change{
			Where: "request", Path: path, What: "always has another value", Before: a.Fixed.OwnText(),
			After: b.Fixed.OwnText(), Callers: true,
		})
	}
	if !a.Deprecated && b.Deprecated {
		c.add(Change{Where: "request", Path: path, What: "is deprecated now"})
	}
	s := &shaping{comparing: c, where: "request", way: toService}
	s.pair(shapeOfParameter(a), shapeOfParameter(b), path)
}

// meantWithout is what is meant where a parameter is left out.
func meantWithout(p *contract.Parameter) string {
	if said, ok := p.Schema.(interface{ DefaultText() string }); ok && p.Default == nil {
		return said.DefaultText()
	}
	return p.Default.OwnText()
}

func styleOf(p *contract.Parameter) string {
	style := p.Style
	if style == "" {
		style = "as usual"
	}
	if p.Joined {
		style += ", in one value"
	}
	if p.Content != "" {
		style += ", as " + p.Content
	}
	return style
}

// shapeOfParameter is the shape of its schema, or of what is known without one.
func shapeOfParameter(p *contract.Parameter) *schema.Shape {
	if shape := shapeOf(p.Schema); shape != nil {
		return shape
	}
	out := &schema.Shape{Only: p.OneOf}
	if p.Kind != "" {
		out.Kinds = []string{p.Kind}
	}
	return out
}

func shapeOf(t schema.Type) *schema.Shape {
	if shaped, ok := t.(schema.Shaped); ok {
		return shaped.Shape()
	}
	return nil
}

func (c *comparing) body(a, b *contract.Body) {
	switch {
	case a == nil && b == nil:
		return
	case a == nil:
		c.add(Change{Where: "request", Path: "body", What: isNew(b.Required), Callers: b.Required})
		return
	case b == nil:
		c.add(Change{
			Where: "request", Path: "body", What: "is gone; what is sent there is not heard any more",
			Callers: true,
		})
		return
	case !a.Required && b.Required:
		c.add(Change{Where: "request", Path: "body", What: "has to be given now", Callers: true})
	case a.Required && !b.Required:
		c.add(Change{Where: "request", Path: "body", What: "may be left out now"})
	}
	c.contents("request", toService, a.Contents, b.Contents)
}

// contents compares bodies by their media types. Callers choose among those of requests;
// readers choose, by Accept, among those of answers.
func (c *comparing) contents(where string, way way, before, after []contract.Content) {
	pairs(before, after, func(k *contract.Content) string {
		return strings.ToLower(k.Type)
	}, func(mediaType string, a, b *contract.Content) {
		switch {
		case b == nil:
			c.add(Change{
				Where: where, Path: "body", What: "this content is gone", Before: mediaType,
				Callers: way == toService, Readers: way == toReader,
			})
		case a == nil:
			c.add(Change{Where: where, Path: "body", What: "another content is there", After: mediaType})
		default:
			s := &shaping{comparing: c, where: where, way: way}
			if old, now := shapeOf(a.Schema), shapeOf(b.Schema); old != nil || now != nil {
				s.pair(orAnything(old), orAnything(now), "")
			}
		}
	})
}

func orAnything(s *schema.Shape) *schema.Shape {
	if s == nil {
		return &schema.Shape{Words: "anything"}
	}
	return s
}

// answers compares what comes back by status. Who gets a status that is new but of a
// known class of failures treats it as that class (RFC 9110, 15).
func (c *comparing) answers(a, b *contract.Endpoint) {
	pairs(a.Answers, b.Answers, func(k *contract.Answer) string {
		return strings.ToLower(k.Status)
	}, func(status string, old, now *contract.Answer) {
		where := "answer " + status
		switch {
		case now == nil:
			c.add(Change{Where: where, What: "is not given any more"})
		case old == nil:
			if old = covering(a, status); old != nil {
				c.answer(where, old, now)
				return
			}
			isFailure := status[0] == '4' || status[0] == '5' || status == "default"
			c.add(Change{Where: where, What: "is new", Readers: !isFailure && len(a.Answers) > 0})
		default:
			c.answer(where, old, now)
		}
	})
}

// covering is what was said of a status that is now said something of by itself: by its
// class, or by default.
func covering(o *contract.Endpoint, status string) *contract.Answer {
	number := 0
	if _, err := fmt.Sscanf(status, "%d", &number); err != nil || number < 100 {
		return nil
	}
	return o.AnswerFor(number)
}

func (c *comparing) answer(where string, a, b *contract.Answer) {
	pairs(a.Headers, b.Headers, func(p *contract.Parameter) string {
		return strings.ToLower(p.Wire)
	}, func(_ string, old, now *contract.Parameter) {
		switch {
		case now == nil:
			c.add(Change{Where: where, Path: "header." + old.Wire, What: "is gone", Readers: true})
		case old == nil:
			c.add(Change{Where: where, Path: "header." + now.Wire, What: "is new"})
		default:
			if old.Required && !now.Required {
				c.add(Change{Where: where, Path: "header." + now.Wire, What: "may be missing now", Readers: true})
			}
			s := &shaping{comparing: c, where: where, way: toReader}
			s.pair(shapeOfParameter(old), shapeOfParameter(now), "header."+now.Wire)
		}
	})
	switch {
	case len(a.Contents) > 0 && len(b.Contents) == 0:
		c.add(Change{Where: where, Path: "body", What: "is gone", Readers: true})
	case len(a.Contents) == 0 && len(b.Contents) > 0:
		c.add(Change{Where: where, Path: "body", What: "is new"})
	default:
		c.contents(where, toReader, a.Contents, b.Contents)
	}
}
