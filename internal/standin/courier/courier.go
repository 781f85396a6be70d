// Package courier is the service of the stand-in that wants signed requests.
package courier

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/httpsign"
	"testbench/internal/standin/service"
)

// Service takes deliveries. It is asked by signed requests: an older face by an
// HMAC over the request line, a newer one by HTTP message signatures.
type Service struct {
	options service.Options
}

// New makes the courier.
func New(o service.Options) *Service { return &Service{o} }

// signatureLife is how old a signed request may be.
const signatureLife = 5 * time.Minute

// Register puts the courier at its addresses.
func (c *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("GET /courier/deliveries", c.deliveries)
	mux.HandleFunc("POST /courier/pickups", c.pickups)
}

// deliveries wants method, host, path and the sorted query, joined by line
// breaks, signed by HMAC with SHA-256, and a time stamp among the parameters.
func (c *Service) deliveries(w http.ResponseWriter, r *http.Request) {
	signature, expected := "", []string{}
	for part := range strings.SplitSeq(r.URL.RawQuery, "&") {
		name, text, _ := strings.Cut(part, "=")
		name, _ = url.QueryUnescape(name)
		text, _ = url.QueryUnescape(text)
		if name == "Signature" {
			signature = text
			continue
		}
		expected = append(expected, strict(name)+"="+strict(text))
	}
	slices.Sort(expected)
	base := strings.Join([]string{r.Method, r.Host, r.URL.Path, strings.Join(expected, "&")}, "\n")
	mac := hmac.New(sha256.New, []byte(service.Secrets["courier"]))
	mac.Write([]byte(base))
	seconds, err := strconv.ParseInt(r.URL.Query().Get("Timestamp"), 10, 64)
	age := c.options.Now().Sub(time.Unix(seconds, 0))
	switch {
	case signature == "":
		service.Problem(w, http.StatusUnauthorized, "not_signed", "Signature", "the request is not signed")
	case !service.Same(signature, base64.StdEncoding.EncodeToString(mac.Sum(nil))):
		service.Problem(w, http.StatusForbidden, "bad_signature", "Signature",
			fmt.Sprintf("the signature does not fit; it should be over %q", base))
	case err != nil || age.Abs() > signatureLife:
		service.Problem(w, http.StatusForbidden, "stale_stamp", "Timestamp",
			fmt.Sprintf("the time stamp is %d s old, and may be %d", int(age.Seconds()), int(signatureLife.Seconds())))
	default:
		day := r.URL.Query().Get("day")
		service.WriteJSON(w, http.StatusOK, map[string]any{"day": day, "deliveries": []any{
			map[string]any{"lot": "L-2201", "to": "Farm shop & café", "jars": 48},
			map[string]any{"lot": "L-2203", "to": "Market hall", "jars": 12},
		}})
	}
}

// strict leaves the unreserved characters of RFC 3986 alone.
func strict(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }

// pickups wants an HTTP message signature over method, address and the digest of
// the content (RFC 9421, RFC 9530), and signs its answers by the same key.
func (c *Service) pickups(w http.ResponseWriter, r *http.Request) {
	content, err := io.ReadAll(r.Body)
	if err != nil {
		w.WriteHeader(http.StatusRequestEntityTooLarge)
		return
	}
	u := *r.URL
	u.Scheme, u.Host = "http", r.Host
	m := &httpsign.Message{Method: r.Method, URL: &u, Header: r.Header}
	key := []byte(service.Secrets["courier"])
	refuse := func(why string) {
		w.Header().Set("Accept-Signature", `sig1=("@method" "@target-uri" "content-digest");created;keyid="honey-desk"`)
		service.Problem(w, http.StatusUnauthorized, "bad_signature", "Signature", why)
	}
	signatures, err := httpsign.Read(m)
	if err != nil || len(signatures) == 0 {
		refuse("the request has no signature that can be read")
		return
	}
	s := signatures[0]
	covered := map[string]bool{}
	for _, component := range s.Components {
		covered[component.Name()] = true
	}
	created, _ := s.Params.Get("created")
	seconds, _ := created.(int64)
	age := c.options.Now().Sub(time.Unix(seconds, 0))
	switch {
	case !covered["@method"] || !covered["@target-uri"] || !covered["content-digest"]:
		refuse("@method, @target-uri and content-digest must be covered")
		return
	case age.Abs() > signatureLife:
		refuse(fmt.Sprintf("the signature is %d s old, and may be %d", int(age.Seconds()),
			int(signatureLife.Seconds())))
		return
	}
	if err := s.Check(m, "hmac-sha256", key, c.options.Now()); err != nil {
		refuse(err.Error())
		return
	}
	if err := httpsign.CheckDigest(r.Header.Values("Content-Digest"), content); err != nil {
		service.Problem(w, http.StatusBadRequest, "bad_digest", "Content-Digest", err.Error())
		return
	}
	var order struct{ Lot string }
	if json.Unmarshal(content, &order) != nil || order.Lot == "" {
		service.Problem(w, http.StatusUnprocessableEntity, "missing_field", "lot", "lot is mandatory")
		return
	}
	c.answer(w, m, key, map[string]any{"number": "PU-771", "lot": order.Lot})
}

// answer writes a signed answer.
func (c *Service) answer(w http.ResponseWriter, asked *httpsign.Message, key []byte, body map[string]any) {
	content, err := json.Marshal(body)
	if err != nil {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	header := w.Header()
	header.Set("Content-Type", "application/json")
	digest, err := httpsign.ContentDigest("sha-256", content)
	if err == nil {
		header.Set("Content-Digest", digest)
		m := &httpsign.Message{Status: http.StatusCreated, Header: header, Request: asked}
		err = m.SignInto("answer", "hmac-sha256", key, []string{"@status", "content-digest", `"@method";req`},
			c.options.Now())
	}
	if err != nil {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	w.WriteHeader(http.StatusCreated)
	_, _ = w.Write(content)
}
