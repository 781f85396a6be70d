package lab

import (
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/document"
	"testbench/internal/keys"
	"testbench/internal/soap"
	"testbench/internal/standin/demo"
	"testbench/internal/standin/service"
	"testbench/internal/wssecurity"
)

// guard is how the lab's ports are guarded by WS-Security.
type guard struct {
	options service.Options
	bryony  *keys.Pair
	own     *keys.Pair
	mutex   sync.Mutex
	nonces  map[string]bool // of digests, which are good once
}

func newSecurity(o service.Options) (*guard, error) {
	bryony, err := demo.Pair(demo.BryonyCertificate, "")
	if err != nil {
		return nil, err
	}
	own, err := demo.Pair(demo.LabCertificate, demo.LabKey)
	return &guard{options: o, bryony: bryony, own: own, nonces: map[string]bool{}}, err
}

// refusal is a fault with a code of WS-Security 1.1, section 12.
func refusal(code, format string, args ...any) *Fault {
	return &Fault{Sender: true, security: code, Text: fmt.Sprintf(format, args...)}
}

// stampLife is how old a token of a user may be.
const stampLife = 5 * time.Minute

// check guards a port. It returns the envelope to go on with, opened where it was
// encrypted.
func (s *guard) check(port string, root *document.Node, message *soap.Message) (*document.Node, *Fault) {
	switch port {
	case "guarded":
		return root, s.user(message, false)
	case "digested":
		return root, s.user(message, true)
	case "signed":
		m, err := wssecurity.Of(root)
		if err != nil {
			return nil, refusal("InvalidSecurity", "%v", err)
		}
		return m.Root, s.signed(m)
	case "sealed":
		m, err := wssecurity.Of(root)
		if err != nil || !m.IsEncrypted() {
			return nil, refusal("InvalidSecurity", "the body must be encrypted for the lab's certificate")
		}
		return m.Root, s.signed(m)
	}
	return root, nil
}

// user checks a UsernameToken; digested takes digests alone.
func (s *guard) user(m *soap.Message, digested bool) *Fault {
	var token *document.Node
	for _, block := range m.Blocks {
		if block.Name().Local == "Security" {
			token = block.Child("UsernameToken")
		}
	}
	if token == nil {
		return refusal("FailedAuthentication", "a Security header with a UsernameToken is needed")
	}
	password := token.Child("Password")
	if password == nil {
		return refusal("FailedAuthentication", "the UsernameToken holds no Password")
	}
	kind, _ := password.Attribute("Type")
	isDigest := strings.HasSuffix(kind, "#PasswordDigest")
	if digested && !isDigest {
		return refusal("FailedAuthentication", "this port takes a PasswordDigest, and a PasswordText was sent")
	}
	expected := service.Secrets["lab"]
	nonce, created := strings.TrimSpace(token.Child("Nonce").OwnText()), token.Child("Created").OwnText()
	if isDigest {
		raw, _ := base64.StdEncoding.DecodeString(nonce)
		expected = wssecurity.PasswordDigest(raw, created, expected)
	}
	if token.Child("Username").OwnText() != "lab" || !service.Same(password.OwnText(), expected) {
		return refusal("FailedAuthentication", "user or password is wrong")
	}
	if !digested {
		return nil
	}
	at, err := time.Parse(time.RFC3339, created)
	if age := s.options.Now().Sub(at); err != nil || age.Abs() > stampLife {
		return refusal("MessageExpired", "the token was made %d s ago, and may be %d", int(age.Seconds()),
			int(stampLife.Seconds()))
	}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if nonce == "" || s.nonces[nonce] {
		return refusal("FailedAuthentication", "the nonce is missing or was used before")
	}
	s.nonces[nonce] = true
	return nil
}

// signed wants body and time stamp signed by Bryony's key; what is encrypted is opened.
func (s *guard) signed(m *wssecurity.Message) *Fault {
	got := m.Receive(s.own.Key, wssecurity.Trust{Certificates: []*x509.Certificate{s.bryony.Leaf()}})
	if got.Problem != nil {
		return refusal("FailedCheck", "%v", got.Problem)
	}
	there, err := m.CheckTimestamp(s.options.Now())
	switch {
	case !there:
		return refusal("InvalidSecurity", "a time stamp is needed")
	case err != nil:
		return refusal("MessageExpired", "the time stamp: %v", err)
	}
	if len(got.Signatures) == 0 {
		return refusal("InvalidSecurity", "a signature is needed")
	}
	for _, one := range got.Signatures {
		if one.Problem != nil {
			return refusal("FailedCheck", "the signature does not hold: %v", one.Problem)
		}
		if slices.Contains(one.Covers, "body") && slices.Contains(one.Covers, "time stamp") {
			return nil
		}
	}
	return refusal("FailedCheck", "body and time stamp must be signed")
}

// protect signs an answer of a port that is guarded by signatures, and encrypts
// it for Bryony where requests must be.
func (s *guard) protect(port string, answer *httptest.ResponseRecorder, w http.ResponseWriter) {
	body := answer.Body.Bytes()
	if m, err := wssecurity.Parse(body); err == nil && (port == "signed" || port == "sealed") {
		m.AddTimestamp(s.options.Now(), stampLife)
		_, err = m.Sign(wssecurity.Signing{Pair: s.own, Parts: []string{"body", "time stamp"}, Reference: "token"})
		if err == nil && port == "sealed" {
			err = m.Encrypt(wssecurity.Encryption{For: s.bryony.Leaf(), Parts: []string{"body"}})
		}
		if err == nil {
			body = m.Bytes()
		}
	}
	for name, values := range answer.Header() {
		w.Header()[name] = values
	}
	w.WriteHeader(answer.Code)
	_, _ = w.Write(body)
}
