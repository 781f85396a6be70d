package document

import (
	"net/url"
	"path"
	"slices"
	"strings"
)

// xmlNamespace is bound to the prefix xml everywhere (Namespaces in XML 1.0, 3).
const xmlNamespace = "http://www.w3.org/XML/1998/namespace"

// Canonical says how an element is written in canonical form.
type Canonical struct {
	// Inclusive writes every namespace in scope (Canonical XML 1.0); otherwise only
	// those that are visibly used (Exclusive XML Canonicalization 1.0).
	Inclusive bool
	// Version11 takes xml:base from the elements around joined, and xml:id not at all (Canonical XML 1.1,
	// section 2.4); it goes with Inclusive.
	Version11 bool
	// Prefixes are treated as inclusive all the same; #default or "" names the
	// default namespace (Exclusive XML Canonicalization 1.0, section 2.1).
	Prefixes []string
	Comments bool
	// Undone writes xmlns="" on the apex where it undoes the default namespace of the
	// elements around it, so that it can be put back where it stood.
	Undone bool
	// Hide, if not empty, is in place of every secret text; then the form is for
	// people, and no longer canonical.
	Hide string
}

// CanonicalXML writes the element apex, which lies inside of root, in canonical
// form. Elements that were built must have their namespaces declared.
func CanonicalXML(root, apex *Node, how Canonical) []byte {
	w := canonicalWriter{how: how}
	scope := map[string]string{}
	var inherited []Attribute
	path := pathTo(root, apex)
	for _, n := range path[:max(len(path)-1, 0)] {
		declareIn(scope, n)
		if how.Inclusive {
			inherited = inheritXML(inherited, n, how.Version11)
		}
	}
	rendered := map[string]string{}
	if around := scope[""]; how.Undone && around != "" {
		own := map[string]string{"": around}
		declareIn(own, apex)
		if own[""] == "" {
			rendered[""] = around
		}
	}
	w.element(apex, scope, rendered, inherited)
	return w.out
}

// pathTo lists the elements from root to the one looked for.
func pathTo(root, expected *Node) []*Node {
	if root == expected {
		return []*Node{root}
	}
	for _, item := range root.Items() {
		if item.Kind == Element {
			if path := pathTo(item, expected); path != nil {
				return append([]*Node{root}, path...)
			}
		}
	}
	return nil
}

func declareIn(scope map[string]string, n *Node) {
	for _, a := range n.Attributes() {
		switch {
		case a.Name.Prefix == "xmlns":
			scope[a.Name.Local] = a.Value
		case a.Name.Prefix == "" && a.Name.Local == "xmlns":
			scope[""] = a.Value
		}
	}
}

// inheritXML gathers the attributes of the namespace xml, which a part that is
// cut out takes from its ancestors (Canonical XML 1.0, section 2.4).
func inheritXML(inherited []Attribute, n *Node, version11 bool) []Attribute {
	for _, a := range n.Attributes() {
		isKept := version11 && a.Name.Local == "id"
		if a.Name.Space != xmlNamespace || isKept {
			continue
		}
		at := slices.IndexFunc(inherited, func(b Attribute) bool { return b.Name.Local == a.Name.Local })
		switch {
		case at < 0:
			inherited = append(inherited, a)
		case version11 && a.Name.Local == "base":
			inherited[at].Value = joinBase(inherited[at].Value, a.Value)
		default:
			inherited[at] = a
		}
	}
	return inherited
}

// joinBase resolves a base against the one around it (Canonical XML 1.1, section 2.4). Either may be relative.
func joinBase(outer, inner string) string {
	around, err := url.Parse(outer)
	within, failed := url.Parse(inner)
	if err != nil || failed != nil {
		return inner
	}
	if around.IsAbs() || within.IsAbs() || strings.HasPrefix(outer, "/") {
		return around.ResolveReference(within).String()
	}
	// A path that begins nowhere is resolved as if it began at the root, which is then taken off again; what
	// leads out of it stays.
	folder := outer[:strings.LastIndex(outer, "/")+1]
	switch {
	case strings.HasPrefix(inner, "/"):
		return inner
	case inner == "":
		return outer
	}
	joined := path.Join(folder, inner)
	if strings.HasSuffix(inner, "/") {
		joined += "/"
	}
	return joined
}

type canonicalWriter struct {
	how Canonical
	out []byte
}

// element writes one element. scope are the namespaces around it, rendered those
// that were written on the elements around it.
func (w *canonicalWriter) element(n *Node, scope, rendered map[string]string, inherited []Attribute) {
	changed := false
	for _, a := range n.Attributes() {
		changed = changed || a.IsDeclaration()
	}
	if changed {
		inner := make(map[string]string, len(scope)+2)
		for prefix, space := range scope {
			inner[prefix] = space
		}
		declareIn(inner, n)
		scope = inner
	}
	tag := qualified(n.Name())
	w.out = append(append(w.out, '<'), tag...)
	declared := w.declarations(n, scope, rendered)
	if len(declared) > 0 {
		inner := make(map[string]string, len(rendered)+len(declared))
		for prefix, space := range rendered {
			inner[prefix] = space
		}
		for _, prefix := range declared {
			inner[prefix] = scope[prefix]
			name := "xmlns"
			if prefix != "" {
				name += ":" + prefix
			}
			w.attribute(name, scope[prefix])
		}
		rendered = inner
	}
	for _, a := range w.sortedAttributes(n, inherited) {
		w.attribute(qualified(a.Name), a.Value)
	}
	w.out = append(w.out, '>')
	for _, item := range n.Items() {
		switch item.Kind {
		case Element:
			w.element(item, scope, rendered, nil)
		case Comment:
			if w.how.Comments {
				w.out = append(append(append(w.out, "<!--"...), item.Text...), "-->"...)
			}
		case Instruction:
			w.out = append(append(w.out, "<?"...), item.Name().Local...)
			if item.Text != "" {
				w.out = append(append(w.out, ' '), item.Text...)
			}
			w.out = append(w.out, "?>"...)
		default:
			if item.Secret && w.how.Hide != "" {
				w.text(w.how.Hide)
			} else {
				w.text(item.Text)
			}
		}
	}
	w.out = append(append(append(w.out, "</"...), tag...), '>')
}

func qualified(name Name) string {
	if name.Prefix == "" {
		return name.Local
	}
	return name.Prefix + ":" + name.Local
}

// declarations lists the prefixes to be declared on an element, in order.
func (w *canonicalWriter) declarations(n *Node, scope, rendered map[string]string) []string {
	var prefixes []string
	add := func(prefix string) {
		space, inScope := scope[prefix]
		if prefix == "xml" || prefix != "" && !inScope || slices.Contains(prefixes, prefix) {
			return
		}
		if before, was := rendered[prefix]; was && before == space || !was && prefix == "" && space == "" {
			return
		}
		prefixes = append(prefixes, prefix)
	}
	if w.how.Inclusive {
		for prefix := range scope {
			add(prefix)
		}
	} else {
		add(n.Name().Prefix)
		for _, a := range n.Attributes() {
			if a.Name.Prefix != "" && !a.IsDeclaration() {
				add(a.Name.Prefix)
			}
		}
		for _, prefix := range w.how.Prefixes {
			if prefix == "#default" {
				prefix = ""
			}
			if _, inScope := scope[prefix]; inScope {
				add(prefix)
			}
		}
	}
	if rendered[""] != "" && scope[""] == "" && (w.how.Inclusive || n.Name().Prefix == "") &&
		!slices.Contains(prefixes, "") {
		prefixes = append(prefixes, "") // the default namespace is undone: xmlns=""
	}
	slices.Sort(prefixes)
	return prefixes
}

// sortedAttributes orders attributes by namespace and local name, those without
// a namespace first.
func (w *canonicalWriter) sortedAttributes(n *Node, inherited []Attribute) []Attribute {
	var sorted []Attribute
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() {
			sorted = append(sorted, a)
		}
	}
	for _, a := range inherited {
		at := slices.IndexFunc(sorted, func(b Attribute) bool {
			return b.Name.Space == xmlNamespace && b.Name.Local == a.Name.Local
		})
		switch {
		case at < 0:
			sorted = append(sorted, a)
		case w.how.Version11 && a.Name.Local == "base":
			sorted[at].Value = joinBase(a.Value, sorted[at].Value)
		}
	}
	slices.SortFunc(sorted, func(a, b Attribute) int {
		if order := strings.Compare(a.Name.Space, b.Name.Space); order != 0 {
			return order
		}
		return strings.Compare(a.Name.Local, b.Name.Local)
	})
	return sorted
}

// What is escaped in canonical form (Canonical XML 1.0, section 2.3).
var (
	canonicalAttribute = strings.NewReplacer("&", "&amp;", "<", "&lt;", `"`, "&quot;", "\t", "&#x9;", "\n", "&#xA;",
		"\r", "&#xD;")
	canonicalText = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#xD;")
)

func (w *canonicalWriter) attribute(name, value string) {
	w.out = append(append(append(w.out, ' '), name...), `="`...)
	w.out = append(append(w.out, canonicalAttribute.Replace(value)...), '"')
}

func (w *canonicalWriter) text(text string) {
	w.out = append(w.out, canonicalText.Replace(text)...)
}

// Apart is an element of a tree as the root of one of its own, with all the namespaces that hold around it declared
// on it; the element itself where it cannot be written.
func Apart(root, n *Node) *Node {
	apart, err := ReadXML(CanonicalXML(root, n, Canonical{Inclusive: true}), "utf-8")
	if err != nil {
		return n
	}
	return apart
}
