// Package openapi reads OpenAPI 2.0, 3.0 and 3.1: operations with what they take
// and what they answer, and how to get in. The documents are read here; schemas
// are compiled when an operation is asked for.
package openapi

import (
	"bytes"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/jsonschema"
	"testbench/internal/lazy"
	"testbench/internal/suggest"
)

// Contract is a description with all that it refers to.
type Contract struct {
	head     contract.Head
	docs     *jsonschema.Documents
	root     jsonschema.Location
	dialect  jsonschema.Dialect
	requests *jsonschema.Set
	answers  *jsonschema.Set
	found    []*found
	byName   map[string]*found

	mutex sync.Mutex
}

// found is where an operation stands.
type found struct {
	name, method, path string
	item, at           jsonschema.Location
	made               *contract.Endpoint
}

// begins matches what an OpenAPI description says of itself, in JSON or YAML.
var begins = lazy.Regexp(`(?m)^[ \t{,]*["']?(openapi|swagger)["']?[ \t]*:`)

// Is says whether a text looks like an OpenAPI description.
func Is(data []byte) bool {
	start := bytes.TrimLeft(data, "\ufeff \t\r\n")
	return !bytes.HasPrefix(start, []byte("<")) && begins().Match(start)
}

// Read reads a description. Fetch gets the files that it refers to; nil gets none.
func Read(location string, data []byte, fetch func(base, location string) (string, []byte, error)) (*Contract, error) {
	root, err := jsonschema.ReadData(location, data)
	if err != nil {
		return nil, err
	}
	c := &Contract{docs: &jsonschema.Documents{Fetch: fetch}, byName: map[string]*found{}}
	c.root = c.docs.Add(location, root)
	version, older := text(root, "openapi"), text(root, "swagger")
	schemes := root.Get("components").Get("securitySchemes")
	switch {
	case strings.HasPrefix(version, "3.0"):
		c.dialect = jsonschema.OpenAPI30
	case strings.HasPrefix(version, "3."):
		c.dialect = jsonschema.OpenAPI31
	case older == "2.0":
		c.dialect, version, schemes = jsonschema.OpenAPI20, older, root.Get("securityDefinitions")
	case version != "" || older != "":
		return nil, fmt.Errorf("%s is of OpenAPI %s; 2.0, 3.0 and 3.1 are read", location, version+older)
	default:
		return nil, fmt.Errorf("%s is not an OpenAPI description: neither openapi nor swagger says its version",
			location)
	}
	info := root.Get("info")
	c.head = contract.Head{
		Format: "OpenAPI " + version, Location: location, Title: text(info, "title"),
		About: oneLine(text(info, "description")),
	}
	if schemes != nil {
		needed := required(root)
		for _, m := range schemes.Members() {
			at := c.follow(c.root.Below("components").Below("securitySchemes").Below(m.Key))
			if at.Node == nil {
				at.Node = m.Value
			}
			c.head.Security = append(c.head.Security, scheme(m.Key, at.Node, needed))
		}
	}
	c.requests = jsonschema.NewSet(c.docs, c.dialect, jsonschema.Request)
	c.answers = jsonschema.NewSet(c.docs, c.dialect, jsonschema.Answer)
	c.head.Servers = c.servers(root)
	if webhooks := c.root.Below("webhooks"); webhooks.Node != nil && c.dialect == jsonschema.OpenAPI31 {
		for _, m := range webhooks.Node.Members() { // 3.1.0, 4.8.1.1
			if item := c.follow(webhooks.Below(m.Key)); item.Node != nil {
				c.head.Webhooks = append(c.head.Webhooks, requestsOf(item, m.Key, "")...)
			}
		}
	}
	c.operations()
	return c, nil
}

// Head is what the description says of itself.
func (c *Contract) Head() *contract.Head { return &c.head }

// Names lists the operations in the order of the description.
func (c *Contract) Names() []string {
	names := make([]string, len(c.found))
	for i, f := range c.found {
		names[i] = f.name
	}
	return names
}

// Operation finds an operation by its name, or by method and path.
func (c *Contract) Operation(name string) (*contract.Endpoint, error) {
	f := c.byName[name]
	if f == nil {
		return nil, nil
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if f.made == nil {
		f.made = c.operation(f)
	}
	return f.made, nil
}

func (c *Contract) note(format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if !slices.Contains(c.head.Notes, text) {
		c.head.Notes = append(c.head.Notes, text)
	}
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// follow goes where references lead; the node is nil where that is nowhere, which
// is noted.
func (c *Contract) follow(at jsonschema.Location) jsonschema.Location {
	for range 30 {
		ref := at.Node.Get("$ref")
		if ref == nil || ref.Kind != document.Text {
			return at
		}
		next, err := c.docs.Resolve(at.Location, "", ref.Text)
		if err != nil {
			c.note("%s: %s", pointerWords(at), err)
			return jsonschema.Location{Location: at.Location, Pointer: at.Pointer}
		}
		at = next
	}
	c.note("%s: its $ref goes round in a circle", pointerWords(at))
	return jsonschema.Location{Location: at.Location, Pointer: at.Pointer}
}

func pointerWords(at jsonschema.Location) string {
	if at.Node != nil && at.Node.Line > 0 {
		return fmt.Sprintf("%s:%d:%d", at.Location, at.Node.Line, at.Node.Column)
	}
	return at.String()
}

// methods are those of a path item, in the order in which OpenAPI lists them.
var methods = []string{"get", "put", "post", "delete", "options", "head", "patch", "trace"}

// operations finds every operation and gives it a name.
func (c *Contract) operations() {
	paths := c.root.Below("paths")
	if paths.Node == nil {
		return
	}
	templates := map[string]string{}
	for _, m := range paths.Node.Members() {
		if strings.HasPrefix(m.Key, "x-") {
			continue
		}
		item := c.follow(paths.Member(m))
		if item.Node == nil {
			continue
		}
		if !strings.HasPrefix(m.Key, "/") {
			c.note("the path %q does not begin with /", m.Key)
		}
		// Paths that differ only in the names of parameters are the same (3.1.0, 4.8.8.2).
		template := contract.FillPath(m.Key, map[string]string{})
		if other, has := templates[template]; has {
			c.note("the paths %s and %s cannot be told apart", other, m.Key)
		}
		templates[template] = m.Key
		for _, one := range item.Node.Members() {
			if !slices.Contains(methods, one.Key) {
				continue
			}
			f := &found{method: strings.ToUpper(one.Key), path: m.Key, item: item, at: item.Member(one)}
			f.name = text(one.Value, "operationId")
			if f.name != "" && c.byName[f.name] != nil {
				c.note("two operations are called %s: %s %s and %s %s", f.name, c.byName[f.name].method,
					c.byName[f.name].path, f.method, f.path)
				f.name = ""
			}
			if f.name == "" {
				f.name = c.unused(nameOf(one.Key, m.Key))
			}
			c.found = append(c.found, f)
			c.byName[f.name] = f
			c.byName[f.method+" "+f.path] = f
		}
	}
}

// nameOf makes a name of method and path: get_lots_id.
func nameOf(method, path string) string {
	name := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, path), "_")
	for strings.Contains(name, "__") {
		name = strings.ReplaceAll(name, "__", "_")
	}
	return strings.TrimSuffix(method+"_"+name, "_")
}

func (c *Contract) unused(name string) string {
	candidate := name
	for i := 2; c.byName[candidate] != nil; i++ {
		candidate = fmt.Sprintf("%s_%d", name, i)
	}
	return candidate
}

// servers lists where the service is offered, variables filled with their defaults
// (3.1.0, 4.8.5); relative addresses are those of the document (4.8.5).
func (c *Contract) servers(n *document.Node) []contract.Server {
	var out []contract.Server
	add := func(address, about string) {
		if home, err := url.Parse(c.root.Location); err == nil && (home.Scheme == "http" || home.Scheme == "https") {
			if resolved, err := home.Parse(address); err == nil {
				address = resolved.String()
			}
		}
		out = append(out, contract.Server{Address: strings.TrimSuffix(address, "/"), About: oneLine(about)})
	}
	if c.dialect == jsonschema.OpenAPI20 {
		host, base := text(n, "host"), text(n, "basePath")
		schemes := n.Get("schemes")
		if host == "" || schemes == nil || len(schemes.Items()) == 0 {
			if host != "" {
				add("//"+host+base, "")
			} else if base != "" {
				add(base, "")
			}
			return out
		}
		for _, s := range schemes.Items() {
			add(s.Text+"://"+host+base, "")
		}
		return out
	}
	list := n.Get("servers")
	if list == nil {
		return nil
	}
	for _, s := range list.Items() {
		address := text(s, "url")
		if variables := s.Get("variables"); variables != nil {
			for _, v := range variables.Members() {
				def := text(v.Value, "default")
				if allowed := v.Value.Get("enum"); allowed != nil &&
					!slices.ContainsFunc(allowed.Items(), func(n *document.Node) bool { return n.Text == def }) {
					c.note("the default %q of the server variable %s is not among those that it allows", def, v.Key)
				}
				address = strings.ReplaceAll(address, "{"+v.Key+"}", def)
			}
		}
		if strings.Contains(address, "{") {
			c.note("the server %s has a variable that is not described", address)
		}
		add(address, text(s, "description"))
	}
	return out
}

// Schema finds a schema of the description by its name, for answers.
func (c *Contract) Schema(name string) (*jsonschema.Schema, error) {
	at := c.root.Below("components").Below("schemas")
	if c.dialect == jsonschema.OpenAPI20 {
		at = c.root.Below("definitions")
	}
	inner := at.Below(name)
	if inner.Node == nil {
		var names []string
		if at.Node != nil {
			names = at.Node.Names()
		}
		return nil, fmt.Errorf("the description has no schema %q; %s", name, suggest.Instead(name, names))
	}
	return c.answers.Open(inner)
}
