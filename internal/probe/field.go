package probe

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
)

// fields makes the wrong requests that change a field.
func (m *maker) fields() {
	for _, p := range m.places() {
		if p.unknown != nil {
			m.field(p, Unknown, "with a field that there is not, in "+p.describe(), p.unknown())
			continue
		}
		if p.remove != nil && p.field.Required {
			if c := m.field(p, Missing, "without "+p.path, p.remove()); c != nil && c.Allowed {
				c.Allowed, c.Breaks = false, []string{p.path + " is mandatory"}
			}
		}
		if p.good != nil {
			m.shapes(p)
		}
		if p.set == nil {
			continue
		}
		for _, w := range wrongValues(p, m.random) {
			m.valued(p, w)
		}
	}
}

// shapes changes how often a field occurs, and whether it has a value.
func (m *maker) shapes(p *place) {
	isList := len(p.shape.Kinds) > 0 && p.shape.Kinds[0] == "list" || p.field.Max > 1 || p.field.Max < 0
	if p.double != nil && !isList {
		if c := m.field(p, Doubled, p.path+" twice", p.double()); c != nil && p.typed {
			c.Allowed = true // names only should be unique (RFC 8259, 4)
		}
	}
	if p.null != nil && !slices.Contains(p.shape.Kinds, "null") && len(p.shape.Kinds) > 0 {
		m.field(p, Null, p.path+" null", p.null())
	}
	if p.times == nil || !isList || p.good.Kind == document.List && len(p.good.Items()) == 0 {
		return
	}
	least, most := p.field.Min, p.field.Max
	if p.shape.MinLength != nil {
		least = *p.shape.MinLength
	}
	if p.shape.MaxLength != nil {
		most = *p.shape.MaxLength
	}
	if least > 0 && (least > 1 || p.good.Kind == document.List) {
		m.field(p, Lists, fmt.Sprintf("%s with %d, one too few", p.path, least-1), p.times(least-1))
	}
	if most > 1 && most < 10_000 {
		m.field(p, Lists, fmt.Sprintf("%s with %d, one too many", p.path, most+1), p.times(most+1))
	}
}

// field adds a change of a field; what the contract does not mind is allowed.
func (m *maker) field(p *place, kind Kind, changed string, r *exchange.Request) *Case {
	if r == nil || !m.wants(kind) {
		return nil
	}
	c := &Case{Kind: kind, Field: p.path, Changed: changed, Request: r, name: p.name()}
	if m.Hold != nil {
		c.Breaks = m.Hold(r)
		c.Allowed = len(c.Breaks) == 0
	}
	return m.add(c)
}

// valued adds a field with a wrong value.
func (m *maker) valued(p *place, w wrong) {
	var r *exchange.Request
	if w.raw != "" && !p.percent {
		if p.raw == nil {
			return
		}
		raw := w.raw
		if m.isXML() {
			raw = w.rawXML
		}
		if raw == "" {
			return
		}
		r = p.raw(raw)
	} else {
		r = p.set(w.value)
	}
	what := w.what
	if m.shown() != "" {
		what, _, _ = strings.Cut(what, ":")
	}
	c := m.field(p, w.kind, p.path+" "+what, r)
	if c == nil {
		return
	}
	if w.raw != "" && !p.percent && m.isXML() {
		c.name, c.Login = "", m.unprotected() // it is not an XML any more, so no field of it can be named
	}
	switch w.kind {
	case Limits, Typed:
		if m.Hold != nil && c.Allowed {
			m.drop(c) // it came out right after all
		}
	case Identity:
		if m.Hold != nil && !c.Allowed {
			m.drop(c)
		}
		c.Clear = []int{404, 410, 403} // RFC 9110, 15.5.5, 15.5.11 and 15.5.4
		c.Allowed = !p.inPath          // elsewhere it may be that nothing is found
	case Texts:
		c.Clear = []int{413, 414, 431} // RFC 9110, 15.5.14 and 15.5.15; RFC 6585, 5
	}
}

func (m *maker) isXML() bool {
	return document.FormatOf(m.Request.GetHeader("Content-Type"), m.Request.Body) == document.XML
}

// drop takes the case that was added last away again.
func (m *maker) drop(c *Case) {
	if n := len(m.cases); n > 0 && m.cases[n-1] == c {
		m.cases = m.cases[:n-1]
	}
}
