package document

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Namespaces that the tree itself has to know.
const (
	SchemaInstance = "http://www.w3.org/2001/XMLSchema-instance"
	xmlNamespace   = "http://www.w3.org/XML/1998/namespace"
	xmlnsNamespace = "http://www.w3.org/2000/xmlns/"
)

var xmlEncoding = regexp.MustCompile(`^<\?xml[^>]*?\sencoding\s*=\s*["']([A-Za-z][A-Za-z0-9._-]*)["']`)

// ReadXML reads an XML 1.0 document with namespaces into an Element. The
// character set of the HTTP header, if not empty, wins over the declaration in
// the document (RFC 7303, section 3). A DOCTYPE is refused: nothing is
// expanded. Errors are of type *Error.
func ReadXML(data []byte, charset string) (*Node, error) {
	data, err := xmlToUTF8(data, charset)
	if err != nil {
		return nil, &Error{Format: "XML", Line: 1, Column: 1, Message: err.Error()}
	}
	reader := &xmlReader{data: data, decoder: xml.NewDecoder(bytes.NewReader(data))}
	// The text is UTF-8 by now, whatever its declaration says.
	reader.decoder.CharsetReader = func(_ string, input io.Reader) (io.Reader, error) { return input, nil }
	return reader.document()
}

// xmlToUTF8 finds the encoding: by the byte-order mark, then by the transport,
// then by the declaration (XML 1.0, appendix F).
func xmlToUTF8(data []byte, charset string) ([]byte, error) {
	switch {
	case bytes.HasPrefix(data, []byte{0xFE, 0xFF}), bytes.HasPrefix(data, []byte{0xFF, 0xFE}):
		charset = "utf-16"
	case bytes.HasPrefix(data, []byte{0, '<'}):
		charset = "utf-16be"
	case bytes.HasPrefix(data, []byte{'<', 0}):
		charset = "utf-16le"
	case charset == "":
		charset = "utf-8"
		if declared := xmlEncoding.FindSubmatch(data[:min(len(data), 200)]); declared != nil {
			charset = string(declared[1])
		}
	}
	decoded, err := decode(data, charset)
	if err != nil {
		return nil, err
	}
	if !utf8.Valid(decoded) {
		return nil, fmt.Errorf("it holds bytes that are not %s", charset)
	}
	return decoded, nil
}

// xmlReader builds the tree from raw tokens, because only those keep the
// prefixes as they were written.
type xmlReader struct {
	data    []byte
	decoder *xml.Decoder
	open    []*Node
	scopes  []map[string]string
}

func (r *xmlReader) document() (*Node, error) {
	var root *Node
	for {
		before := r.decoder.InputOffset()
		token, err := r.decoder.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, r.explain(err)
		}
		switch token := token.(type) {
		case xml.Directive:
			return nil, r.fail(before, "it has a DOCTYPE, which is refused: entities are never expanded")
		case xml.StartElement:
			if len(r.open) == 0 && root != nil {
				return nil, r.fail(before, "a second root element <"+rawName(token.Name)+">")
			}
			if len(r.open) >= MaxDepth {
				return nil, r.fail(before, fmt.Sprintf("nested deeper than %d", MaxDepth))
			}
			element, err := r.start(token)
			if err != nil {
				return nil, r.fail(before, err.Error())
			}
			if root == nil {
				root = element
			}
			if top := r.top(); top != nil {
				top.Items = append(top.Items, element)
			}
			r.open = append(r.open, element)
		case xml.EndElement:
			top := r.top()
			if top == nil || top.Name.String() != rawName(token.Name) {
				message := "</" + rawName(token.Name) + "> closes nothing"
				if top != nil {
					message = "</" + rawName(token.Name) + "> stands where </" + top.Name.String() + "> should close"
				}
				return nil, r.fail(before, message)
			}
			r.open = r.open[:len(r.open)-1]
			r.scopes = r.scopes[:len(r.scopes)-1]
		case xml.CharData:
			top := r.top()
			if top == nil {
				if len(bytes.TrimSpace(token)) > 0 {
					return nil, r.fail(before, "text outside the root element")
				}
				continue
			}
			appendText(top, string(token))
		}
	}
	if top := r.top(); top != nil {
		return nil, r.fail(int64(len(r.data)), "it ends before </"+top.Name.String()+">")
	}
	if root == nil {
		if len(bytes.TrimSpace(r.data)) == 0 {
			return nil, r.fail(0, "it is empty")
		}
		return nil, r.fail(int64(len(r.data)), "there is no element in it")
	}
	dropLayout(root)
	return root, nil
}

// appendText joins text with the text before it, so that CDATA and references
// do not split a value.
func appendText(element *Node, text string) {
	if last := len(element.Items) - 1; last >= 0 && element.Items[last].Kind == Untyped {
		element.Items[last].Text += text
		return
	}
	element.Items = append(element.Items, NewUntyped(text))
}

// dropLayout removes the blanks between elements, which lay a document out
// and carry no content.
func dropLayout(element *Node) {
	hasElements, onlyBlank := false, true
	for _, item := range element.Items {
		if item.Kind == Element {
			hasElements = true
		} else if strings.TrimSpace(item.Text) != "" {
			onlyBlank = false
		}
	}
	if hasElements && onlyBlank {
		element.Items = element.Children()
	}
	for _, item := range element.Items {
		if item.Kind == Element {
			dropLayout(item)
		}
	}
}

func (r *xmlReader) top() *Node {
	if len(r.open) == 0 {
		return nil
	}
	return r.open[len(r.open)-1]
}

func rawName(name xml.Name) string {
	if name.Space == "" {
		return name.Local
	}
	return name.Space + ":" + name.Local
}

// start makes the element and resolves its names (Namespaces in XML 1.0, 6).
func (r *xmlReader) start(token xml.StartElement) (*Node, error) {
	scope := map[string]string{}
	element := &Node{Kind: Element}
	for _, a := range token.Attr {
		attribute := Attribute{Name: Name{Prefix: a.Name.Space, Local: a.Name.Local}, Value: a.Value}
		if attribute.IsDeclaration() {
			attribute.Name.Space = xmlnsNamespace
			prefix := a.Name.Local
			if a.Name.Space == "" {
				prefix = ""
			} else if a.Value == "" {
				return nil, fmt.Errorf("the prefix %s is declared as empty", prefix)
			}
			scope[prefix] = a.Value
		}
		element.Attributes = append(element.Attributes, attribute)
	}
	r.scopes = append(r.scopes, scope)
	space, err := r.resolve(token.Name.Space)
	if err != nil {
		return nil, err
	}
	element.Name = Name{Space: space, Prefix: token.Name.Space, Local: token.Name.Local}
	seen := map[Name]bool{}
	for i := range element.Attributes {
		a := &element.Attributes[i]
		if a.Name.Prefix != "" && !a.IsDeclaration() {
			if a.Name.Space, err = r.resolve(a.Name.Prefix); err != nil {
				return nil, err
			}
		}
		key := Name{Space: a.Name.Space, Local: a.Name.Local}
		if seen[key] {
			return nil, fmt.Errorf("the attribute %s stands twice on <%s>", a.Name, element.Name)
		}
		seen[key] = true
	}
	return element, nil
}

func (r *xmlReader) resolve(prefix string) (string, error) {
	if prefix == "xml" {
		return xmlNamespace, nil
	}
	for i := len(r.scopes) - 1; i >= 0; i-- {
		if space, ok := r.scopes[i][prefix]; ok {
			return space, nil
		}
	}
	if prefix == "" {
		return "", nil
	}
	return "", fmt.Errorf("the prefix %s is not declared", prefix)
}

func (r *xmlReader) fail(offset int64, message string) error {
	line, column := Position(r.data, int(offset))
	return &Error{Format: "XML", Line: line, Column: column, Offset: int(offset), Message: message}
}

func (r *xmlReader) explain(err error) error {
	message := err.Error()
	var syntax *xml.SyntaxError
	if errors.As(err, &syntax) {
		message = syntax.Msg
	}
	return r.fail(r.decoder.InputOffset(), message)
}
