// Package exchange carries out one HTTP exchange: it sends a request within
// its limits, and records what was sent, what came back, how long each part
// took and how it failed. It knows nothing of benches, contracts or logins.
package exchange

import (
	"crypto/tls"
	"fmt"
	"mime"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"
)

// Request is a request that is ready to be sent.
type Request struct {
	Method string
	URL    *url.URL
	Header http.Header // names are sent as they are written
	Body   []byte
	// ShownURL, ShownHeader and ShownBody differ from what is sent only where
	// a secret stands that is too short to be found by searching. Empty means
	// the same as what is sent.
	ShownURL    string
	ShownHeader map[string]string
	ShownBody   string
	// StayOnRedirect returns a redirect as the answer that it is.
	StayOnRedirect bool
	// Login says that the body holds credentials: it goes to no other origin.
	Login bool
	// Timeout bounds the whole exchange; 0 is what the client has for all of them.
	Timeout time.Duration
	// Cookies are those of earlier exchanges that go with it, and take what its answers set; nil where they end with
	// this exchange.
	Cookies *Cookies
	// Stream says when a stream of events has ended; nil where only the service ends it.
	Stream *Stream
	// AnswerAs is the media type as which the answer is read, whatever it says of itself; empty for that.
	AnswerAs string
	// Quotas bound how many requests go out; the exchange begins when each lets it.
	Quotas []*Quota
	// HTTP forces a version: "1.1", "2", or "" for what both sides speak.
	HTTP string
	// Outside says that it may go to public addresses only: whoever named it is not to
	// reach what lies in the private network, whatever a name resolves to.
	Outside bool
	// Foreign says that an answer or a document named the address, and that it is none of the
	// bench's own: no certificate of the client is shown there.
	Foreign bool
	// Certificate, where not nil, is shown to a server that asks for one, in place
	// of the client's own.
	Certificate *tls.Certificate
	// Protected is the envelope in Body as the login that protected it last holds it,
	// with its secrets marked; nil where none did.
	Protected any
	// Signed are the texts that signatures of the request were made over, for those
	// who have to find out why one was refused.
	Signed []string
	// Notes are what is to be known of how it was made; they are those of its record from the beginning.
	Notes []string
}

// SetHeader sets a field, in place of one whose name differs only in case.
func (r *Request) SetHeader(name, text string) {
	r.DeleteHeader(name)
	if r.Header == nil {
		r.Header = http.Header{}
	}
	r.Header[name] = []string{text}
}

// AddHeader adds a field beside others of the same name.
func (r *Request) AddHeader(name, text string) {
	if r.Header == nil {
		r.Header = http.Header{}
	}
	for key := range r.Header {
		if strings.EqualFold(key, name) {
			name = key
		}
	}
	r.Header[name] = append(r.Header[name], text)
}

// DeleteHeader takes a field away, however its name is written.
func (r *Request) DeleteHeader(name string) {
	for key := range r.Header {
		if strings.EqualFold(key, name) {
			delete(r.Header, key)
		}
	}
}

// GetHeader returns the first value of a field, however its name is written.
func (r *Request) GetHeader(name string) string {
	for key, values := range r.Header {
		if strings.EqualFold(key, name) && len(values) > 0 {
			return values[0]
		}
	}
	return ""
}

// Clone copies the request so that headers and address can be changed.
func (r *Request) Clone() *Request {
	c := *r
	c.Header = r.Header.Clone()
	u := *r.URL
	c.URL = &u
	return &c
}

// Answer is what came back.
type Answer struct {
	Status  int
	Reason  string // the words after the status
	Proto   string // HTTP/1.1, HTTP/2.0
	Header  http.Header
	Cookies []*http.Cookie
	Body    []byte // with its content coding undone
	Wire    int64  // bytes of the body as they came over the wire
	// Partial says that the body ended before its end, or was cut at the limit.
	Partial bool
	// ReadAs is the media type as which the body is read, whatever its Content-Type says; empty for that.
	ReadAs string
	// SetOnWay are the cookies that this answer and the redirects before it set.
	SetOnWay []SetCookies
}

// SetCookies are cookies with the address whose answer set them.
type SetCookies struct {
	From    *url.URL
	Cookies []*http.Cookie
}

// ContentType returns the answer's media type as it was sent.
func (a *Answer) ContentType() string { return a.Header.Get("Content-Type") }

// MediaType is what the body is read as, with the charset that it was sent with; empty where nothing says.
func (a *Answer) MediaType() string {
	if a.ReadAs == "" {
		return a.ContentType()
	}
	if _, parameters, err := mime.ParseMediaType(a.ContentType()); err == nil && parameters["charset"] != "" {
		return mime.FormatMediaType(a.ReadAs, map[string]string{"charset": parameters["charset"]})
	}
	return a.ReadAs
}

// Phases are the parts of the time an exchange took.
type Phases struct {
	Lookup    time.Duration // name to address
	Connect   time.Duration
	TLS       time.Duration
	Waiting   time.Duration // from the request's last byte to the answer's first
	Receiving time.Duration
	Total     time.Duration
}

// parts are the phases in their order: the key under which they are recorded, and in
// words.
func (p *Phases) parts() []phasePart {
	return []phasePart{
		{"lookup", "name look-up", &p.Lookup},
		{"connect", "connecting", &p.Connect},
		{"tls", "TLS", &p.TLS},
		{"waiting", "waiting", &p.Waiting},
		{"receiving", "receiving", &p.Receiving},
	}
}

type phasePart struct {
	key, words string
	took       *time.Duration
}

// Record gives the phases in milliseconds, as they are recorded.
func (p Phases) Record() map[string]float64 {
	out := map[string]float64{}
	for _, part := range p.parts() {
		out[part.key] = float64(part.took.Round(10*time.Microsecond)) / float64(time.Millisecond)
	}
	return out
}

// PhasesOf reads what was recorded.
func PhasesOf(record map[string]float64) Phases {
	var p Phases
	for _, part := range p.parts() {
		*part.took = time.Duration(record[part.key] * float64(time.Millisecond))
	}
	return p
}

// Words says where the time went, in the order of things; "" where nothing is known.
func (p Phases) Words() string {
	var words []string
	for _, part := range p.parts() {
		if *part.took >= 10*time.Microsecond {
			words = append(words, fmt.Sprintf("%s %.2f ms", part.words, float64(*part.took)/float64(time.Millisecond)))
		}
	}
	return strings.Join(words, ", ")
}

// TLS tells what the encrypted connection was like.
type TLS struct {
	Version string    `json:"version"` // TLS 1.3
	Subject string    `json:"subject"` // of the server's certificate
	Issuer  string    `json:"issuer"`
	Expires time.Time `json:"expires"`
	// Unchecked says that the certificate was not checked against any authority.
	Unchecked bool `json:"unchecked,omitempty"`
}

// Words says it in a line.
func (t *TLS) Words() string {
	words := fmt.Sprintf("%s, certificate of %s, by %s, until %s", t.Version, t.Subject, t.Issuer,
		t.Expires.Format("2006-01-02"))
	if t.Unchecked {
		words += ", not checked"
	}
	return words
}

// Hop is a redirect that was followed.
type Hop struct {
	Status   int
	From, To string
}

// Record is one finished exchange.
type Record struct {
	Request *Request
	Answer  *Answer  // nil when none came
	Failure *Failure // nil when the whole answer came
	Started time.Time
	Phases  Phases
	TLS     *TLS
	// Remote is the address that was connected to; not valid where none was.
	Remote netip.Addr
	Hops   []Hop
	Notes  []string // what was done differently than asked, in words
	Reused bool     // the connection was there already
}

// FailureKind names a way in which an exchange fails.
type FailureKind string

// The ways in which an exchange fails.
const (
	Refused        FailureKind = "connection refused"
	Unknown        FailureKind = "unknown host"
	Unreachable    FailureKind = "unreachable"
	TimedOut       FailureKind = "no answer in time"
	BadCertificate FailureKind = "certificate"
	BadTLS         FailureKind = "tls"
	Reset          FailureKind = "connection reset"
	CutOff         FailureKind = "cut off"
	NotHTTP        FailureKind = "not HTTP"
	TooLarge       FailureKind = "too large"
	BadCoding      FailureKind = "bad content coding"
	Redirects      FailureKind = "too many redirects"
	Interrupted    FailureKind = "interrupted"
	NotAllowed     FailureKind = "not allowed"
	Unwritable     FailureKind = "unwritable" // HTTP has no way to write the request
	NoProxy        FailureKind = "proxy"      // it cannot be reached, or lets nothing through
)

// Failure says why no whole answer came.
type Failure struct {
	Kind    FailureKind
	Message string
	Cause   error
}

func (f *Failure) Error() string { return f.Message }
func (f *Failure) Unwrap() error { return f.Cause }

// Refusal groups failures as `expect: refused:` names them: "tls",
// "certificate", "connection", or "" for those that are not refusals.
func (f *Failure) Refusal() string {
	switch f.Kind {
	case Refused, Reset, Unreachable, Unknown:
		return "connection"
	case BadCertificate:
		return "certificate"
	case BadTLS:
		return "tls"
	}
	return ""
}

// Origin is scheme, host and port: what credentials are meant for.
func Origin(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[strings.ToLower(u.Scheme)]
	}
	return strings.ToLower(u.Scheme) + "://" + strings.ToLower(u.Hostname()) + ":" + port
}

// Show sets how a header field is shown, where that is not how it is sent.
func (r *Request) Show(header, text string) {
	if r.ShownHeader == nil {
		r.ShownHeader = map[string]string{}
	}
	r.ShownHeader[header] = text
}

// ShownField returns a header field as it may be shown.
func (r *Request) ShownField(name, text string) string {
	if shown, ok := r.ShownHeader[name]; ok {
		return shown
	}
	return text
}

// BodyShown returns the body as it may be shown.
func (r *Request) BodyShown() string {
	if r.ShownBody != "" {
		return r.ShownBody
	}
	return string(r.Body)
}
