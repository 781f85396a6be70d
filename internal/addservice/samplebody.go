package addservice

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/secret"
	"testbench/internal/soap"
)

// sampling makes a template of a body.
type sampling struct {
	e      *Example
	prefix string
	names  map[string]bool // of fields
	space  string          // the namespace of the element around
}

// isFlat says whether a body is an object of single values: then its fields need no template.
func (s *sampling) isFlat(root *document.Node) bool {
	return root.Kind == document.Object && !slices.ContainsFunc(root.Members(), func(m document.Member) bool {
		return !m.Value.IsScalar() || m.Value.Kind == document.Null || identifier(m.Key) != m.Key ||
			secret.IsCredential(m.Key, m.Value.Text)
	})
}

// unique gives a field a name that can be typed and that no other has.
func (s *sampling) unique(name, above string) string {
	name = identifier(name)
	if s.names[name] && above != "" {
		name = identifier(above) + "_" + name
	}
	base := name
	for i := 2; s.names[name]; i++ {
		name = fmt.Sprintf("%s_%d", base, i)
	}
	s.names[name] = true
	return name
}

// leaf makes a field of a single value, and gives its name. A text of JSON stays one, whatever it looks like.
func (s *sampling) leaf(name string, v *document.Node, isTyped bool) {
	f := ExampleField{In: "body", Wire: name, Name: name, Default: v.Text}
	switch kind := rule.KindOf(document.NewUntyped(v.Text)); {
	case open().MatchString(v.Text):
		f.Default, f.Required = "", true
	case isTyped && v.Kind == document.Text && kind != "text":
		f.Kind, f.IsText = "text", true
	default:
		f = s.e.field(f)
	}
	s.e.Fields = append(s.e.Fields, f)
}

// placed makes a field of a single value and gives what stands for it in the template.
func (s *sampling) placed(name, above string, v *document.Node) *document.Node {
	if v.Kind == document.Null {
		return v
	}
	if secret.IsCredential(name, v.Text) {
		sealed := s.e.seal(s.prefix, name, v.Text)
		s.e.Notes = append(s.e.Notes, fmt.Sprintf("%s looks like a secret: ${sealed.%s} stands for it in the body",
			name, sealed))
		return document.NewText("${sealed." + sealed + "}")
	}
	field := s.unique(name, above)
	s.leaf(field, v, true)
	return document.NewText("${fields." + field + "}")
}

// json makes the template of a value of JSON.
func (s *sampling) json(v *document.Node, above string) *document.Node {
	switch v.Kind {
	case document.Object:
		out := document.NewObject()
		for _, m := range v.Members() {
			if m.Value.IsScalar() {
				out.AppendMembers(document.Member{Key: m.Key, Value: s.placed(m.Key, above, m.Value)})
				continue
			}
			out.AppendMembers(document.Member{Key: m.Key, Value: s.json(m.Value, m.Key)})
		}
		return out
	case document.List:
		return s.list(above, v)
	}
	return s.placed("value", above, v)
}

// list makes a field of a list and gives what stands for it in the template.
func (s *sampling) list(name string, whole *document.Node) *document.Node {
	if name == "" {
		name = "items"
	}
	secret.Leaves(whole, func(name string, leaf *document.Node) {
		if text := leaf.Value().Text; secret.IsCredential(name, text) {
			sealed := s.e.seal(s.prefix, name, text)
			s.e.Notes = append(s.e.Notes, fmt.Sprintf("%s looks like a secret: ${sealed.%s} stands for it", name,
				sealed))
		}
	})
	field := s.unique(name, "")
	s.e.Fields = append(s.e.Fields, ExampleField{In: "body", Wire: field, Name: field, List: whole})
	return document.NewText("${fields." + field + "}")
}

// envelope describes the call of a SOAP service.
func (s *sampling) envelope(m *soap.Message) error {
	e := s.e
	if m.Payload == nil {
		return errors.New("the envelope of the sample has an empty Body")
	}
	e.SOAP = string(m.Version)
	e.Operation = identifier(m.Payload.Name().Local)
	e.Payload = s.name(m.Payload.Name())
	for _, block := range m.Blocks {
		switch {
		case block.Name().Local == "Security":
			e.Notes = append(e.Notes, "its Security header was left out: a login of kind username token or "+
				"signature writes one")
		case strings.Contains(block.Name().Space, "addressing"):
			e.Addressing = true
			if block.Name().Local == "Action" && e.Action == "" {
				e.Action = strings.TrimSpace(block.OwnText())
			}
		default:
			if e.Blocks == nil {
				e.Blocks = document.NewObject()
			}
			s.space = "\x00"
			e.Blocks.Set(s.name(block.Name()), plain(s, block))
		}
	}
	s.space = m.Payload.Name().Space
	made := s.element(m.Payload)
	if made.Kind != document.Object {
		made = document.NewObject()
	}
	e.Template = made
	return nil
}

// plain is an element as a tree of the bench has it, with its values as they are.
func plain(s *sampling, n *document.Node) *document.Node {
	if children := n.Children(); len(children) > 0 {
		out := document.NewObject()
		for _, c := range children {
			before := s.space
			s.space = n.Name().Space
			name := s.name(c.Name())
			out.Set(name, plain(s, c))
			s.space = before
		}
		return out
	}
	text := strings.TrimSpace(n.OwnText())
	if name := n.Name().Local; secret.IsCredential(name, text) {
		text = "${sealed." + s.e.seal(s.prefix, name, text) + "}"
	}
	return document.NewText(text)
}

// name writes the name of an element as a tree of the bench has it: with a prefix, where it is not in the
// namespace of the element around it.
func (s *sampling) name(n document.Name) string {
	if n.Space == s.space {
		return n.Local
	}
	return s.prefixOf(n) + ":" + n.Local
}

// prefixOf declares a prefix for a namespace: that of the sample, where it has one that is free.
func (s *sampling) prefixOf(n document.Name) string {
	for _, known := range s.e.Names {
		if known[1] == n.Space {
			return known[0]
		}
	}
	prefix := n.Prefix
	if n.Space == "" {
		prefix = "none"
	}
	base := prefix
	if base == "" {
		base = "n"
	}
	for i := 1; prefix == "" || slices.ContainsFunc(s.e.Names, func(k [2]string) bool { return k[0] == prefix }); i++ {
		prefix = fmt.Sprintf("%s%d", base, i)
	}
	s.e.Names = append(s.e.Names, [2]string{prefix, n.Space})
	return prefix
}

// element makes the template of what is in an element.
func (s *sampling) element(n *document.Node) *document.Node {
	out := document.NewObject()
	for _, a := range n.Attributes() {
		switch {
		case a.Name.Prefix == "xmlns" || a.Name.Local == "xmlns":
		case a.Name.Space == document.SchemaInstance && a.Name.Local == "schemaLocation":
		case a.Name.Space == document.SchemaInstance && a.Name.Local == "nil":
			return &document.Node{Kind: document.Null}
		case a.Name.Space == document.SchemaInstance:
			s.e.Notes = append(s.e.Notes, fmt.Sprintf("xsi:%s of %s was left out", a.Name.Local, n.Name().Local))
		default:
			key := "@" + a.Name.Local
			if a.Name.Space != "" {
				key = "@" + s.prefixOf(a.Name) + ":" + a.Name.Local
			}
			out.AppendMembers(document.Member{Key: key,
				Value: s.placed(a.Name.Local, n.Name().Local, document.NewUntyped(a.Value))})
		}
	}
	children := n.Children()
	if len(children) == 0 {
		text := strings.TrimSpace(n.OwnText())
		own := s.placed(n.Name().Local, "", document.NewUntyped(text))
		if len(out.Members()) == 0 {
			return own
		}
		out.AppendMembers(document.Member{Key: ".", Value: own})
		return out
	}
	space := s.space
	s.space = n.Name().Space
	defer func() { s.space = space }()
	for i := 0; i < len(children); {
		end := i + 1
		for end < len(children) && sameName(children[end], children[i]) {
			end++
		}
		name := s.name(children[i].Name())
		if end-i > 1 {
			out.AppendMembers(document.Member{Key: name, Value: s.repeated(children[i:end])})
		} else {
			out.AppendMembers(document.Member{Key: name, Value: s.element(children[i])})
		}
		i = end
	}
	return out
}

func sameName(a, b *document.Node) bool {
	return a.Name().Space == b.Name().Space && a.Name().Local == b.Name().Local
}

// repeated makes a list of elements of one name: the template writes one for each.
func (s *sampling) repeated(elements []*document.Node) *document.Node {
	items := document.NewList()
	for _, element := range elements {
		items.AppendItems(s.fieldsOf(element))
	}
	list := s.list(elements[0].Name().Local, items)
	item := document.NewObject().Set("for each", list)
	s.eachElement(item, elements[0])
	return document.NewList(item)
}

// fieldsOf is an element of a list as its field has it: by local names, attributes too.
func (s *sampling) fieldsOf(n *document.Node) *document.Node {
	children := n.Children()
	out := document.NewObject()
	for _, a := range n.Attributes() {
		if a.Name.Prefix != "xmlns" && a.Name.Local != "xmlns" && a.Name.Space != document.SchemaInstance {
			out.Set(identifier(a.Name.Local), document.NewUntyped(a.Value))
		}
	}
	if len(children) == 0 {
		text := document.NewUntyped(strings.TrimSpace(n.OwnText()))
		if len(out.Members()) == 0 {
			return text
		}
		return out.Set("value", text)
	}
	for _, c := range children {
		out.Set(identifier(c.Name().Local), s.fieldsOf(c))
	}
	return out
}

// eachElement writes what the template makes of an element of a list.
func (s *sampling) eachElement(into *document.Node, n *document.Node) {
	var write func(into *document.Node, n *document.Node, at string)
	write = func(into *document.Node, n *document.Node, at string) {
		for _, a := range n.Attributes() {
			if a.Name.Prefix != "xmlns" && a.Name.Local != "xmlns" && a.Name.Space != document.SchemaInstance {
				key := "@" + a.Name.Local
				if a.Name.Space != "" {
					key = "@" + s.prefixOf(a.Name) + ":" + a.Name.Local
				}
				into.Set(key, document.NewText("${"+at+"."+identifier(a.Name.Local)+"}"))
			}
		}
		children := n.Children()
		if len(children) == 0 {
			own := "${" + at + "}"
			if len(into.Members()) > 1 || at != request.EachName && len(into.Members()) > 0 {
				own = "${" + at + ".value}"
			}
			into.Set(".", document.NewText(own))
			return
		}
		space := s.space
		s.space = n.Name().Space
		defer func() { s.space = space }()
		for _, c := range children {
			below := document.NewObject()
			write(below, c, at+"."+identifier(c.Name().Local))
			if own := below.Get("."); own != nil && len(below.Members()) == 1 {
				into.Set(s.name(c.Name()), own)
			} else {
				into.Set(s.name(c.Name()), below)
			}
		}
	}
	write(into, n, request.EachName)
}
