package request

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/httpurl"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// Spec is a request as a file writes it. Of Body, Text, Bytes, Form and Parts
// at most one is set.
type Spec struct {
	Method  string
	Address *value.Template // read by value.ParseAddress
	// Headers go in as they are; one that is null does not go with it, even where the
	// program would set it. A query value, cookie or form field that is null is left out, too.
	Headers []Pair
	Query   []Pair
	Cookies []Pair
	Form    []Pair
	Body    *Tree
	Text    *value.Template // read by value.ParseBody, as TextFormat
	// TextFormat gives the content type of Text where no header does.
	TextFormat     document.Format
	Bytes          []byte // sent untouched
	HasBytes       bool
	Parts          []Part
	SOAP           *SOAP
	DropEmpty      bool // fields without a value are left out
	StayOnRedirect bool
	HTTP           string
	Stream         *exchange.Stream  // when a stream of events has ended; nil where only the service ends it
	AnswerAs       string            // the media type as which the answer is read; empty for its own
	Timeout        time.Duration     // of the whole exchange; 0 is what the site says
	Names          map[string]string // prefixes of XML names
	// Payload are the elements of a SOAP Body that are made already; they take the
	// place of Body.
	Payload []*document.Node
	// Attach are files that travel beside the envelope; with XOP the payload refers
	// to them.
	Attach []Attachment
	XOP    bool
}

// Pair is a name with its value; a list repeats the name.
type Pair struct {
	Name  string
	Value *Tree
	// Raw says that name and value are escaped already, for a query or a form.
	Raw bool
}

// Part is one part of a multipart body.
type Part struct {
	Name     string
	Value    *Tree  // its content, or
	File     string // the file that holds it
	FileName string
	Type     string
	Headers  []Pair // beside those that tell its name and its type
}

// Attachment is a file that travels beside an envelope.
type Attachment struct {
	Name string // how fields refer to it, and the file name that is sent
	File string
	Type string
}

// SOAP says that the body goes into an envelope.
type SOAP struct {
	Version soap.Version
	Action  *value.Template
	Blocks  *Tree
	Made    []*document.Node // header blocks that go before those
	Payload string           // the payload's element as prefix:name; empty when Body holds it
	// BlockOf makes a header block that the contract describes; it returns nil for others.
	BlockOf func(name string, content *document.Node) *document.Node
	// Addressing, if not nil, adds the blocks of WS-Addressing; its To is filled in, and its Action with that of SOAP
	// where it has none.
	Addressing *soap.Addressing
	Addressed  Addressed
}

// Addressed is what a step says of WS-Addressing, beside that it goes along; nil for what it does not say.
type Addressed struct {
	ReplyTo, FaultTo, RelatesTo *value.Template
	Version                     string // of soap.AddressingVersions; "" for 1.0
}

// fill fills the properties in.
func (a Addressed) fill(scope value.Scope, into *soap.Addressing) error {
	into.Version = a.Version
	for _, one := range []struct {
		name string
		from *value.Template
		into *string
	}{
		{"reply to", a.ReplyTo, &into.ReplyTo},
		{"fault to", a.FaultTo, &into.FaultTo},
		{"relates to", a.RelatesTo, &into.RelatesTo},
	} {
		if one.from == nil {
			continue
		}
		text, err := one.from.Text(scope, value.Raw)
		if err != nil {
			return fmt.Errorf("addressing: %s: %w", one.name, err)
		}
		*one.into = text.Sent
	}
	return nil
}

// Placeholders are those of all of it.
func (a Addressed) Placeholders() []*value.Placeholder {
	var all []*value.Placeholder
	for _, t := range []*value.Template{a.ReplyTo, a.FaultTo, a.RelatesTo} {
		if t != nil {
			all = append(all, t.Placeholders()...)
		}
	}
	return all
}

// Build fills the request in. Errors name the part that could not be filled.
func (s *Spec) Build(scope value.Scope) (*exchange.Request, error) {
	address, err := s.Address.Text(scope, value.Address)
	if err != nil {
		return nil, err
	}
	r := &exchange.Request{
		Method: s.Method, StayOnRedirect: s.StayOnRedirect, HTTP: s.HTTP, Timeout: s.Timeout,
		Stream: s.Stream, AnswerAs: s.AnswerAs,
	}
	query, err := s.pairs(scope, "query", s.Query, value.Query)
	if err != nil {
		return nil, err
	}
	if r.URL, err = ParseAddress(joinQuery(address.Sent, query.Sent)); err != nil {
		return nil, err
	}
	if shown := joinQuery(address.Shown, query.Shown); shown != joinQuery(address.Sent, query.Sent) {
		r.ShownURL = shown
	}
	if err := s.setHeaders(scope, r); err != nil {
		return nil, err
	}
	if err := s.setBody(scope, r); err != nil {
		return nil, err
	}
	for _, h := range s.Headers {
		if h.Value.Null {
			r.DeleteHeader(h.Name)
		}
	}
	if len(s.Attach) > 0 && s.SOAP == nil {
		return nil, errors.New("attach goes with a SOAP envelope; a form with files is written as parts")
	}
	return r, nil
}

func joinQuery(address, query string) string {
	switch {
	case query == "":
		return address
	case strings.Contains(address, "?"):
		return address + "&" + query
	}
	return address + "?" + query
}

// ParseAddress reads the address of a request (RFC 9110, 4.2).
func ParseAddress(text string) (*url.URL, error) {
	if httpurl.HasUser(text) {
		return nil, httpurl.ErrUser
	}
	u, err := url.Parse(httpurl.Escape(text))
	if err != nil {
		var parse *url.Error
		if errors.As(err, &parse) {
			err = parse.Err
		}
		return nil, fmt.Errorf("%q is not an address: %w", text, err)
	}
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is not an address: it must begin with http:// or https:// and a host", text)
	}
	if strings.Contains(text, "#") {
		return nil, fmt.Errorf("%q: what comes after # is never sent (RFC 3986, 3.5); write %%23 where the sign "+
			"itself is meant", text)
	}
	return u, nil
}

// pairs fills names and values in and joins them as a query or form does.
func (s *Spec) pairs(scope value.Scope, what string, pairs []Pair, place value.Escaping) (value.Text, error) {
	var sent, shown []string
	var err error
	for _, p := range pairs {
		written := func(text string) string { return escape(text, place) }
		if p.Raw {
			written = func(text string) string { return text }
		}
		if err = s.each(scope, what, []Pair{p}, func(name string, text value.Text) error {
			name = written(name)
			if place == value.Query { // it may be there (RFC 3986, 3.4), and reads better
				name = strings.ReplaceAll(name, "%24", "$")
			}
			sent = append(sent, name+"="+written(text.Sent))
			shown = append(shown, name+"="+written(text.Shown))
			return nil
		}); err != nil {
			break
		}
	}
	return value.Text{Sent: strings.Join(sent, "&"), Shown: strings.Join(shown, "&")}, err
}

func escape(text string, place value.Escaping) string {
	escaped := url.QueryEscape(text)
	if place == value.Query {
		escaped = strings.ReplaceAll(escaped, "+", "%20")
	}
	return escaped
}

// each fills every value of the pairs in and hands it on; a list gives several, and null none.
func (s *Spec) each(scope value.Scope, what string, pairs []Pair, take func(name string, text value.Text) error) error {
	for _, p := range pairs {
		node, err := p.Value.Node(scope)
		if err != nil {
			return fmt.Errorf("%s %s: %w", what, p.Name, err)
		}
		items := []*document.Node{node}
		if node.Kind == document.List {
			items = node.Items()
		}
		for _, item := range items {
			v := item.Value()
			if !v.IsScalar() {
				return fmt.Errorf("%s %s: %s is not allowed there", what, p.Name, item.Describe())
			}
			if v.Kind == document.Null || s.DropEmpty && v.Text == "" {
				continue
			}
			text := value.Plain(v.Text)
			if v.Secret && value.IsShort(v.Text) {
				text.Shown = value.Mask
			} else if p.Value.Scalar != nil && item == node {
				// A text that a short secret is only part of is masked in that part.
				if filled, err := p.Value.Scalar.Text(scope, value.Raw); err == nil && filled.Sent == v.Text {
					text.Shown = filled.Shown
				}
			}
			if err := take(p.Name, text); err != nil {
				return fmt.Errorf("%s %s: %w", what, p.Name, err)
			}
		}
	}
	return nil
}

func (s *Spec) setHeaders(scope value.Scope, r *exchange.Request) error {
	seen := map[string]bool{}
	err := s.each(scope, "header", s.Headers, func(name string, text value.Text) error {
		if err := CheckHeader(name, text.Sent); err != nil {
			return err
		}
		if seen[strings.ToLower(name)] {
			r.AddHeader(name, text.Sent)
		} else {
			r.SetHeader(name, text.Sent)
		}
		seen[strings.ToLower(name)] = true
		if text.Shown != text.Sent {
			r.Show(name, text.Shown)
		}
		return nil
	})
	if err != nil {
		return err
	}
	var sent, shown []string
	err = s.each(scope, "cookie", s.Cookies, func(name string, text value.Text) error {
		if err := CheckCookie(name, text.Sent); err != nil {
			return err
		}
		sent = append(sent, name+"="+text.Sent)
		shown = append(shown, name+"="+text.Shown)
		return nil
	})
	if err != nil || len(sent) == 0 {
		return err
	}
	r.SetHeader("Cookie", strings.Join(sent, "; "))
	if strings.Join(sent, ";") != strings.Join(shown, ";") {
		r.Show("Cookie", strings.Join(shown, "; "))
	}
	return nil
}

// CheckHeader says what is wrong with a header field, if anything is (RFC 9110, 5.1 and 5.5).
func CheckHeader(name, text string) error {
	if name == "" || strings.ContainsFunc(name, func(c rune) bool {
		return c <= ' ' || c >= 0x7f || strings.ContainsRune(`"(),/:;<=>?@[\]{}`, c)
	}) {
		return fmt.Errorf("%q cannot be the name of a header", name)
	}
	switch strings.ToLower(name) {
	case "content-length", "transfer-encoding", "connection", "trailer":
		return fmt.Errorf("%s is set by the program", name)
	}
	if strings.ContainsAny(text, "\r\n\x00") {
		return errors.New("a header cannot hold a line break")
	}
	return nil
}

// CheckCookie says what is wrong with a cookie, if anything is: what would make another cookie of it, or none
// (RFC 6265, 4.1.1 and 5.2).
func CheckCookie(name, text string) error {
	if name == "" || strings.ContainsFunc(name, func(c rune) bool {
		return c <= ' ' || c >= 0x7f || strings.ContainsRune(`"=,;`, c)
	}) {
		return fmt.Errorf("%q cannot be the name of a cookie", name)
	}
	if strings.ContainsAny(text, ";\r\n\x00") {
		return errors.New("a cookie cannot hold a semicolon or line break")
	}
	return nil
}

func (s *Spec) setBody(scope value.Scope, r *exchange.Request) error {
	contentType := r.GetHeader("Content-Type")
	setType := func(name string) {
		if contentType == "" {
			r.SetHeader("Content-Type", name)
		}
	}
	switch {
	case s.SOAP != nil:
		if err := s.setEnvelope(scope, r); err != nil {
			return err
		}
		return s.attach(scope, r)
	case len(s.Parts) > 0:
		return s.setParts(scope, r)
	case s.HasBytes:
		r.Body = s.Bytes
		setType("application/octet-stream")
	case s.Text != nil:
		text, err := s.Text.Text(scope, value.Raw)
		if err != nil {
			return fmt.Errorf("text: %w", err)
		}
		r.Body = []byte(text.Sent)
		if text.Shown != text.Sent {
			r.ShownBody = text.Shown
		}
		switch s.TextFormat {
		case document.JSON:
			setType("application/json")
		case document.XML:
			setType("application/xml; charset=utf-8")
		case document.Form:
			setType("application/x-www-form-urlencoded")
		default:
			setType("text/plain; charset=utf-8")
		}
	case len(s.Form) > 0:
		form, err := s.pairs(scope, "form", s.Form, value.Form)
		if err != nil {
			return err
		}
		r.Body = []byte(form.Sent)
		if form.Shown != form.Sent {
			r.ShownBody = form.Shown
		}
		setType("application/x-www-form-urlencoded")
	case s.Body != nil:
		node, err := s.Body.Node(scope)
		if err != nil {
			return fmt.Errorf("body: %w", err)
		}
		if s.DropEmpty {
			node = DropEmpty(node)
		}
		if contentType != "" && document.FormatOf(contentType, nil) == document.XML && !node.IsScalar() {
			return s.setXML(node, r)
		}
		if contentType != "" && document.FormatOf(contentType, nil) != document.JSON && node.IsScalar() {
			r.Body = []byte(node.Text)
			if hasSecret(node) {
				r.ShownBody = value.Mask
			}
			return nil
		}
		r.Body = []byte(document.WriteJSON(node, document.Style{}))
		if hasSecret(node) {
			r.ShownBody = document.WriteJSON(node, document.Style{Hide: value.Mask})
		}
		setType("application/json")
	}
	return nil
}

func (s *Spec) setXML(node *document.Node, r *exchange.Request) error {
	elements, err := []*document.Node{node}, error(nil)
	if node.Kind != document.Element {
		elements, err = Elements(node, "", s.Names)
	}
	if err != nil {
		return fmt.Errorf("body: %w", err)
	}
	if len(elements) != 1 {
		return fmt.Errorf("body: an XML document has one root element, and there are %d", len(elements))
	}
	document.Declare(elements[0])
	r.Body = []byte(document.WriteXML(elements[0], document.Style{}))
	if hasSecret(node) {
		r.ShownBody = document.WriteXML(elements[0], document.Style{Hide: value.Mask})
	}
	return nil
}

// DropEmpty leaves out fields whose value is empty or null.
func DropEmpty(n *document.Node) *document.Node {
	switch n.Kind {
	case document.Object:
		kept := document.NewObject()
		for _, m := range n.Members() {
			v := DropEmpty(m.Value)
			empty := v.Kind == document.Null || v.IsScalar() && v.Text == "" ||
				(v.Kind == document.Object && len(v.Members()) == 0)
			if !empty {
				kept.AppendMembers(document.Member{Key: m.Key, Value: v})
			}
		}
		return kept
	case document.List:
		list := document.NewList()
		for _, item := range n.Items() {
			list.AppendItems(DropEmpty(item))
		}
		return list
	}
	return n
}

// Placeholders returns every placeholder of the request.
func (s *Spec) Placeholders() []*value.Placeholder {
	var placeholders []*value.Placeholder
	if s.Address != nil {
		placeholders = append(placeholders, s.Address.Placeholders()...)
	}
	for _, pairs := range [][]Pair{s.Headers, s.Query, s.Cookies, s.Form} {
		for _, p := range pairs {
			placeholders = append(placeholders, p.Value.Placeholders()...)
		}
	}
	for _, p := range s.Parts {
		placeholders = append(placeholders, p.Value.Placeholders()...)
		for _, h := range p.Headers {
			placeholders = append(placeholders, h.Value.Placeholders()...)
		}
	}
	placeholders = append(placeholders, s.Body.Placeholders()...)
	if s.Text != nil {
		placeholders = append(placeholders, s.Text.Placeholders()...)
	}
	if s.SOAP != nil {
		if s.SOAP.Action != nil {
			placeholders = append(placeholders, s.SOAP.Action.Placeholders()...)
		}
		placeholders = append(placeholders, s.SOAP.Blocks.Placeholders()...)
	}
	return placeholders
}

// MergeNames joins maps of prefixes; later ones win.
func MergeNames(all ...map[string]string) map[string]string {
	merged := map[string]string{}
	for _, names := range all {
		maps.Copy(merged, names)
	}
	return merged
}
