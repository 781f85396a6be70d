package value

import (
	"errors"
	"fmt"
	"net/url"
	"strings"

	"testbench/internal/document"
	"testbench/internal/httpurl"
	"testbench/internal/xmlstream"
)

// Escaping says where a value is put, and so how it is escaped.
type Escaping uint8

// The places.
const (
	Anywhere    Escaping = iota // not yet known
	Raw                         // as it is
	Address                     // an address: raw at its start, a path segment after that
	PathSegment                 // RFC 3986, 3.3
	Query                       // a name or value of a query: RFC 3986, 3.4
	Form                        // application/x-www-form-urlencoded
	Header                      // a header field: line breaks are refused
	JSONText                    // inside a JSON string
	JSONValue                   // a whole JSON value
	XMLText
	XMLAttribute
	CDATA
)

func (p Escaping) escape(node *document.Node) (string, error) {
	if p == JSONValue {
		return document.WriteJSON(node, document.Style{}), nil
	}
	v := node.Value()
	text := v.Text
	switch {
	case v.Kind == document.Null:
		text = ""
	case !v.IsScalar() && (p == Raw || p == JSONText):
		text = document.WriteJSON(node, document.Style{})
	case !v.IsScalar():
		return "", fmt.Errorf("%s cannot be put into text here", node.Describe())
	}
	switch p {
	case PathSegment:
		return url.PathEscape(text), nil
	case Query:
		return strings.ReplaceAll(url.QueryEscape(text), "+", "%20"), nil
	case Form:
		return url.QueryEscape(text), nil
	case Header:
		if strings.ContainsAny(text, "\r\n\x00") {
			return "", errors.New("a header cannot hold a line break")
		}
	case JSONText:
		quoted := document.QuoteJSON(text)
		return quoted[1 : len(quoted)-1], nil
	case XMLText, XMLAttribute:
		if !xmlstream.IsText(text) {
			return "", errors.New("it holds a character that XML cannot carry")
		}
		escaped := xmlstream.Escape(text, p == XMLAttribute)
		if p == XMLAttribute {
			escaped = strings.ReplaceAll(escaped, "'", "&#39;")
		}
		return escaped, nil
	case CDATA:
		if !xmlstream.IsText(text) {
			return "", errors.New("it holds a character that XML cannot carry")
		}
		return strings.ReplaceAll(text, "]]>", "]]]]><![CDATA[>"), nil
	}
	return text, nil
}

// ParseBody reads a template that is the text of a whole document, and finds
// the place of each placeholder in it. A placeholder where no value can be put safely (in an
// XML name or comment) is an *Error.
func ParseBody(source string, format document.Format) (*Template, error) {
	t, err := Parse(source)
	if err != nil {
		return nil, err
	}
	switch format {
	case document.JSON:
		placeInJSON(t)
	case document.XML:
		return t, placeInXML(t)
	case document.Form:
		for _, h := range t.Placeholders() {
			h.place = Form
		}
	default:
		for _, h := range t.Placeholders() {
			h.place = Raw
		}
	}
	return t, nil
}

func placeInJSON(t *Template) {
	inString := false
	for _, p := range t.parts {
		if p.placeholder != nil {
			p.placeholder.place = JSONValue
			if inString {
				p.placeholder.place = JSONText
			}
			continue
		}
		for i := 0; i < len(p.literal); i++ {
			switch p.literal[i] {
			case '"':
				inString = !inString
			case '\\':
				i++
			}
		}
	}
}

// placeInXML follows the literal text with a small state machine: content, a
// tag, an attribute value in either kind of quotes, CDATA, a comment or a
// processing instruction.
func placeInXML(t *Template) error {
	state := xmlContent
	for _, p := range t.parts {
		if h := p.placeholder; h != nil {
			if err := state.take(h); err != nil {
				return err
			}
			continue
		}
		for text := p.literal; text != ""; {
			var passed int
			state, passed = state.after(text)
			text = text[passed:]
		}
	}
	return nil
}

// xmlState is where in a document of XML a place is.
type xmlState uint8

const (
	xmlContent xmlState = iota
	xmlTag
	xmlDoubleQuoted
	xmlSingleQuoted
	xmlCDATA
	xmlComment
	xmlInstruction
)

// xmlTurns are the signs that lead from one state into another (XML 1.0, section 2).
var xmlTurns = [...][]struct {
	sign string
	into xmlState
}{
	xmlContent:      {{"<![CDATA[", xmlCDATA}, {"<!--", xmlComment}, {"<?", xmlInstruction}, {"<", xmlTag}},
	xmlTag:          {{">", xmlContent}, {`"`, xmlDoubleQuoted}, {"'", xmlSingleQuoted}},
	xmlDoubleQuoted: {{`"`, xmlTag}},
	xmlSingleQuoted: {{"'", xmlTag}},
	xmlCDATA:        {{"]]>", xmlContent}},
	xmlComment:      {{"-->", xmlContent}},
	xmlInstruction:  {{"?>", xmlContent}},
}

// after is the state after the next sign of a text, and how long that is.
func (s xmlState) after(text string) (xmlState, int) {
	for _, turn := range xmlTurns[s] {
		if strings.HasPrefix(text, turn.sign) {
			return turn.into, len(turn.sign)
		}
	}
	return s, 1
}

// take says to a placeholder where it is, or why none can be there.
func (s xmlState) take(h *Placeholder) error {
	switch s {
	case xmlContent:
		h.place = XMLText
	case xmlDoubleQuoted, xmlSingleQuoted:
		h.place = XMLAttribute
	case xmlCDATA:
		h.place = CDATA
	case xmlTag:
		return &Error{
			Offset: h.Offset, Message: "a value cannot be part of an XML name",
			Try: "put it into an element's text or an attribute's quotes",
		}
	default:
		return &Error{
			Offset: h.Offset, Message: "a value cannot be put into an XML comment or processing instruction",
			Try: "write $${ if it is meant as text",
		}
	}
	return nil
}

// ParseAddress reads the template of an address. A placeholder at its very
// start is put in as it is, for it holds scheme and host, or a whole address
// out of an answer; further ones are path segments, and query values after ?.
func ParseAddress(source string) (*Template, error) {
	if httpurl.HasUser(source) {
		return nil, httpurl.ErrUser
	}
	t, err := Parse(source)
	if err != nil {
		return nil, err
	}
	place := PathSegment
	for i, p := range t.parts {
		switch {
		case p.placeholder == nil:
			if strings.Contains(p.literal, "?") {
				place = Query
			}
		case i == 0:
			p.placeholder.place = Raw
		default:
			p.placeholder.place = place
		}
	}
	return t, nil
}

// ParsePath reads the template of a path that comes after an address: every
// placeholder is a path segment, and a query value after ?.
func ParsePath(source string) (*Template, error) {
	t, err := ParseAddress(source)
	if err != nil {
		return nil, err
	}
	if len(t.parts) > 0 && t.parts[0].placeholder != nil {
		t.parts[0].placeholder.place = PathSegment
	}
	return t, nil
}

// Joined returns the template of one text right after another.
func Joined(first, second *Template) *Template {
	return &Template{
		Source: first.Source + second.Source,
		parts:  append(append([]part{}, first.parts...), second.parts...),
	}
}
