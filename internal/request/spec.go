package request

import (
	"bytes"
	"errors"
	"fmt"
	"maps"
	"mime/multipart"
	"net/textproto"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/soap"
	"testbench/internal/value"
)

// Spec is a request as a file writes it. Of Body, Text, Bytes, Form and Parts
// at most one is set.
type Spec struct {
	Method  string
	Address *value.Template // read by value.ParseAddress
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
}

// Part is one part of a multipart body.
type Part struct {
	Name     string
	Value    *Tree  // its content, or
	File     string // the file that holds it
	FileName string
	Type     string
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
	Payload string // the payload's element as prefix:name; empty when Body holds it
	// BlockOf makes a header block that the contract describes; it returns nil for others.
	BlockOf func(name string, content *document.Node) *document.Node
	// Addressing, if not nil, adds the blocks of WS-Addressing; its To and Action
	// are filled in.
	Addressing *soap.Addressing
}

// Build fills the request in. Errors name the part that could not be filled.
func (s *Spec) Build(scope value.Scope) (*exchange.Request, error) {
	address, err := s.Address.Text(scope, value.Address)
	if err != nil {
		return nil, err
	}
	r := &exchange.Request{Method: s.Method, StayOnRedirect: s.StayOnRedirect, HTTP: s.HTTP}
	query, err := s.pairs(scope, "query", s.Query, value.Query)
	if err != nil {
		return nil, err
	}
	if r.URL, err = parseAddress(joinQuery(address.Sent, query.Sent)); err != nil {
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

func parseAddress(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil {
		var parse *url.Error
		if errors.As(err, &parse) {
			err = parse.Err
		}
		return nil, fmt.Errorf("%q is no address: %w", text, err)
	}
	if u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, fmt.Errorf("%q is no address: it must begin with http:// or https:// and a host", text)
	}
	u.Fragment = ""
	return u, nil
}

// pairs fills names and values in and joins them as a query or form does.
func (s *Spec) pairs(scope value.Scope, what string, pairs []Pair, place value.Place) (value.Text, error) {
	var sent, shown []string
	err := s.each(scope, what, pairs, func(name string, text value.Text) error {
		sent = append(sent, escape(name, place)+"="+escape(text.Sent, place))
		shown = append(shown, escape(name, place)+"="+escape(text.Shown, place))
		return nil
	})
	return value.Text{Sent: strings.Join(sent, "&"), Shown: strings.Join(shown, "&")}, err
}

func escape(text string, place value.Place) string {
	escaped := url.QueryEscape(text)
	if place == value.Query {
		escaped = strings.ReplaceAll(escaped, "+", "%20")
	}
	return escaped
}

// each fills every value of the pairs in and hands it on; a list gives several.
func (s *Spec) each(scope value.Scope, what string, pairs []Pair, take func(name string, text value.Text) error) error {
	for _, p := range pairs {
		node, err := p.Value.Node(scope)
		if err != nil {
			return fmt.Errorf("%s %s: %w", what, p.Name, err)
		}
		items := []*document.Node{node}
		if node.Kind == document.List {
			items = node.Items
		}
		for _, item := range items {
			v := item.Value()
			if !v.IsScalar() {
				return fmt.Errorf("%s %s: %s cannot stand there", what, p.Name, item.Describe())
			}
			if s.DropEmpty && v.Text == "" {
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
		if strings.ContainsAny(text.Sent, ";\r\n\x00") {
			return errors.New("a cookie cannot hold a semicolon or line break")
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
			node = dropEmpty(node)
		}
		if contentType != "" && document.FormatOf(contentType, nil) == document.XML {
			return s.setXML(node, r)
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
	elements, err := Elements(node, "", s.Names)
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

// dropEmpty leaves out fields whose value is empty or null.
func dropEmpty(n *document.Node) *document.Node {
	switch n.Kind {
	case document.Object:
		kept := document.NewObject()
		for _, m := range n.Members {
			v := dropEmpty(m.Value)
			empty := v.Kind == document.Null || v.IsScalar() && v.Text == "" || (v.Kind == document.Object && len(v.Members) == 0)
			if !empty {
				kept.Members = append(kept.Members, document.Member{Key: m.Key, Value: v})
			}
		}
		return kept
	case document.List:
		list := document.NewList()
		for _, item := range n.Items {
			list.Items = append(list.Items, dropEmpty(item))
		}
		return list
	}
	return n
}

// blocks makes the header blocks, those of the contract as it describes them.
func (s *Spec) blocks(scope value.Scope) ([]*document.Node, error) {
	node, err := s.SOAP.Blocks.Node(scope)
	if err != nil {
		return nil, fmt.Errorf("blocks: %w", err)
	}
	var blocks []*document.Node
	for _, m := range node.Members {
		if s.SOAP.BlockOf != nil {
			if block := s.SOAP.BlockOf(m.Key, m.Value); block != nil {
				blocks = append(blocks, block)
				continue
			}
		}
		made, err := Elements(&document.Node{Kind: document.Object, Members: []document.Member{m}}, "", s.Names)
		if err != nil {
			return nil, fmt.Errorf("blocks: %w", err)
		}
		blocks = append(blocks, made...)
	}
	return blocks, nil
}

// attach puts the envelope and the files into one multipart body.
func (s *Spec) attach(scope value.Scope, r *exchange.Request) error {
	if len(s.Attach) == 0 {
		return nil
	}
	var attachments []soap.Attachment
	var lines []string
	for i, a := range s.Attach {
		content, err := os.ReadFile(a.File)
		if err != nil {
			return fmt.Errorf("attach: %w", err)
		}
		contentType := a.Type
		if contentType == "" {
			contentType = "application/octet-stream"
		}
		attachments = append(attachments, soap.Attachment{ID: soap.AttachmentID(i + 1), Name: a.Name, Type: contentType, Content: content})
		lines = append(lines, fmt.Sprintf("(attached: %s, %s, %d bytes)", a.Name, contentType, len(content)))
	}
	action := ""
	if s.SOAP.Action != nil {
		text, err := s.SOAP.Action.Text(scope, value.Header)
		if err != nil {
			return fmt.Errorf("action: %w", err)
		}
		action = text.Sent
	}
	contentType, body, err := soap.Package(s.SOAP.Version, action, r.Body, attachments, s.XOP)
	if err != nil {
		return err
	}
	shown := string(r.Body)
	if r.ShownBody != "" {
		shown = r.ShownBody
	}
	r.ShownBody = strings.TrimRight(shown, "\n") + "\n" + strings.Join(lines, "\n")
	r.Body = body
	r.SetHeader("Content-Type", contentType)
	return nil
}

// setEnvelope puts the payload, written as a tree or as text, into an envelope
// of the version asked for, with the headers that the version wants.
func (s *Spec) setEnvelope(scope value.Scope, r *exchange.Request) error {
	action := value.Text{}
	var err error
	if s.SOAP.Action != nil {
		if action, err = s.SOAP.Action.Text(scope, value.Header); err != nil {
			return fmt.Errorf("action: %w", err)
		}
	}
	if r.GetHeader("Content-Type") == "" {
		r.SetHeader("Content-Type", s.SOAP.Version.ContentType(action.Sent))
	}
	if s.SOAP.Version == soap.V11 && r.GetHeader("SOAPAction") == "" {
		r.SetHeader("SOAPAction", soap.ActionHeader(action.Sent))
	}
	var blocks, payload []*document.Node
	if s.SOAP.Blocks != nil {
		if blocks, err = s.blocks(scope); err != nil {
			return err
		}
	}
	if a := s.SOAP.Addressing; a != nil {
		a.To, a.Action = r.URL.String(), action.Sent
		blocks = append(a.Blocks(), blocks...)
	}
	shownPayload := ""
	switch {
	case s.Text != nil:
		text, err := s.Text.Text(scope, value.Raw)
		if err != nil {
			return fmt.Errorf("text: %w", err)
		}
		root, err := document.ReadXML([]byte(text.Sent), "utf-8")
		if err != nil {
			return fmt.Errorf("text: the payload is %w", err)
		}
		if message, ok := soap.Read(root); ok {
			// The whole envelope was written: it goes as it is.
			if message.Version != s.SOAP.Version {
				return fmt.Errorf("text: the envelope is SOAP %s, and SOAP %s was to be sent: set soap: %s", message.Version, s.SOAP.Version, message.Version)
			}
			r.Body = []byte(text.Sent)
			if text.Shown != text.Sent {
				r.ShownBody = text.Shown
			}
			return nil
		}
		payload = []*document.Node{root}
		if text.Shown != text.Sent {
			shownPayload = text.Shown
		}
	case s.Payload != nil:
		payload = s.Payload
	case s.SOAP.Payload != "":
		node := document.NewObject()
		if s.Body != nil {
			if node, err = s.Body.Node(scope); err != nil {
				return fmt.Errorf("body: %w", err)
			}
		}
		if s.DropEmpty {
			node = dropEmpty(node)
		}
		wrapped := document.NewObject().Set(s.SOAP.Payload, node)
		if payload, err = Elements(wrapped, "", s.Names); err != nil {
			return fmt.Errorf("body: %w", err)
		}
	case s.Body != nil:
		if payload, err = s.xmlOf(s.Body, scope, "body"); err != nil {
			return err
		}
	}
	envelope := soap.Envelope(s.SOAP.Version, blocks, payload)
	for _, item := range envelope.Items {
		for _, child := range item.Items {
			document.Declare(child)
		}
	}
	const declaration = `<?xml version="1.0" encoding="UTF-8"?>` + "\n"
	r.Body = []byte(declaration + document.WriteXML(envelope, document.Style{Indent: "  "}))
	if shown := declaration + document.WriteXML(envelope, document.Style{Indent: "  ", Hide: value.Mask}); shown != string(r.Body) {
		r.ShownBody = shown
	}
	if shownPayload != "" {
		r.ShownBody = strings.Replace(string(r.Body), document.WriteXML(payload[0], document.Style{}), shownPayload, 1)
		if r.ShownBody == string(r.Body) {
			r.ShownBody = value.Mask
		}
	}
	return nil
}

func (s *Spec) xmlOf(tree *Tree, scope value.Scope, what string) ([]*document.Node, error) {
	node, err := tree.Node(scope)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	elements, err := Elements(node, "", s.Names)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", what, err)
	}
	return elements, nil
}

// setParts writes a multipart/form-data body (RFC 7578).
func (s *Spec) setParts(scope value.Scope, r *exchange.Request) error {
	var body bytes.Buffer
	writer := multipart.NewWriter(&body)
	shown := false
	for _, p := range s.Parts {
		header := textproto.MIMEHeader{}
		disposition := fmt.Sprintf(`form-data; name="%s"`, quoteParameter(p.Name))
		fileName := p.FileName
		if fileName == "" && p.File != "" {
			fileName = filepath.Base(p.File)
		}
		if fileName != "" {
			disposition += fmt.Sprintf(`; filename="%s"`, quoteParameter(fileName))
		}
		header.Set("Content-Disposition", disposition)
		content, contentType, secret, err := p.content(scope)
		if err != nil {
			return fmt.Errorf("part %s: %w", p.Name, err)
		}
		shown = shown || secret
		if contentType != "" {
			header.Set("Content-Type", contentType)
		}
		part, err := writer.CreatePart(header)
		if err != nil {
			return err
		}
		if _, err := part.Write(content); err != nil {
			return err
		}
	}
	if err := writer.Close(); err != nil {
		return err
	}
	r.Body = body.Bytes()
	if shown {
		r.ShownBody = fmt.Sprintf("(%d parts, of which some hold secrets)", len(s.Parts))
	}
	if r.GetHeader("Content-Type") == "" {
		r.SetHeader("Content-Type", writer.FormDataContentType())
	}
	return nil
}

func (p *Part) content(scope value.Scope) (content []byte, contentType string, secret bool, err error) {
	contentType = p.Type
	if p.File != "" {
		content, err = os.ReadFile(p.File)
		if contentType == "" {
			contentType = "application/octet-stream"
		}
		return content, contentType, false, err
	}
	node, err := p.Value.Node(scope)
	if err != nil {
		return nil, "", false, err
	}
	secret = hasSecret(node)
	if node.Value().IsScalar() {
		return []byte(node.Value().Text), contentType, secret, nil
	}
	if contentType == "" {
		contentType = "application/json"
	}
	return []byte(document.WriteJSON(node, document.Style{})), contentType, secret, nil
}

func quoteParameter(text string) string {
	return strings.NewReplacer(`"`, "%22", "\r", "%0D", "\n", "%0A").Replace(text)
}

// Holes returns every placeholder of the request.
func (s *Spec) Holes() []*value.Hole {
	var holes []*value.Hole
	if s.Address != nil {
		holes = append(holes, s.Address.Holes()...)
	}
	for _, pairs := range [][]Pair{s.Headers, s.Query, s.Cookies, s.Form} {
		for _, p := range pairs {
			holes = append(holes, p.Value.Holes()...)
		}
	}
	for _, p := range s.Parts {
		holes = append(holes, p.Value.Holes()...)
	}
	holes = append(holes, s.Body.Holes()...)
	if s.Text != nil {
		holes = append(holes, s.Text.Holes()...)
	}
	if s.SOAP != nil {
		if s.SOAP.Action != nil {
			holes = append(holes, s.SOAP.Action.Holes()...)
		}
		holes = append(holes, s.SOAP.Blocks.Holes()...)
	}
	return holes
}

// MergeNames joins maps of prefixes; later ones win.
func MergeNames(all ...map[string]string) map[string]string {
	merged := map[string]string{}
	for _, names := range all {
		maps.Copy(merged, names)
	}
	return merged
}
