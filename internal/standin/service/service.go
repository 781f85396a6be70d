// Package service is what the services of the stand-in share: their settings, the credentials that
// they accept, and how they answer.
package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/url"
	"strings"
	"time"

	"testbench/internal/standin/demo"
)

// Secrets are the made-up credentials that the services accept, by the names
// under which the demo bench seals them.
var Secrets = map[string]string{
	"clerk":      "smoked-larch-41",
	"honey_desk": "comb & nectar/77",
	"ledger_key": "LK-5f3c-9a11-e0d2",
	"lab":        "heather bell 9",
	"courier":    "wing.and/wheel+5521",
	"bryony_key": demo.BryonyKey,
	"press":      "stone-weir-118",
}

// Options set how the stand-in behaves, for tests and for trying things out.
type Options struct {
	// Offset is how far its clock is ahead of the machine's.
	Offset time.Duration
	// Lifetime is how many seconds its tokens live where a request does not say; 0 is 600.
	Lifetime int
	// Refuse makes it refuse every token that it gave before each so many requests;
	// 0 for never.
	Refuse int
	// Books is a file in which the ledger keeps its intakes as a database (SQLite) too;
	// empty for none. What was in it is gone.
	Books string
	// Weak makes it do wrong what Weaknesses list.
	Weak bool
}

// Now is the time by its clock.
func (o Options) Now() time.Time { return time.Now().Add(o.Offset) }

// MaxRequest bounds what the stand-in reads of a request.
const MaxRequest = 8 << 20

// OnlyBy refuses another method at an address that there is (RFC 9110, 15.5.6).
func OnlyBy(methods string) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Allow", methods)
		Problem(w, http.StatusMethodNotAllowed, "no_such_method", "", r.Method+" is not possible here, but "+methods)
	}
}

// WriteJSON answers with a value as JSON.
func WriteJSON(w http.ResponseWriter, status int, v any) {
	if w.Header().Get("Content-Type") == "" {
		w.Header().Set("Content-Type", "application/json")
	}
	w.WriteHeader(status)
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(v)
}

// Problem is the error form of stores and ledger.
func Problem(w http.ResponseWriter, status int, code, field, message string) {
	body := map[string]any{"code": code, "message": message}
	if field != "" {
		body["field"] = field
	}
	WriteJSON(w, status, map[string]any{"error": body})
}

// Credential takes what is after a scheme word in the Authorization field.
func Credential(r *http.Request, word string) (text string, ok bool) {
	scheme, text, found := strings.Cut(r.Header.Get("Authorization"), " ")
	return strings.TrimSpace(text), found && strings.EqualFold(scheme, word)
}

// NoLog swallows what net/http says of clients that break off.
func NoLog() *log.Logger { return log.New(io.Discard, "", 0) }

// Random is a word that nobody guesses.
func Random() string {
	b := make([]byte, 18)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

// Same compares secrets without telling by its time where they differ.
func Same(a, b string) bool { return subtle.ConstantTimeCompare([]byte(a), []byte(b)) == 1 }

// IsLoopback says whether an address may be redirected to: those of programs on
// the same machine (RFC 8252, 7.3).
func IsLoopback(address string) bool {
	u, err := url.Parse(address)
	return err == nil && u.Scheme == "http" && (u.Hostname() == "127.0.0.1" || u.Hostname() == "localhost")
}

// Body reads a JSON object in which numbers keep their text.
func Body(w http.ResponseWriter, r *http.Request) (map[string]any, bool) {
	if contentType := r.Header.Get("Content-Type"); !strings.HasPrefix(contentType, "application/json") {
		Problem(w, http.StatusUnsupportedMediaType, "wrong_type", "",
			fmt.Sprintf("only application/json is taken here, not %q", contentType))
		return nil, false
	}
	decoder := json.NewDecoder(r.Body)
	decoder.UseNumber()
	var fields map[string]any
	if err := decoder.Decode(&fields); err != nil {
		Problem(w, http.StatusBadRequest, "not_json", "", "the body is not a JSON object: "+err.Error())
		return nil, false
	}
	if _, err := decoder.Token(); err != io.EOF {
		Problem(w, http.StatusBadRequest, "not_json", "", "something follows the JSON object")
		return nil, false
	}
	return fields, true
}

// Cents writes an amount in hundredths as a number.
func Cents(amount int64) json.Number {
	sign := ""
	if amount < 0 {
		sign, amount = "-", -amount
	}
	return json.Number(fmt.Sprintf("%s%d.%02d", sign, amount/100, amount%100))
}
