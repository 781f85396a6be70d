// Package rpc writes calls and reads answers of JSON-RPC 2.0 and 1.0, and XML-RPC. It
// sends nothing.
package rpc

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/suggest"
	"testbench/internal/xmlstream"
)

// Kind is a protocol.
type Kind string

// The protocols.
const (
	JSON  Kind = "json-rpc"
	JSON1 Kind = "json-rpc 1.0" // calls without the member jsonrpc, errors of any shape
	XML   Kind = "xml-rpc"
)

// Kinds lists the protocols.
func Kinds() []string { return []string{string(JSON), string(JSON1), string(XML)} }

// Call writes a call of a method. Its parameters come from the fields, as Parameters has them.
func (k Kind) Call(method string, fields *document.Node) (*document.Node, error) {
	parameters := Parameters(fields)
	switch k {
	case XML:
		return callXML(method, parameters)
	case JSON1:
		return callJSON1(method, parameters)
	}
	return callJSON(method, parameters), nil
}

// Answer takes the result or the error out of the body of an answer.
func (k Kind) Answer(body *document.Node) (result *document.Node, fault *Fault, err error) {
	switch k {
	case XML:
		return answerXML(body)
	case JSON1:
		return answerJSON1(body)
	}
	return answerJSON(body)
}

// Is says whether a body has the form of an answer of the protocol.
func (k Kind) Is(body *document.Node) bool {
	switch k {
	case XML:
		return body.Name().Local == "methodResponse"
	case JSON1:
		return body.Get("id") != nil && (body.Get("result") != nil || body.Get("error") != nil)
	}
	return body.Get("jsonrpc") != nil
}

// ContentType is the media type of calls.
func (k Kind) ContentType() string {
	if k == XML {
		return "text/xml"
	}
	return "application/json"
}

// Fault is an error that the protocol tells.
type Fault struct {
	Code, Text string
	Data       *document.Node // what more is said; nil for nothing
}

// identity is the id of calls: there is one call in a request.
const identity = "1"

// Parameters makes the parameters of a call from its fields: fields 0, 1, 2 are
// parameters by position; one named params is all of them; others are parameters
// by name.
func Parameters(fields *document.Node) *document.Node {
	if len(fields.Members()) == 1 && fields.Members()[0].Key == "params" {
		return fields.Members()[0].Value
	}
	list := document.NewList()
	for i, m := range fields.Members() {
		if m.Key != strconv.Itoa(i) {
			return fields
		}
		list.AppendItems(m.Value)
	}
	if len(list.Items()) == 0 {
		return fields
	}
	return list
}

// callJSON writes a call of JSON-RPC (2.0, 4). Without parameters the member is
// left out.
func callJSON(method string, parameters *document.Node) *document.Node {
	call := document.NewObject().Set("jsonrpc", document.NewText("2.0")).Set("method", document.NewText(method))
	if parameters != nil && len(parameters.Members())+len(parameters.Items()) > 0 {
		call.Set("params", parameters)
	}
	return call.Set("id", document.NewNumber(identity))
}

// callJSON1 writes a call of JSON-RPC 1.0 (section 1.1): it has method, params and id, and params is a list.
func callJSON1(method string, parameters *document.Node) (*document.Node, error) {
	switch {
	case parameters == nil || parameters.Kind == document.Object && len(parameters.Members()) == 0:
		parameters = document.NewList()
	case parameters.Value().Kind != document.List:
		return nil, errors.New("JSON-RPC 1.0 has parameters by position only: write a list, or fields 0, 1, 2")
	}
	return document.NewObject().Set("method", document.NewText(method)).Set("params", parameters).
		Set("id", document.NewNumber(identity)), nil
}

// answerJSON takes the result or the error out of an answer (2.0, 5).
func answerJSON(body *document.Node) (result *document.Node, fault *Fault, err error) {
	if result, fault, err = resultOf(body, JSON); err != nil || fault != nil {
		return result, fault, err
	}
	if body.Get("jsonrpc") == nil || body.Get("jsonrpc").Text != "2.0" {
		return result, nil, errors.New(`the answer does not say "jsonrpc": "2.0"; write protocol: json-rpc 1.0 at the ` +
			"service where it speaks that")
	}
	return result, nil, isOurs(body)
}

// answerJSON1 takes the result or the error out of an answer of JSON-RPC 1.0 (section 1.2). That it has both, one of
// them null, is what few services do.
func answerJSON1(body *document.Node) (result *document.Node, fault *Fault, err error) {
	if result, fault, err = resultOf(body, JSON1); err != nil || fault != nil {
		return result, fault, err
	}
	return result, nil, isOurs(body)
}

// resultOf is what JSON-RPC of both versions has in an answer.
func resultOf(body *document.Node, kind Kind) (result *document.Node, fault *Fault, err error) {
	if body == nil || body.Kind != document.Object {
		try := ""
		if kind == JSON {
			try = "; write protocol: json-rpc 1.0 at the service where it speaks that"
		}
		return nil, nil, fmt.Errorf("the answer is not a JSON-RPC answer, but %s%s", body.Describe(), try)
	}
	if failed := body.Get("error"); failed != nil && failed.Kind != document.Null {
		return nil, faultOf(failed), nil
	}
	if result = body.Get("result"); result == nil {
		return nil, nil, fmt.Errorf("the answer has neither result nor error: it is %s", body.Describe())
	}
	return result, nil, nil
}

// isOurs says what is wrong with the id of an answer.
func isOurs(body *document.Node) error {
	if id := body.Get("id"); id == nil || id.Text != identity {
		return fmt.Errorf("the answer is to the call %s, and this was the call %s", id.Describe(), identity)
	}
	return nil
}

// faultOf reads an error: an object by 2.0 (5.1), and whatever a service of 1.0 takes for one; of a list it has the
// texts of one line.
func faultOf(failed *document.Node) *Fault {
	fault := &Fault{Data: failed.Get("data")}
	if code := failed.Get("code"); code != nil {
		fault.Code = code.Text
	}
	if message := failed.Get("message"); message != nil {
		fault.Text = message.Text
	}
	if failed.IsScalar() {
		fault.Text = failed.Text
	}
	if failed.Kind == document.List {
		var texts []string
		failed.Scalars(func(n *document.Node) {
			if n.Kind == document.Text && n.Text != "" && !strings.Contains(n.Text, "\n") {
				texts = append(texts, n.Text)
			}
		})
		fault.Text = strings.Join(texts, ": ")
	}
	return fault
}

// callXML writes a call of XML-RPC; what is given by name is one struct.
func callXML(method string, parameters *document.Node) (*document.Node, error) {
	call := element("methodCall", element("methodName", text(method)))
	params := element("params")
	items := []*document.Node{parameters}
	if parameters == nil || parameters.Kind == document.Object && len(parameters.Members()) == 0 {
		items = nil
	} else if parameters.Kind == document.List {
		items = parameters.Items()
	}
	for i, item := range items {
		value, err := valueOf(item)
		if err != nil {
			return nil, fmt.Errorf("parameter %d: %w", i, err)
		}
		params.AppendItems(element("param", value))
	}
	call.AppendItems(params)
	return call, nil
}

func element(name string, items ...*document.Node) *document.Node {
	return document.NewElement(document.Name{Local: name}, items...)
}

func text(s string) *document.Node { return document.NewUntyped(s) }

var (
	integerForm = lazy.Regexp(`^-?[0-9]+$`)
	momentForm  = lazy.Regexp(`^([0-9]{4})-?([0-9]{2})-?([0-9]{2})T([0-9]{2}:[0-9]{2}:[0-9]{2})$`)
)

// valueOf writes a value with its type. Whole numbers beyond 32 bits are i8, which
// is an extension, as nil is.
func valueOf(v *document.Node) (*document.Node, error) {
	v = v.Value()
	inner := text(v.Text)
	inner.Secret = v.Secret
	if v.IsScalar() && !xmlstream.IsText(v.Text) {
		return nil, errors.New("it holds a character that XML cannot carry")
	}
	typed := func(name string) (*document.Node, error) {
		return element("value", element(name, inner)), nil
	}
	switch v.Kind {
	case document.Null:
		return element("value", element("nil")), nil
	case document.Boolean:
		inner.Text = map[bool]string{true: "1", false: "0"}[v.Text == "true"]
		return typed("boolean")
	case document.Number:
		switch n, err := strconv.ParseInt(v.Text, 10, 64); {
		case !integerForm().MatchString(v.Text) || err != nil:
			return typed("double")
		case n > 1<<31-1 || n < -(1<<31):
			return typed("i8")
		}
		return typed("int")
	case document.List:
		data := element("data")
		for i, item := range v.Items() {
			value, err := valueOf(item)
			if err != nil {
				return nil, fmt.Errorf("[%d]: %w", i, err)
			}
			data.AppendItems(value)
		}
		return element("value", element("array", data)), nil
	case document.Object:
		structure := element("struct")
		for _, m := range v.Members() {
			value, err := valueOf(m.Value)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", m.Key, err)
			}
			structure.AppendItems(element("member", element("name", text(m.Key)), value))
		}
		return element("value", structure), nil
	case document.Untyped:
		switch {
		case v.Text == "true" || v.Text == "false":
			return valueOf(&document.Node{Kind: document.Boolean, Text: v.Text, Secret: v.Secret})
		case document.IsNumber(v.Text):
			return valueOf(&document.Node{Kind: document.Number, Text: v.Text, Secret: v.Secret})
		case momentForm().MatchString(v.Text):
			inner.Text = strings.ReplaceAll(v.Text, "-", "")
			return typed("dateTime.iso8601")
		}
	}
	return typed("string")
}

// answerXML takes the result or the fault out of an answer.
func answerXML(root *document.Node) (result *document.Node, fault *Fault, err error) {
	if root == nil || root.Kind != document.Element || root.Name().Local != "methodResponse" {
		return nil, nil, fmt.Errorf("the answer is not an XML-RPC answer, but %s", root.Describe())
	}
	if failed := root.Child("fault"); failed != nil {
		value, err := read(failed.Child("value"), 0)
		if err != nil {
			return nil, nil, err
		}
		fault = &Fault{Data: value}
		if code := value.Get("faultCode"); code != nil {
			fault.Code = code.Text
		}
		if words := value.Get("faultString"); words != nil {
			fault.Text = words.Text
		}
		return nil, fault, nil
	}
	params := root.Child("params")
	if params == nil || params.Child("param") == nil {
		return &document.Node{Kind: document.Null}, nil, nil
	}
	result, err = read(params.Child("param").Child("value"), 0)
	return result, nil, err
}

// read reads a value element.
func read(value *document.Node, depth int) (*document.Node, error) {
	if depth > document.MaxDepth {
		return nil, fmt.Errorf("the answer is nested deeper than %d", document.MaxDepth)
	}
	if value == nil {
		return nil, errors.New("the answer has no value where one is needed")
	}
	children := value.Children()
	if len(children) == 0 {
		return document.NewText(value.OwnText()), nil // without a type it is a string
	}
	typed := children[0]
	own := strings.TrimSpace(typed.OwnText())
	switch typed.Name().Local {
	case "int", "i4", "i8", "i1", "i2", "biginteger", "double", "float", "bigdecimal":
		number := strings.TrimPrefix(own, "+")
		if !document.IsNumber(number) {
			return nil, fmt.Errorf("%q is not %s", own, suggest.Article(typed.Name().Local))
		}
		return document.NewNumber(number), nil
	case "boolean":
		if own != "0" && own != "1" {
			return nil, fmt.Errorf("%q is not a boolean: it must be 0 or 1", own)
		}
		return document.NewBoolean(own == "1"), nil
	case "dateTime.iso8601", "dateTime":
		if m := momentForm().FindStringSubmatch(own); m != nil {
			own = m[1] + "-" + m[2] + "-" + m[3] + "T" + m[4]
		}
		return document.NewText(own), nil
	case "base64":
		joined := strings.Join(strings.Fields(own), "")
		if _, err := base64.StdEncoding.DecodeString(joined); err != nil {
			return nil, fmt.Errorf("%q is not Base64", own)
		}
		return document.NewText(joined), nil
	case "nil":
		return &document.Node{Kind: document.Null}, nil
	case "array":
		list := document.NewList()
		if data := typed.Child("data"); data != nil {
			for _, child := range data.Children() {
				item, err := read(child, depth+1)
				if err != nil {
					return nil, err
				}
				list.AppendItems(item)
			}
		}
		return list, nil
	case "struct":
		object := document.NewObject()
		for _, member := range typed.Children() {
			name := member.Child("name")
			if name == nil {
				return nil, errors.New("a member of a struct has no name")
			}
			inner, err := read(member.Child("value"), depth+1)
			if err != nil {
				return nil, err
			}
			object.AppendMembers(document.Member{Key: name.OwnText(), Value: inner})
		}
		return object, nil
	}
	return document.NewText(typed.OwnText()), nil
}
