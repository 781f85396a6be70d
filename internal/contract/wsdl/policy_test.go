package wsdl_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/bench"
	"testbench/internal/contract"
)

// What the policies of a contract ask for is told, whichever version they are
// written in and wherever they are attached; the logins drafted can be pasted.
func TestPolicies(t *testing.T) {
	const newer = `xmlns:w="http://www.w3.org/ns/ws-policy" xmlns:sp="http://docs.oasis-open.org/ws-sx/ws-securitypolicy/200702" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"`
	const older = `xmlns:w="http://schemas.xmlsoap.org/ws/2004/09/policy" xmlns:sp="http://schemas.xmlsoap.org/ws/2005/07/securitypolicy" xmlns:u="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"`
	asymmetric := func(suite, more string) string {
		return `<sp:AsymmetricBinding><w:Policy><sp:InitiatorToken><w:Policy><sp:X509Token><w:Policy>` + more +
			`</w:Policy></sp:X509Token></w:Policy></sp:InitiatorToken><sp:AlgorithmSuite><w:Policy><sp:` + suite +
			`/></w:Policy></sp:AlgorithmSuite><sp:IncludeTimestamp/></w:Policy></sp:AsymmetricBinding>`
	}
	cases := []struct {
		name, spaces, policy string
		says                 []string
		logins               []string // lines of the draft
	}{
		{"nothing", newer, ``, nil, nil},
		{
			"TLS and Basic", newer,
			`<sp:TransportBinding><w:Policy><sp:TransportToken><w:Policy><sp:HttpsToken><w:Policy><sp:HttpBasicAuthentication/></w:Policy></sp:HttpsToken></w:Policy></sp:TransportToken></w:Policy></sp:TransportBinding>`,
			[]string{"TLS: the address begins with https://", "HTTP authentication by Basic"},
			[]string{"kind: basic"},
		},
		{
			"Digest and a certificate", newer,
			`<sp:HttpsToken><w:Policy><sp:HttpDigestAuthentication/><sp:RequireClientCertificate/></w:Policy></sp:HttpsToken>`,
			[]string{"a client certificate", "by Digest"},
			[]string{"kind: certificate", "kind: digest"},
		},
		{
			"a certificate, as it was written before", older, `<sp:HttpsToken RequireClientCertificate="true"/>`,
			[]string{"a client certificate"},
			[]string{"kind: certificate"},
		},
		{"Negotiate", newer, `<sp:SpnegoContextToken/>`, []string{"by Negotiate"}, []string{"kind: kerberos"}},
		{"a user", older, `<sp:SupportingTokens><w:Policy><sp:UsernameToken/></w:Policy></sp:SupportingTokens><sp:IncludeTimestamp/>`, []string{"a UsernameToken", "a time stamp"}, []string{"kind: username token", "stamp: 5 min"}},
		{
			"a digest", newer, `<sp:UsernameToken><w:Policy><sp:HashPassword/></w:Policy></sp:UsernameToken>`,
			[]string{"a UsernameToken with the password as a digest"},
			[]string{"digest: true"},
		},
		{
			"a signature", newer, asymmetric("Basic256Sha256",
				"<sp:RequireThumbprintReference/>") +
				`<sp:SignedParts><sp:Body/><sp:Header Name="To" Namespace="urn:a"/></sp:SignedParts>`,
			[]string{
				"a signature by an X.509 key over body, To, time stamp",
				"the algorithms of the suite Basic256Sha256",
			},
			[]string{"reference: thumbprint", "- To"},
		},
		{
			"old algorithms and encryption", newer,
			asymmetric("Basic128", "<sp:RequireIssuerSerialReference/>") + `<sp:EncryptedParts/>`,
			[]string{"encryption of body"},
			[]string{"algorithm: rsa-sha1", "digest: sha1", "cipher: aes128-cbc", "reference: issuer"},
		},
		{"a derived key", newer, `<sp:SymmetricBinding/>`, []string{"which logins here do not do"}, nil},
		{
			"SAML and Kerberos", newer, `<sp:SamlToken/><sp:KerberosToken/>`,
			[]string{"a SAML token", "a Kerberos token"},
			[]string{"kind: saml"},
		},
		{"a choice", newer, `<w:ExactlyOne><w:All><sp:UsernameToken/></w:All><w:All><sp:HttpsToken/></w:All></w:ExactlyOne>`, []string{"a UsernameToken", "this is the first of 2 ways"}, []string{"kind: username token"}},
		{
			"addressing", newer, `<a:UsingAddressing xmlns:a="http://www.w3.org/2006/05/addressing/wsdl"/>`,
			[]string{"addressing: true at the service"},
			nil,
		},
	}
	for _, c := range cases {
		for _, attached := range []string{"inline", "reference", "port", "operation"} {
			policy := `<w:Policy ` + c.spaces + ` u:Id="P">` + c.policy + `</w:Policy>`
			at := map[string]string{attached: policy}
			if attached == "reference" {
				at = map[string]string{"top": policy, "inline": `<w:PolicyReference ` + c.spaces + ` URI="#P"/>`}
			}
			contractText := definitions(pressTypes + at["top"] + `<portType name="Press"><operation name="Start"><input message="p:In"/></operation></portType>
<binding name="B" type="p:Press">` + at["inline"] + `<s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Start">` + at["operation"] + `<s:operation soapAction="urn:start"/><input>` + body("literal") + `</input></operation></binding>
<service name="Hall"><port name="HallPort" binding="p:B">` + at["port"] + `<s:address location="http://hall.example/p"/></port></service>`)
			w, err := read(map[string]string{"main.wsdl": contractText})
			require.NoError(t, err, c.name)
			security := w.Services[0].Ports[0].Security
			if c.says == nil {
				assert.Nil(t, security)
				continue
			}
			require.NotNil(t, security, "%s %s", c.name, attached)
			for _, said := range c.says {
				assert.Contains(t, strings.Join(security.Says, "\n"), said, "%s %s", c.name, attached)
			}
			text := contract.YAML(security.Logins)
			for _, line := range c.logins {
				assert.Contains(t, text, line, c.name)
			}
			bench := bench.Read(t.TempDir(), "bench.yaml",
				[]byte("bench: b\nsites:\n  s:\n    set:\n      a: b\nlogins:\n"+text))
			if len(security.Logins) > 0 {
				assert.Empty(t, bench.Problems().Serious(), text)
			}
		}
	}
	w, err := read(map[string]string{"main.wsdl": definitions(pressTypes + `<portType name="Press"><operation name="Start"><input message="p:In"/></operation></portType>
<binding name="B" type="p:Press"><w:PolicyReference xmlns:w="http://www.w3.org/ns/ws-policy" URI="#nowhere"/><s:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Start"><input>` + body("literal") + `</input></operation></binding>
<service name="Hall"><port name="P" binding="p:B"><s:address location="http://hall.example/p"/></port></service>`)})
	require.NoError(t, err)
	assert.Contains(t, w.Notes()[len(w.Notes())-1].Message, `the policy "#nowhere" is not in the contract`)
}
