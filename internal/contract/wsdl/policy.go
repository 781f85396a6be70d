package wsdl

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
)

// The namespaces of WS-Policy and WS-SecurityPolicy, in their versions.
var (
	policySpaces = []string{
		"http://www.w3.org/ns/ws-policy", "http://schemas.xmlsoap.org/ws/2004/09/policy",
		"http://www.w3.org/2006/07/ws-policy",
	}
	securityWord = "securitypolicy" // all versions have it in their namespace
)

const utilitySpace = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"

// requirements are the assertions of WS-SecurityPolicy 1.2 that matter to one who
// wants in.
type requirements struct {
	alternatives           int
	tls, clientCertificate bool
	http                   []string // Basic, Digest, Negotiate
	user                   string   // "", "text" or "digest"
	stamp                  bool
	sign, symmetric        bool
	reference              string
	signed, encrypted      []string
	suite                  string
	saml, kerberos         bool
	addressing             bool
}

// security reads the policies that hold at a port: those of its service, of the
// port itself, of its binding, and of the binding's operations (WS-Policy 1.5
// Attachment, section 4).
func (l *loader) security(service, port, binding element) *contract.Security {
	r := &requirements{}
	for _, place := range []element{service, port, binding} {
		l.require(r, place)
	}
	for operation := range binding.all(Namespace, "operation") {
		l.require(r, operation)
		for _, way := range []string{"input", "output"} {
			for message := range operation.all(Namespace, way) {
				l.require(r, message)
			}
		}
	}
	return r.inWords(port.value("name"))
}

// require takes what the policies at a place ask for.
func (l *loader) require(r *requirements, place element) {
	for _, item := range place.Items() {
		switch {
		case item.Kind != document.Element || !slices.Contains(policySpaces, item.Name().Space):
			if item.Kind == document.Element && item.Name().Local == "UsingAddressing" {
				r.addressing = true
			}
		case item.Name().Local == "Policy":
			r.read(item)
		case item.Name().Local == "PolicyReference":
			uri, _ := item.Attribute("URI")
			if policy := l.policies[strings.TrimPrefix(uri, "#")]; policy != nil {
				r.read(policy)
			} else {
				l.note(place, "the policy %q is not in the contract: what it asks for is not known", uri)
			}
		}
	}
}

// collectPolicies notes the policies of a document by their ids.
func (l *loader) collectPolicies(root element) {
	for _, item := range root.Items() {
		if item.Kind != document.Element || item.Name().Local != "Policy" ||
			!slices.Contains(policySpaces, item.Name().Space) {
			continue
		}
		for _, a := range item.Attributes() {
			if a.Name.Local == "Id" && a.Name.Space == utilitySpace || a.Name.Local == "Name" || a.Name.Local == "id" {
				l.policies[a.Value] = item
			}
		}
	}
}

// read takes the assertions of a policy; of several alternatives the first.
func (r *requirements) read(n *document.Node) {
	for _, item := range n.Children() {
		isPolicy := slices.Contains(policySpaces, item.Name().Space)
		switch {
		case isPolicy && item.Name().Local == "ExactlyOne":
			children := item.Children()
			r.alternatives = max(r.alternatives, len(children))
			if len(children) > 0 {
				r.read(document.NewElement(document.Name{}, children[0]))
			}
		case isPolicy:
			r.read(item)
		case strings.Contains(strings.ToLower(item.Name().Space), securityWord):
			r.assertion(item)
		case item.Name().Local == "UsingAddressing" || item.Name().Local == "Addressing":
			r.addressing = true
		}
	}
}

// assertion reads one assertion of WS-SecurityPolicy 1.2 (sections 4 to 8).
func (r *requirements) assertion(n *document.Node) {
	switch n.Name().Local {
	case "HttpsToken":
		r.tls = true
		if text, _ := n.Attribute("RequireClientCertificate"); text == "true" || text == "1" { // 1.1
			r.clientCertificate = true
		}
	case "RequireClientCertificate":
		r.clientCertificate = true
	case "HttpBasicAuthentication":
		r.http = append(r.http, "Basic")
	case "HttpDigestAuthentication":
		r.http = append(r.http, "Digest")
	case "SpnegoContextToken":
		r.http = append(r.http, "Negotiate")
	case "UsernameToken":
		if r.user == "" {
			r.user = "text"
		}
	case "HashPassword":
		r.user = "digest"
	case "IncludeTimestamp":
		r.stamp = true
	case "AsymmetricBinding", "InitiatorToken", "InitiatorSignatureToken":
		r.sign = true
	case "SymmetricBinding", "ProtectionToken":
		r.symmetric = true
	case "MustSupportRefIssuerSerial", "RequireIssuerSerialReference":
		r.reference = "issuer"
	case "RequireKeyIdentifierReference":
		r.reference = "key identifier"
	case "RequireThumbprintReference":
		r.reference = "thumbprint"
	case "SignedParts":
		r.signed = append(r.signed, parts(n)...)
	case "EncryptedParts":
		r.encrypted = append(r.encrypted, parts(n)...)
	case "AlgorithmSuite":
		for _, policy := range n.Children() {
			for _, suite := range policy.Children() {
				r.suite = suite.Name().Local
			}
		}
	case "SamlToken", "IssuedToken":
		r.saml = true
	case "KerberosToken":
		r.kerberos = true
	}
	r.read(n)
}

// loginName makes an identifier of a port's name: SignedLabPort gives signed_lab.
func loginName(port string) string {
	var out strings.Builder
	for i, c := range strings.TrimSuffix(port, "Port") {
		switch {
		case c >= 'A' && c <= 'Z':
			if i > 0 && !strings.HasSuffix(out.String(), "_") {
				out.WriteByte('_')
			}
			out.WriteRune(c + 'a' - 'A')
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9' && i > 0:
			out.WriteRune(c)
		default:
			out.WriteByte('_')
		}
	}
	if out.Len() == 0 {
		return "login"
	}
	return out.String()
}

// parts lists the parts of a message as a login would name them; nothing at all
// stands for the whole of it (section 4.1.1).
func parts(n *document.Node) []string {
	var all []string
	for _, item := range n.Children() {
		switch item.Name().Local {
		case "Body":
			all = append(all, "body")
		case "Header":
			if name, ok := item.Attribute("Name"); ok {
				all = append(all, name)
			} else {
				all = append(all, "every header of "+firstText(item, "Namespace"))
			}
		}
	}
	if all == nil {
		all = []string{"body"}
	}
	return all
}

func firstText(n *document.Node, name string) string {
	text, _ := n.Attribute(name)
	return text
}

// dataCiphers are the ciphers of algorithm suites (section 6.1).
var dataCiphers = map[string]string{"Basic256": "aes256-cbc", "Basic192": "aes192-cbc", "Basic128": "aes128-cbc"}

// inWords tells what is asked for, and which logins would do; nil where nothing
// is.
func (r *requirements) inWords(port string) *contract.Security {
	s := &contract.Security{Where: port}
	say := func(format string, args ...any) { s.Says = append(s.Says, fmt.Sprintf(format, args...)) }
	add := func(l contract.Login) { s.Logins = append(s.Logins, l) }
	name := loginName(port)
	if r.tls {
		say("TLS: the address begins with https://")
	}
	if r.clientCertificate {
		say("a client certificate")
		add(contract.Login{
			Name: name + "_certificate", Kind: "certificate",
			Settings: []contract.Setting{
				{Name: "certificate", Text: "certs/own.pem"},
				{Name: "key", Text: "${sealed.own_key}"},
			},
		})
	}
	for _, scheme := range slices.Compact(slices.Sorted(slices.Values(r.http))) {
		say("HTTP authentication by %s", scheme)
		kind := map[string]string{"Basic": "basic", "Digest": "digest", "Negotiate": "kerberos"}[scheme]
		settings := []contract.Setting{{Name: "user", Text: "USER"}, {Name: "password", Text: "${sealed." + name + "}"}}
		if kind == "kerberos" {
			settings = append(settings, contract.Setting{Name: "realm", Text: "REALM"})
		}
		add(contract.Login{Name: name, Kind: kind, Settings: settings})
	}
	stamp := contract.Setting{Name: "stamp", Text: "5 min"}
	if r.user != "" {
		text := "a UsernameToken"
		settings := []contract.Setting{{Name: "user", Text: "USER"}, {Name: "password", Text: "${sealed." + name + "}"}}
		if r.user == "digest" {
			text += " with the password as a digest"
			settings = append(settings, contract.Setting{Name: "digest", Text: "true"})
		}
		if r.stamp && !r.sign {
			settings = append(settings, stamp)
		}
		say("%s", text)
		add(contract.Login{Name: name, Kind: "username token", Settings: settings})
	}
	if r.saml {
		say("a SAML token")
		add(contract.Login{
			Name: name + "_saml", Kind: "saml",
			Settings: []contract.Setting{{Name: "assertion", Text: "${sealed." + name + "_assertion}"}},
		})
	}
	if r.kerberos {
		say("a Kerberos token in the header, which logins here do not make")
	}
	if r.stamp {
		say("a time stamp")
	}
	r.signature(s, name, say)
	if r.addressing {
		say("WS-Addressing blocks: addressing: true at the service")
	}
	if r.alternatives > 1 {
		say("this is the first of %d ways that the policy allows", r.alternatives)
	}
	if s.Says == nil {
		return nil
	}
	return s
}

// signature tells of signature and encryption.
func (r *requirements) signature(s *contract.Security, name string, say func(string, ...any)) {
	if !r.sign && !r.symmetric {
		return
	}
	signed := r.signed
	if len(signed) == 0 {
		signed = []string{"body"}
	}
	if r.stamp {
		signed = append(signed[:len(signed):len(signed)], "time stamp")
	}
	if r.symmetric && !r.sign {
		say("protection by a key that both sides derive (SymmetricBinding), which logins here do not do")
		return
	}
	say("a signature by an X.509 key over %s", strings.Join(signed, ", "))
	settings := []contract.Setting{
		{Name: "certificate", Text: "certs/own.pem"},
		{Name: "key", Text: "${sealed.own_key}"},
		{Name: "sign", List: signed},
	}
	if r.reference != "" {
		settings = append(settings, contract.Setting{Name: "reference", Text: r.reference})
	}
	if strings.HasPrefix(r.suite, "Basic") && !strings.Contains(r.suite, "Sha256") {
		settings = append(settings, contract.Setting{Name: "algorithm", Text: "rsa-sha1"},
			contract.Setting{Name: "digest", Text: "sha1"})
	}
	if len(r.encrypted) > 0 {
		say("encryption of %s", strings.Join(r.encrypted, ", "))
		encrypt := []contract.Setting{{Name: "for", Text: "certs/service.pem"}, {Name: "parts", List: r.encrypted}}
		for suite, cipher := range dataCiphers {
			if strings.HasPrefix(r.suite, suite) {
				encrypt = append(encrypt, contract.Setting{Name: "cipher", Text: cipher})
			}
		}
		settings = append(settings, contract.Setting{Name: "encrypt", Settings: encrypt})
	}
	answers := []contract.Setting{{Name: "certificate", Text: "certs/service.pem"}, {Name: "signed", List: signed}}
	settings = append(settings, contract.Setting{Name: "answers", Settings: answers})
	if r.suite != "" {
		say("the algorithms of the suite %s", r.suite)
	}
	s.Logins = append(s.Logins, contract.Login{Name: name, Kind: "signature", Settings: settings})
}
