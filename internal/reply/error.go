package reply

import (
	"cmp"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/document"
	"testbench/internal/lazy"
)

// Error is what an answer says of something that went wrong, in one form
// whatever the form was in which it came.
type Error struct {
	Code, Text string
	Target     string // the field that is to blame, as paths are written
	Details    []Error
}

// mostText bounds a text that counts as what a service says.
const mostText = 200

// Error reads what the answer says of an error; nil where it says nothing of one.
// Under a status of success only what calls itself an error counts.
func (r *Reply) Error() *Error {
	if r.Record == nil || r.Record.Answer == nil {
		return nil
	}
	if !r.isErrorRead {
		r.readError, r.isErrorRead = r.findError(), true
	}
	return r.readError
}

// AnyError is what the answer says of an error; where its body says nothing that is
// understood, a status of 4xx or 5xx is one all the same. It is nil for no error.
func (r *Reply) AnyError() *Error {
	if said := r.Error(); said != nil || r.isSuccess || r.Record == nil || r.Record.Answer == nil ||
		r.Record.Answer.Status < 400 {
		return said
	}
	answer := r.Record.Answer
	return &Error{Code: strconv.Itoa(answer.Status), Text: cmp.Or(answer.Reason, http.StatusText(answer.Status))}
}

func (r *Reply) findError() *Error {
	if r.Failed != nil || r.isFine {
		return r.Failed
	}
	if fault := r.Fault(); fault != nil {
		e := &Error{Code: fault.Code, Text: fault.Text}
		if fault.Detail != nil {
			e.Target = findScalar(fault.Detail, targetNames)
		}
		return e
	}
	if r.Record.Answer.Status < 400 {
		payload := unwrapped(r.Payload)
		if len(r.Record.Answer.Body) <= mostResults {
			payload = cmp.Or(itemOfError(payload), payload)
		}
		told := tellsError(payload)
		if told == "" {
			return nil
		}
		if e := errorOf(payload); e != nil {
			return e
		}
		return &Error{Text: told} // it says that it went wrong, and no more
	}
	switch {
	case r.Format == document.HTML:
		if text := htmlText(string(r.Record.Answer.Body)); text != "" {
			return &Error{Text: text}
		}
		return nil
	case r.Payload == nil:
		return nil
	case r.Payload.IsScalar() && r.Payload.Kind != document.Null: // a text, also one of JSON
		line, _, _ := strings.Cut(strings.TrimSpace(r.Payload.Text), "\n")
		if len(line) > mostText || line == "" {
			return nil
		}
		return &Error{Text: strings.TrimSpace(line)}
	}
	return errorOf(unwrapped(r.Payload))
}

// unwrapped is what is inside members that hold one other each and are not errors
// themselves.
func unwrapped(n *document.Node) *document.Node {
	for range mostWrappers {
		members := membersOf(n)
		if len(members) != 1 || !isHolder(members[0].Value) || slices.Contains(errorNames, plainName(members[0].Key)) ||
			isError(n) {
			return n
		}
		n = members[0].Value
	}
	return n
}

// mostWrappers is how many members stand around an error at most.
const mostWrappers = 3

// isError says whether an element is called an error itself.
func isError(n *document.Node) bool {
	return n.Kind == document.Element && slices.Contains(errorNames, plainName(n.Name().Local))
}

// errorNames are members that call themselves an error.
var errorNames = []string{"error", "errors", "fault", "exception", "errormessage", "errorcode", "errordescription"}

// Members of an answer that say whether it went well.
var (
	goodNames = []string{"success", "succeeded", "ok", "issuccess"}
	badNames  = []string{"iserror", "haserror", "failed"}
)

// field is the member of a tree whose name is the one given, however it is written:
// ErrorCode, error_code and error-code are errorcode. It is nil where there is none.
func field(n *document.Node, name string) *document.Node {
	if n == nil {
		return nil
	}
	if v := n.Get(name); v != nil {
		return v
	}
	members := membersOf(n)
	if len(members) > mostNames {
		return nil
	}
	for _, m := range members {
		if plainName(m.Key) == plainName(name) {
			return m.Value
		}
	}
	return nil
}

// membersOf lists what is under names in an object, or in an element as its children
// and attributes, and stops where there are more than something that tells an error has.
func membersOf(n *document.Node) []document.Member {
	switch {
	case n == nil:
		return nil
	case n.Kind != document.Element:
		return n.Members()
	}
	var out []document.Member
	for _, item := range n.Items() {
		if len(out) > mostNames {
			return out
		}
		if item.Kind == document.Element {
			out = append(out, document.Member{Key: item.Name().Local, Value: item})
		}
	}
	for _, a := range n.Attributes() {
		if !a.IsDeclaration() && a.Name.Space != document.SchemaInstance {
			out = append(out, document.Member{Key: a.Name.Local, Value: document.NewUntyped(a.Value)})
		}
	}
	return out
}

// mostNames is how many members something that tells an error has at most.
const mostNames = 100

var nameSigns = strings.NewReplacer("_", "", "-", "", ".", "")

func plainName(name string) string { return strings.ToLower(nameSigns.Replace(name)) }

// tellsError is what a body of success calls an error in it: a member with its value; empty where nothing is.
func tellsError(payload *document.Node) string {
	if payload == nil {
		return ""
	}
	if isError(payload) {
		return payload.Name().Local
	}
	members := membersOf(payload)
	if len(members) > mostNames {
		return "" // no error has so many
	}
	for _, m := range members {
		plain := plainName(m.Key)
		if tells(m) || (plain == "status" || plain == "result") && says(m.Value, "error", "fail", "failure") {
			return m.Key + " is " + m.Value.Describe()
		}
	}
	return ""
}

// tells says whether a member is an error, or says of what it is in that it is one or no success.
func tells(m document.Member) bool {
	plain := plainName(m.Key)
	return slices.Contains(errorNames, plain) && isGiven(m.Value) ||
		slices.Contains(goodNames, plain) && says(m.Value, "false", "0", "no") ||
		slices.Contains(badNames, plain) && says(m.Value, "true", "1", "yes")
}

func says(v *document.Node, words ...string) bool {
	return v.Value() != nil && v.Value().IsScalar() && slices.Contains(words, strings.ToLower(v.Value().Text))
}

// mostBeside is how many members stand beside an error in an item of a list: which one it is. Items that have more are
// what a service keeps, in which an error is a fact like others, and so are longer answers than mostResults bytes.
const (
	mostBeside  = 1
	mostResults = 64 << 10
)

// itemOfError is the first item that tells an error, of an answer that is a list of results, or has nothing but one;
// nil where there is none.
func itemOfError(payload *document.Node) *document.Node {
	if members := membersOf(payload); len(members) == 1 {
		payload = members[0].Value
	}
	if payload == nil || payload.Kind != document.List {
		return nil
	}
	for _, item := range payload.Items() {
		if members := membersOf(item); len(members) <= 1+mostBeside && slices.ContainsFunc(members, tells) {
			return item
		}
	}
	return nil
}

// isGiven says whether a member says something: not nothing, no, or zero.
func isGiven(v *document.Node) bool {
	if v != nil && v.Kind == document.Element && v.Value().IsScalar() && v.Value().Text == "" {
		// <error code="5"/>
		return slices.ContainsFunc(membersOf(v), func(m document.Member) bool { return isGiven(m.Value) })
	}
	v = v.Value()
	switch {
	case v == nil || v.Kind == document.Null:
		return false
	case v.IsScalar():
		return !slices.Contains([]string{"", "false", "none", "ok"}, strings.ToLower(v.Text)) && strings.Trim(v.Text,
			"0") != ""
	}
	return v.Kind == document.Element || len(v.Members())+len(v.Items()) > 0
}

// isHolder says whether a node holds others by name: members, children or attributes.
func isHolder(n *document.Node) bool {
	return n != nil && (n.Kind == document.Object || n.Kind == document.Element && len(membersOf(n)) > 0)
}

// Names under which services put what they say, the most telling first.
var (
	textNames = []string{
		"message", "error_description", "detail", "errorMessage", "faultString", "description",
		"title", "reason", "text", "value", "error",
	}
	codeNames   = []string{"code", "errorCode", "faultCode", "error", "type", "status"}
	targetNames = []string{"field", "target", "propertyref", "parameter", "property", "pointer", "path", "name"}
	detailNames = []string{"details", "errordetails", "errors", "invalid-params", "violations", "fieldErrors", "causes"}
)

// errorOf reads an object, an element or a list.
func errorOf(n *document.Node) *Error {
	e := &Error{Text: findScalar(n, textNames), Target: pathOf(findTarget(n))}
	inner := n
	for _, name := range errorNames {
		if v := field(n, name); isHolder(v) {
			inner = v
			break
		}
	}
	e.Code = cmp.Or(own(inner, codeNames), own(n, codeNames))
	if e.Code == e.Text {
		e.Code = ""
	}
	if inner.Kind == document.Element && e.Code == "" {
		e.Code = findScalar(inner, []string{"code", "errorCode"})
	}
	// The innermost exception says what went wrong; the others, that something did.
	for at := inner; at != nil; at = field(at, "innerexception") {
		if text := own(at, []string{"exceptionmessage"}); text != "" {
			e.Text, e.Code = text, cmp.Or(own(at, []string{"exceptiontype"}), e.Code)
		}
	}
	for _, holder := range []*document.Node{
		inner, n, field(inner, "innererror"), field(inner, "data"),
		field(inner, "extensions"),
	} {
		if holder == nil || len(e.Details) > 0 {
			continue
		}
		for _, name := range detailNames {
			if v := field(holder, name); v != nil && len(e.Details) == 0 {
				e.Details = detailsOf(v)
			}
		}
	}
	if data := field(n, "data"); len(e.Details) == 0 && isByField(data) {
		e.Details = detailsOf(data)
	}
	if n.Kind == document.List { // the first stands for all of them
		if all := detailsOf(n); len(all) > 0 {
			*e = all[0]
			e.Details = all[1:]
		}
		return e
	}
	if len(e.Details) == 1 && (e.Text == "" || e.Text == e.Details[0].Text) {
		only := e.Details[0]
		e.Text, e.Code = only.Text, cmp.Or(e.Code, only.Code)
		if e.Target == "" {
			e.Target = only.Target
		}
		e.Details = nil
	}
	// What is said of all of them comes before what is said of one.
	if all := own(inner, textNames); all != "" && slices.ContainsFunc(e.Details, func(d Error) bool {
		return d.Text == e.Text
	}) {
		e.Text = all
	}
	if len(e.Details) > 1 && e.Target != "" && own(inner, targetNames) == "" {
		e.Target = "" // it is that of one of the details
	}
	if e.Text == "" && e.Code == "" && len(e.Details) == 0 {
		return nil
	}
	return e
}

// isByField says whether an object has mistakes by the fields that they are about, and nothing else.
func isByField(n *document.Node) bool {
	return isHolder(n) && !slices.ContainsFunc(membersOf(n), func(m document.Member) bool {
		return !isHolder(m.Value) || field(m.Value, "message") == nil
	}) && len(membersOf(n)) > 0
}

// detailsOf reads a list of mistakes, or an object that has them by field.
func detailsOf(n *document.Node) []Error {
	var out []Error
	add := func(target string, v *document.Node) {
		v = v.Value()
		switch {
		case v.IsScalar() && v.Kind != document.Null:
			out = append(out, Error{Text: v.Text, Target: pathOf(target)})
		case v.Kind == document.Object:
			one := Error{Code: own(v, codeNames), Text: findScalar(v, textNames), Target: pathOf(own(v, targetNames))}
			if one.Target == "" {
				one.Target = pathOf(target)
			}
			if one.Code == one.Text {
				one.Code = ""
			}
			if one.Text != "" || one.Code != "" {
				out = append(out, one)
			}
		}
	}
	for _, item := range n.Items() {
		add("", item)
	}
	for _, m := range n.Members() {
		if m.Value.Kind == document.List {
			for _, item := range m.Value.Items() {
				add(m.Key, item)
			}
			continue
		}
		add(m.Key, m.Value)
	}
	return out
}

// own is the first single value under one of the names in an object itself.
func own(n *document.Node, names []string) string {
	for _, name := range names {
		if v := field(n, name).Value(); v != nil && v.IsScalar() && v.Kind != document.Null && v.Text != "" {
			return v.Text
		}
	}
	return ""
}

func findTarget(n *document.Node) string {
	return findScalar(n, targetNames[:len(targetNames)-1])
}

// findScalar looks for the first single value under one of the names, names
// in order, at most three levels down.
func findScalar(node *document.Node, names []string) string {
	for _, name := range names {
		if text := under(node, name, 3); text != "" {
			return text
		}
	}
	return ""
}

func under(node *document.Node, name string, depth int) string {
	if node == nil || depth < 0 {
		return ""
	}
	var children []document.Member
	switch node.Kind {
	case document.Object:
		children = node.Members()
	case document.Element:
		children = membersOf(node)
	case document.List:
		if len(node.Items()) > 0 {
			return under(node.Items()[0], name, depth-1)
		}
	}
	for _, m := range children {
		if v := m.Value.Value(); plainName(m.Key) == plainName(name) && v.IsScalar() && v.Kind != document.Null &&
			v.Text != "" {
			return v.Text
		}
	}
	for _, m := range children {
		if text := under(m.Value, name, depth-1); text != "" {
			return text
		}
	}
	return ""
}

var indexForm = lazy.Regexp(`/([0-9]+)(/|$)`)

// pathOf writes a target as paths are written: lines/0/price, #/lines/0/price and
// $.lines[0].price are lines[0].price.
func pathOf(target string) string {
	text := strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(target, "#"), "$."), "/")
	if !strings.Contains(text, "/") || strings.ContainsAny(text, " :") {
		return text
	}
	for indexForm().MatchString(text) {
		text = indexForm().ReplaceAllString(text, "[$1]$2")
	}
	return strings.ReplaceAll(text, "/", ".")
}

var (
	htmlTags    = lazy.Regexp(`(?s)<[^>]*>`)
	htmlHeading = lazy.Regexp(`(?is)<h1[^>]*>(.+?)</h1>`)
	htmlTitle   = lazy.Regexp(`(?is)<title[^>]*>([^<]+)`)
)

// htmlText is what a page for people says first.
func htmlText(body string) string {
	for _, form := range []*regexp.Regexp{htmlHeading(), htmlTitle()} {
		if m := form.FindStringSubmatch(body); m != nil {
			if text := strings.Join(strings.Fields(htmlTags().ReplaceAllString(m[1], " ")), " "); text != "" {
				return text
			}
		}
	}
	return ""
}

// String says the error in one line.
func (e *Error) String() string {
	text := e.Text
	switch {
	case e.Code != "" && text != "":
		text = e.Code + ": " + text
	case text == "":
		text = e.Code
	}
	if e.Target != "" {
		text += fmt.Sprintf(" (field %s)", e.Target)
	}
	return text
}

// Node is the tree under reply.error.
func (e *Error) Node() *document.Node {
	n := document.NewObject()
	set := func(name, text string) {
		if text != "" {
			n.Set(name, document.NewUntyped(text))
		}
	}
	set("code", e.Code)
	set("text", e.Text)
	set("target", e.Target)
	if len(e.Details) > 0 {
		list := document.NewList()
		for _, d := range e.Details {
			list.AppendItems(d.Node())
		}
		n.Set("details", list)
	}
	return n
}
