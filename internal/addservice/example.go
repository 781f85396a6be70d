package addservice

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/rule"
	"testbench/internal/secret"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Example is a service as an address tells it: what is before the path of its
// one operation, and what can be filled in.
type Example struct {
	Address   string // origin and path before that of the operation
	Operation string
	Method    string
	Path      string // with {name} for what looks like an identifier
	Fields    []ExampleField
	Secrets   []ExampleSecret
	User      string // of the address, with a password among the secrets
	Notes     []string
	// Body is one that no fields are made of, and its media type.
	Body, BodyType string
	// Of SOAP: its version, the action, the payload's element, whether WS-Addressing goes along, header
	// blocks (nil for none).
	SOAP, Action, Payload string
	Addressing            bool
	Blocks                *document.Node
	Names                 [][2]string    // prefixes of XML names with their namespaces
	Template              *document.Node // what the body is made of; nil where it is its fields
	Cookies               [][2]string    // that always go along: names, and under what they are sealed
	LoginKind             string         // of the user and password; "" for basic
	Parts                 []examplePart  // of a body of several parts: a step sends them, and no operation
	Line                  string         // path and query of such a step
	More                  []*Example     // the operations, where there are several: this is the service alone
	Files                 map[string][]byte
	Checks                string // of the answer, as a step has them; "" for none
}

// ExampleField is a parameter with its value in the example as its default.
type ExampleField struct {
	In         string // path, headers, form or body; empty is the query
	Wire, Name string
	Kind       string
	Default    string
	Fixed      string         // what is always sent; "" for nothing
	List       *document.Node // the default, where it is a list
	Required   bool           // there is no default
	IsText     bool           // the default looks like a number, and is a text
}

// ExampleSecret is a value that looks like a key: it is sealed, and not written.
type ExampleSecret struct {
	Name, Wire, Text string
	Header, Word     string // the header that it is in, and the word before it
	Password         bool
	Loose            bool // no login sends it
}

var (
	// idForm is a path piece that looks like an identifier: it has a digit, or is
	// written as hexadecimal or Base64 are.
	idForm = lazy.Regexp(
		`^([A-Za-z]{0,6}[-_]?[0-9][0-9A-Za-z._-]*|[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12})$`)
	versionForm = lazy.Regexp(`^v[0-9]+(\.[0-9]+)*$`)
)

// identifier makes a name that placeholders can have.
func identifier(text string) string {
	var out strings.Builder
	for i, c := range text {
		switch {
		case c >= 'A' && c <= 'Z' && i > 0 && text[i-1] >= 'a' && text[i-1] <= 'z':
			out.WriteByte('_')
			out.WriteRune(c + 'a' - 'A')
		case c >= 'A' && c <= 'Z':
			out.WriteRune(c + 'a' - 'A')
		case c >= 'a' && c <= 'z' || c == '_' || c >= '0' && c <= '9' && out.Len() > 0:
			out.WriteRune(c)
		default:
			out.WriteByte('_')
		}
	}
	name := strings.Trim(out.String(), "_")
	if !value.IsIdentifier(name) {
		return "field"
	}
	return name
}

// kindsOfExamples are those that a value in an address may be told to have.
var kindsOfExamples = []string{"integer", "number", "boolean", "date", "datetime", "uuid", "email"}

// ReadExample takes an address apart. Service names the secrets.
func ReadExample(service, address string) (*Example, error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is neither a file nor an address: it must begin with http:// or https:// and a host",
			address)
	}
	e := &Example{Method: "GET", Operation: "get"}
	prefix := identifier(service) + "_"
	if u.User != nil {
		e.User = u.User.Username()
		if password, ok := u.User.Password(); ok {
			e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + "password", Text: password, Password: true})
		}
	}
	e.path(prefix, u)
	taken := map[string]bool{}
	for pair := range strings.SplitSeq(u.RawQuery, "&") {
		wire, text, _ := strings.Cut(pair, "=")
		wire, text = queryText(wire), queryText(text)
		switch {
		case wire == "":
			continue
		case taken[wire]:
			e.Notes = append(e.Notes, fmt.Sprintf("%s is there more than once; a list of values fills it", wire))
			continue
		}
		taken[wire] = true
		if secret.IsCredential(wire, text) {
			e.Secrets = append(e.Secrets, ExampleSecret{Name: prefix + identifier(wire), Wire: wire, Text: text})
			continue
		}
		e.Fields = append(e.Fields, e.field(ExampleField{Wire: wire, Name: wire, Default: text}))
	}
	if u.Fragment != "" {
		e.Notes = append(e.Notes, "what is after # is not sent, and was left out")
	}
	return e, nil
}

func queryText(text string) string {
	if unescaped, err := url.QueryUnescape(text); err == nil {
		return unescaped
	}
	return text
}

// field finds the kind of a value, and a name that can be typed.
func (e *Example) field(f ExampleField) ExampleField {
	if strings.ContainsAny(f.Name, " .[]\"=$@:") {
		f.Name = identifier(f.Name)
	}
	for _, kind := range kindsOfExamples {
		if f.Default != "" && rule.IsKind(kind, document.NewUntyped(f.Default)) {
			f.Kind = kind
			break
		}
	}
	return f
}

// path splits the path: what looks like an identifier becomes a parameter, and the
// operation begins at the last piece before the first of them.
func (e *Example) path(prefix string, u *url.URL) {
	pieces := strings.Split(strings.Trim(u.EscapedPath(), "/"), "/")
	if len(pieces) == 1 && pieces[0] == "" {
		e.Address, e.Path = u.Scheme+"://"+u.Host, ""
		return
	}
	first := len(pieces) - 1
	for i, piece := range pieces {
		if text := unescaped(piece); (isIdentifier(text) || isEncodedID(piece, text) ||
			secret.IsCredential("", text)) && i > 0 {
			first = i - 1
			break
		}
	}
	names := map[string]bool{}
	for i := first; i < len(pieces); i++ {
		text := unescaped(pieces[i])
		bare, extension := text, ""
		if dot := strings.LastIndexByte(text, '.'); dot > 0 && len(text)-dot <= 6 &&
			!strings.ContainsAny(text[dot:], "0123456789") {
			bare, extension = text[:dot], text[dot:]
		}
		if !isIdentifier(text) && !isIdentifier(bare) && !isEncodedID(pieces[i], text) &&
			!secret.IsCredential("", bare) {
			e.Operation = identifier(bare)
			continue
		}
		name := "id"
		if i > 0 {
			name = singular(identifier(pieces[i-1]))
		}
		base := name
		for n := 2; names[name]; n++ {
			name = fmt.Sprintf("%s_%d", base, n)
		}
		names[name] = true
		field := e.field(ExampleField{In: "path", Wire: name, Name: name, Default: bare})
		if secret.IsCredential("", bare) {
			sealed := e.seal(prefix, name, bare)
			field = ExampleField{In: "path", Wire: name, Name: name}
			e.Notes = append(e.Notes,
				fmt.Sprintf("a piece of the path looks like a secret and is not kept in the bench: fill it in as "+
					"%s='${sealed.%s}'", name, sealed))
		}
		e.Fields = append(e.Fields, field)
		pieces[i] = "{" + name + "}" + extension
	}
	e.Address = u.Scheme + "://" + u.Host
	if first > 0 {
		e.Address += "/" + strings.Join(pieces[:first], "/")
	}
	e.Path = "/" + strings.Join(pieces[first:], "/")
	if strings.HasSuffix(u.Path, "/") {
		e.Path += "/"
	}
}

// unescaped is a piece of a path as it is meant.
func unescaped(piece string) string {
	if text, err := url.PathUnescape(piece); err == nil {
		return text
	}
	return piece
}

// isEncodedID says whether a piece holds what a path cannot hold as it is, and a digit: no name of a resource does.
func isEncodedID(piece, text string) bool {
	return piece != text && strings.ContainsAny(text, "0123456789")
}

func isIdentifier(piece string) bool {
	return idForm().MatchString(piece) && !versionForm().MatchString(piece)
}

func singular(name string) string {
	switch {
	case strings.HasSuffix(name, "ies"):
		return name[:len(name)-3] + "y"
	case strings.HasSuffix(name, "sses") || strings.HasSuffix(name, "xes"):
		return name[:len(name)-2]
	case strings.HasSuffix(name, "s") && !strings.HasSuffix(name, "ss") && len(name) > 1:
		return name[:len(name)-1]
	}
	return name
}

// ServiceYAML writes the service as a bench file has it; address may hold
// placeholders.
func (e *Example) ServiceYAML(name, address string, logins []string) string {
	var out strings.Builder
	out.WriteString(yamlfile.ScalarText(name) + ":\n  address: " + yamlfile.ScalarText(address) + "\n")
	switch len(logins) {
	case 0:
	case 1:
		out.WriteString("  login: " + yamlfile.ScalarText(logins[0]) + "\n")
	default:
		out.WriteString("  login:\n")
		for _, l := range logins {
			out.WriteString("    - " + l + "\n")
		}
	}
	if e.SOAP != "" {
		out.WriteString("  soap: " + e.SOAP + "\n")
	}
	if len(e.Cookies) > 0 {
		out.WriteString("  always:\n    cookies:\n")
		for _, c := range e.Cookies {
			out.WriteString("      " + yamlfile.ScalarText(c[0]) + ": ${sealed." + c[1] + "}\n")
		}
	}
	if e.Addressing {
		out.WriteString("  addressing: true\n")
	}
	if e.Blocks != nil && len(e.Cookies) > 0 {
		out.WriteString("    blocks:" + treeText(e.Blocks, "      "))
	} else if e.Blocks != nil {
		out.WriteString("  always:\n    blocks:" + treeText(e.Blocks, "      "))
	}
	if len(e.Names) > 0 {
		out.WriteString("  names:\n")
		for _, n := range e.Names {
			out.WriteString("    " + n[0] + ": " + yamlfile.Quote(n[1]) + "\n")
		}
	}
	if len(e.Parts) > 0 {
		return out.String()
	}
	out.WriteString("  operations:\n")
	if len(e.More) == 0 {
		out.WriteString(indent(e.OperationYAML(), "    "))
	}
	for _, one := range e.More {
		out.WriteString(indent(one.OperationYAML(), "    "))
	}
	return out.String()
}

// OperationYAML writes the operation alone.
func (e *Example) OperationYAML() string {
	var out strings.Builder
	out.WriteString(e.Operation + ":\n")
	if e.Payload == "" {
		out.WriteString("  request: " + yamlfile.ScalarText(strings.TrimSpace(e.Method+" "+e.Path)) + "\n")
	} else {
		out.WriteString("  payload: " + yamlfile.ScalarText(e.Payload) + "\n  action: " +
			yamlfile.ScalarText(e.Action) + "\n")
	}
	for _, place := range []string{"path", "query", "headers", "form", "body"} {
		isHere := func(f ExampleField) bool { return f.In == place || f.In == "" && place == "query" }
		if !slices.ContainsFunc(e.Fields, isHere) {
			continue
		}
		out.WriteString("  " + place + ":\n")
		for _, f := range e.Fields {
			if !isHere(f) {
				continue
			}
			out.WriteString("    " + yamlfile.ScalarText(f.Wire) + ":")
			out.WriteString("\n")
			if f.Name != f.Wire {
				out.WriteString("      name: " + f.Name + "\n")
			}
			if f.Kind != "" {
				out.WriteString("      kind: " + f.Kind + "\n")
			}
			switch {
			case f.Required:
				out.WriteString("      required: true\n")
			case f.List != nil:
				out.WriteString("      default: " + document.WriteJSON(f.List, document.Style{}) + "\n")
			case f.Fixed != "":
				out.WriteString("      fixed: " + yamlfile.ScalarText(f.Fixed) + "\n")
			case f.IsText:
				out.WriteString("      default: " + yamlfile.Quote(f.Default) + "\n")
			default:
				// A value that is empty in the example is sent so: the service may ask for it.
				out.WriteString("      default: " + yamlfile.ScalarText(f.Default) + "\n")
			}
		}
	}
	if e.Template != nil {
		out.WriteString("  template:" + treeText(e.Template, "    "))
	}
	return out.String()
}

func indent(text, lead string) string {
	return lead + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n"+lead) + "\n"
}
