package addservice

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"slices"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/fields"
	"testbench/internal/lazy"
	"testbench/internal/rule"
	"testbench/internal/soap"
	"testbench/internal/xmlstream"
	"testbench/internal/yamlfile"
)

var (
	requestLine = lazy.Regexp(`^([A-Z]+) (\S+)( HTTP/[0-9.]+)?\s*$`)
	headerLine  = lazy.Regexp("^([!#$%&'*+.^_`|~0-9A-Za-z-]+):[ \t]*(.*)$")
	statusLine  = lazy.Regexp(`(?m)^HTTP/[0-9.]+ [0-9]{3}.*$`)
	// open are texts that stand for a value that somebody has to fill in.
	open = lazy.Regexp(`^(\?+|(?i:string)|\.\.\.|…|<[^<>]+>|\{+[^{}]+\}+|\[[^\[\]]+\])$`)
)

// pasted is a sample as it was read: a request, and the answer after it.
type pasted struct {
	method, target string
	headers        [][2]string
	body           string
	answer         string // its body
}

// ReadSample takes a request apart as documentation shows it: a request line, header fields and a body, each
// of which may be missing; an answer may come after it. Address is where it is sent, where the sample does not
// say all of it. Service names the secrets.
func ReadSample(service, text, address string) (*Example, error) {
	if !utf8.ValidString(text) {
		return nil, errors.New("the sample is not UTF-8; save it so")
	}
	p, err := splitSample(strings.ReplaceAll(text, "\r\n", "\n"))
	if err != nil {
		return nil, err
	}
	at, note, err := p.address(address)
	if err != nil {
		return nil, err
	}
	e, err := ReadExample(service, at)
	if err != nil {
		return nil, err
	}
	if note != "" {
		e.Notes = append(e.Notes, note)
	}
	if e.Method = p.method; p.method == "" {
		if e.Method = "POST"; p.body == "" {
			e.Method = "GET"
		}
	}
	if e.Method != "GET" && e.Operation == "get" {
		e.Operation = strings.ToLower(e.Method)
	}
	prefix := identifier(service) + "_"
	mediaType := ""
	for _, h := range p.headers {
		switch strings.ToLower(h[0]) {
		case "content-type":
			mediaType = h[1]
		case "soapaction":
			e.Action = strings.Trim(h[1], `"`)
		case "content-length", "host", "connection", "accept-encoding", "user-agent", "transfer-encoding", "date":
		default:
			e.header(prefix, h[0], h[1])
		}
	}
	if err := e.sampleBody(prefix, mediaType, p.body); err != nil {
		return nil, err
	}
	if u, err := url.Parse(at); err == nil && e.SOAP != "" { // the address is that of the service as a whole
		e.Address, e.Path = u.Scheme+"://"+u.Host+u.EscapedPath(), ""
		e.Fields = slices.DeleteFunc(e.Fields, func(f ExampleField) bool { return f.In == "path" })
	}
	e.checks(p.answer)
	e.hide()
	return e, nil
}

// splitSample finds the parts of a sample.
func splitSample(text string) (*pasted, error) {
	p := &pasted{}
	text = strings.TrimLeft(text, "\n \t\ufeff")
	rest := text
	if first, after, _ := strings.Cut(rest, "\n"); requestLine().MatchString(first) {
		m := requestLine().FindStringSubmatch(first)
		p.method, p.target, rest = m[1], m[2], after
	}
	for {
		line, after, _ := strings.Cut(rest, "\n")
		m := headerLine().FindStringSubmatch(line)
		if m == nil {
			break
		}
		p.headers = append(p.headers, [2]string{m[1], strings.TrimSpace(m[2])})
		rest = after
	}
	if at := statusLine().FindStringIndex(rest); at != nil {
		_, p.answer, _ = strings.Cut(rest[at[1]:], "\n\n")
		rest = rest[:at[0]]
	}
	p.body = strings.TrimSpace(rest)
	if p.answer == "" {
		p.body, p.answer = twoDocuments(p.body)
	}
	p.answer = strings.TrimSpace(p.answer)
	if p.method == "" && p.body == "" {
		return nil, errors.New("there is no request in the sample: it begins with a request line (POST /lots " +
			"HTTP/1.1) and header fields, or it is a body")
	}
	return p, nil
}

// twoDocuments parts two documents that follow each other; the second is empty where there is one.
func twoDocuments(text string) (first, second string) {
	switch {
	case strings.HasPrefix(text, "{") || strings.HasPrefix(text, "["):
		decoder := json.NewDecoder(strings.NewReader(text))
		var one json.RawMessage
		if decoder.Decode(&one) != nil {
			return text, ""
		}
		end := decoder.InputOffset()
		return text[:end], strings.TrimSpace(text[end:])
	case strings.HasPrefix(text, "<"):
		if end := endOfElement(text); end > 0 && strings.HasPrefix(strings.TrimSpace(text[end:]), "<") {
			return text[:end], strings.TrimSpace(text[end:])
		}
	}
	return text, ""
}

// endOfElement is where the first element of a text ends; 0 where it does not.
func endOfElement(text string) int {
	r := xmlstream.NewBytes([]byte(text), xmlstream.Options{})
	depth := 0
	for {
		kind, err := r.Next()
		if err != nil {
			return 0
		}
		switch kind {
		case xmlstream.Start:
			depth++
		case xmlstream.End:
			if depth--; depth == 0 {
				return int(r.EndOffset())
			}
		}
	}
}

// address is where the request goes: as the sample says, with the rest from what was given.
func (p *pasted) address(given string) (address, note string, err error) {
	if strings.Contains(p.target, "://") {
		return p.target, "", nil
	}
	if p.target != "" && p.target[0] != '/' && p.target != "*" {
		return "", "", fmt.Errorf("%q is not the target of a request: it begins with / or http://", p.target)
	}
	if given != "" {
		u, err := url.Parse(given)
		if err != nil || u.Host == "" {
			return "", "", fmt.Errorf("%q is not an address: it begins with http:// or https://", given)
		}
		if p.target == "" {
			return given, "", nil
		}
		if path := strings.TrimRight(u.Path, "/"); !strings.HasPrefix(p.target, path+"/") && path != "" &&
			p.target != path {
			return strings.TrimRight(given, "/") + p.target, "", nil
		}
		return u.Scheme + "://" + u.Host + p.target, "", nil
	}
	for _, h := range p.headers {
		if !strings.EqualFold(h[0], "Host") {
			continue
		}
		host, scheme := h[1], "https"
		name, port, _ := strings.Cut(host, ":")
		if name == "localhost" || strings.HasPrefix(name, "127.") || port != "" && port != "443" && port != "8443" {
			scheme = "http"
		}
		return scheme + "://" + host + p.target,
			fmt.Sprintf("the sample says the host and not the scheme: %s was taken", scheme), nil
	}
	return "", "", errors.New("the sample does not say where it is sent; give the address: testbench add NAME " +
		"ADDRESS -from-sample FILE")
}

// sampleBody makes fields of the leaves of a body, and a template of the rest.
func (e *Example) sampleBody(prefix, mediaType, body string) error {
	if body == "" {
		return nil
	}
	format := document.FormatOf(mediaType, []byte(body))
	s := &sampling{e: e, prefix: prefix, names: map[string]bool{}}
	switch format {
	case document.JSON:
		root, err := document.ReadJSON([]byte(body))
		if err != nil {
			return fmt.Errorf("the body of the sample: %w", err)
		}
		if s.isFlat(root) {
			for _, m := range root.Members() {
				s.leaf(m.Key, m.Value, false)
			}
		} else {
			e.Template = s.json(root, "")
		}
		if mediaType != "" && mediaType != "application/json" {
			e.fixHeader("Content-Type", mediaType)
		}
		return nil
	case document.XML:
		root, err := document.ReadXML([]byte(body), "")
		if err != nil {
			return fmt.Errorf("the body of the sample: %w", err)
		}
		if message, ok := soap.Read(root); ok {
			if _, params, err := mime.ParseMediaType(mediaType); err == nil && params["action"] != "" {
				e.Action = params["action"] // of SOAP 1.2 (Part 2, 6.5.2)
			}
			return s.envelope(message)
		}
		s.space = "\x00"
		e.Template = document.NewObject().Set(s.name(root.Name()), s.element(root))
		if mediaType == "" {
			mediaType = "application/xml"
		}
		e.fixHeader("Content-Type", mediaType)
		return nil
	}
	e.body(prefix, mediaType, body)
	return nil
}

func (e *Example) fixHeader(name, text string) {
	e.Fields = append(e.Fields, ExampleField{In: "headers", Wire: name, Name: identifier(name), Fixed: text})
}

// hide puts ${sealed.NAME} in place of what was sealed, wherever else the sample repeats it.
func (e *Example) hide() {
	var pairs []string
	for _, s := range e.Secrets {
		if len(s.Text) >= shortestHidden {
			pairs = append(pairs, s.Text, "${sealed."+s.Name+"}")
		}
	}
	replace := strings.NewReplacer(pairs...).Replace
	for _, one := range e.More {
		one.Secrets = e.Secrets
		one.hide()
	}
	for i := range e.Fields {
		e.Fields[i].Default, e.Fields[i].Fixed = replace(e.Fields[i].Default), replace(e.Fields[i].Fixed)
	}
	trees := []*document.Node{e.Template, e.Blocks}
	for _, f := range e.Fields {
		trees = append(trees, f.List)
	}
	for _, tree := range trees {
		if tree != nil {
			tree.Scalars(func(n *document.Node) { n.Text = replace(n.Text) })
		}
	}
}

// shortestHidden is how short a secret may be that is looked for elsewhere.
const shortestHidden = 6

// mostChecks is how many checks a sample of an answer gives.
const mostChecks = 30

// checks makes checks of an answer: the kinds of its fields.
func (e *Example) checks(answer string) {
	if answer == "" {
		return
	}
	g, _, err := fields.Read(strings.NewReader(answer), "")
	if err != nil {
		e.Notes = append(e.Notes, "the answer of the sample cannot be read: "+err.Error())
		return
	}
	var lines []string
	for line := range strings.Lines(fields.AsFields(g.Fields())) {
		if line != "fields:\n" && !strings.Contains(line, ": count ") && len(lines) < mostChecks {
			lines = append(lines, "    "+line)
		}
	}
	if len(lines) > 0 {
		e.Checks = "    fields:\n" + strings.Join(lines, "")
	}
}

// sheet is a sheet with a call of the operation and its checks; it takes what has no default.
func (e *Example) sheet(service string) string {
	takes, fill := "", ""
	for _, f := range e.Fields {
		if f.Required {
			takes += "  " + f.Name + ": required\n"
			fill += "      " + f.Name + ": ${" + f.Name + "}\n"
		}
	}
	text := "sheet: " + yamlfile.ScalarText(service) + "\n"
	if len(e.Parts) > 0 {
		text += "steps:\n  - step: " + e.Operation + "\n    request: " +
			yamlfile.ScalarText(strings.TrimSpace(service+" "+e.Method+" "+e.Line)) + "\n"
		for i, f := range slices.DeleteFunc(slices.Clone(e.Fields),
			func(f ExampleField) bool { return f.In != "headers" }) {
			if i == 0 {
				text += "    headers:\n"
			}
			text += "      " + yamlfile.ScalarText(f.Wire) + ": " + yamlfile.ScalarText(f.Default) + "\n"
		}
		text += "    parts:\n"
		for _, p := range e.Parts {
			text += "      - name: " + yamlfile.ScalarText(p.name) + "\n"
			for _, key := range [][2]string{{"file", p.file}, {"file name", p.fileName}, {"type", p.mediaType}} {
				if key[1] != "" {
					text += "        " + key[0] + ": " + yamlfile.ScalarText(key[1]) + "\n"
				}
			}
			if p.file == "" {
				text += "        value: " + yamlfile.Quote(p.value) + "\n"
			}
		}
		return text
	}
	if takes != "" {
		text += "takes:\n" + takes
		fill = "    fill:\n" + fill
	}
	return text + "steps:\n  - step: " + e.Operation + "\n    call: " + yamlfile.ScalarText(service+"/"+e.Operation) +
		"\n" + fill + e.Checks
}

// treeText writes a tree as YAML, with a lead before each line.
func treeText(n *document.Node, lead string) string {
	var out strings.Builder
	var write func(n *document.Node, lead string)
	write = func(n *document.Node, lead string) {
		switch {
		case n.Kind == document.Object && len(n.Members()) > 0:
			_, _ = io.WriteString(&out, "\n")
			for _, m := range n.Members() {
				out.WriteString(lead + quotedKey(m.Key) + ":")
				write(m.Value, lead+"  ")
			}
		case n.Kind == document.List && len(n.Items()) > 0:
			out.WriteString("\n")
			for _, item := range n.Items() {
				out.WriteString(lead + "-")
				if item.Kind == document.Object && len(item.Members()) > 0 {
					for i, m := range item.Members() {
						if i == 0 {
							out.WriteString(" " + quotedKey(m.Key) + ":")
						} else {
							out.WriteString(lead + "  " + quotedKey(m.Key) + ":")
						}
						write(m.Value, lead+"    ")
					}
					continue
				}
				write(item, lead+"  ")
			}
		case n.Kind == document.Text && n.Text != "" && rule.KindOf(document.NewUntyped(n.Text)) != "text":
			out.WriteString(" " + yamlfile.Quote(n.Text) + "\n") // stays a text
		case n.Kind == document.Text || n.Kind == document.Untyped:
			out.WriteString(" " + yamlfile.ScalarText(n.Text) + "\n")
		default:
			out.WriteString(" " + document.WriteJSON(n, document.Style{}) + "\n")
		}
	}
	write(n, lead)
	return out.String()
}

func quotedKey(key string) string {
	if strings.Contains(key, ":") || key == "." {
		return yamlfile.Quote(key)
	}
	return yamlfile.ScalarText(key)
}
