// Package odata reads the metadata of OData services: CSDL of version 4 in XML
// and JSON, and the EDMX of versions 2 and 3. It makes operations of what the
// metadata offers, and knows how values are written in each version.
package odata

import (
	"net/url"
	"slices"
	"strings"
	"sync"

	"testbench/internal/contract"
	"testbench/internal/document"
)

// Contract is the metadata of a service.
type Contract struct {
	head  contract.Head
	model *model
	names []string
	// plans are the ways to make the operations, by name.
	plans map[string]func() *contract.Endpoint

	mutex sync.Mutex
	made  map[string]*contract.Endpoint
}

// Of is the metadata that a contract is, as far as it is; nil for others.
func Of(c contract.Contract) *Contract {
	described, ok := contract.Base(c).(*contract.Described)
	if !ok {
		return nil
	}
	metadata, _ := described.Description.(*Contract)
	return metadata
}

// Head is what the metadata says of itself.
func (c *Contract) Head() *contract.Head { return &c.head }

// Names lists the operations: sets in the order of the metadata, with what can be
// done with each, then what is called by itself.
func (c *Contract) Names() []string { return c.names }

// Groups lists the sets, and what can be done with each.
func (c *Contract) Groups() []contract.Group {
	var out []contract.Group
	index := map[string]int{}
	abouts := map[string]string{}
	for _, s := range c.model.sets {
		abouts[s.name] = s.about
		if t := c.model.find(s.typeName); abouts[s.name] == "" && t != nil {
			abouts[s.name] = t.about
		}
	}
	for _, name := range c.names {
		group, rest, grouped := strings.Cut(name, ".")
		if !grouped {
			rest = ""
		}
		at, has := index[group]
		if !has {
			at = len(out)
			index[group] = at
			out = append(out, contract.Group{Name: group, About: abouts[group]})
			if !grouped {
				if o, err := c.Operation(name); err == nil {
					out[at].About = o.About
				}
			}
		}
		if rest != "" {
			out[at].Operations = append(out[at].Operations, rest)
		}
	}
	return out
}

// Operation finds an operation by its name.
func (c *Contract) Operation(name string) (*contract.Endpoint, error) {
	plan := c.plans[name]
	if plan == nil {
		return nil, nil
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.made[name] == nil {
		made := plan()
		if set, isList := strings.CutSuffix(name, ".list"); isList && c.plans[set+".read"] != nil {
			made.ItemURL = c.itemURL(made, set+".read")
		}
		c.made[name] = made
	}
	return c.made[name], nil
}

// itemURL tells where an item of a list stands, as the operation that reads one makes it of
// its key.
func (c *Contract) itemURL(list *contract.Endpoint, read string) func(*url.URL, *document.Node) *url.URL {
	return func(at *url.URL, item *document.Node) *url.URL {
		one, _ := c.Operation(read)
		fields := document.NewObject()
		for _, key := range one.Parameters {
			if v := item.Get(key.Name); key.In == contract.InPath && v != nil {
				fields.Set(key.Name, v)
			}
		}
		built, problems := one.Build(fields, contract.BuildOptions{})
		if len(problems) > 0 {
			return nil
		}
		root := *at
		root.RawQuery, root.Fragment = "", ""
		below, _ := strings.CutSuffix(root.String(), list.Path)
		of, err := url.Parse(below + built.Path)
		if err != nil {
			return nil
		}
		return of
	}
}

// model is what metadata of all versions says.
type model struct {
	version    string // 2.0, 3.0, 4.0, 4.01
	types      map[string]*typeDef
	aliases    map[string]string // alias: namespace
	sets       []*set
	inSets     map[string]bool // the types of the sets
	functions  []*function     // actions too
	imports    []*function     // of the container, under their own names
	container  string
	namespaces []string
}

func (m *model) isV2() bool {
	return strings.HasPrefix(m.version, "2") || strings.HasPrefix(m.version, "3")
}

// typeKind tells the kinds of structured and named types apart.
type typeKind uint8

const (
	entityKind typeKind = iota
	complexKind
	enumKind
	definitionKind
)

type typeDef struct {
	kind       typeKind
	name       string // with its namespace
	base       string
	abstract   bool
	open       bool
	stream     bool
	key        []string
	properties []*property
	byName     map[string]*property // of the properties, the first of each name
	members    []enumMember         // of an enumeration
	flags      bool
	underlying string // of a definition or an enumeration
	facets     facets
	about      string
	marks      marks
}

type enumMember struct{ name, value, about string }

// facets bound the values of a type (CSDL XML 4.01, 7.2).
type facets struct {
	maxLength int // 0: none said
	precision int // -1: none said
	scale     int // -1: variable or none said
}

var noFacets = facets{precision: -1, scale: -1}

type property struct {
	name       string
	typeName   string // without Collection()
	collection bool
	nullable   bool
	facets
	fallback   string // the default value
	navigation bool
	contained  bool
	partner    string // the navigation that leads back
	// dependents hold the key of what navigation leads to; fromHere are those of what
	// it leads to that hold the key of where it starts.
	dependents, fromHere []string
	about                string
	marks                marks
}

// marks are what annotations say, of a property, a type or a set.
type marks struct {
	computed, immutable    bool
	unfilterable           bool
	unsortable             bool
	defaulted              bool // the service has a value where none is given
	noInsert, noUpdate     bool
	noDelete, noCount      bool
	noSearch, noTop        bool
	noSkip, noExpand       bool
	concurrency            bool
	filterNeeded           []string // properties that a filter must name
	notInsertable, notNull []string
	notUpdatable           []string
	notFilterable          []string
	notSortable            []string
	notExpandable          []string
}

type set struct {
	name      string
	typeName  string
	singleton bool
	about     string
	marks     marks
}

// function is an action or a function, bound or not.
type function struct {
	name       string // with its namespace, or that of an import
	action     bool
	bound      bool
	method     string // of 2.0: GET or POST
	parameters []*property
	returns    *property // nil for nothing
	set        string    // of 2.0: the entity set of what comes back
	about      string
}

// find looks a type up by its qualified name.
func (m *model) find(name string) *typeDef { return m.types[m.resolve(name)] }

// resolve writes a qualified name with its namespace in place of an alias.
func (m *model) resolve(name string) string {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return name
	}
	if space, ok := m.aliases[name[:at]]; ok {
		return space + name[at:]
	}
	return name
}

// index is called when all types are read, and before anything is found in them.
func (m *model) index() {
	for _, t := range m.types {
		t.index()
	}
}

// index makes the properties found by name.
func (t *typeDef) index() {
	t.byName = make(map[string]*property, len(t.properties))
	for _, p := range slices.Backward(t.properties) {
		t.byName[p.name] = p
	}
}

// all lists the properties of a type with those that it inherits, and its key.
func (m *model) all(t *typeDef) (properties []*property, key []string) {
	var chain []*typeDef
	for t != nil && len(chain) < mostBases && !slices.Contains(chain, t) {
		chain = append(chain, t)
		t = m.find(t.base)
	}
	slices.Reverse(chain)
	for _, one := range chain {
		properties = append(properties, one.properties...)
		if len(one.key) > 0 {
			key = one.key
		}
	}
	return properties, key
}

// property finds a property of a type or of those that it is derived from; those
// of derived types count where deep is set.
func (m *model) property(t *typeDef, name string) *property {
	var found *property
	for range mostBases {
		if t == nil {
			break
		}
		if p := t.byName[name]; p != nil {
			found = p // what a base has counts first
		}
		t = m.find(t.base)
	}
	return found
}

// mostBases bounds how long a chain of base types is.
const mostBases = 100

// isAssigned says whether the service may choose a property's value: a number or
// GUID that is a whole key often is, and few services say so in their metadata.
func (m *model) isAssigned(p *property, key []string) bool {
	edm, _, _ := m.primitive(p.typeName)
	return len(key) == 1 && key[0] == p.name && (integers[edm] > 0 || edm == "Edm.Guid")
}

// hasSet says whether entities of a type can be asked for without going through
// others.
func (m *model) hasSet(t *typeDef) bool {
	for range 50 {
		if t == nil {
			return false
		}
		if m.inSets[t.name] {
			return true
		}
		t = m.find(t.base)
	}
	return false
}

func (m *model) propertyNames(t *typeDef) []string {
	properties, _ := m.all(t)
	names := make([]string, len(properties))
	for i, p := range properties {
		names[i] = p.name
	}
	return names
}

// isOpen says whether a type takes properties that are not declared.
func (m *model) isOpen(t *typeDef) bool {
	for range 50 {
		if t == nil {
			return false
		}
		if t.open {
			return true
		}
		t = m.find(t.base)
	}
	return false
}

// isDerived says whether one type is another, or derived from it.
func (m *model) isDerived(t *typeDef, from string) bool {
	for range 50 {
		if t == nil {
			return false
		}
		if t.name == from {
			return true
		}
		t = m.find(t.base)
	}
	return false
}

// local is a name without its namespace.
func local(name string) string { return name[strings.LastIndexByte(name, '.')+1:] }
