package jsonschema

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"testbench/internal/document"
)

// mostDocuments bounds how many files one description may lead to.
const mostDocuments = 200

// Documents are the files that a description consists of, each read once. They
// resolve references, by JSON pointer (RFC 6901), anchor or id.
type Documents struct {
	// Fetch gets the file that base speaks of as location; nil gets none.
	Fetch func(base, location string) (resolved string, data []byte, err error)

	mutex  sync.Mutex
	roots  map[string]*document.Node
	failed map[string]error
	asked  map[[2]string]string
	ids    map[string]Location
	found  map[[3]string]Location // what references lead to
}

// Location is where something is in a file.
type Location struct {
	Location string // of the file
	Pointer  string // as JSON pointers are written; "" for the whole file
	Node     *document.Node
}

func (p Location) String() string { return p.Location + "#" + p.Pointer }

// Below is the place of a member or an item of a place.
func (p Location) Below(name string) Location {
	next := Location{Location: p.Location, Pointer: p.Pointer + "/" + escapePointer(name)}
	if p.Node != nil && p.Node.Kind == document.List {
		if index, err := strconv.Atoi(name); err == nil && index >= 0 && index < len(p.Node.Items()) {
			next.Node = p.Node.Items()[index]
		}
		return next
	}
	next.Node = p.Node.Get(name)
	return next
}

// Member is the place of a member that is known; it need not be looked for.
func (p Location) Member(m document.Member) Location {
	return Location{Location: p.Location, Pointer: p.Pointer + "/" + escapePointer(m.Key), Node: m.Value}
}

func escapePointer(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

func unescapePointer(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~1", "/"), "~0", "~")
}

// ReadData reads JSON or YAML.
func ReadData(location string, data []byte) (*document.Node, error) {
	read := document.ReadYAML
	if document.Guess(data) == document.JSON {
		read = document.ReadPlacedJSON
	}
	node, err := read(data)
	if err != nil && document.Guess(data) == document.JSON {
		// YAML may begin like JSON: a flow mapping.
		if flow, yamlErr := document.ReadYAML(data); yamlErr == nil {
			return flow, nil
		}
	}
	if err != nil {
		return nil, fmt.Errorf("%s is %w", location, err)
	}
	return node, nil
}

// root is the document of a location; nil where there is none.
func (d *Documents) root(location string) *document.Node {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return d.roots[location]
}

// Add puts a file in that was read already.
func (d *Documents) Add(location string, root *document.Node) Location {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return d.add(location, root)
}

func (d *Documents) add(location string, root *document.Node) Location {
	if d.roots == nil {
		d.roots, d.failed, d.asked, d.ids = map[string]*document.Node{}, map[string]error{}, map[[2]string]string{},
			map[string]Location{}
		d.found = map[[3]string]Location{}
	}
	d.roots[location] = root
	place := Location{Location: location, Node: root}
	if namesItself(root, 0) {
		d.index(place, "", 0)
	}
	return place
}

// namesItself says whether anything in a file has an id, which few descriptions do.
func namesItself(n *document.Node, depth int) bool {
	if n == nil || depth > 100 {
		return false
	}
	for _, m := range n.Members() {
		if m.Key == "$id" || namesItself(m.Value, depth+1) {
			return true
		}
	}
	return slices.ContainsFunc(n.Items(), func(item *document.Node) bool { return namesItself(item, depth+1) })
}

// index finds what schemas call themselves ($id; JSON Schema 2020-12, 8.2.1).
func (d *Documents) index(p Location, base string, depth int) {
	if p.Node == nil || depth > 100 {
		return
	}
	if id := p.Node.Get("$id"); id != nil && id.Kind == document.Text {
		base = resolveID(base, id.Text)
		d.ids[base] = p
	}
	for _, m := range p.Node.Members() {
		if m.Value.Kind == document.Object || m.Value.Kind == document.List {
			d.index(p.Member(m), base, depth+1)
		}
	}
	for i, item := range p.Node.Items() {
		if item.Kind == document.Object || item.Kind == document.List {
			d.index(p.Below(strconv.Itoa(i)), base, depth+1)
		}
	}
}

func resolveID(base, ref string) string {
	b, err := url.Parse(base)
	if err != nil {
		return ref
	}
	resolved, err := b.Parse(ref)
	if err != nil {
		return ref
	}
	return strings.TrimSuffix(resolved.String(), "#")
}

// file gets another file, once.
func (d *Documents) file(base, location string) (string, error) {
	key := [2]string{base, location}
	if resolved, ok := d.asked[key]; ok {
		return resolved, d.failed[resolved]
	}
	if d.Fetch == nil {
		return "", fmt.Errorf("%s is another file, which cannot be read here", location)
	}
	if len(d.roots) >= mostDocuments {
		return "", fmt.Errorf("%s: the description leads to more than %d files", location, mostDocuments)
	}
	resolved, data, err := d.Fetch(base, location)
	if err == nil && d.roots[resolved] == nil {
		var root *document.Node
		if root, err = ReadData(resolved, data); err == nil {
			d.add(resolved, root)
		}
	}
	if resolved == "" {
		resolved = base + " " + location
	}
	d.asked[key], d.failed[resolved] = resolved, err
	return resolved, err
}

// Resolve finds what a reference in a file leads to. id is what the schema
// around it calls itself, "" for none.
func (d *Documents) Resolve(base, id, reference string) (Location, error) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	key := [3]string{base, id, reference}
	if found, ok := d.found[key]; ok {
		return found, nil
	}
	found, err := d.resolve(base, id, reference)
	if err == nil {
		d.found[key] = found
	}
	return found, err
}

func (d *Documents) resolve(base, id, reference string) (Location, error) {
	location, fragment, _ := strings.Cut(reference, "#")
	place := Location{Location: base, Node: d.roots[base]}
	if location != "" || id != "" {
		own, known := d.ids[resolveID(id, location)]
		switch {
		case known:
			place = own
		case location != "":
			resolved, err := d.file(base, location)
			if err != nil {
				return Location{}, fmt.Errorf("$ref %s: %w", reference, err)
			}
			place = Location{Location: resolved, Node: d.roots[resolved]}
		}
	}
	if fragment == "" {
		return place, nil
	}
	if unescaped, err := url.PathUnescape(fragment); err == nil {
		fragment = unescaped
	}
	if !strings.HasPrefix(fragment, "/") {
		if found, ok := anchored(place, fragment, 0); ok {
			return found, nil
		}
		return Location{}, fmt.Errorf("$ref %s leads to nowhere: there is no anchor %s", reference, fragment)
	}
	return follow(place, fragment, reference)
}

// follow goes from a place where a JSON pointer leads.
func follow(at Location, pointer, reference string) (Location, error) {
	if pointer == "" {
		return at, nil
	}
	for _, name := range strings.Split(pointer[1:], "/") {
		name = unescapePointer(name)
		next := at.Below(name)
		if next.Node == nil {
			return Location{}, fmt.Errorf("$ref %s leads to nowhere: there is no %s%s", reference, name,
				map[bool]string{true: " in " + at.Pointer, false: ""}[at.Pointer != ""])
		}
		at = next
	}
	return at, nil
}

// anchored finds a schema by its anchor (JSON Schema 2020-12, 8.2.2).
func anchored(p Location, name string, depth int) (Location, bool) {
	if p.Node == nil || depth > 100 {
		return Location{}, false
	}
	for _, key := range []string{"$anchor", "$dynamicAnchor"} {
		if anchor := p.Node.Get(key); anchor != nil && anchor.Text == name {
			return p, true
		}
	}
	for _, m := range p.Node.Members() {
		if found, ok := anchored(p.Below(m.Key), name, depth+1); ok {
			return found, true
		}
	}
	for i := range p.Node.Items() {
		if found, ok := anchored(p.Below(strconv.Itoa(i)), name, depth+1); ok {
			return found, true
		}
	}
	return Location{}, false
}
