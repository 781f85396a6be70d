package login

import (
	"context"
	"encoding/base64"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"

	"testbench/internal/exchange"
	"testbench/internal/httpsign"
	"testbench/internal/mapping"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// HTTPSignature signs requests as RFC 9421 says, with digests of their content
// (RFC 9530), and checks the signatures of answers.
type HTTPSignature struct {
	Cover []httpsign.Component
	Material
	Shared    *value.Template // a shared key, as Base64 or as it is; in place of Key
	KeyID     *value.Template
	Algorithm string // of httpsign.Algorithms; empty takes what fits the key
	Label     string
	ExpiresIn time.Duration // how long the signature is good; 0 leaves expires out
	Nonce     bool
	Tag       string
	Digest    string // of httpsign.Digests
	// Answers is the key that signs answers: a certificate, public key or shared
	// key; nil leaves their signatures alone.
	Answers Material
	// NamesAlgorithm writes the algorithm into the signature's parameters.
	NamesAlgorithm bool
}

// signatureState holds the keys.
type signatureState struct {
	key, answers any
	id           string
}

// Place says that the signature covers what other logins put in.
func (h *HTTPSignature) Place() Stage { return Sealing }

// Obtain reads the keys.
func (h *HTTPSignature) Obtain(_ context.Context, env *Env, _ *Token) (*Token, error) {
	state := &signatureState{}
	var err error
	if state.id, err = env.text("key id", h.KeyID); err != nil {
		return nil, err
	}
	token := &Token{Kind: "signature", Obtained: env.now(), Fixed: true, material: state}
	if h.Shared != nil {
		shared, err := env.text("shared key", h.Shared)
		if err != nil {
			return nil, err
		}
		token.Text, state.key = shared, sharedKey(shared)
	} else {
		pair, err := h.Material.read(env)
		if err != nil {
			return nil, err
		}
		if pair.Key == nil {
			return nil, &Error{Message: "there is no private key to sign with: name it under key:"}
		}
		state.key = pair.Key
	}
	if h.Answers.IsSet() {
		pair, err := h.Answers.read(env)
		if err != nil {
			return nil, err
		}
		switch {
		case pair.Leaf() != nil:
			state.answers = pair.Leaf().PublicKey
		case pair.Key != nil:
			state.answers = pair.Key.Public()
		}
	} else if h.Shared != nil {
		state.answers = state.key
	}
	return token, nil
}

// sharedKey reads a shared key: as Base64 where it is that, else as it is.
func sharedKey(text string) []byte {
	text = strings.TrimSpace(text)
	if data, err := base64.StdEncoding.DecodeString(text); err == nil && len(data) >= 16 {
		return data
	}
	return []byte(text)
}

// messageOf is a request as it will be sent: with the length of its body, which goes along without being asked for.
func messageOf(r *exchange.Request) *httpsign.Message {
	header := r.Header.Clone()
	if header == nil {
		header = http.Header{}
	}
	if len(r.Body) > 0 || r.Method == "POST" || r.Method == "PUT" || r.Method == "PATCH" {
		header.Set("Content-Length", strconv.Itoa(len(r.Body)))
	}
	return &httpsign.Message{Method: r.Method, URL: r.URL, Header: header, Host: r.GetHeader("Host")}
}

// Put adds Content-Digest where it is covered, Signature-Input and Signature.
func (h *HTTPSignature) Put(r *exchange.Request, env *Env, t *Token) error {
	state := t.material.(*signatureState)
	for _, c := range h.Cover {
		if c.Name() == "content-digest" && r.GetHeader("Content-Digest") == "" {
			algorithm := h.Digest
			if algorithm == "" {
				algorithm = "sha-256"
			}
			digest, err := httpsign.ContentDigest(algorithm, r.Body)
			if err != nil {
				return &Error{Message: err.Error()}
			}
			r.SetHeader("Content-Digest", digest)
		}
		if c.Name() == "date" && r.GetHeader("Date") == "" {
			r.SetHeader("Date", env.serverNow(r.URL.Host).Add(t.stampShift()).UTC().Format(http.TimeFormat))
		}
	}
	params := httpsfv.NewParams()
	now := env.serverNow(r.URL.Host).Add(t.stampShift())
	params.Add("created", now.Unix())
	if h.ExpiresIn > 0 {
		params.Add("expires", now.Add(h.ExpiresIn).Unix())
	}
	if h.Nonce {
		params.Add("nonce", randomText())
	}
	algorithm := h.Algorithm
	if algorithm == "" {
		algorithm = httpsign.AlgorithmFor(state.key)
	}
	if h.NamesAlgorithm {
		params.Add("alg", algorithm)
	}
	if state.id != "" {
		params.Add("keyid", state.id)
	}
	if h.Tag != "" {
		params.Add("tag", h.Tag)
	}
	base, input, err := httpsign.Base(messageOf(r), h.Cover, params)
	if err != nil {
		return &Error{
			Message: "the signature cannot be made: " + err.Error(),
			Try:     "correct cover: of the login, or set the field at the step",
		}
	}
	r.Signed = append(r.Signed, base)
	signature, err := httpsign.Sign(algorithm, state.key, []byte(base))
	if err != nil {
		return &Error{
			Message: "the signature cannot be made: " + err.Error(),
			Try:     "algorithm: names one that goes with the key, of " + strings.Join(httpsign.Algorithms, ", "),
		}
	}
	label := h.Label
	if label == "" {
		label = "sig1"
	}
	r.SetHeader("Signature-Input", label+"="+input)
	r.SetHeader("Signature", label+"=:"+base64.StdEncoding.EncodeToString(t.spoilSignature(signature))+":")
	return nil
}

// Receive checks digest and signature of an answer.
func (h *HTTPSignature) Receive(r *exchange.Request, answer *exchange.Answer, env *Env, t *Token) []Finding {
	state := t.material.(*signatureState)
	var findings []Finding
	if field := answer.Header.Values("Content-Digest"); len(field) > 0 {
		found := Finding{Subject: "content digest of the answer", Passed: true, Expected: "that of the content"}
		if err := httpsign.CheckDigest(field, answer.Body); err != nil {
			found.Passed, found.Got = false, err.Error()
		}
		findings = append(findings, found)
	}
	if state.answers == nil || !h.Answers.IsSet() && answer.Header.Get("Signature-Input") == "" {
		return findings
	}
	m := &httpsign.Message{Status: answer.Status, Header: answer.Header, Request: messageOf(r)}
	found := Finding{Subject: "signature of the answer", Expected: "one by the service's key"}
	if err := h.checkAnswer(m, state, env.serverNow(r.URL.Host)); err != nil {
		found.Got = err.Error()
	} else {
		found.Passed = true
	}
	return append(findings, found)
}

func (h *HTTPSignature) checkAnswer(m *httpsign.Message, state *signatureState, now time.Time) error {
	signatures, err := httpsign.Read(m)
	if err != nil {
		return err
	}
	last := errors.New("the answer is not signed")
	for _, s := range signatures {
		if last = s.Check(m, "", state.answers, now); last == nil {
			return nil
		}
	}
	return last
}

func (h *HTTPSignature) readsBench() bool { return true }

// spoils says which ways there are.
func (h *HTTPSignature) spoils(way string) bool {
	return slices.Contains([]string{Expired, Tampered, Empty}, way)
}

// Placeholders lists the placeholders.
func (h *HTTPSignature) Placeholders() []*value.Placeholder {
	return slices.Concat(h.Material.placeholders(), h.Answers.placeholders(), placeholders(h.Shared, h.KeyID))
}

func readHTTPSignature(r *mapping.Reader, n *yamlfile.Node) Kind {
	h := &HTTPSignature{}
	mapping.Read(r, "an http signature login", n, h, httpSignatureKeys)
	r.Together(n, httpSignatureTogether)
	if h.Shared == nil {
		needSettings(r, n, "key", h.Material.Key)
	}
	if len(h.Cover) == 0 {
		r.File.Report(n, `write cover: with a list like "@method", "@target-uri", content-digest`,
			"an http signature login must say what is covered")
	}
	return h
}

var httpSignatureKeys = slices.Concat([]mapping.Key[HTTPSignature]{
	ignoreKind[HTTPSignature](),
	mapping.NewKey("cover", "the components that are covered",
		func(r *mapping.Reader, h *HTTPSignature, n *yamlfile.Node) {
			for _, item := range r.List(n) {
				component, err := httpsign.ParseComponent(r.PlainText(item))
				if err != nil {
					r.File.Report(item, "", "%v", err)
					continue
				}
				h.Cover = append(h.Cover, component)
			}
		}),
	mapping.SecretKey("shared key", "a shared key, from ${sealed.x}, in place of key:",
		func(h *HTTPSignature) **value.Template { return &h.Shared }),
	mapping.TemplateKey("key id", "the key's name", func(h *HTTPSignature) **value.Template { return &h.KeyID }),
	mapping.NewKey("algorithm", strings.Join(httpsign.Algorithms, ", ")+"; what fits the key unless said",
		func(r *mapping.Reader, h *HTTPSignature, n *yamlfile.Node) {
			h.Algorithm = r.Choice(n, "algorithm", httpsign.Algorithms...)
		}),
	mapping.YesKey("names algorithm", "true: the signature says its algorithm",
		func(h *HTTPSignature) *bool { return &h.NamesAlgorithm }),
	mapping.TextKey("label", "the signature's label; sig1 unless said",
		func(h *HTTPSignature) *string { return &h.Label }),
	mapping.DurationKey("expires in", "how long it is good",
		func(h *HTTPSignature) *time.Duration { return &h.ExpiresIn }),
	mapping.YesKey("nonce", "true: with a random word", func(h *HTTPSignature) *bool { return &h.Nonce }),
	mapping.TextKey("tag", "what the signature is for", func(h *HTTPSignature) *string { return &h.Tag }),
	mapping.NewKey(
		"digest", strings.Join(httpsign.Digests, " or ")+", of the content; sha-256 unless said",
		func(r *mapping.Reader, h *HTTPSignature, n *yamlfile.Node) {
			h.Digest = r.Choice(n, "digest", httpsign.Digests...)
		},
	),
	mapping.NewKey(
		"answers", "certificate: or key: of who signs the answers",
		func(r *mapping.Reader, h *HTTPSignature, n *yamlfile.Node) {
			mapping.Read(r, "answers", n, &h.Answers, materialKeys)
		},
	),
}, mapping.KeysWithin(materialKeys, func(h *HTTPSignature) *Material { return &h.Material }))

var httpSignatureTogether = []mapping.Together{
	{Key: "shared key", Without: []string{"key", "certificate"}}, {
		Key:  "password",
		With: []string{"key", "certificate"},
	},
}
