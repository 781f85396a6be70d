package versions

import (
	"fmt"
	"strings"

	"testbench/internal/contract/wsdl"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// wsdl compares ports, and the operations of the bindings that both versions have.
func (c *comparing) wsdl(before, after *wsdl.Contract) {
	s := &soaping{comparing: c, before: before.Schema, after: after.Schema}
	done := map[[2]*wsdl.Binding]bool{}
	pairs(ports(before), ports(after), func(p **wsdl.Port) string {
		return (*p).Name
	}, func(name string, a, b **wsdl.Port) {
		c.operation = ""
		where := "port " + name
		switch {
		case b == nil:
			c.add(Change{Where: where, What: "is gone", Before: (*a).Address, Callers: true})
			return
		case a == nil:
			c.add(Change{Where: where, What: "is new", After: (*b).Address})
			return
		case (*a).Address != (*b).Address:
			c.add(Change{
				Where: where, What: "has another address", Before: (*a).Address, After: (*b).Address,
				Callers: true,
			})
		}
		old, now := (*a).Binding, (*b).Binding
		if old.Protocol != now.Protocol {
			c.add(Change{
				Where: where, What: "speaks another protocol", Before: string(old.Protocol),
				After: string(now.Protocol), Callers: true, Readers: true,
			})
		}
		asked := func(p *wsdl.Port) string {
			if p.Security == nil {
				return ""
			}
			return strings.Join(p.Security.Says, "; ")
		}
		if x, y := asked(*a), asked(*b); x != y {
			c.add(Change{Where: where, What: "asks for another login", Before: x, After: y, Callers: y != ""})
		}
		if key := [2]*wsdl.Binding{old, now}; !done[key] {
			done[key] = true
			s.bindings(old, now)
		}
	})
	if len(ports(before)) == 0 && len(ports(after)) == 0 && len(before.Bindings) > 0 && len(after.Bindings) > 0 {
		s.bindings(before.Bindings[0], after.Bindings[0])
	}
}

func ports(c *wsdl.Contract) []*wsdl.Port {
	var all []*wsdl.Port
	for _, s := range c.Services {
		all = append(all, s.Ports...)
	}
	return all
}

// soaping compares operations, whose elements are in a schema each.
type soaping struct {
	*comparing
	before, after *xsd.Schema
	told          map[string]bool // operations that several ports have are told of once
}

func (s *soaping) bindings(before, after *wsdl.Binding) {
	pairs(before.Operations, after.Operations, func(o **wsdl.Operation) string {
		return (*o).Name
	}, func(name string, a, b **wsdl.Operation) {
		s.operation = name
		from := len(s.changes)
		switch {
		case b == nil:
			s.add(Change{What: "is gone", Callers: true})
		case a == nil:
			s.add(Change{What: "is new"})
		default:
			s.pair(*a, *b)
		}
		s.once(from)
	})
	s.operation = ""
}

// once leaves out what was told of another port already.
func (s *soaping) once(from int) {
	if s.told == nil {
		s.told = map[string]bool{}
	}
	left := s.changes[:from]
	for _, change := range s.changes[from:] {
		key := fmt.Sprintf("%+v", change)
		if !s.told[key] {
			s.told[key] = true
			left = append(left, change)
		}
	}
	s.changes = left
}

func (s *soaping) pair(a, b *wsdl.Operation) {
	if a.Style != b.Style {
		s.add(Change{What: "has another style", Before: a.Style, After: b.Style, Callers: true, Readers: true})
	}
	if a.Action != b.Action {
		s.add(Change{Where: "request", What: "has another action", Before: a.Action, After: b.Action, Callers: true})
	}
	if a.Location != b.Location {
		s.add(Change{What: "is asked for in another way", Before: a.Location, After: b.Location, Callers: true})
	}
	s.message("request", toService, a.Input, b.Input)
	switch {
	case a.Output != nil && b.Output == nil:
		s.add(Change{Where: "answer", What: "is not given any more", Readers: true})
	case a.Output == nil && b.Output != nil:
		s.add(Change{Where: "answer", What: "is given now", Readers: true})
	default:
		s.message("answer", toReader, a.Output, b.Output)
	}
	pairs(a.Faults, b.Faults, func(f **wsdl.Fault) string {
		return (*f).Name
	}, func(name string, old, now **wsdl.Fault) {
		where := "fault " + name
		switch {
		case now == nil:
			s.add(Change{Where: where, What: "is not declared any more"})
		case old == nil:
			s.add(Change{Where: where, What: "is new"})
		case (*old).Detail != nil && (*now).Detail != nil:
			s.element(where, toReader, (*old).Detail, (*now).Detail)
		}
	})
}

func (s *soaping) message(where string, way way, a, b *wsdl.Message) {
	if a == nil || b == nil {
		return
	}
	if a.Encoded != b.Encoded {
		s.add(Change{
			Where: where, What: "is written by other rules of encoding", Callers: way == toService,
			Readers: way == toReader,
		})
	}
	for i := range max(len(a.Payload), len(b.Payload)) {
		switch {
		case i >= len(b.Payload):
			s.add(Change{
				Where: where, What: "is without this element", Before: a.Payload[i].Name.Full(),
				Callers: way == toService, Readers: way == toReader,
			})
		case i >= len(a.Payload):
			s.add(Change{
				Where: where, What: "holds one more element", After: b.Payload[i].Name.Full(),
				Callers: way == toService, Readers: way == toReader,
			})
		default:
			s.element(where, way, a.Payload[i], b.Payload[i])
		}
	}
	pairs(a.Headers, b.Headers, func(h **wsdl.Header) string {
		return (*h).Element.Name.Full()
	}, func(name string, old, now **wsdl.Header) {
		switch {
		case now == nil:
			s.add(Change{
				Where: where, What: "is without this header block", Before: name, Callers: way == toService,
				Readers: way == toReader,
			})
		case old == nil:
			s.add(Change{Where: where, What: "has a header block that is new", After: name, Callers: way == toService})
		default:
			s.element(where+" header "+(*now).Element.Name.Local, way, (*old).Element, (*now).Element)
		}
	})
	pairs(a.Attachments, b.Attachments, func(t *wsdl.Attachment) string {
		return t.Part
	}, func(part string, old, now *wsdl.Attachment) {
		switch {
		case now == nil:
			s.add(Change{
				Where: where, What: "is without this attachment", Before: part, Callers: way == toService,
				Readers: way == toReader,
			})
		case old == nil:
			s.add(Change{Where: where, What: "has an attachment that is new", After: part, Callers: way == toService})
		}
	})
}

func (s *soaping) element(where string, way way, a, b *xsd.Element) {
	if a.Name != b.Name {
		s.add(Change{
			Where: where, What: "is another element", Before: a.Name.Full(), After: b.Name.Full(),
			Callers: way == toService, Readers: way == toReader,
		})
	}
	shaping := &shaping{comparing: s.comparing, where: where, way: way}
	shaping.pair(instance.Form(s.before, a), instance.Form(s.after, b), "")
}
