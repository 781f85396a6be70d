package odata

import (
	"fmt"
	"strings"

	"testbench/internal/document"
)

// IsJSON says whether a document is metadata in JSON.
func IsJSON(root *document.Node) bool {
	return root.Get("$Version") != nil && (root.Get("$EntityContainer") != nil || root.Get("$Reference") != nil)
}

// ReadJSON makes a contract of metadata in JSON (CSDL JSON 4.01).
func ReadJSON(location string, root *document.Node) (*Contract, error) {
	m := newModel()
	m.version = text(root, "$Version")
	m.container = text(root, "$EntityContainer")
	if references := root.Get("$Reference"); references != nil {
		for _, r := range references.Members() {
			if include := r.Value.Get("$Include"); include != nil {
				for _, one := range include.Items() {
					if alias := text(one, "$Alias"); alias != "" {
						m.aliases[alias] = text(one, "$Namespace")
					}
				}
			}
		}
	}
	r := &jsonReader{m: m}
	for _, s := range root.Members() {
		if strings.HasPrefix(s.Key, "$") || s.Value.Kind != document.Object {
			continue
		}
		m.namespaces = append(m.namespaces, s.Key)
		if alias := text(s.Value, "$Alias"); alias != "" {
			m.aliases[alias] = s.Key
		}
	}
	if len(m.namespaces) == 0 {
		return nil, fmt.Errorf("%s: the metadata has no schema", location)
	}
	for _, s := range root.Members() {
		if !strings.HasPrefix(s.Key, "$") && s.Value.Kind == document.Object {
			r.schema(s.Key, s.Value)
		}
	}
	m.index()
	m.linkImports()
	for _, t := range r.annotations {
		m.annotate(t)
	}
	return newContract(location, m)
}

func text(n *document.Node, key string) string {
	if v := n.Get(key); v != nil {
		return v.Text
	}
	return ""
}

func says(n *document.Node, key string) bool { return text(n, key) == "true" }

type jsonReader struct {
	m           *model
	annotations []target
}

// kindOf is what an element is; a property is the default (CSDL JSON 4.01, 7).
func (r *jsonReader) schema(space string, n *document.Node) {
	for _, member := range n.Members() {
		name, v := space+"."+member.Key, member.Value
		if member.Key == "$Annotations" {
			for _, t := range v.Members() {
				r.annotations = append(r.annotations, target{t.Key, r.terms(t.Value)})
			}
			continue
		}
		if v.Kind == document.List { // overloads of an action or a function
			for _, one := range v.Items() {
				f := r.function(one, name)
				r.m.functions = append(r.m.functions, f)
			}
			continue
		}
		switch text(v, "$Kind") {
		case "EntityType", "ComplexType":
			r.structured(v, name)
		case "EnumType":
			t := &typeDef{
				kind: enumKind, name: name, flags: says(v, "$IsFlags"),
				underlying: text(v, "$UnderlyingType"), about: r.about(v),
			}
			for _, one := range v.Members() {
				if !strings.HasPrefix(one.Key, "$") && !strings.Contains(one.Key, "@") {
					t.members = append(t.members, enumMember{name: one.Key, value: one.Value.Text})
				}
			}
			r.m.types[name] = t
		case "TypeDefinition":
			r.m.types[name] = &typeDef{
				kind: definitionKind, name: name, underlying: text(v, "$UnderlyingType"),
				facets: jsonFacets(v), about: r.about(v),
			}
		case "EntityContainer":
			r.container(v, name)
		}
	}
}

func jsonFacets(n *document.Node) facets {
	f := noFacets
	if v := n.Get("$MaxLength"); v != nil && v.Kind == document.Number {
		f.maxLength = number(v.Text)
	}
	if v := n.Get("$Precision"); v != nil {
		f.precision = number(v.Text)
	}
	if v := n.Get("$Scale"); v != nil {
		f.scale = number(v.Text)
	}
	return f
}

func (r *jsonReader) structured(n *document.Node, name string) {
	t := &typeDef{
		name: name, kind: complexKind, base: text(n, "$BaseType"), abstract: says(n, "$Abstract"),
		open: says(n, "$OpenType"), stream: says(n, "$HasStream"), about: r.about(n),
	}
	if text(n, "$Kind") == "EntityType" {
		t.kind = entityKind
	}
	if key := n.Get("$Key"); key != nil {
		for _, k := range key.Items() {
			if k.Kind == document.Object && len(k.Members()) > 0 { // an alias for a path
				t.key = append(t.key, k.Members()[0].Key)
				continue
			}
			t.key = append(t.key, k.Text)
		}
	}
	t.marks.read(r.m, r.terms(n))
	for _, m := range n.Members() {
		if strings.HasPrefix(m.Key, "$") || strings.Contains(m.Key, "@") || m.Value.Kind != document.Object {
			continue
		}
		t.properties = append(t.properties, r.property(m.Key, m.Value))
	}
	r.m.types[name] = t
}

func (r *jsonReader) property(name string, n *document.Node) *property {
	p := &property{
		name: name, nullable: says(n, "$Nullable"), collection: says(n, "$Collection"), facets: jsonFacets(n),
		typeName:   text(n, "$Type"),
		navigation: text(n, "$Kind") == "NavigationProperty", contained: says(n, "$ContainsTarget"),
		fallback: text(n, "$DefaultValue"), partner: text(n, "$Partner"), about: r.about(n),
	}
	if p.typeName == "" {
		p.typeName = "Edm.String"
	}
	if constraint := n.Get("$ReferentialConstraint"); constraint != nil {
		for _, m := range constraint.Members() {
			if !strings.Contains(m.Key, "@") {
				p.dependents = append(p.dependents, m.Key)
			}
		}
	}
	p.marks.read(r.m, r.terms(n))
	return p
}

func (r *jsonReader) function(n *document.Node, name string) *function {
	f := &function{name: name, action: text(n, "$Kind") == "Action", bound: says(n, "$IsBound"), about: r.about(n)}
	if parameters := n.Get("$Parameter"); parameters != nil {
		for _, p := range parameters.Items() {
			f.parameters = append(f.parameters, r.property(text(p, "$Name"), p))
		}
	}
	if returns := n.Get("$ReturnType"); returns != nil {
		f.returns = r.property("ReturnType", returns)
	}
	return f
}

func (r *jsonReader) container(n *document.Node, name string) {
	r.m.container = name
	for _, m := range n.Members() {
		if strings.HasPrefix(m.Key, "$") || strings.Contains(m.Key, "@") {
			continue
		}
		v := m.Value
		switch {
		case v.Get("$Action") != nil:
			r.m.imports = append(r.m.imports, &function{name: m.Key, action: true, set: text(v, "$Action")})
		case v.Get("$Function") != nil:
			r.m.imports = append(r.m.imports, &function{name: m.Key, set: text(v, "$Function")})
		default:
			s := &set{name: m.Key, typeName: text(v, "$Type"), singleton: !says(v, "$Collection"), about: r.about(v)}
			s.marks.read(r.m, r.terms(v))
			r.m.sets = append(r.m.sets, s)
		}
	}
}

func (r *jsonReader) about(n *document.Node) string {
	for _, m := range n.Members() {
		if strings.HasPrefix(m.Key, "@") && strings.HasSuffix(m.Key, ".Description") {
			return oneLine(m.Value.Text)
		}
	}
	return ""
}

func (r *jsonReader) terms(n *document.Node) []annotation {
	var out []annotation
	for _, m := range n.Members() {
		if term, ok := strings.CutPrefix(m.Key, "@"); ok {
			a := jsonAnnotation(m.Value)
			a.term, _, _ = strings.Cut(term, "#")
			out = append(out, a)
		}
	}
	return out
}

func jsonAnnotation(n *document.Node) annotation {
	a := annotation{value: n.Text}
	for _, item := range n.Items() {
		a.paths = append(a.paths, item.Text)
	}
	if n.Kind == document.Object {
		a.record = map[string]annotation{}
		for _, m := range n.Members() {
			a.record[m.Key] = jsonAnnotation(m.Value)
		}
	}
	return a
}
