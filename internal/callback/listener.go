package callback

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"hash"
	"maps"
	"net/http"
	"strings"

	"testbench/internal/exchange"
	"testbench/internal/request"
	"testbench/internal/value"
)

// Signed says how calls show that they come from whoever knows a key: by an HMAC
// (RFC 2104) of the body in a header.
type Signed struct {
	Header string
	Hash   string // sha1, sha256, sha512
	Key    *value.Template
	Encode string // hex, base64
	Before string // what is before it, as sha256=
}

// Answer is what a call is answered with.
type Answer struct {
	Status  int
	Headers []request.Pair
	Body    *request.Tree // as JSON
	Text    *value.Template
}

// Listener says which calls a step waits for, and how they are answered, with the values of a row
// filled in: calls come at any time.
type Listener struct {
	Method, Path string
	Signed       *Signed
	Key          []byte
	Answer       Answer
	Header       http.Header
	Body         []byte
}

// take looks at a call: one by another method, to another place or with a false
// signature is refused and noted, all others wait for the step.
func (l *Listener) take(w http.ResponseWriter, b *Box, c *Call, rest string) {
	refuse := func(status int, format string, args ...any) {
		b.note(format, args...)
		http.Error(w, http.StatusText(status), status)
	}
	switch {
	case c.Method != l.Method:
		w.Header().Set("Allow", l.Method)
		refuse(http.StatusMethodNotAllowed, "a call by %s came and was refused: %s is waited for", c.Method, l.Method)
		return
	case strings.Trim(rest, "/") != l.Path:
		refuse(http.StatusNotFound, "a call to /%s came and was refused: /%s is waited for", rest, l.Path)
		return
	case l.Signed != nil && !l.genuine(c):
		refuse(http.StatusUnauthorized, "a call with a false signature came and was refused (header %s)",
			l.Signed.Header)
		return
	}
	if c.answered = l.Answer.Status; !b.add(c) {
		http.Error(w, "too many calls", http.StatusTooManyRequests)
		return
	}
	maps.Copy(w.Header(), l.Header)
	w.WriteHeader(c.answered)
	_, _ = w.Write(l.Body)
}

func (l *Listener) genuine(c *Call) bool {
	hashes := map[string]func() hash.Hash{"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New}
	got, ok := strings.CutPrefix(c.Header.Get(l.Signed.Header), l.Signed.Before)
	if !ok {
		return false
	}
	var signature []byte
	var err error
	if l.Signed.Encode == "base64" {
		signature, err = base64.StdEncoding.DecodeString(got)
	} else {
		signature, err = hex.DecodeString(got)
	}
	mac := hmac.New(hashes[l.Signed.Hash], l.Key)
	_, _ = mac.Write(c.Body)
	return err == nil && hmac.Equal(signature, mac.Sum(nil))
}

// Record is a call as an exchange: they sent, and were answered.
func (c *Call) Record(l *Listener) *exchange.Record {
	return &exchange.Record{
		Request: &exchange.Request{Method: c.Method, URL: c.URL, Header: c.Header, Body: c.Body},
		Answer: &exchange.Answer{
			Status: c.answered, Reason: http.StatusText(c.answered), Proto: "HTTP/1.1",
			Header: l.Header, Body: l.Body,
		},
		Started: c.At,
	}
}
