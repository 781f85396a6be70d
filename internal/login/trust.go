package login

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/keys"
	"testbench/internal/mapping"
	"testbench/internal/reply"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/wssecurity"
	"testbench/internal/yamlfile"
)

// Trust gets a token from a security token service and puts it into the header of envelopes
// (WS-Trust 1.3; for a security context WS-SecureConversation 1.3).
type Trust struct {
	Address     *value.Template
	With        []string // the logins that get in at the token service
	Version     string   // of wssecurity.TrustVersions
	TokenType   string   // of wssecurity.TokenTypes, or a URI
	KeyType     string   // of wssecurity.KeyTypes
	AppliesTo   *value.Template
	OnBehalfOf  string          // a login whose token is somebody else's
	Certificate *value.Template // of the public key that proves the token
	SOAP        soap.Version
	Actor       string
}

// Place says that it goes into the header of the envelope.
func (w *Trust) Place() Stage { return InHeader }

// Obtain asks the token service.
func (w *Trust) Obtain(ctx context.Context, env *Env, _ *Token) (*Token, error) {
	request, err := w.ask(ctx, env)
	if err != nil {
		return nil, err
	}
	r, err := w.message(env, request)
	if err != nil {
		return nil, err
	}
	sent, err := env.keeper.Send(ctx, r, Use{Names: w.instead(env)})
	if sent != nil && env.Observe != nil {
		for _, record := range sent.Records {
			env.Observe(ctx, record)
		}
	}
	if err != nil {
		return nil, err
	}
	record := sent.Record()
	if record.Failure != nil {
		return nil, &Error{Message: record.Failure.Message, Record: record, Cause: record.Failure}
	}
	refuse := func(format string, args ...any) error {
		return &Error{
			Message: "the token service " + fmt.Sprintf(format, args...), Record: record,
			Try: "compare the request with the policy of the token service: its login, token type:, key type:, " +
				"version:",
		}
	}
	for _, finding := range sent.Findings {
		if !finding.Passed {
			return nil, refuse("answered with a %s that does not hold: expected %s, got: %s", finding.Subject,
				finding.Expected, finding.Got)
		}
	}
	re := reply.Read(record)
	envelope, err := document.ReadXML(record.Answer.Body, "")
	if err != nil {
		return nil, refuse("answered with %d: %s", record.Answer.Status, answerInWords(re))
	}
	message, isSOAP := soap.Read(envelope)
	switch {
	case !isSOAP:
		return nil, refuse("answered with %d: %s", record.Answer.Status, answerInWords(re))
	case message.Fault != nil:
		return nil, refuse("refused: %s", message.Fault)
	}
	payload := message.Payload
	if payload != nil {
		payload = document.Apart(envelope, payload)
	}
	issued, err := request.ReadIssued(payload)
	if err != nil {
		return nil, refuse("gave no token: %v", err)
	}
	w.hide(env, issued)
	token := &Token{
		Text: xmlText(issued.Token), Kind: issued.Token.Name().Local, Obtained: env.now(), Proof: issued.Proof,
	}
	if !issued.Expires.IsZero() {
		token.Expires = issued.Expires.Add(-Skew(record)) // it follows the service's clock
	}
	if issued.Attached != nil {
		token.Attached = xmlText(issued.Attached)
	}
	return token, nil
}

func xmlText(n *document.Node) string {
	return string(document.CanonicalXML(n, n, document.Canonical{Inclusive: true}))
}

// ask is what the token service is asked for.
func (w *Trust) ask(ctx context.Context, env *Env) (request wssecurity.TokenRequest, err error) {
	request = wssecurity.TokenRequest{Version: w.Version, TokenType: w.TokenType, KeyType: w.KeyType}
	if request.AppliesTo, err = env.text("applies to", w.AppliesTo); err != nil {
		return request, err
	}
	if request.IsShared() {
		if request.Entropy, err = wssecurity.NewEntropy(); err != nil {
			return request, err
		}
		env.Scope.Hide(base64.StdEncoding.EncodeToString(request.Entropy))
	}
	if w.Certificate != nil {
		data, err := env.piece("certificate", w.Certificate)
		if err != nil {
			return request, err
		}
		all, err := keys.Certificates(data)
		if err != nil {
			return request, &Error{Message: "certificate: " + err.Error()}
		}
		request.Certificate = all[0]
	}
	if w.OnBehalfOf == "" {
		return request, nil
	}
	other, err := env.other(ctx, w.OnBehalfOf)
	if err != nil {
		return request, err
	}
	if request.OnBehalfOf, err = document.ReadXML([]byte(other.Text), "utf-8"); err != nil {
		return request, &Error{Message: fmt.Sprintf("the token of the login %s is %v", w.OnBehalfOf, err)}
	}
	request.OnBehalfOf.MarkSecret()
	return request, nil
}

// message is the request to the token service, without its logins.
func (w *Trust) message(env *Env, request wssecurity.TokenRequest) (*exchange.Request, error) {
	filled, err := w.Address.Text(env.Scope, value.Address)
	if err != nil {
		return nil, &Error{Message: "address: " + err.Error()}
	}
	address, err := url.Parse(filled.Sent)
	if err != nil || address.Host == "" {
		return nil, &Error{Message: fmt.Sprintf("address: %q is not an address", filled.Sent)}
	}
	addressing := soap.Addressing{To: filled.Sent, Action: request.Action(), MessageID: soap.NewMessageID()}
	envelope := soap.Envelope(w.SOAP, addressing.Blocks(), []*document.Node{request.Element()})
	for _, part := range envelope.Items() {
		for _, child := range part.Items() {
			document.Declare(child)
		}
	}
	r := &exchange.Request{
		Method: http.MethodPost, URL: address, Login: true,
		Body:      []byte(document.WriteXML(envelope, document.Style{})),
		ShownBody: document.WriteXML(envelope, document.Style{Hide: value.Mask}),
	}
	r.SetHeader("Content-Type", w.SOAP.ContentType(request.Action()))
	if w.SOAP == soap.V11 {
		r.SetHeader("SOAPAction", soap.ActionHeader(request.Action()))
	}
	return r, nil
}

func (w *Trust) instead(env *Env) []string {
	var names []string
	for _, name := range w.With {
		names = append(names, env.instead(name))
	}
	return names
}

// hide masks what makes the token worth something: its signature, what is encrypted in it, and its key.
func (w *Trust) hide(env *Env, issued *wssecurity.Issued) {
	if issued.Proof != nil {
		env.Scope.Hide(base64.StdEncoding.EncodeToString(issued.Proof))
	}
	var visit func(n *document.Node)
	visit = func(n *document.Node) {
		switch n.Name().Local {
		case "SignatureValue", "CipherValue", "BinarySecurityToken":
			env.Scope.Hide(strings.TrimSpace(n.OwnText()))
		}
		for _, child := range n.Children() {
			visit(child)
		}
	}
	visit(issued.Token)
}

// Put adds the token to the envelope.
func (w *Trust) Put(r *exchange.Request, _ *Env, t *Token) error {
	if t.Spoilt == Empty {
		return nil
	}
	token, err := document.ReadXML([]byte(t.Text), "utf-8")
	if err != nil {
		return &Error{Message: "the token is " + err.Error()}
	}
	if t.Spoilt == Tampered {
		spoilText(token)
	}
	token.MarkSecret()
	return protect(r, w.Actor, func(m *wssecurity.Message) error {
		m.AddToken(t.Text, token)
		return nil
	})
}

// spoils says which ways there are.
func (w *Trust) spoils(way string) bool { return way == Tampered || way == Empty }

// Addresses are where the login itself sends requests.
func (w *Trust) Addresses() []*value.Template { return []*value.Template{w.Address} }

// Placeholders lists the placeholders.
func (w *Trust) Placeholders() []*value.Placeholder {
	return placeholders(w.Address, w.AppliesTo, w.Certificate)
}

func readTrust(r *mapping.Reader, n *yamlfile.Node) Kind {
	w := &Trust{SOAP: soap.V12}
	mapping.Read(r, "a login of kind ws-trust", n, w, trustKeys)
	needSettings(r, n, "address", w.Address)
	switch {
	case w.Address == nil:
		w.Address = value.Literal("")
	case w.KeyType == "public":
		needSettings(r, n, "certificate", w.Certificate)
	case w.Certificate != nil:
		r.File.Report(n.Key("certificate"), "write key type: public, or take it out",
			"certificate: has no effect without key type: public")
	}
	if w.TokenType == "context" && w.KeyType != "" && w.KeyType != "shared" {
		r.File.Report(n.Key("key type"), "take it out", "a context always has a shared key")
	}
	return w
}

var trustKeys = []mapping.Key[Trust]{
	ignoreKind[Trust](),
	mapping.AddressKey("address", "where the token service is", func(w *Trust) **value.Template { return &w.Address }),
	mapping.NewKey("login", "the login, or a list of logins, that the token service asks for",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				w.With = append(w.With, readOtherLogin(r, item))
			}
		}),
	mapping.NewKey("version", "of WS-Trust: "+strings.Join(wssecurity.TrustVersions, " or ")+"; 1.3 unless said",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) {
			w.Version = r.Choice(n, "version of WS-Trust", wssecurity.TrustVersions...)
		}),
	mapping.NewKey("token type", strings.Join(wssecurity.TokenTypes, ", ")+", or its URI; saml 2.0 unless said",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) {
			if w.TokenType = r.PlainText(n); !strings.Contains(w.TokenType, ":") {
				w.TokenType = r.Choice(n, "type of token", wssecurity.TokenTypes...)
			}
		}),
	mapping.NewKey("key type", "how the token is proved: bearer (not at all), shared (by a key that both sides have), "+
		"public (by the key of certificate:); bearer unless said, and shared for a context",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) {
			w.KeyType = r.Choice(n, "type of key", wssecurity.KeyTypes...)
		}),
	mapping.TemplateKey("applies to", "the address of the service that the token is for",
		func(w *Trust) **value.Template { return &w.AppliesTo }),
	mapping.NewKey("on behalf of", "another login, whose token says for whom this one is",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) { w.OnBehalfOf = readOtherLogin(r, n) }),
	mapping.TemplateKey("certificate", "of the public key that proves the token: file or ${sealed.x}",
		func(w *Trust) **value.Template { return &w.Certificate }),
	mapping.NewKey("soap", "the version of the envelope for the token service: 1.1 or 1.2; 1.2 unless said",
		func(r *mapping.Reader, w *Trust, n *yamlfile.Node) {
			w.SOAP = soap.Version(r.Choice(n, "version of SOAP", string(soap.V11), string(soap.V12)))
		}),
	actorKey(func(w *Trust) *string { return &w.Actor }),
}
