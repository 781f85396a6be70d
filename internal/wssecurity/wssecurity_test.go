package wssecurity_test

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/keys"
	"testbench/internal/wssecurity"
)

const envelope = `<?xml version="1.0"?>
<soap:Envelope xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/" xmlns:unused="urn:u">
  <soap:Header><a:To xmlns:a="http://www.w3.org/2005/08/addressing">http://lab.heatherfold.example/</a:To></soap:Header>
  <soap:Body><lab:GradeLot xmlns:lab="urn:heatherfold:lab" kind="unused:x">
    <lab:lot note="&#10;&quot;">L-2201 &amp; Ä</lab:lot></lab:GradeLot></soap:Body>
</soap:Envelope>`

func pair(t testing.TB, key crypto.Signer, name string) *keys.Pair {
	t.Helper()
	template := &x509.Certificate{
		SerialNumber: big.NewInt(4711),
		Subject:      pkix.Name{CommonName: name, Organization: []string{"Heatherfold Honey Co-operative"}},
		NotBefore:    time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), SubjectKeyId: []byte(name),
	}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	require.NoError(t, err)
	certificate, err := x509.ParseCertificate(raw)
	require.NoError(t, err)
	return &keys.Pair{Key: key, Chain: []*x509.Certificate{certificate}}
}

func rsaPair(t *testing.T, name string) *keys.Pair {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return pair(t, key, name)
}

func ecPair(t *testing.T, curve elliptic.Curve) *keys.Pair {
	key, err := ecdsa.GenerateKey(curve, rand.Reader)
	require.NoError(t, err)
	return pair(t, key, "curve")
}

func parse(t *testing.T, data []byte) *wssecurity.Message {
	t.Helper()
	m, err := wssecurity.Parse(data)
	require.NoError(t, err, string(data))
	return m
}

// What is written is read again, and holds; one letter changed anywhere that is
// signed, and it does not.
func TestSignAndVerify(t *testing.T) {
	own, curve, curve384, stranger := rsaPair(t, "lab"), ecPair(t, elliptic.P256()), ecPair(t,
		elliptic.P384()), rsaPair(t, "stranger")
	cases := []struct {
		name string
		wssecurity.Signing
	}{
		{"token", wssecurity.Signing{Pair: own}},
		{"issuer", wssecurity.Signing{Pair: own, Reference: "issuer"}},
		{"key identifier", wssecurity.Signing{Pair: own, Reference: "key identifier", Algorithm: "rsa-sha512"}},
		{"thumbprint", wssecurity.Signing{Pair: own, Reference: "thumbprint", Algorithm: "rsa-sha1", SHA1: true}},
		{"whole certificate", wssecurity.Signing{Pair: own, Reference: "whole certificate", Algorithm: "rsa-sha384"}},
		{"curve", wssecurity.Signing{Pair: curve}},
		{"greater curve", wssecurity.Signing{Pair: curve384, Algorithm: "ecdsa-sha384", Reference: "issuer"}},
		{"prefixes", wssecurity.Signing{Pair: own, Inclusive: []string{"unused", "soap"}}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			m := parse(t, []byte(envelope))
			m.AddTimestamp(time.Now(), time.Minute)
			m.AddUsernameToken(wssecurity.UsernameToken{User: "lab", Password: "heather bell 9"})
			c.Parts = []string{"body", "time stamp", "user", "To"}
			if c.Reference == "" {
				c.Parts = append(c.Parts, "token")
			}
			base, err := m.Sign(c.Signing)
			require.NoError(t, err)
			assert.Contains(t, base, "SignedInfo")
			sent := string(m.Bytes())
			trust := wssecurity.Trust{Certificates: c.Pair.Chain}
			found := parse(t, []byte(sent)).Receive(nil, trust).Signatures
			require.Len(t, found, 1)
			require.NoError(t, found[0].Problem)
			assert.Equal(t, c.Parts, found[0].Covers)
			assert.True(t, found[0].Signer.Equal(c.Pair.Leaf()))

			for from, to := range map[string]string{
				"L-2201": "L-2202", "heather bell 9": "heather bell 8",
				"//lab.": "//lob.", "Created>20": "Created>21",
			} {
				changed := strings.Replace(sent, from, to, 1)
				require.NotEqual(t, sent, changed)
				assert.ErrorContains(t, parse(t, []byte(changed)).Receive(nil, trust).Signatures[0].Problem,
					"was changed after it was signed", to)
			}
			changed := strings.Replace(sent, "URI=\"#part", "URI=\"#nothing", 1)
			assert.Error(t, parse(t, []byte(changed)).Receive(nil, trust).Signatures[0].Problem)
			problem := parse(t, []byte(sent)).Receive(nil,
				wssecurity.Trust{Certificates: stranger.Chain}).Signatures[0].Problem
			assert.Error(t, problem)
			roots := x509.NewCertPool()
			roots.AddCert(stranger.Leaf())
			assert.Error(t, parse(t, []byte(sent)).Receive(nil,
				wssecurity.Trust{Roots: roots, Certificates: nil}).Signatures[0].Problem)
		})
	}
	_, err := parse(t, []byte(envelope)).Sign(wssecurity.Signing{
		Pair: curve, Algorithm: "rsa-sha256",
		Parts: []string{"body"},
	})
	assert.ErrorContains(t, err, "does not go with the key (EC P-256)")
	_, err = parse(t, []byte(envelope)).Sign(wssecurity.Signing{Pair: own, Parts: []string{"From"}})
	assert.ErrorContains(t, err, "there is no From to sign or encrypt; the header has: Security, To")
	_, err = parse(t, []byte(envelope)).Sign(wssecurity.Signing{
		Pair: own, Reference: "assertion",
		Parts: []string{"body"},
	})
	assert.ErrorContains(t, err, "put a saml login before")
}

// A signed body that is moved aside, with another in its place, deceives nobody:
// what is covered is told by its place, and an id that is there twice is refused.
func TestWrapping(t *testing.T) {
	own := rsaPair(t, "lab")
	m := parse(t, []byte(envelope))
	_, err := m.Sign(wssecurity.Signing{Pair: own, Parts: []string{"body"}})
	require.NoError(t, err)
	sent := string(m.Bytes())
	start, end := strings.Index(sent, "<soap:Body"), strings.Index(sent, "</soap:Body>")+len("</soap:Body>")
	body := sent[start:end]
	moved := strings.Replace(sent[:start], "</soap:Header>", "<wrapper xmlns=\"\">"+body+"</wrapper></soap:Header>",
		1) + "<soap:Body><forged xmlns=\"urn:x\"/></soap:Body>" + sent[end:]
	found := parse(t, []byte(moved)).Receive(nil, wssecurity.Trust{Certificates: own.Chain}).Signatures
	require.Len(t, found, 1)
	if found[0].Problem == nil {
		assert.NotContains(t, found[0].Covers, "body")
	}
	twice := strings.Replace(sent[:start], "</soap:Header>", body+"</soap:Header>", 1) + sent[start:]
	found = parse(t, []byte(twice)).Receive(nil, wssecurity.Trust{Certificates: own.Chain}).Signatures
	assert.ErrorContains(t, found[0].Problem, "is there twice")
}

func TestEncrypt(t *testing.T) {
	receiver, stranger := rsaPair(t, "receiver"), rsaPair(t, "stranger")
	for _, name := range wssecurity.Ciphers {
		for _, transport := range wssecurity.KeyTransports {
			m := parse(t, []byte(envelope))
			m.AddUsernameToken(wssecurity.UsernameToken{User: "lab", Password: "heather bell 9"})
			_, err := m.Sign(wssecurity.Signing{Pair: stranger, Parts: []string{"body", "user"}})
			require.NoError(t, err)
			require.NoError(t, m.Encrypt(wssecurity.Encryption{
				For: receiver.Leaf(), Parts: []string{"body", "user"},
				Cipher: name, Transport: transport, Reference: "token",
			}))
			sent := string(m.Bytes())
			assert.NotContains(t, sent, "L-2201")
			assert.NotContains(t, sent, "heather bell")
			again := parse(t, []byte(sent))
			require.True(t, again.IsEncrypted())
			assert.ErrorContains(t, parse(t, []byte(sent)).Receive(stranger.Key, wssecurity.Trust{}).Problem,
				"does not open")
			got := again.Receive(receiver.Key, wssecurity.Trust{Certificates: stranger.Chain})
			require.NoError(t, got.Problem)
			assert.Equal(t, []string{"body", "UsernameToken"}, got.Opened)
			assert.Contains(t, string(again.Bytes()), "L-2201 &amp; Ä")
			require.Len(t, got.Signatures, 1)
			assert.NoError(t, got.Signatures[0].Problem, "%s %s", name, transport)
			// One letter of the cipher text is changed.
			at := strings.LastIndex(sent, "<xenc:CipherValue>") + 60
			letter := "A"
			if sent[at] == 'A' {
				letter = "B"
			}
			changed := parse(t, []byte(sent[:at]+letter+sent[at+1:])).Receive(receiver.Key, wssecurity.Trust{})
			if strings.HasSuffix(name, "gcm") {
				assert.ErrorContains(t, changed.Problem, "was changed")
			}
		}
	}
	err := parse(t, []byte(envelope)).Encrypt(wssecurity.Encryption{
		For:   ecPair(t, elliptic.P256()).Leaf(),
		Parts: []string{"body"},
	})
	assert.ErrorContains(t, err, "RSA key")
	assert.Equal(t, wssecurity.Received{}, parse(t, []byte(envelope)).Receive(receiver.Key, wssecurity.Trust{}))
}

// Text beside elements and comments survive; those of the body are encrypted as
// its content.
func TestEncryptMixedContent(t *testing.T) {
	receiver := rsaPair(t, "receiver")
	const mixed = `<Envelope xmlns="http://www.w3.org/2003/05/soap-envelope" xmlns:p="urn:p"><Body>a &lt; b<p:x y="p:z"/>&amp;<q xmlns="">c</q></Body></Envelope>`
	m := parse(t, []byte(mixed))
	require.NoError(t, m.Encrypt(wssecurity.Encryption{For: receiver.Leaf(), Parts: []string{"body"}}))
	again := parse(t, m.Bytes())
	require.NoError(t, again.Receive(receiver.Key, wssecurity.Trust{}).Problem)
	root, err := document.ReadXML([]byte(mixed), "")
	require.NoError(t, err)
	want := string(document.CanonicalXML(root, root.Child("Body"), document.Canonical{}))
	assert.Equal(t, want, string(document.CanonicalXML(again.Root, again.Root.Child("Body"), document.Canonical{})))
}

func TestUsernameToken(t *testing.T) {
	nonce, err := base64.StdEncoding.DecodeString("LKqI6G/AikKCQrN0zqZFlg==")
	require.NoError(t, err)
	// A token as it is published over and over: nonce, created, password and digest.
	assert.Equal(t, "tuOSpGlFlIXsozq4HFNeeGeFLEI=",
		wssecurity.PasswordDigest(nonce, "2010-09-16T07:50:45Z", "userpassword"))
	m := parse(t, []byte(envelope))
	m.AddUsernameToken(wssecurity.UsernameToken{
		User: "lab", Password: "heather bell 9", Digest: true,
		Nonce: []byte("0123456789abcdef"), Created: time.Unix(1_800_000_000, 0),
	})
	text := string(m.Bytes())
	for _, part := range []string{
		`#PasswordDigest"`, `MDEyMzQ1Njc4OWFiY2RlZg==`,
		`<wsu:Created>2027-01-15T08:00:00.000Z`, `soap:mustUnderstand="1"`,
		wssecurity.PasswordDigest([]byte("0123456789abcdef"), "2027-01-15T08:00:00.000Z", "heather bell 9"),
	} {
		assert.Contains(t, text, part)
	}
	assert.NotContains(t, text, "heather bell 9")
	m = parse(t, []byte(envelope))
	m.AddUsernameToken(wssecurity.UsernameToken{User: "lab", Password: "heather bell 9"})
	assert.Contains(t, m.Shown("[masked]"), `#PasswordText">[masked]<`)
}

func TestTimestamp(t *testing.T) {
	now := time.Unix(1_800_000_000, 0)
	stamp := func(created time.Time, life time.Duration) error {
		m := parse(t, []byte(envelope))
		m.AddTimestamp(created, life)
		there, err := parse(t, m.Bytes()).CheckTimestamp(now)
		assert.True(t, there)
		return err
	}
	assert.NoError(t, stamp(now, time.Minute))
	assert.NoError(t, stamp(now.Add(-5*time.Minute), time.Minute), "clocks may differ a little")
	assert.ErrorContains(t, stamp(now.Add(-time.Hour), time.Minute), "it expired 59m0s ago")
	assert.ErrorContains(t, stamp(now.Add(time.Hour), time.Minute), "it was made 1h0m0s from now")
	assert.ErrorContains(t, stamp(now.Add(-2*time.Hour), 0), "it was made 2h0m0s ago")
	there, err := parse(t, []byte(envelope)).CheckTimestamp(now)
	assert.False(t, there)
	assert.NoError(t, err)
}

func TestNotAMessage(t *testing.T) {
	for source, message := range map[string]string{
		"":                          "not well-formed",
		"<a/>":                      "not a SOAP envelope",
		"<Envelope xmlns='urn:x'/>": "no version of SOAP",
		`<Envelope xmlns="http://www.w3.org/2003/05/soap-envelope"/>`: "no Body",
	} {
		_, err := wssecurity.Parse([]byte(source))
		assert.ErrorContains(t, err, message, source)
	}
}

// Whatever comes back, nothing panics.
func FuzzReceive(f *testing.F) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		f.Fatal(err)
	}
	f.Add([]byte(envelope))
	f.Add([]byte(`<E:Envelope xmlns:E="http://schemas.xmlsoap.org/soap/envelope/"><E:Header><Security xmlns="http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"><Signature xmlns="http://www.w3.org/2000/09/xmldsig#"><SignedInfo><Reference URI="#b"/></SignedInfo></Signature><EncryptedKey xmlns="http://www.w3.org/2001/04/xmlenc#"><ReferenceList><DataReference URI="#d"/></ReferenceList></EncryptedKey></Security></E:Header><E:Body Id="b"><EncryptedData xmlns="http://www.w3.org/2001/04/xmlenc#" Id="d"/></E:Body></E:Envelope>`))
	own := pair(f, key, "lab")
	m, err := wssecurity.Parse([]byte(envelope))
	if err != nil {
		f.Fatal(err)
	}
	shared, err := m.NewKey(wssecurity.Encryption{For: own.Leaf(), Cipher: "aes256-cbc"})
	if err != nil {
		f.Fatal(err)
	}
	for _, s := range []wssecurity.Signing{
		{Shared: shared, Derived: true},
		{Pair: own, Reference: "key value"},
		{Pair: own, Reference: "certificate path"},
		{Pair: own, Reference: "issuer"},
	} {
		if s.Parts = []string{"body"}; s.Reference == "issuer" {
			s.Parts = append(s.Parts, "reference")
		}
		if _, err := m.Sign(s); err != nil {
			f.Fatal(err)
		}
		f.Add(m.Bytes())
	}
	f.Fuzz(func(_ *testing.T, data []byte) {
		m, err := wssecurity.Parse(data)
		if err != nil {
			return
		}
		_, _ = m.CheckTimestamp(time.Now())
		m.Confirmations()
		m.Receive(key, wssecurity.Trust{})
	})
}

func BenchmarkProtect(b *testing.B) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(b, err)
	own := pair(b, key, "lab")
	protected := func() []byte {
		m, err := wssecurity.Parse([]byte(envelope))
		require.NoError(b, err)
		m.AddTimestamp(time.Now(), time.Minute)
		_, err = m.Sign(wssecurity.Signing{Pair: own, Parts: []string{"body", "time stamp"}})
		require.NoError(b, err)
		require.NoError(b, m.Encrypt(wssecurity.Encryption{For: own.Leaf(), Parts: []string{"body"}}))
		return m.Bytes()
	}
	b.Run("sign and encrypt", func(b *testing.B) {
		for b.Loop() {
			protected()
		}
	})
	message := protected()
	b.Run("decrypt and verify", func(b *testing.B) {
		for b.Loop() {
			m, err := wssecurity.Parse(message)
			require.NoError(b, err)
			require.NoError(b, m.Receive(key, wssecurity.Trust{Certificates: own.Chain}).Signatures[0].Problem)
		}
	})
}
