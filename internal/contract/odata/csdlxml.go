package odata

import (
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
)

// IsXML says whether a root element is that of metadata.
func IsXML(root *document.Node) bool { return root.Name().Local == "Edmx" }

// ReadXML makes a contract of metadata in XML (CSDL XML 4.01; CSDL 2.0).
func ReadXML(location string, root *document.Node) (*Contract, error) {
	m := newModel()
	m.version, _ = root.Attribute("Version")
	services := root.Child("DataServices")
	if services == nil {
		return nil, fmt.Errorf("%s: the metadata has no DataServices", location)
	}
	if version, ok := services.Attribute("DataServiceVersion"); ok { // before 4 the envelope says only its own version
		m.version = version
	} else if m.version == "1.0" {
		m.version = "2.0"
	}
	r := &xmlReader{m: m}
	for _, reference := range root.Children() {
		if reference.Name().Local != "Reference" {
			continue
		}
		for _, include := range reference.Children() {
			if alias := attribute(include, "Alias"); alias != "" {
				m.aliases[alias] = attribute(include, "Namespace")
			}
		}
	}
	var schemas []*document.Node
	for _, n := range services.Children() {
		if n.Name().Local == "Schema" {
			schemas = append(schemas, n)
			space := attribute(n, "Namespace")
			m.namespaces = append(m.namespaces, space)
			if alias := attribute(n, "Alias"); alias != "" {
				m.aliases[alias] = space
			}
			// Before 4 the version is that of the namespace (CSDL 2.0, 1).
			if !strings.HasPrefix(m.version, "4") && strings.Contains(n.Name().Space, "docs.oasis-open.org") {
				m.version = "4.0"
			}
		}
	}
	if len(schemas) == 0 {
		return nil, fmt.Errorf("%s: the metadata has no Schema", location)
	}
	for _, n := range schemas {
		r.schema(n)
	}
	r.link()
	return newContract(location, m)
}

func newModel() *model { return &model{types: map[string]*typeDef{}, aliases: map[string]string{}} }

func attribute(n *document.Node, name string) string {
	text, _ := n.Attribute(name)
	return text
}

type xmlReader struct {
	m *model
	// associations of 2.0 say what navigation properties lead to.
	associations map[string]map[string]end // by name and role
	pending      []pendingNavigation
	annotations  []target
}

type pendingNavigation struct {
	p                  *property
	association, where string
}

// end is one end of an association: its type, how many there are, and the
// properties that hold the key of the other end.
type end struct {
	typeName, multiplicity string
	dependents             []string
}

type target struct {
	name  string
	terms []annotation
}

func (r *xmlReader) schema(n *document.Node) {
	space := attribute(n, "Namespace")
	for _, child := range n.Children() {
		name := space + "." + attribute(child, "Name")
		switch child.Name().Local {
		case "EntityType", "ComplexType":
			r.structured(child, name)
		case "EnumType":
			t := &typeDef{
				kind: enumKind, name: name, flags: attribute(child, "IsFlags") == "true",
				underlying: attribute(child, "UnderlyingType"), about: r.about(child),
			}
			for _, member := range child.Children() {
				if member.Name().Local == "Member" {
					t.members = append(t.members,
						enumMember{attribute(member, "Name"), attribute(member, "Value"), r.about(member)})
				}
			}
			r.m.types[name] = t
		case "TypeDefinition":
			r.m.types[name] = &typeDef{
				kind: definitionKind, name: name, underlying: attribute(child, "UnderlyingType"),
				facets: facetsOf(child), about: r.about(child),
			}
		case "Action", "Function":
			r.m.functions = append(r.m.functions, r.function(child, name))
		case "Association":
			r.association(child, name)
		case "EntityContainer":
			r.container(child, name)
		case "Annotations":
			r.annotations = append(r.annotations, target{attribute(child, "Target"), r.terms(child)})
		}
	}
}

func (r *xmlReader) association(n *document.Node, name string) {
	ends := map[string]end{}
	for _, child := range n.Children() {
		if child.Name().Local == "End" {
			ends[attribute(child, "Role")] = end{
				typeName:     attribute(child, "Type"),
				multiplicity: attribute(child, "Multiplicity"),
			}
		}
	}
	if constraint := n.Child("ReferentialConstraint"); constraint != nil {
		if dependent := constraint.Child("Dependent"); dependent != nil {
			role := attribute(dependent, "Role")
			e := ends[role]
			for _, ref := range dependent.Children() {
				e.dependents = append(e.dependents, attribute(ref, "Name"))
			}
			ends[role] = e
		}
	}
	if r.associations == nil {
		r.associations = map[string]map[string]end{}
	}
	r.associations[name] = ends
}

func facetsOf(n *document.Node) facets {
	f := noFacets
	if text := attribute(n, "MaxLength"); text != "" {
		f.maxLength, _ = strconv.Atoi(text) // "max" is none
	}
	if text, ok := n.Attribute("Precision"); ok {
		f.precision = number(text)
	}
	if text, ok := n.Attribute("Scale"); ok {
		f.scale = number(text) // "variable" and "floating" are none
	}
	return f
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		return -1
	}
	return n
}

func (r *xmlReader) structured(n *document.Node, name string) {
	t := &typeDef{
		name: name, kind: complexKind, base: attribute(n, "BaseType"), abstract: attribute(n, "Abstract") == "true",
		open: attribute(n, "OpenType") == "true", stream: attribute(n, "HasStream") == "true", about: r.about(n),
	}
	if n.Name().Local == "EntityType" {
		t.kind = entityKind
	}
	t.marks.read(r.m, r.terms(n))
	for _, child := range n.Children() {
		switch child.Name().Local {
		case "Key":
			for _, ref := range child.Children() {
				key := attribute(ref, "Name")
				t.key = append(t.key, key)
			}
		case "Property":
			t.properties = append(t.properties, r.property(child))
		case "NavigationProperty":
			t.properties = append(t.properties, r.navigation(child))
		}
	}
	r.m.types[name] = t
}

// typed takes Collection() off a type's name.
func (p *property) typed(name string) {
	if inner, ok := strings.CutPrefix(name, "Collection("); ok {
		p.collection, name = true, strings.TrimSuffix(inner, ")")
	}
	p.typeName = name
}

func (r *xmlReader) property(n *document.Node) *property {
	p := &property{
		name: attribute(n, "Name"), nullable: attribute(n, "Nullable") != "false", facets: facetsOf(n),
		fallback: attribute(n, "DefaultValue"), about: r.about(n),
	}
	p.typed(attribute(n, "Type"))
	if attribute(n, "CollectionKind") != "" {
		p.collection = true
	}
	p.marks.read(r.m, r.terms(n))
	p.marks.attributes(n)
	if attribute(n, "ConcurrencyMode") == "Fixed" {
		p.marks.concurrency = true
	}
	return p
}

func (r *xmlReader) navigation(n *document.Node) *property {
	p := &property{
		name: attribute(n, "Name"), navigation: true, nullable: attribute(n, "Nullable") != "false",
		contained: attribute(n, "ContainsTarget") == "true",
		partner:   attribute(n, "Partner"), about: r.about(n),
	}
	for _, child := range n.Children() {
		if child.Name().Local == "ReferentialConstraint" {
			p.dependents = append(p.dependents, attribute(child, "Property"))
		}
	}
	if relationship := attribute(n, "Relationship"); relationship != "" {
		r.pending = append(r.pending, pendingNavigation{p, relationship, attribute(n, "ToRole")})
	}
	p.typed(attribute(n, "Type"))
	p.marks.read(r.m, r.terms(n))
	p.marks.attributes(n)
	return p
}

func (r *xmlReader) function(n *document.Node, name string) *function {
	f := &function{
		name: name, action: n.Name().Local == "Action", bound: attribute(n, "IsBound") == "true",
		about: r.about(n),
	}
	for _, child := range n.Children() {
		switch child.Name().Local {
		case "Parameter":
			f.parameters = append(f.parameters, r.property(child))
		case "ReturnType":
			f.returns = r.property(child)
		}
	}
	return f
}

func (r *xmlReader) container(n *document.Node, name string) {
	r.m.container = name
	for _, child := range n.Children() {
		switch child.Name().Local {
		case "EntitySet", "Singleton":
			s := &set{
				name: attribute(child, "Name"), typeName: attribute(child, "EntityType"),
				singleton: child.Name().Local == "Singleton", about: r.about(child),
			}
			if s.singleton {
				s.typeName = attribute(child, "Type")
			}
			s.marks.read(r.m, r.terms(child))
			s.marks.attributes(child)
			r.m.sets = append(r.m.sets, s)
		case "FunctionImport", "ActionImport":
			r.importOf(child)
		}
	}
}

// importOf reads an import: of 4 it names a function, of 2 it is one.
func (r *xmlReader) importOf(n *document.Node) {
	name := attribute(n, "Name")
	target := attribute(n, "Function") + attribute(n, "Action")
	if target != "" {
		r.m.imports = append(r.m.imports, &function{name: name, action: n.Name().Local == "ActionImport", set: target})
		return
	}
	f := r.function(n, name)
	f.method, f.set = attribute(n, "HttpMethod"), attribute(n, "EntitySet")
	if f.method == "" {
		f.method = "GET"
	}
	f.action = f.method != "GET"
	if returns := attribute(n, "ReturnType"); returns != "" {
		f.returns = &property{name: "ReturnType", nullable: true, facets: noFacets}
		f.returns.typed(returns)
	}
	r.m.imports = append(r.m.imports, f)
}

// about is the documentation of an element: a Core.Description, or what is in
// Documentation of 2.0.
func (r *xmlReader) about(n *document.Node) string {
	for _, child := range n.Children() {
		switch {
		case child.Name().Local == "Annotation" && strings.HasSuffix(attribute(child, "Term"), ".Description"):
			if text := attribute(child, "String"); text != "" {
				return oneLine(text)
			}
			if inner := child.Child("String"); inner != nil {
				return oneLine(inner.OwnText())
			}
		case child.Name().Local == "Documentation":
			if summary := child.Child("Summary"); summary != nil {
				return oneLine(summary.OwnText())
			}
		}
	}
	return oneLine(attribute(n, "label"))
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// annotation is a term with its value: a text, a record, or a list of paths.
type annotation struct {
	term   string
	value  string
	record map[string]annotation
	paths  []string
}

func (r *xmlReader) terms(n *document.Node) []annotation {
	var out []annotation
	for _, child := range n.Children() {
		if child.Name().Local == "Annotation" {
			a := r.annotation(child)
			a.term = attribute(child, "Term")
			out = append(out, a)
		}
	}
	return out
}

// constants are the attributes and elements that hold a value (CSDL XML 4.01, 14.3).
var constants = []string{"Bool", "String", "EnumMember", "Int", "PropertyPath", "NavigationPropertyPath", "Path"}

func (r *xmlReader) annotation(n *document.Node) annotation {
	a := annotation{}
	for _, name := range constants {
		if text, ok := n.Attribute(name); ok {
			a.value = text
		}
	}
	for _, child := range n.Children() {
		switch child.Name().Local {
		case "Record":
			a.record = map[string]annotation{}
			for _, value := range child.Children() {
				if value.Name().Local == "PropertyValue" {
					a.record[attribute(value, "Property")] = r.annotation(value)
				}
			}
		case "Collection":
			for _, item := range child.Children() {
				switch item.Name().Local {
				case "PropertyPath", "NavigationPropertyPath", "String", "Path":
					a.paths = append(a.paths, oneLine(item.OwnText()))
				}
			}
		default:
			if text := oneLine(child.OwnText()); text != "" && a.value == "" {
				a.value = text
			}
		}
	}
	return a
}

// link resolves what refers to something else.
func (r *xmlReader) link() {
	for _, p := range r.pending {
		to := r.associations[r.m.resolve(p.association)][p.where]
		p.p.typeName, p.p.collection, p.p.nullable = to.typeName, to.multiplicity == "*", to.multiplicity != "1"
		p.p.fromHere = to.dependents
	}
	r.m.index()
	r.m.linkImports()
	for _, t := range r.annotations {
		r.m.annotate(t)
	}
}

// linkImports gives imports of 4 what the functions that they name have: an import stands for
// each of the unbound overloads (CSDL XML 4.01, 13.6.2).
func (m *model) linkImports() {
	var linked []*function
	for _, i := range m.imports {
		found := false
		for _, f := range m.functions {
			if i.method == "" && !f.bound && f.name == m.resolve(i.set) {
				one := *i
				one.parameters, one.returns, one.about = f.parameters, f.returns, f.about
				linked, found = append(linked, &one), true
			}
		}
		if !found {
			linked = append(linked, i)
		}
	}
	m.imports = linked
}

// annotate puts annotations that stand apart where they belong.
func (m *model) annotate(t target) {
	name, inner, has := strings.Cut(m.resolve(t.name), "/")
	name = m.resolve(name)
	if name == m.container && has {
		for _, s := range m.sets {
			if s.name == inner {
				s.marks.read(m, t.terms)
			}
		}
		return
	}
	def := m.types[name]
	if def == nil {
		return
	}
	if !has {
		def.marks.read(m, t.terms)
		return
	}
	if p := m.property(def, inner); p != nil {
		p.marks.read(m, t.terms)
		for _, a := range t.terms {
			if strings.HasSuffix(a.term, ".Description") && p.about == "" {
				p.about = oneLine(a.value)
			}
		}
	}
}

// newContract makes the operations of a model.
func newContract(location string, m *model) (*Contract, error) {
	c := &Contract{model: m, plans: map[string]func() *contract.Endpoint{}, made: map[string]*contract.Endpoint{}}
	c.head = contract.Head{Format: "OData " + m.version, Location: location, Title: local(m.container)}
	if len(m.namespaces) > 0 {
		c.head.Title = m.namespaces[len(m.namespaces)-1]
	}
	if address, ok := strings.CutSuffix(location, "/$metadata"); ok && strings.Contains(location, "://") {
		c.head.Servers = []contract.Server{{Address: address}}
	}
	if err := c.plan(); err != nil {
		return nil, err
	}
	return c, nil
}
