package wssecurity

import (
	"fmt"
	"time"

	"testbench/internal/document"
)

// isAssertion says whether an element is a SAML assertion, of version 2.0 or 1.1.
func isAssertion(n *document.Node) bool {
	return n.Name().Local == "Assertion" && (n.Name().Space == saml2 || n.Name().Space == saml1)
}

// AddAssertion adds a SAML assertion (SAML Token Profile 1.1, section 3.3).
// Its namespaces must be declared on it; text is what tells it from other tokens.
func (m *Message) AddAssertion(text string, assertion *document.Node) error {
	if !isAssertion(assertion) {
		return fmt.Errorf("the token is not a SAML assertion, but the element %s in %q", assertion.Name().Local,
			assertion.Name().Space)
	}
	m.AddToken(text, assertion)
	return nil
}

// AssertionLife tells from when until when an assertion holds (SAML 2.0 Core, section 2.5.1;
// SAML 1.1 Core, 2.3.2.1); either is zero where nothing is said.
func AssertionLife(assertion *document.Node) (from, until time.Time) {
	conditions := find(assertion, assertion.Name().Space, "Conditions")
	if conditions == nil {
		return
	}
	for _, a := range conditions.Attributes() {
		moment, err := time.Parse(time.RFC3339, a.Value)
		switch {
		case err != nil:
		case a.Name.Local == "NotBefore":
			from = moment
		case a.Name.Local == "NotOnOrAfter":
			until = moment
		}
	}
	return
}

// assertion returns the SAML assertion of the header, or nil.
func (m *Message) assertion() *document.Node {
	for _, space := range []string{saml2, saml1} {
		if found := find(m.security, space, "Assertion"); found != nil {
			return found
		}
	}
	return nil
}

// assertionReference refers to an assertion by its identifier (SAML Token Profile 1.1, section 3.4).
func assertionReference(assertion *document.Node) *document.Node {
	kind, version := samlProfile11+"#SAMLID", samlProfile11+"#SAMLV2.0"
	if assertion.Name().Space == saml1 {
		kind, version = samlProfile10+"#SAMLAssertionID", samlProfile11+"#SAMLV1.1"
	}
	return tokenType(version, element(wsse, "SecurityTokenReference",
		with(element(wsse, "KeyIdentifier", text(idOf(assertion))), "ValueType", kind)))
}

// tokenType says on a reference what the token is.
func tokenType(kind string, reference *document.Node) *document.Node {
	declareHere(reference, wsse11).AppendAttributes(document.Attribute{
		Name: document.Name{Space: wsse11, Prefix: prefixes[wsse11], Local: "TokenType"}, Value: kind,
	})
	return reference
}
