//go:build peers

package wssecurity_test

import (
	"crypto/elliptic"
	"crypto/x509"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/keys"
	"testbench/internal/wssecurity"
)

const utility = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"

// xmlsec runs xmlsec1 in a folder that holds the pair as key.pem and cert.pem.
type xmlsec struct {
	t   *testing.T
	dir string
}

func newXmlsec(t *testing.T, p *keys.Pair) *xmlsec {
	x := &xmlsec{t, t.TempDir()}
	raw, err := x509.MarshalPKCS8PrivateKey(p.Key)
	require.NoError(t, err)
	x.write("key.pem", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw})))
	x.write("cert.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: p.Leaf().Raw})))
	return x
}

func (x *xmlsec) write(name, content string) {
	require.NoError(x.t, os.WriteFile(filepath.Join(x.dir, name), []byte(content), 0o600))
}

func (x *xmlsec) run(arguments ...string) (string, error) {
	command := exec.Command("xmlsec1", arguments...)
	command.Dir = x.dir
	output, err := command.CombinedOutput()
	return string(output), err
}

var identified = []string{
	"--id-attr:Id", utility + ":Timestamp", "--id-attr:Id", "http://schemas.xmlsoap.org/soap/envelope/:Body",
	"--id-attr:Id",
	"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd:UsernameToken", "--id-attr:Id",
	"http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd:BinarySecurityToken",
	"--id-attr:Id", "http://www.w3.org/2005/08/addressing:To",
}

// What is signed here xmlsec1 verifies; one letter changed, and it does not.
func TestSignaturesByXmlsec(t *testing.T) {
	rsaKey, curve := rsaPair(t, "lab"), ecPair(t, elliptic.P256())
	for _, s := range []wssecurity.Signing{
		{Pair: rsaKey},
		{Pair: rsaKey, Algorithm: "rsa-sha1", SHA1: true, Reference: "issuer"},
		{Pair: rsaKey, Algorithm: "rsa-sha512", Reference: "thumbprint"},
		{Pair: rsaKey, Inclusive: []string{"unused", "soap"}},
		{Pair: curve},
		{Pair: ecPair(t, elliptic.P384()), Algorithm: "ecdsa-sha384", Reference: "whole certificate"},
	} {
		x := newXmlsec(t, s.Pair)
		m := parse(t, []byte(envelope))
		m.AddTimestamp(time.Now(), time.Minute)
		m.AddUsernameToken(wssecurity.UsernameToken{User: "lab", Password: "heather bell 9"})
		s.Parts = []string{"body", "time stamp", "user", "To"}
		_, err := m.Sign(s)
		require.NoError(t, err)
		x.write("signed.xml", string(m.Bytes()))
		verify := append(append([]string{"--verify", "--pubkey-cert-pem", "cert.pem"}, identified...), "signed.xml")
		output, err := x.run(verify...)
		assert.NoError(t, err, "%+v\n%s", s, output)
		x.write("signed.xml", strings.Replace(string(m.Bytes()), "L-2201", "L-2202", 1))
		_, err = x.run(verify...)
		assert.Error(t, err)
	}
}

// What xmlsec1 signs is verified here.
func TestSignaturesOfXmlsec(t *testing.T) {
	for algorithm, p := range map[string]*keys.Pair{"http://www.w3.org/2001/04/xmldsig-more#rsa-sha256": rsaPair(t,
		"lab"), "http://www.w3.org/2001/04/xmldsig-more#ecdsa-sha256": ecPair(t, elliptic.P256())} {
		for _, form := range []string{
			"http://www.w3.org/2001/10/xml-exc-c14n#",
			"http://www.w3.org/TR/2001/REC-xml-c14n-20010315", "http://www.w3.org/2001/10/xml-exc-c14n#WithComments",
			"http://www.w3.org/2006/12/xml-c14n11", "http://www.w3.org/2006/12/xml-c14n11#WithComments",
		} {
			x := newXmlsec(t, p)
			template := strings.NewReplacer(
				"<soap:Envelope", `<soap:Envelope xml:lang="de" xml:id="all" xml:base="http://lab.heatherfold.example/a/b/c"`,
				"<soap:Body>", `<soap:Body xml:base="../d/e?f" xmlns:wsu="`+utility+`" wsu:Id="the-body"><!-- a comment -->`,
				"<soap:Header>", `<soap:Header><wsse:Security xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><Signature xmlns="http://www.w3.org/2000/09/xmldsig#"><SignedInfo>
<CanonicalizationMethod Algorithm="`+form+`"/><SignatureMethod Algorithm="`+algorithm+`"/><Reference URI="#the-body"><Transforms><Transform Algorithm="`+form+`"/></Transforms><DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><DigestValue/></Reference></SignedInfo><SignatureValue/><KeyInfo><X509Data><X509Certificate/></X509Data></KeyInfo></Signature></wsse:Security>`,
			).Replace(envelope)
			x.write("template.xml", template)
			output, err := x.run(append(append([]string{
				"--sign", "--privkey-pem", "key.pem,cert.pem", "--output",
				"signed.xml",
			}, identified...), "template.xml")...)
			require.NoError(t, err, output)
			signed, err := os.ReadFile(filepath.Join(x.dir, "signed.xml"))
			require.NoError(t, err)
			found := parse(t, signed).Receive(nil, wssecurity.Trust{Certificates: p.Chain}).Signatures
			require.Len(t, found, 1)
			assert.NoError(t, found[0].Problem, "%s %s", algorithm, form)
			assert.Equal(t, []string{"body"}, found[0].Covers)
			changed := strings.Replace(string(signed), "L-2201", "L-2202", 1)
			assert.Error(t, parse(t, []byte(changed)).Receive(nil,
				wssecurity.Trust{Certificates: p.Chain}).Signatures[0].Problem)
		}
	}
}

var encryptedKey = regexp.MustCompile(`(?s)<xenc:EncryptedKey.*</xenc:EncryptedKey>`)

// Canonical XML 1.1 joins xml:base, of whatever form, as xmlsec1 does.
func TestBasesByXmlsec(t *testing.T) {
	p := rsaPair(t, "lab")
	x := newXmlsec(t, p)
	for _, bases := range [][2]string{
		{"a/b/c", "d"},
		{"a/b/", "../d/"},
		{"a/b", "../../d"},
		{"/a/b", "c/"},
		{"/a/", "/b"},
		{"a/", "http://x.example/y"},
		{"http://x.example", "y"},
		{"http://x.example/a/b?q#f", "c/./d/../e"},
		{"../a", "../../b"},
		{"a", ""},
	} {
		template := strings.NewReplacer(
			"<soap:Envelope", `<soap:Envelope xml:base="`+bases[0]+`"`,
			"<soap:Body>", `<soap:Body xml:base="`+bases[1]+`" xmlns:wsu="`+utility+`" wsu:Id="the-body">`,
			"<soap:Header>", `<soap:Header><wsse:Security xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><Signature xmlns="http://www.w3.org/2000/09/xmldsig#"><SignedInfo>
<CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/><SignatureMethod Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/><Reference URI="#the-body"><Transforms><Transform Algorithm="http://www.w3.org/2006/12/xml-c14n11"/></Transforms><DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/><DigestValue/></Reference></SignedInfo><SignatureValue/><KeyInfo><X509Data><X509Certificate/></X509Data></KeyInfo></Signature></wsse:Security>`,
		).Replace(envelope)
		x.write("template.xml", template)
		output, err := x.run(append(append([]string{
			"--sign", "--privkey-pem", "key.pem,cert.pem", "--output", "signed.xml",
		}, identified...), "template.xml")...)
		require.NoError(t, err, output)
		signed, err := os.ReadFile(filepath.Join(x.dir, "signed.xml"))
		require.NoError(t, err)
		found := parse(t, signed).Receive(nil, wssecurity.Trust{Certificates: p.Chain}).Signatures
		require.Len(t, found, 1)
		assert.NoError(t, found[0].Problem, "%v", bases)
	}
}

// What is encrypted here xmlsec1 opens. It looks for the key inside of the data
// it opens, and not in the header of an envelope: there the test puts it.
func TestEncryptionByXmlsec(t *testing.T) {
	receiver := rsaPair(t, "receiver")
	x := newXmlsec(t, receiver)
	for _, cipher := range wssecurity.Ciphers {
		m := parse(t, []byte(envelope))
		require.NoError(t, m.Encrypt(wssecurity.Encryption{
			For: receiver.Leaf(), Parts: []string{"body"},
			Cipher: cipher, Reference: "whole certificate",
		}))
		sent := string(m.Bytes())
		key := encryptedKey.FindString(sent)
		key = regexp.MustCompile(`(?s)<ds:KeyInfo.*</ds:KeyInfo>`).ReplaceAllString(key, "")
		moved := encryptedKey.ReplaceAllString(sent, "")
		at := strings.LastIndex(moved, "<xenc:CipherData>")
		moved = moved[:at] + `<ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#">` + key + `</ds:KeyInfo>` +
			moved[at:]
		x.write("sealed.xml", moved)
		output, err := x.run("--decrypt", "--privkey-pem", "key.pem", "sealed.xml")
		require.NoError(t, err, "%s\n%s\n%s", cipher, output, moved)
		assert.Contains(t, output, "L-2201 &amp; ")
	}
}

// What xmlsec1 encrypts is opened here.
func TestEncryptionOfXmlsec(t *testing.T) {
	receiver := rsaPair(t, "receiver")
	x := newXmlsec(t, receiver)
	for _, cipher := range []string{
		"http://www.w3.org/2001/04/xmlenc#aes128-cbc",
		"http://www.w3.org/2001/04/xmlenc#aes256-cbc", "http://www.w3.org/2009/xmlenc11#aes128-gcm",
		"http://www.w3.org/2009/xmlenc11#aes256-gcm",
	} {
		x.write("template.xml", `<EncryptedData xmlns="http://www.w3.org/2001/04/xmlenc#" Id="d" Type="http://www.w3.org/2001/04/xmlenc#Content"><EncryptionMethod Algorithm="`+cipher+`"/>
<KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><EncryptedKey xmlns="http://www.w3.org/2001/04/xmlenc#"><EncryptionMethod Algorithm="http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p"/><CipherData><CipherValue/></CipherData></EncryptedKey></KeyInfo><CipherData><CipherValue/></CipherData></EncryptedData>`)
		x.write("plain.xml", envelope)
		size := map[bool]string{true: "aes-128", false: "aes-256"}[strings.Contains(cipher, "128")]
		output, err := x.run("--encrypt", "--pubkey-cert-pem", "cert.pem", "--session-key", size, "--xml-data",
			"plain.xml", "--node-xpath", "//*[local-name()='Body']/*", "--output", "sealed.xml", "template.xml")
		require.NoError(t, err, output)
		data, err := os.ReadFile(filepath.Join(x.dir, "sealed.xml"))
		require.NoError(t, err)
		sealed := string(data)
		key := regexp.MustCompile(`(?s)<EncryptedKey.*</EncryptedKey>`).FindString(sealed)
		sealed = regexp.MustCompile(`(?s)<KeyInfo.*</KeyInfo>`).ReplaceAllString(sealed, "")
		key = strings.Replace(key, "</EncryptedKey>",
			`<ReferenceList><DataReference URI="#d"/></ReferenceList></EncryptedKey>`, 1)
		sealed = strings.Replace(sealed, "<soap:Header>",
			`<soap:Header><wsse:Security xmlns:wsse="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd">`+key+`</wsse:Security>`, 1)
		m := parse(t, []byte(sealed))
		require.NoError(t, m.Receive(receiver.Key, wssecurity.Trust{}).Problem, "%s\n%s", cipher, sealed)
		assert.Contains(t, string(m.Bytes()), "L-2201 &amp; Ä")
	}
}
