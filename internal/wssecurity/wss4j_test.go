//go:build peers

package wssecurity_test

import (
	"bufio"
	"encoding/pem"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"software.sslmate.com/src/go-pkcs12"

	"testbench/internal/keys"
	"testbench/internal/soap"
	"testbench/internal/wssecurity"
)

// javaPeer is a library of others for WS-Security, in a process of its own. Its key is own, and it knows the
// certificate of other, which is ours.
type javaPeer struct {
	t   *testing.T
	dir string
	in  io.Writer
	out *bufio.Reader
}

func newJavaPeer(t *testing.T, own, other *keys.Pair) *javaPeer {
	t.Helper()
	p := &javaPeer{t: t, dir: t.TempDir()}
	store, err := pkcs12.Modern.Encode(own.Key, own.Leaf(), own.Chain[1:], "heather")
	require.NoError(t, err)
	p.write("own.p12", store)
	p.write("other.pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: other.Leaf().Raw}))
	var jars []string
	for _, name := range []string{
		"wss4j", "xmlsec", "commons-logging", "slf4j-api", "slf4j-nop",
	} {
		jars = append(jars, "/usr/share/java/"+name+".jar")
	}
	command := exec.Command("java", "-cp", strings.Join(jars, ":"), "testdata/Peer.java", p.dir)
	command.Stderr = os.Stderr
	in, err := command.StdinPipe()
	require.NoError(t, err)
	out, err := command.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, command.Start())
	p.in, p.out = in, bufio.NewReader(out)
	t.Cleanup(func() {
		_ = in.Close()
		_ = command.Wait()
	})
	return p
}

func (p *javaPeer) write(name string, data []byte) {
	require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, name), data, 0o600))
}

func (p *javaPeer) ask(words ...string) string {
	p.t.Helper()
	_, err := io.WriteString(p.in, strings.Join(words, "\t")+"\n")
	require.NoError(p.t, err)
	answer, err := p.out.ReadString('\n')
	require.NoError(p.t, err)
	return strings.TrimSpace(answer)
}

// receives says what it finds in a message.
func (p *javaPeer) receives(message []byte, actor ...string) string {
	p.t.Helper()
	p.write("in.xml", message)
	return p.ask(append([]string{"receive", filepath.Join(p.dir, "in.xml")}, actor...)...)
}

// sends is the envelope as it protects it.
func (p *javaPeer) sends(settings ...string) []byte {
	p.t.Helper()
	p.write("plain.xml", []byte(envelope))
	out := filepath.Join(p.dir, "out.xml")
	require.Equal(p.t, "sent", p.ask(append([]string{"send", filepath.Join(p.dir, "plain.xml"), out}, settings...)...),
		settings)
	data, err := os.ReadFile(out)
	require.NoError(p.t, err)
	return data
}

// What is protected here the peer reads: every way to name a key, both orders, keys that both sides have, older
// algorithms, several receivers.
func TestProtectedForJava(t *testing.T) {
	ours, theirs := rsaPair(t, "ours"), rsaPair(t, "theirs")
	p := newJavaPeer(t, theirs, ours)
	sign := func(m *wssecurity.Message, s wssecurity.Signing) {
		t.Helper()
		if s.Parts == nil {
			s.Parts = []string{"body", "time stamp"}
		}
		if s.Pair == nil && s.Shared == nil {
			s.Pair = ours
		}
		_, err := m.Sign(s)
		require.NoError(t, err)
	}
	encrypt := func(m *wssecurity.Message, e wssecurity.Encryption) {
		t.Helper()
		if e.Parts == nil {
			e.Parts = []string{"body"}
		}
		e.For = theirs.Leaf()
		require.NoError(t, m.Encrypt(e))
	}
	shared := func(m *wssecurity.Message, e wssecurity.Encryption) *wssecurity.SharedKey {
		t.Helper()
		e.For = theirs.Leaf()
		key, err := m.NewKey(e)
		require.NoError(t, err)
		return key
	}
	type cases map[string]func(m *wssecurity.Message) (finds string)
	all := cases{
		"signed, then encrypted": func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{})
			encrypt(m, wssecurity.Encryption{Cipher: "aes128-cbc"})
			return "encryption (Body) timestamp signature (Body) (Timestamp)"
		},
		"encrypted, then signed": func(m *wssecurity.Message) string {
			encrypt(m, wssecurity.Encryption{Cipher: "aes256-cbc"})
			sign(m, wssecurity.Signing{})
			return "timestamp signature (Body) (Timestamp) encryption (Body)"
		},
		"encrypted, then signed, the key named by its issuer": func(m *wssecurity.Message) string {
			encrypt(m, wssecurity.Encryption{Cipher: "aes256-cbc", Reference: "token"})
			sign(m, wssecurity.Signing{Reference: "issuer"})
			return "timestamp signature (Body) (Timestamp) encryption (Body)"
		},
		"the signature encrypted too": func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{})
			encrypt(m, wssecurity.Encryption{Parts: []string{"signature", "body"}, Cipher: "aes128-gcm"})
			return "encryption (Signature) (Body) timestamp signature (Body) (Timestamp)"
		},
		"rsa-1_5 and tripledes": func(m *wssecurity.Message) string {
			encrypt(m, wssecurity.Encryption{Cipher: "tripledes-cbc", Transport: "rsa-1_5"})
			return "encryption (Body) timestamp"
		},
		"the token signed by the transform": func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{Parts: []string{"reference", "body"}})
			return "timestamp signature (BinarySecurityToken) (Body)"
		},
		"the certificate signed by the transform": func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{Parts: []string{"body", "reference"}, Reference: "issuer"})
			return "timestamp signature (Body) (BinarySecurityToken)"
		},
		"a shared key signs": func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{
				Shared:    shared(m, wssecurity.Encryption{Cipher: "aes256-cbc"}),
				Algorithm: "hmac-sha1",
			})
			return "encryption timestamp signature (Body) (Timestamp)"
		},
		"a shared key signs and encrypts": func(m *wssecurity.Message) string {
			key := shared(m, wssecurity.Encryption{Cipher: "aes256-cbc"})
			sign(m, wssecurity.Signing{Shared: key})
			encrypt(m, wssecurity.Encryption{Shared: key, Cipher: "aes256-cbc"})
			return "encryption encryption (Body) timestamp signature (Body) (Timestamp)"
		},
		"a shared key encrypts, then signs": func(m *wssecurity.Message) string {
			key := shared(m, wssecurity.Encryption{Cipher: "aes256-cbc"})
			encrypt(m, wssecurity.Encryption{Shared: key, Cipher: "aes256-cbc"})
			sign(m, wssecurity.Signing{Shared: key})
			return "encryption signature (Body) (Timestamp) encryption (Body) timestamp"
		},
		"derived keys": func(m *wssecurity.Message) string {
			key := shared(m, wssecurity.Encryption{Cipher: "aes256-cbc"})
			sign(m, wssecurity.Signing{Shared: key, Derived: true, Algorithm: "hmac-sha1"})
			encrypt(m, wssecurity.Encryption{Shared: key, Derived: true, Cipher: "aes128-cbc"})
			return "encryption derived encryption (Body) derived timestamp signature (Body) (Timestamp)"
		},
	}
	for _, reference := range wssecurity.References {
		if reference == "assertion" {
			continue
		}
		all["key named by "+reference] = func(m *wssecurity.Message) string {
			sign(m, wssecurity.Signing{Reference: reference})
			return "timestamp signature (Body) (Timestamp)"
		}
	}
	for _, reference := range wssecurity.CertificateReferences {
		if reference == "certificate path" {
			continue // who encrypts names one certificate
		}
		all["receiver named by "+reference] = func(m *wssecurity.Message) string {
			encrypt(m, wssecurity.Encryption{Reference: reference, Transport: "rsa-oaep", Cipher: "aes192-cbc"})
			return "encryption (Body) timestamp"
		}
	}
	for name, c := range all {
		t.Run(name, func(t *testing.T) {
			m := parse(t, []byte(envelope))
			m.AddTimestamp(time.Now(), time.Minute)
			want := c(m)
			said := p.receives(m.Bytes())
			found, text, _ := strings.Cut(said, " | ")
			assert.ElementsMatch(t, strings.Fields(want), strings.Fields(found), said)
			assert.Equal(t, "body", text)
			for from, to := range map[string]string{"<wsu:Created>20": "<wsu:Created>21", "L-2201": "L-2202"} {
				changed := strings.Replace(string(m.Bytes()), from, to, 1)
				if strings.Contains(want, "signature") && strings.Contains(want, "(Timestamp)") &&
					changed != string(m.Bytes()) {
					assert.Contains(t, p.receives([]byte(changed)), "FAILED", name)
				}
			}
		})
	}
	t.Run("each actor has a block of its own", func(t *testing.T) {
		m := parse(t, []byte(envelope))
		m.For("urn:auditor")
		m.AddTimestamp(time.Now(), time.Minute)
		m.For("")
		sign(m, wssecurity.Signing{Parts: []string{"body"}})
		assert.Equal(t, "signature (Body) | body", p.receives(m.Bytes()))
		assert.Equal(t, "timestamp | body", p.receives(m.Bytes(), "urn:auditor"))
		assert.Equal(t, 2, strings.Count(string(m.Bytes()), "<wsse:Security "))
		assert.Equal(t, 1, strings.Count(string(m.Bytes()), `soap:actor="urn:auditor"`))
	})
}

// What the peer protects is read here.
func TestProtectedByJava(t *testing.T) {
	ours, theirs := rsaPair(t, "ours"), rsaPair(t, "theirs")
	p := newJavaPeer(t, theirs, ours)
	body := "signed=Body@" + soap.Namespace11
	const more, xenc = "http://www.w3.org/2001/04/xmldsig-more#", "http://www.w3.org/2001/04/xmlenc#"
	for _, c := range []struct {
		name     string
		settings []string
		opened   []string
		covers   []string
	}{
		{"token", []string{"reference=token"}, nil, []string{"body"}},
		{"path", []string{"reference=path"}, nil, []string{"body"}},
		{"issuer", []string{"reference=issuer", "algorithm=" + more + "rsa-sha256"}, nil, []string{"body"}},
		{"key identifier", []string{"reference=key identifier"}, nil, []string{"body"}},
		{"thumbprint", []string{"reference=thumbprint"}, nil, []string{"body"}},
		{"whole certificate", []string{"reference=whole certificate"}, nil, []string{"body"}},
		{"key value", []string{"reference=key value"}, nil, []string{"body"}},
		{"canonical form 1.1", []string{"canonical=http://www.w3.org/2006/12/xml-c14n11"}, nil, []string{"body"}},
		{
			"canonical form 1.0",
			[]string{"canonical=http://www.w3.org/TR/2001/REC-xml-c14n-20010315"},
			nil,
			[]string{"body"},
		},
		{
			"the token by the transform",
			[]string{body + ",STRTransform@", "reference=token"},
			nil,
			[]string{"body", "token"},
		},
		{
			"the certificate by the transform",
			[]string{body + ",STRTransform@", "reference=issuer"},
			nil,
			[]string{"body", "certificate"},
		},
		{
			"the certificate's thumbprint by the transform",
			[]string{body + ",STRTransform@", "reference=thumbprint"},
			nil,
			[]string{"body", "certificate"},
		},
		{"signed, then encrypted", []string{"do=sign,encrypt"}, []string{"body"}, []string{"body"}},
		{"encrypted, then signed", []string{"do=encrypt,sign"}, []string{"body"}, []string{"body"}},
		{
			"the signature encrypted too",
			[]string{"do=sign,encrypt", "encrypted=Signature@http://www.w3.org/2000/09/xmldsig#@Element,Body@" +
				soap.Namespace11 + "@Content"},
			[]string{"Signature", "body"},
			[]string{"body"},
		},
		{
			"older algorithms",
			[]string{"do=sign,encrypt", "cipher=" + xenc + "tripledes-cbc", "transport=" + xenc + "rsa-1_5"},
			[]string{"body"},
			[]string{"body"},
		},
		{
			"a shared key",
			[]string{"shared=key", "do=sign,encrypt", "algorithm=http://www.w3.org/2000/09/xmldsig#hmac-sha1"},
			[]string{"body"},
			[]string{"body"},
		},
		{
			"a shared key, encrypted first",
			[]string{"shared=key", "do=encrypt,sign", "algorithm=" + more + "hmac-sha256"},
			[]string{"body"},
			[]string{"body"},
		},
		{"derived keys", []string{"shared=key", "derived=yes", "do=sign,encrypt"}, []string{"body"}, []string{"body"}},
		{
			"derived keys, encrypted first",
			[]string{"shared=key", "derived=yes", "do=encrypt,sign"},
			[]string{"body"},
			[]string{"body"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			sent := p.sends(append([]string{"timestamp=yes"}, c.settings...)...)
			got := parse(t, sent).Receive(ours.Key, wssecurity.Trust{Certificates: theirs.Chain})
			require.NoError(t, got.Problem, "%s", sent)
			assert.Equal(t, c.opened, got.Opened)
			require.Len(t, got.Signatures, 1)
			require.NoError(t, got.Signatures[0].Problem, "%s", sent)
			assert.Equal(t, c.covers, got.Signatures[0].Covers)
			changed := strings.Replace(string(sent), "<ds:SignatureValue>", "<ds:SignatureValue>AA", 1)
			if changed != string(sent) {
				again := parse(t, []byte(changed)).Receive(ours.Key, wssecurity.Trust{Certificates: theirs.Chain})
				assert.Error(t, again.Signatures[0].Problem)
			}
		})
	}
	t.Run("the key of our request", func(t *testing.T) {
		request := parse(t, []byte(envelope))
		key, err := request.NewKey(wssecurity.Encryption{For: theirs.Leaf(), Cipher: "aes128-cbc"})
		require.NoError(t, err)
		_, err = request.Sign(wssecurity.Signing{Shared: key, Parts: []string{"body"}})
		require.NoError(t, err)
		require.Contains(t, p.receives(request.Bytes()), "signature (Body)")
		require.Len(t, request.Keys(), 1)
		for hash := range request.Keys() {
			answer := p.sends("shared=sha1", "hash="+hash, "do=sign,encrypt", "cipher="+xenc+"aes128-cbc",
				"algorithm=http://www.w3.org/2000/09/xmldsig#hmac-sha1")
			got := parse(t, answer).Receive(nil, wssecurity.Trust{Keys: request.Keys()})
			require.NoError(t, got.Problem, "%s", answer)
			assert.Equal(t, []string{"body"}, got.Opened)
			require.Len(t, got.Signatures, 1)
			require.NoError(t, got.Signatures[0].Problem)
			assert.Equal(t, "the shared key "+hash, got.Signatures[0].By)
			stranger := parse(t, answer).Receive(nil, wssecurity.Trust{})
			assert.ErrorContains(t, stranger.Problem, "is not known here")
		}
	})
	t.Run("an actor of its own", func(t *testing.T) {
		sent := p.sends("actor=urn:auditor")
		m := parse(t, sent)
		assert.Empty(t, m.Receive(nil, wssecurity.Trust{}).Signatures)
		m.For("urn:auditor")
		require.Len(t, m.Receive(nil, wssecurity.Trust{}).Signatures, 1)
	})
}
