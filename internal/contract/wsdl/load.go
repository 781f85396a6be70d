package wsdl

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/xsd"
)

// maxDocuments bounds how many documents one contract may consist of.
const maxDocuments = 200

// Load reads the WSDL at a location and all that it imports. What cannot be
// reached is noted, as long as something is left to use.
func Load(location string, fetch xsd.Fetch) (*Contract, error) {
	resolved, data, err := fetch("", location)
	if err != nil {
		return nil, err
	}
	return Read(resolved, data, fetch)
}

// IsWSDL says whether a root element is that of a WSDL 1.1.
func IsWSDL(root *document.Node) bool {
	return root != nil && root.Name().Local == "definitions" && root.Name().Space == Namespace
}

// Read reads a WSDL in text form.
func Read(location string, data []byte, fetch xsd.Fetch) (*Contract, error) {
	root, err := xsd.ReadXML(location, data)
	if err != nil {
		return nil, err
	}
	return ReadTree(location, root, fetch)
}

// ReadTree reads a WSDL of which the tree is there already.
func ReadTree(location string, tree *document.Node, fetch xsd.Fetch) (*Contract, error) {
	l := &loader{
		fetch: fetch, met: map[string]bool{},
		contract: &Contract{Location: location, Prefixes: map[string]string{}},
		schemas:  &xsd.Loader{Fetch: fetch, MaxDocuments: maxDocuments, Tolerant: true},
		messages: map[xsd.Name]element{},
		policies: map[string]*document.Node{}, portTypes: map[xsd.Name]element{},
		bindings: map[xsd.Name]element{},
	}
	root := l.root(location, tree)
	if !IsWSDL(root.Node) {
		if root.Name().Space == "http://www.w3.org/ns/wsdl" {
			return nil, l.refuse(root, "this is WSDL 2.0; WSDL 1.1 can be read")
		}
		return nil, l.refuse(root, "<%s> is not a WSDL: the root element must be definitions in the namespace %s",
			root.Name(), Namespace)
	}
	c := l.contract
	c.Name, c.Namespace = root.value("name"), root.value("targetNamespace")
	c.Documentation = root.documentation()
	for prefix, space := range root.prefixes {
		c.Prefixes[prefix] = space
	}
	err := l.collect(root)
	if err != nil {
		return nil, err
	}
	if c.Schema, err = l.schemas.Schema(); err != nil {
		return nil, err
	}
	if err := l.services(); err != nil {
		return nil, err
	}
	return c, nil
}

type loader struct {
	fetch     xsd.Fetch
	met       map[string]bool
	contract  *Contract
	schemas   *xsd.Loader
	messages  map[xsd.Name]element
	portTypes map[xsd.Name]element
	bindings  map[xsd.Name]element
	found     []element // services, in their order
	order     []xsd.Name
	policies  map[string]*document.Node // by their ids
	unusable  *xsd.Problem              // of the operation at hand: what is wrong with what it needs
}

// element is an element of a WSDL with its document's name and its scope.
type element struct {
	*document.Node
	location  string
	namespace string // the target namespace of its document
	prefixes  map[string]string
}

func (e element) with(n *document.Node) element {
	inner := element{Node: n, location: e.location, namespace: e.namespace, prefixes: e.prefixes}
	copied := false
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() {
			continue
		}
		if !copied {
			inner.prefixes = make(map[string]string, len(e.prefixes)+1)
			for prefix, space := range e.prefixes {
				inner.prefixes[prefix] = space
			}
			copied = true
		}
		if a.Name.Prefix == "" {
			inner.prefixes[""] = a.Value
		} else {
			inner.prefixes[a.Name.Local] = a.Value
		}
	}
	return inner
}

// all goes through the elements in it of a namespace with a name.
func (e element) all(space, local string) iter.Seq[element] {
	return func(yield func(element) bool) {
		for _, item := range e.Items() {
			if item.Kind == document.Element && item.Name().Local == local && item.Name().Space == space &&
				!yield(e.with(item)) {
				return
			}
		}
	}
}

// children are the elements in it of a namespace with a name.
func (e element) children(space, local string) []element { return slices.Collect(e.all(space, local)) }

// extension finds an element of one of the SOAP bindings.
func (e element) extension(local string) (element, bool) {
	for _, space := range []string{SOAP11Namespace, SOAP12Namespace} {
		for found := range e.all(space, local) {
			return found, true
		}
	}
	return element{}, false
}

func (e element) value(name string) string {
	for _, a := range e.Attributes() {
		if a.Name.Local == name && a.Name.Space == "" && !a.IsDeclaration() {
			return strings.TrimSpace(a.Value)
		}
	}
	return ""
}

// isRequired says whether an extension must be understood, and used (WSDL 1.1, 2.5).
func (e element) isRequired() bool {
	return slices.ContainsFunc(e.Attributes(), func(a document.Attribute) bool {
		return a.Name.Local == "required" && a.Name.Space == Namespace && (a.Value == "true" || a.Value == "1")
	})
}

func (e element) documentation() string {
	for d := range e.all(Namespace, "documentation") {
		return strings.Join(strings.Fields(textOf(d.Node)), " ")
	}
	return ""
}

func textOf(n *document.Node) string {
	switch n.Kind {
	case document.Element:
		var out strings.Builder
		for _, item := range n.Items() {
			out.WriteString(textOf(item) + " ")
		}
		return out.String()
	case document.Comment, document.Instruction:
		return ""
	}
	return n.Text
}

func (e element) at(message string) xsd.Problem {
	return xsd.Problem{Location: e.location, Line: int(e.Line), Column: int(e.Column), Message: message}
}

func (l *loader) refuse(e element, format string, args ...any) error {
	return &xsd.SchemaError{Problems: []xsd.Problem{e.at(fmt.Sprintf(format, args...))}}
}

func (l *loader) note(e element, format string, args ...any) {
	problem := e.at(fmt.Sprintf(format, args...))
	for _, n := range l.contract.notes {
		if n == problem {
			return
		}
	}
	l.contract.notes = append(l.contract.notes, problem)
}

// name resolves a qualified name in an attribute.
func (l *loader) name(e element, text string) (xsd.Name, error) {
	prefix, local, qualified := strings.Cut(text, ":")
	if !qualified {
		prefix, local = "", text
	}
	space, known := e.prefixes[prefix]
	if !known && prefix != "" {
		return xsd.Name{}, l.refuse(e, "the prefix of %s is not declared there", text)
	}
	if prefix == "" && (space == Namespace || space == "") {
		// A name without prefix where the default namespace is WSDL's: the
		// contract's own names are meant.
		space = e.namespace
	}
	return xsd.Name{Space: space, Local: local}, nil
}

// root is the root of a document that is met.
func (l *loader) root(location string, tree *document.Node) element {
	l.met[location] = true
	e := element{Node: tree, location: location}
	e = e.with(tree)
	e.namespace = e.value("targetNamespace")
	return e
}

// collect finds what a document declares, and follows its imports.
func (l *loader) collect(root element) error {
	for i := range root.all(Namespace, "import") {
		if err := l.follow(i); err != nil {
			return err
		}
	}
	for types := range root.all(Namespace, "types") {
		for _, item := range types.Items() {
			if item.Kind != document.Element {
				continue
			}
			if item.Name().Local != "schema" {
				l.note(types.with(item), "%s in types is passed over: schemas are read", item.Name())
				continue
			}
			if err := l.schemas.Add(types.location, item, types.prefixes); err != nil {
				l.note(types.with(item), "a schema is passed over: %v", err)
			}
		}
	}
	for _, kind := range []struct {
		local string
		into  map[xsd.Name]element
	}{{"message", l.messages}, {"portType", l.portTypes}, {"binding", l.bindings}} {
		for e := range root.all(Namespace, kind.local) {
			name := xsd.Name{Space: root.namespace, Local: e.value("name")}
			if before, twice := kind.into[name]; twice {
				l.note(e, "%s %s is declared twice, first at %s:%d; the first counts", kind.local, name,
					before.location, before.Line)
				continue
			}
			kind.into[name] = e
			if kind.local == "binding" {
				l.order = append(l.order, name)
			}
		}
	}
	l.collectPolicies(root)
	l.found = append(l.found, root.children(Namespace, "service")...)
	return nil
}

// follow loads an imported WSDL; some import a schema in this way.
func (l *loader) follow(i element) error {
	location := i.value("location")
	if location == "" {
		l.note(i, "the import of %s says no location", i.value("namespace"))
		return nil
	}
	if l.fetch == nil {
		l.note(i, "%s is not fetched", location)
		return nil
	}
	resolved, data, err := l.fetch(i.location, location)
	if err != nil {
		l.note(i, "%s could not be loaded: %s", location, err)
		return nil
	}
	if l.met[resolved] {
		return nil
	}
	if len(l.met) >= maxDocuments {
		return l.refuse(i, "more than %d documents are imported", maxDocuments)
	}
	tree, err := xsd.ReadXML(resolved, data)
	if err != nil {
		l.note(i, "%s is passed over: %v", location, err)
		return nil
	}
	root := l.root(resolved, tree)
	if root.Name().Local == "schema" {
		l.note(i, "a schema is imported as if it were a WSDL (Basic Profile 1.1, R2001)")
		if err := l.schemas.Add(resolved, root.Node, nil); err != nil {
			l.note(i, "%s is passed over: %v", location, err)
		}
		return nil
	}
	if !IsWSDL(root.Node) {
		l.note(i, "%s is passed over: <%s> is not a WSDL", location, root.Name())
		return nil
	}
	return l.collect(root)
}
