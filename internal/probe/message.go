package probe

import (
	"net/http"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/soap"
)

// safeMethods change nothing (RFC 9110, 9.2.1).
var safeMethods = []string{http.MethodGet, http.MethodHead, http.MethodOptions, http.MethodTrace}

func (m *maker) methods() {
	for _, method := range []string{http.MethodGet, "NOSUCH", http.MethodPost, http.MethodPut, http.MethodDelete} {
		if method == m.Request.Method || slices.Contains(m.Methods, method) {
			continue
		}
		r := m.Request.Clone()
		r.Method = method
		if method == http.MethodGet {
			r.Body, r.ShownBody = nil, ""
			r.DeleteHeader("Content-Type")
		}
		// RFC 9110, 15.5.6 and 15.6.2
		c := m.add(&Case{Kind: Method, Changed: "by " + method, Request: r, Clear: []int{405, 501}})
		c.Writes = c.Writes && method != http.MethodGet || !slices.Contains(safeMethods, method) && method != "NOSUCH"
		// A page for people, or the contract, may well be had by GET.
		c.Allowed = method == http.MethodGet && m.SOAP != ""
	}
}

func (m *maker) contentTypes() {
	if len(m.Request.Body) == 0 {
		return
	}
	good, _, _ := strings.Cut(m.Request.GetHeader("Content-Type"), ";")
	wrong := "text/html"
	if op := m.Operation; op != nil && op.Body != nil && op.Body.ContentFor(wrong) != nil {
		wrong = "application/x-nobody-knows"
	}
	r := m.Request.Clone()
	r.SetHeader("Content-Type", wrong)
	refused := []int{http.StatusUnsupportedMediaType, http.StatusBadRequest}
	m.add(&Case{Kind: Content, Changed: "as " + wrong + " instead of " + good, Request: r, Clear: refused})
	r = m.Request.Clone()
	r.DeleteHeader("Content-Type")
	// Whoever gets it may look what it is (RFC 9110, 8.3).
	m.add(&Case{Kind: Content, Changed: "without a content type", Request: r, Clear: refused, Allowed: true})
}

func (m *maker) messages() {
	body := string(m.Request.Body)
	if body == "" {
		return
	}
	refused := []int{http.StatusBadRequest, http.StatusUnprocessableEntity}
	with := func(changed, text string) *Case {
		r := m.Request.Clone()
		r.Body, r.ShownBody = []byte(text), m.shown()
		return m.add(&Case{Kind: Envelope, Changed: changed, Request: r, Login: m.unprotected(), Clear: refused})
	}
	c := with("with an empty body", "")
	c.Allowed = m.Operation != nil && m.Operation.Body != nil && !m.Operation.Body.Required
	switch document.FormatOf(m.Request.GetHeader("Content-Type"), m.Request.Body) {
	case document.XML:
		with("cut off in the middle", body[:len(body)/2])
		with("not well-formed: a tag that nobody closes", strings.Replace(body, "</", "<unclosed></", 1))
	case document.JSON:
		with("cut off in the middle", body[:len(body)/2])
		with("not well-formed: a comma too many", strings.TrimRight(body, " \r\n}]")+",}")
		if trimmed := strings.TrimSpace(body); strings.HasPrefix(trimmed, "{") {
			with("a list where an object belongs", "["+trimmed+"]")
		}
	}
	if m.SOAP != "" {
		m.envelopes(body)
	}
}

// envelopes changes what holds a SOAP message.
func (m *maker) envelopes(body string) {
	other := map[soap.Version]soap.Version{soap.V11: soap.V12, soap.V12: soap.V11}[m.SOAP]
	action := m.action()
	inVersion := func(changed, space, mediaType string) {
		r := m.Request.Clone()
		r.Body, r.ShownBody = []byte(strings.ReplaceAll(body, m.SOAP.Namespace(), space)), m.shown()
		if mediaType != "" {
			r.SetHeader("Content-Type", mediaType)
		}
		// A service may well speak both.
		m.add(&Case{
			Kind: Envelope, Changed: changed, Request: r, Login: m.unprotected(),
			Allowed: mediaType != "" && m.BothVersions,
			Clear:   []int{http.StatusBadRequest, http.StatusUnsupportedMediaType},
		})
	}
	inVersion("in an envelope of SOAP "+string(other), other.Namespace(), other.ContentType(action))
	inVersion("in an envelope of SOAP "+string(other)+", said to be "+string(m.SOAP), other.Namespace(), "")
	inVersion("in an envelope of a version that there is not", "urn:nobody:envelope", "")

	// The action says what is meant (SOAP 1.1, 6.1.1); whether anybody looks at it, is open.
	acting := func(changed string, change func(set func(action string), remove func())) {
		r := m.Request.Clone()
		change(func(action string) {
			if m.SOAP == soap.V12 {
				r.SetHeader("Content-Type", soap.V12.ContentType(action))
			} else {
				r.SetHeader("SOAPAction", soap.ActionHeader(action))
			}
		}, func() {
			r.DeleteHeader("SOAPAction")
			if m.SOAP == soap.V12 {
				r.SetHeader("Content-Type", soap.V12.ContentType(""))
			}
		})
		m.add(&Case{Kind: Envelope, Changed: changed, Request: r, Clear: []int{http.StatusBadRequest}, Allowed: true})
	}
	if action != "" {
		acting("without an action", func(_ func(string), remove func()) { remove() })
		acting("with the action of nobody", func(set func(string), _ func()) { set("urn:nobody:knows") })
	}
	at := strings.LastIndex(body, "Body>")
	if start := strings.LastIndex(body[:max(at, 0)], "<"); at > 0 && start > 0 {
		if open := strings.Index(body, "Body>"); open > 0 && open < start {
			r := m.Request.Clone()
			r.Body, r.ShownBody = []byte(body[:open+len("Body>")]+body[start:]), m.shown()
			m.add(&Case{
				Kind: Envelope, Changed: "with nothing in the body of the envelope", Request: r,
				Clear: []int{http.StatusBadRequest},
			})
		}
	}
}

// action is what the request says that it means.
func (m *maker) action() string {
	if m.SOAP == soap.V11 {
		return strings.Trim(m.Request.GetHeader("SOAPAction"), `"`)
	}
	_, after, _ := strings.Cut(m.Request.GetHeader("Content-Type"), "action=")
	text, _, _ := strings.Cut(strings.TrimPrefix(after, `"`), `"`)
	return text
}

// versions changes what the request is said to change.
func (m *maker) versions() {
	if m.Operation == nil || !m.Operation.Versioned {
		return
	}
	r := m.Request.Clone()
	r.SetHeader("If-Match", `"of-another-time"`)
	// RFC 9110, 13.1.1
	m.add(&Case{
		Kind: Version, Changed: "for a version that there is not", Request: r, Versioned: true,
		Clear: []int{http.StatusPreconditionFailed},
	})
	r = m.Request.Clone()
	r.DeleteHeader("If-Match")
	// 428 is what a service says that wants it (RFC 6585, 3).
	m.add(&Case{
		Kind: Version, Changed: "without saying for which version", Request: r, Versioned: true, Allowed: true,
		Clear: []int{http.StatusPreconditionRequired, http.StatusPreconditionFailed},
	})
}

// matching finds the operation's parameters that are in a place.
func matching(op *contract.Endpoint, in ...contract.In) []*contract.Parameter {
	var out []*contract.Parameter
	for i := range op.Parameters {
		if slices.Contains(in, op.Parameters[i].In) {
			out = append(out, &op.Parameters[i])
		}
	}
	return out
}
