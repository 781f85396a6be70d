package xsd

import (
	"cmp"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/xmlstream"
)

// Fetch gets a schema document. Location is what a document says, base where
// that document itself came from; resolved is the address that tells documents
// apart.
type Fetch func(base, location string) (resolved string, data []byte, err error)

// Loader puts a schema together from its documents. Add documents, then call
// Schema.
type Loader struct {
	// Fetch gets what documents include and import. Without it nothing is fetched.
	Fetch Fetch
	// MaxDocuments bounds how many documents are read; 0 means 200.
	MaxDocuments int
	// Tolerant sets aside what is wrong, and what refers to it, and goes on with the rest; Schema.UnusableElement and
	// UnusableType tell what that was.
	Tolerant bool

	documents []*schemaDocument
	met       map[string]*schemaDocument // by location and the namespace taken on
	unreached map[string]bool            // namespaces of which a document is missing
	problems  []Problem
	warnings  []Problem
}

// schemaDocument is one schema element with what holds for all inside.
type schemaDocument struct {
	location        string
	namespace       string
	root            xnode
	qualifyElements bool
	qualifyAttrs    bool
	block, final    derivation
	imports         map[string]bool // namespaces that it may refer to
	chameleon       bool            // has no namespace of its own and took on this one
	redefines       map[redefinition]xnode
}

// builtIn begins the location of what everybody knows.
const builtIn = "built-in:"

func (d *schemaDocument) isBuiltIn() bool { return strings.HasPrefix(d.location, builtIn) }

type redefinition struct {
	kind string
	name string
}

// xnode is an element of a schema document with its scope.
type xnode struct {
	*document.Node
	scope *nodeScope
	doc   *schemaDocument
}

// nodeScope is what prefixes stand for at an element.
type nodeScope struct {
	outer    *nodeScope
	prefixes map[string]string
}

// Lookup implements scope.
func (s *nodeScope) Lookup(prefix string) (string, bool) {
	for at := s; at != nil; at = at.outer {
		if space, known := at.prefixes[prefix]; known {
			return space, true
		}
	}
	switch prefix {
	case "":
		return "", true
	case "xml":
		return xmlstream.XMLSpace, true
	}
	return "", false
}

func (s *nodeScope) inner(n *document.Node) *nodeScope {
	var declared map[string]string
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() {
			continue
		}
		if declared == nil {
			declared = map[string]string{}
		}
		if a.Name.Prefix == "" {
			declared[""] = a.Value
		} else {
			declared[a.Name.Local] = a.Value
		}
	}
	if declared == nil {
		return s
	}
	return &nodeScope{outer: s, prefixes: declared}
}

func (x xnode) with(n *document.Node) xnode {
	return xnode{Node: n, scope: x.scope.inner(n), doc: x.doc}
}

// oldNamespaces are those of the drafts of 1999 and 2000: what they say is read
// as what it means today.
var oldNamespaces = map[string]bool{
	"http://www.w3.org/1999/XMLSchema":    true,
	"http://www.w3.org/2000/10/XMLSchema": true,
	"http://www.w3.org/2000/08/XMLSchema": true,
}

// Current is the namespace of the Recommendation in place of that of a draft before it, and any other as it is.
func Current(space string) string {
	if oldNamespaces[space] {
		return Namespace
	}
	return space
}

// children are the schema elements inside, annotations left out.
func (x xnode) children() iter.Seq[xnode] {
	return func(yield func(xnode) bool) {
		for _, item := range x.Items() {
			if item.Kind == document.Element && Current(item.Name().Space) == Namespace &&
				item.Name().Local != "annotation" && !yield(x.with(item)) {
				return
			}
		}
	}
}

// child is the first schema element inside with one of the names.
func (x xnode) child(names ...string) (xnode, bool) {
	for c := range x.children() {
		for _, name := range names {
			if c.Name().Local == name {
				return c, true
			}
		}
	}
	return xnode{}, false
}

// attr is an attribute of the schema's own, without namespace.
func (x xnode) attr(name string) (string, bool) {
	for _, a := range x.Attributes() {
		if a.Name.Local == name && a.Name.Space == "" && !a.IsDeclaration() {
			return a.Value, true
		}
	}
	return "", false
}

func (x xnode) value(name string) string {
	v, _ := x.attr(name)
	return strings.TrimSpace(v)
}

func (x xnode) at() Problem {
	return Problem{Location: x.doc.location, Line: int(x.Line), Column: int(x.Column)}
}

// documentation is the text of the annotation, laid out anew.
func (x xnode) documentation() string {
	var parts []string
	for _, item := range x.Items() {
		if item.Kind != document.Element || item.Name().Local != "annotation" {
			continue
		}
		for _, d := range item.Children() {
			if d.Name().Local == "documentation" {
				if text := strings.Join(strings.Fields(deepText(d)), " "); text != "" {
					parts = append(parts, text)
				}
			}
		}
	}
	return strings.Join(parts, " ")
}

func deepText(n *document.Node) string {
	if n.Kind != document.Element {
		if n.Kind == document.Comment || n.Kind == document.Instruction {
			return ""
		}
		return n.Text
	}
	var out strings.Builder
	for _, item := range n.Items() {
		out.WriteString(deepText(item))
		out.WriteByte(' ')
	}
	return out.String()
}

// SchemaError tells that a schema cannot be used: all that was found.
type SchemaError struct{ Problems []Problem }

func (e *SchemaError) Error() string {
	const most = 10
	lines := make([]string, 0, most)
	for i, p := range e.Problems {
		if i == most {
			lines = append(lines, fmt.Sprintf("and %d more", len(e.Problems)-most))
			break
		}
		lines = append(lines, p.String())
	}
	return strings.Join(lines, "\n")
}

func (l *Loader) fail(at Problem, format string, args ...any) {
	at.Message = fmt.Sprintf(format, args...)
	for _, p := range l.problems {
		if p == at {
			return
		}
	}
	l.problems = append(l.problems, at)
}

func (l *Loader) warn(at Problem, format string, args ...any) {
	l.warnings = appendWarning(l.warnings, at, format, args...)
}

func appendWarning(warnings []Problem, at Problem, format string, args ...any) []Problem {
	at.Message = fmt.Sprintf(format, args...)
	if slices.Contains(warnings, at) {
		return warnings
	}
	return append(warnings, at)
}

func byPlace(list []Problem) {
	slices.SortStableFunc(list, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Location, b.Location), cmp.Compare(a.Line, b.Line))
	})
}

// Load reads the document at a location, and all that it refers to.
func (l *Loader) Load(location string) error {
	if l.Fetch == nil {
		return errors.New("nothing can be fetched")
	}
	resolved, data, err := l.Fetch("", location)
	if err != nil {
		return err
	}
	return l.AddText(resolved, data)
}

// AddText adds a schema document in text form.
func (l *Loader) AddText(location string, data []byte) error {
	root, err := ReadXML(location, data)
	if err != nil {
		return err
	}
	return l.Add(location, root, nil)
}

// ReadXML reads a document that a contract is made of. One that is not well-formed gives
// a *SchemaError.
func ReadXML(location string, data []byte) (*document.Node, error) {
	root, err := document.ReadXML(data, "")
	var syntax *document.Error
	if errors.As(err, &syntax) {
		return nil, &SchemaError{[]Problem{{
			Location: location, Line: syntax.Line, Column: syntax.Column,
			Message: "not well-formed XML: " + syntax.Message,
		}}}
	}
	return root, err
}

// Add adds a schema element, as one inside of a WSDL; the prefixes are those
// that hold outside of it.
func (l *Loader) Add(location string, root *document.Node, prefixes map[string]string) error {
	if root.Name().Local != "schema" || Current(root.Name().Space) != Namespace {
		return &SchemaError{[]Problem{{
			Location: location, Line: int(root.Line), Column: int(root.Column),
			Message: fmt.Sprintf("<%s> is not a schema: the root element must be schema in the namespace %s",
				root.Name(), Namespace),
		}}}
	}
	l.init()
	d := l.document(location, root, prefixes, "", false)
	key := location + "\x00" + d.namespace
	if int(root.Line) > 0 && prefixes != nil {
		key = fmt.Sprintf("%s#%d:%d", key, root.Line, root.Column) // several are in one file
	}
	l.met[key] = d
	l.follow(d)
	return nil
}

func (l *Loader) init() {
	if l.met == nil {
		l.met = map[string]*schemaDocument{}
		l.unreached = map[string]bool{}
	}
	if l.MaxDocuments == 0 {
		l.MaxDocuments = 200
	}
}

func (l *Loader) document(location string, root *document.Node, prefixes map[string]string, adopted string,
	chameleon bool,
) *schemaDocument {
	d := &schemaDocument{location: location, imports: map[string]bool{Namespace: true}}
	outer := &nodeScope{prefixes: prefixes}
	d.root = xnode{Node: root, scope: outer.inner(root), doc: d}
	d.namespace = d.root.value("targetNamespace")
	if d.namespace == "" && chameleon {
		d.namespace, d.chameleon = adopted, true
	}
	d.qualifyElements = d.root.value("elementFormDefault") == "qualified"
	d.qualifyAttrs = d.root.value("attributeFormDefault") == "qualified"
	d.block = l.derivations(d.root, "blockDefault", byExtension|byRestriction|bySubstitution)
	d.final = l.derivations(d.root, "finalDefault", byExtension|byRestriction|byList|byUnion)
	if oldNamespaces[root.Name().Space] {
		l.warn(d.root.at(), "it is written in the draft %s and read as the Recommendation of 2001", root.Name().Space)
	}
	l.documents = append(l.documents, d)
	return d
}

// derivations reads a list like "extension restriction" or "#all".
func (l *Loader) derivations(x xnode, name string, all derivation) derivation {
	var set derivation
	for _, word := range strings.Fields(x.value(name)) {
		one := map[string]derivation{
			"#all": all, "extension": byExtension, "restriction": byRestriction,
			"substitution": bySubstitution, "list": byList, "union": byUnion,
		}[word]
		if one&all == 0 {
			l.fail(x.at(), "%q is not allowed in %s", word, name)
		}
		set |= one & all
	}
	return set
}

// follow loads what a document includes, imports and redefines.
func (l *Loader) follow(d *schemaDocument) {
	for c := range d.root.children() {
		location := c.value("schemaLocation")
		switch c.Name().Local {
		case "import":
			namespace := c.value("namespace")
			if namespace == d.namespace && namespace != "" {
				l.warn(c.at(), "it imports its own namespace %s; include is meant", namespace)
			}
			d.imports[namespace] = true
			l.importDocument(c, namespace, location)
		case "include", "redefine":
			if location == "" {
				l.fail(c.at(), "%s needs a schemaLocation", c.Name().Local)
				continue
			}
			included := l.fetch(c, location, d.namespace, true)
			if included != nil && included.namespace != d.namespace {
				l.fail(c.at(), "%s has the namespace %q; include and redefine need %q or none", location,
					included.namespace, d.namespace)
			}
			if included != nil && c.Name().Local == "redefine" {
				l.redefine(d, included, c)
			}
		}
	}
}

// importDocument loads another namespace. A namespace that everybody knows is built
// in; what cannot be reached is remarked, for what does not need it still works.
func (l *Loader) importDocument(c xnode, namespace, location string) {
	if text := wellKnown[namespace]; text != "" {
		if l.met[namespace] == nil {
			root, err := document.ReadXML([]byte(text), "")
			if err != nil {
				panic(err) // it is ours
			}
			known := l.document(builtIn+namespace, root, nil, "", false)
			l.met[namespace] = known
			l.follow(known)
		}
		return
	}
	if location == "" || namespace == Namespace {
		return // another document brings it, or nothing refers to it
	}
	imported := l.fetch(c, location, "", false)
	if imported == nil {
		l.unreached[namespace] = true
		return
	}
	if imported.namespace != namespace {
		l.warn(c.at(), "%s has the namespace %q, not %q as the import says", location, imported.namespace, namespace)
	}
}

// addUsed adds the declarations of well-known namespaces that a schema uses though
// it does not import them, as many older contracts do.
func (l *Loader) addUsed(x xnode) {
	for _, a := range x.Attributes() {
		switch a.Name.Local {
		case "type", "base", "ref", "itemType":
		default:
			continue
		}
		prefix, _, qualified := strings.Cut(strings.TrimSpace(a.Value), ":")
		space, known := x.scope.Lookup(prefix)
		if !qualified || !known || wellKnown[space] == "" || l.met[space] != nil {
			continue
		}
		l.warn(x.at(), "%s is used and not imported (XML Schema 1.0 Part 1, 4.2.3); it is known, so that does no "+
			"harm here", space)
		l.importDocument(x, space, "")
	}
	for child := range x.children() {
		l.addUsed(child)
	}
}

// fetch loads a document once. It returns nil when that cannot be, which is
// remarked: the schema may do without.
func (l *Loader) fetch(from xnode, location, adopted string, chameleon bool) *schemaDocument {
	if l.Fetch == nil {
		l.warn(from.at(), "%s is not fetched", location)
		l.unreached[adopted] = true
		return nil
	}
	resolved, data, err := l.Fetch(from.doc.location, location)
	if err != nil {
		l.warn(from.at(), "%s could not be loaded: %s", location, err)
		l.unreached[adopted] = true
		return nil
	}
	// A document is itself for each namespace that it takes on.
	if d := l.met[resolved+"\x00"+adopted]; d != nil {
		return d
	}
	for _, d := range l.documents {
		if d.location == resolved && !d.chameleon && (d.namespace != "" || !chameleon) {
			return d
		}
	}
	if len(l.documents) >= l.MaxDocuments {
		l.fail(from.at(), "more than %d schema documents are asked for", l.MaxDocuments)
		return nil
	}
	root, err := document.ReadXML(data, "")
	if err != nil {
		var syntax *document.Error
		at := Problem{Location: resolved}
		if errors.As(err, &syntax) {
			at.Line, at.Column = syntax.Line, syntax.Column
			l.fail(at, "not well-formed XML: %s", syntax.Message)
		} else {
			l.fail(at, "%s", err)
		}
		return nil
	}
	if root.Name().Local != "schema" || Current(root.Name().Space) != Namespace {
		l.fail(Problem{Location: resolved, Line: int(root.Line), Column: int(root.Column)}, "<%s> is not a schema",
			root.Name())
		return nil
	}
	d := l.document(resolved, root, nil, adopted, chameleon)
	l.met[resolved+"\x00"+adopted] = d
	l.follow(d)
	return d
}

// redefine notes what a document says anew about parts of another (Part 1, 4.2.2).
func (l *Loader) redefine(d, of *schemaDocument, c xnode) {
	if of.redefines == nil {
		of.redefines = map[redefinition]xnode{}
	}
	for part := range c.children() {
		key := redefinition{kind: kindOf(part.Name().Local), name: part.value("name")}
		found := false
		for original := range of.root.children() {
			found = found || kindOf(original.Name().Local) == key.kind && original.value("name") == key.name
		}
		if !found {
			l.fail(part.at(), "%s %s is not in what is redefined", part.Name().Local, key.name)
			continue
		}
		of.redefines[key] = part
	}
}

// kindOf names the symbol space of a component: types share one.
func kindOf(element string) string {
	if element == "simpleType" || element == "complexType" {
		return "type"
	}
	return element
}

// Schema completes the schema. A schema that is wrong gives a *SchemaError
// with everything that was found.
func (l *Loader) Schema() (*Schema, error) {
	l.init()
	b := &builder{loader: l, schema: &Schema{
		Elements: map[Name]*Element{}, Attributes: map[Name]*Attribute{}, Types: map[Name]Type{},
		substitutes: map[*Element][]*Element{}, referred: map[*Constraint]bool{},
	}}
	b.build()
	byPlace(l.problems)
	switch {
	case len(l.problems) > 0 && l.Tolerant:
		b.setAside()
	case len(l.problems) > 0:
		return nil, &SchemaError{Problems: l.problems}
	}
	b.schema.warned = l.warnings
	return b.schema, nil
}
