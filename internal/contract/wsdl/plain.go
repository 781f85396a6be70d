package wsdl

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/xsd"
)

// isPlain says whether messages go without an envelope (WSDL 1.1, 4 and 5).
func (p Protocol) isPlain() bool { return p == HTTPGet || p == HTTPPost }

// plainMessage reads a message of an HTTP binding: parts that are fields, or one part that is
// the body (WSDL 1.1, 4.4, 4.5 and 5.2 to 5.4).
func (l *loader) plainMessage(m *Message, op *Operation, concretes []element, parts []part, way string) {
	for _, concrete := range concretes {
		op.Replaces = op.Replaces || len(concrete.children(HTTPNamespace, "urlReplacement")) > 0
		for content := range concrete.all(MIMENamespace, "content") {
			if mediaType := content.value("type"); mediaType != "" {
				m.Types = append(m.Types, mediaType)
			}
		}
		for whole := range concrete.all(MIMENamespace, "mimeXml") {
			if m.Payload = bodyOf(parts, whole.value("part")); m.Payload != nil {
				m.IsBody = true
				return
			}
			l.note(whole, "%s has no part %q for its body", op.Wire, whole.value("part"))
		}
	}
	switch {
	case way == "output":
	case len(parts) == 1 && parts[0].element != nil:
		// WSDL 1.1 says nothing of it, and those who write such contracts send what is in the element.
		m.Payload = []*xsd.Element{parts[0].element}
	default:
		l.payload(m, op, &Binding{Protocol: HTTPGet}, parts, "", way)
	}
}

// bodyOf is the element of a named part, of the first where none is named; nil where there is none.
func bodyOf(parts []part, name string) []*xsd.Element {
	for _, p := range parts {
		switch {
		case name != "" && name != p.name:
		case p.element != nil:
			return []*xsd.Element{p.element}
		default:
			return []*xsd.Element{{Name: xsd.Name{Local: p.name}, Type: p.typ}}
		}
	}
	return nil
}

// plain makes the request of an HTTP binding (WSDL 1.1, 4).
func (b *Bound) plain(r *contract.Request, fields *document.Node, o contract.BuildOptions) []contract.Problem {
	r.Path = b.Operation.Location
	if b.Port.Binding.Protocol == HTTPGet {
		r.Method = "GET"
	}
	if o.Body != "" && r.Method == "POST" && !b.Operation.Replaces {
		return withoutEffect(fields, o.Body)
	}
	fields, problems := b.Overlay.Fill(fields, o.IsKind)
	payload, wrong := b.fill(fields, o)
	for _, f := range wrong {
		problems = append(problems, contract.Problem{Field: f.Path, Message: f.String()})
	}
	if input := b.Operation.Input; input != nil && input.IsBody {
		document.Declare(payload[0])
		r.Type, r.Body = "text/xml", payload[0]
		return problems
	}
	var pairs []contract.Pair
	for _, m := range fields.Members() {
		if b.Operation.Replaces && strings.Contains(r.Path, "("+m.Key+")") {
			r.Path = strings.ReplaceAll(r.Path, "("+m.Key+")", url.PathEscape(m.Value.Text))
			continue
		}
		pairs = append(pairs, contract.Pair{Name: m.Key, Value: m.Value})
	}
	if r.Method == "GET" {
		r.Query = pairs
	} else {
		r.Form = pairs
	}
	return problems
}

// withoutEffect tells of fields that are the body, where that comes from elsewhere.
func withoutEffect(fields *document.Node, body string) []contract.Problem {
	var problems []contract.Problem
	for _, name := range fields.Names() {
		problems = append(problems, contract.Problem{
			Field: name, Try: "keep one of them",
			Message: fmt.Sprintf("%s is a field of the body, and has no effect beside %s:", name, body),
		})
	}
	return problems
}

// judgePlain holds the answer of an HTTP binding against what the contract says of it.
func (b *Bound) judgePlain(got contract.Got) contract.Judgement {
	output := b.Operation.Output
	switch {
	case output == nil || got.Status >= 300 || !output.IsBody && len(output.Types) == 0:
		return contract.Judgement{}
	case !output.IsBody:
		mediaType := got.Header.Get("Content-Type")
		if slices.ContainsFunc(output.Types, func(known string) bool {
			return contract.MatchesType(known, mediaType) ||
				known == "text/xml" && contract.MatchesType("application/xml", mediaType) // RFC 7303, 9.2
		}) {
			return contract.Judgement{Judged: true}
		}
		return contract.Judgement{Judged: true, Wrong: []string{
			fmt.Sprintf("the content type is %q, and the contract says %s", mediaType,
				strings.Join(output.Types, " or ")),
		}}
	case got.Body == nil || got.Body.Kind != document.Element:
		return contract.Judgement{Judged: true, Wrong: []string{"the answer is not XML, but " + got.What}}
	}
	expected := output.Payload[0]
	if name := (xsd.Name{Space: got.Body.Name().Space, Local: got.Body.Name().Local}); name != expected.Name {
		return contract.Judgement{Judged: true, Wrong: []string{
			fmt.Sprintf("the answer is %s, and the contract says %s", name.Full(), expected.Name.Full()),
		}}
	}
	var found []string
	v := xsd.NewValidator(b.Contract.Schema)
	v.Report = func(f xsd.Fault) { found = append(found, f.Text()) }
	v.Tree(got.Body, expected, nil)
	return contract.Judgement{Judged: true, Wrong: found}
}
