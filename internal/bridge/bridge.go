// Package bridge offers the operations of a SOAP service as JSON over HTTP: it checks who
// asks, bounds how often, keeps answers for a time, and tells faults as problem details
// (RFC 9457). How a call is made it is told; it knows neither benches nor sheets.
package bridge

import (
	"bytes"
	"container/list"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	"golang.org/x/time/rate"

	"testbench/internal/document"
	"testbench/internal/suggest"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// Operation is one that is offered.
type Operation struct {
	Name    string
	About   string
	Request *xsd.Element // nil for an empty body
	Answer  *xsd.Element // nil for one that is not answered
}

// Result is what came of a call: an answer, or why there is none.
type Result struct {
	Answer  *document.Node // the payload; nil for none
	Problem *Problem
}

// Problem is a problem detail (RFC 9457).
type Problem struct {
	Type   string         `json:"type"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail,omitempty"`
	Errors []FieldProblem `json:"errors,omitempty"`
	Fault  *Fault         `json:"fault,omitempty"`
	// Cause is for whoever runs the bridge, not for who asks: it may name hosts.
	Cause string `json:"-"`
}

// FieldProblem is one thing that is wrong with a request.
type FieldProblem struct {
	Detail string `json:"detail"`
}

// Fault is the fault of the service, as its version of SOAP has it.
type Fault struct {
	Code    string          `json:"code"`
	Subcode string          `json:"subcode,omitempty"`
	Text    string          `json:"text"`
	Detail  json.RawMessage `json:"detail,omitempty"`
}

// Options say how a service is offered.
type Options struct {
	Title      string
	Schema     *xsd.Schema
	Operations []Operation
	// Call makes a call with fields as the schema's Fill takes them.
	Call func(ctx context.Context, operation string, fields *document.Node) Result
	// Keys are those that were issued; once there is one, nothing is answered without. nil for
	// a bridge that has none.
	Keys *Keys
	// KeyHeader is the header field that holds the key, in place of Authorization: Bearer.
	KeyHeader string
	// Closed asks for a key for the page, the description, metrics and health too.
	Closed bool
	// Healthy says whether the service answers, nil for yes. It may be nil itself.
	Healthy func(ctx context.Context) error
	// PerSecond bounds the requests of each key, or of all where there are no keys; 0
	// does not.
	PerSecond float64
	// Keep says for how long answers of operations are kept.
	Keep    map[string]time.Duration
	MaxBody int64         // of requests; 0 means 1 MiB
	Timeout time.Duration // of a call; 0 means 30 s
	Log     *slog.Logger  // of access; nil for none
	// Mask hides what is secret in what is answered: a service may repeat a credential of
	// the bridge. nil for nothing.
	Mask func(text string) string
	// Hosts are what requests may name as their host, with the port where one is there;
	// empty allows every one. A page of elsewhere cannot reach a bridge on the loopback by a
	// name of its own then.
	Hosts []string
}

// Handler offers a service.
type Handler struct {
	options  Options
	byName   map[string]*Operation
	openAPI  map[bool][]byte // with keys and without
	page     map[bool][]byte
	health   health
	origins  *http.CrossOriginProtection
	metrics  *metrics
	kept     *keeping
	limiters sync.Map // key: *rate.Limiter
	mux      *http.ServeMux
}

// New makes a handler.
func New(o Options) (*Handler, error) {
	if o.MaxBody == 0 {
		o.MaxBody = 1 << 20
	}
	if o.Timeout == 0 {
		o.Timeout = 30 * time.Second
	}
	if o.Mask == nil {
		o.Mask = func(text string) string { return text }
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	h := &Handler{
		options: o, byName: map[string]*Operation{}, openAPI: map[bool][]byte{}, page: map[bool][]byte{},
		origins: http.NewCrossOriginProtection(),
		metrics: newMetrics(), kept: newKeeping(), mux: http.NewServeMux(),
	}
	for i := range o.Operations {
		h.byName[o.Operations[i].Name] = &o.Operations[i]
	}
	for name := range o.Keep {
		if h.byName[name] == nil {
			return nil, fmt.Errorf("there is no operation %q whose answers could be kept; %s", name,
				suggest.DidYouMean(name, h.names()))
		}
	}
	for _, withKeys := range []bool{true, false} {
		h.openAPI[withKeys] = []byte(h.describe(withKeys))
		var err error
		if h.page[withKeys], err = h.renderPage(withKeys); err != nil {
			return nil, err
		}
	}
	metrics := promhttp.HandlerFor(h.metrics.registry, promhttp.HandlerOpts{})
	for pattern, show := range map[string]http.HandlerFunc{
		"GET /openapi.json": h.showDescription,
		"GET /health":       h.showHealth, "GET /metrics": metrics.ServeHTTP, "GET /{$}": h.showPage,
	} {
		h.mux.HandleFunc(pattern, h.guarded(show))
	}
	h.mux.HandleFunc("/{operation}", h.operation)
	h.mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		h.fail(w, &Problem{
			Title: "no such place", Status: http.StatusNotFound,
			Detail: "operations are asked for by POST /OPERATION; /openapi.json lists them",
		})
	})
	return h, nil
}

func (h *Handler) names() []string {
	var names []string
	for _, o := range h.options.Operations {
		names = append(names, o.Name)
	}
	return names
}

// guarded asks for a key where all of the bridge is closed.
func (h *Handler) guarded(show http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if h.options.Closed {
			if _, problem := h.allowed(w, r, nil); problem != nil {
				h.fail(w, problem)
				return
			}
		}
		show(w, r)
	}
}

func (h *Handler) showDescription(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = w.Write(h.openAPI[h.wantsKeys()])
}

// wantsKeys says whether a key was issued, be it while the bridge is running.
func (h *Handler) wantsKeys() bool { return h.options.Keys != nil && h.options.Keys.Any() }

// ServeHTTP answers a request, and notes what came of it.
func (h *Handler) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	began := time.Now()
	seen := &recorder{ResponseWriter: w, status: http.StatusOK}
	w.Header().Set("X-Content-Type-Options", "nosniff")
	switch {
	case len(h.options.Hosts) > 0 && !slices.ContainsFunc(h.options.Hosts, func(host string) bool {
		return strings.EqualFold(host, r.Host)
	}):
		h.fail(seen, &Problem{
			Title: "another host", Status: http.StatusMisdirectedRequest,
			Detail: "this bridge is not for the host that the request names",
		})
	case h.origins.Check(r) != nil:
		// By Sec-Fetch-Site, else by Origin: a page of elsewhere is not to act with the
		// credentials of the bridge.
		h.fail(seen, &Problem{
			Title: "another origin", Status: http.StatusForbidden,
			Detail: "the bridge is not asked by pages of another origin",
		})
	default:
		h.mux.ServeHTTP(seen, r)
	}
	operation := strings.TrimPrefix(r.URL.Path, "/")
	if h.byName[operation] == nil {
		operation = "-" // what anybody may ask for is not a label
	}
	took := time.Since(began)
	h.metrics.requests.WithLabelValues(operation, strconv.Itoa(seen.status)).Inc()
	h.metrics.seconds.WithLabelValues(operation).Observe(took.Seconds())
	// Neither the query nor headers and bodies are logged: they may hold anything.
	h.options.Log.Info("request", "method", r.Method, "path", r.URL.EscapedPath(), "status", seen.status, "bytes",
		seen.bytes, "ms", float64(took.Microseconds())/1000, "from", r.RemoteAddr, "key", seen.key, "kept", seen.kept,
		"cause", seen.cause)
}

// recorder notes what is answered.
type recorder struct {
	http.ResponseWriter
	status, bytes int
	key           string // its name, not the key itself
	kept          bool
	cause         string // of a problem, for whoever runs the bridge
}

func (r *recorder) WriteHeader(status int) {
	r.status = status
	r.ResponseWriter.WriteHeader(status)
}

func (r *recorder) Write(p []byte) (int, error) {
	n, err := r.ResponseWriter.Write(p)
	r.bytes += n
	return n, err
}

// fail answers with a problem.
func (h *Handler) fail(w http.ResponseWriter, p *Problem) {
	if p.Type == "" {
		p.Type = "about:blank"
	}
	if seen, ok := w.(*recorder); ok {
		seen.cause = h.options.Mask(p.Cause)
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(p)
	_, _ = io.WriteString(w, h.options.Mask(out.String()))
}

// operation answers a call.
func (h *Handler) operation(w http.ResponseWriter, r *http.Request) {
	name := r.PathValue("operation")
	op := h.byName[name]
	switch {
	case op == nil:
		h.fail(w, &Problem{
			Title: "no such operation", Status: http.StatusNotFound,
			Detail: strings.TrimSuffix(fmt.Sprintf("there is no operation %q; %s", name,
				suggest.DidYouMean(name, h.names())), "; "),
		})
		return
	case r.Method != http.MethodPost:
		w.Header().Set("Allow", http.MethodPost)
		h.fail(w, &Problem{
			Title: "another method", Status: http.StatusMethodNotAllowed,
			Detail: "operations are asked for by POST",
		})
		return
	}
	key, problem := h.allowed(w, r, op)
	if problem != nil {
		h.fail(w, problem)
		return
	}
	if seen, ok := w.(*recorder); ok {
		seen.key = key
	}
	fields, problem := h.fields(w, r, op)
	if problem != nil {
		h.fail(w, problem)
		return
	}
	h.answer(w, r, op, fields)
}

// keyOf gives the key that a request shows. The word before it is read without regard to case
// (RFC 9110, 11.1).
func (h *Handler) keyOf(r *http.Request) (key, how string) {
	if h.options.KeyHeader != "" {
		return strings.TrimSpace(r.Header.Get(h.options.KeyHeader)), h.options.KeyHeader + ": KEY"
	}
	word, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	if !strings.EqualFold(word, "Bearer") {
		text = ""
	}
	return strings.TrimSpace(text), "Authorization: Bearer KEY"
}

// allowed checks the key of a request, what it is for, and how often it asks. op is nil for
// what the bridge says of itself.
func (h *Handler) allowed(w http.ResponseWriter, r *http.Request, op *Operation) (name string, problem *Problem) {
	if h.wantsKeys() || h.options.Closed {
		refuse := func(title, detail, more string) (string, *Problem) {
			if h.options.KeyHeader == "" {
				w.Header().Set("WWW-Authenticate", `Bearer realm="bridge"`+more)
			}
			return "", &Problem{Title: title, Status: http.StatusUnauthorized, Detail: detail}
		}
		text, how := h.keyOf(r)
		if text == "" || h.options.Keys == nil {
			return refuse("no key", "a key is asked for: "+how, "")
		}
		key, why := h.options.Keys.Check(text, time.Now())
		if key == nil {
			return refuse("the key is not good", why, `, error="invalid_token"`)
		}
		name = key.Name
		what := r.Method + " " + r.URL.Path
		if op != nil {
			what = op.Name
		}
		if !h.options.Keys.Allows(key, op, r.Method) {
			return name, &Problem{
				Title: "not for this key", Status: http.StatusForbidden,
				Detail: fmt.Sprintf("the key %s is not for %s", key.Name, what),
			}
		}
	}
	if h.options.PerSecond > 0 {
		one, _ := h.limiters.LoadOrStore(name,
			rate.NewLimiter(rate.Limit(h.options.PerSecond), max(int(h.options.PerSecond), 1)))
		if !one.(*rate.Limiter).Allow() {
			w.Header().Set("Retry-After", "1")
			return name, &Problem{
				Title: "too often", Status: http.StatusTooManyRequests,
				Detail: fmt.Sprintf("at most %g requests a second are answered", h.options.PerSecond),
			}
		}
	}
	return name, nil
}

// fields reads the body of a request.
func (h *Handler) fields(w http.ResponseWriter, r *http.Request, op *Operation) (*document.Node, *Problem) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, h.options.MaxBody))
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return nil, &Problem{
			Title: "too large", Status: http.StatusRequestEntityTooLarge,
			Detail: fmt.Sprintf("a request may hold %d bytes", large.Limit),
		}
	case err != nil:
		return nil, &Problem{
			Title: "the request is not whole", Status: http.StatusBadRequest,
			Detail: "its body ended before its end",
		}
	}
	// An empty body is JSON too: what a page of elsewhere can send without asking is not.
	if mediaType, _, err := mime.ParseMediaType(r.Header.Get("Content-Type")); err != nil ||
		mediaType != "application/json" {
		return nil, &Problem{
			Title: "not JSON", Status: http.StatusUnsupportedMediaType,
			Detail: "the content type must be application/json",
		}
	}
	if len(bytes.TrimSpace(body)) == 0 {
		return document.NewObject(), nil
	}
	fields, err := document.ReadJSON(body)
	if err != nil {
		return nil, &Problem{Title: "not JSON", Status: http.StatusBadRequest, Detail: err.Error()}
	}
	if fields.Kind != document.Object && fields.Kind != document.List {
		return nil, &Problem{
			Title: "no fields", Status: http.StatusBadRequest,
			Detail: "the body must be an object with the fields of " + op.Name + ", and is " + fields.Describe(),
		}
	}
	return fields, nil
}

// answer makes the call, or takes what was kept.
func (h *Handler) answer(w http.ResponseWriter, r *http.Request, op *Operation, fields *document.Node) {
	keep := h.options.Keep[op.Name]
	which := op.Name + "\n" + document.WriteJSON(fields, document.Style{})
	if keep > 0 && !strings.Contains(r.Header.Get("Cache-Control"), "no-cache") {
		if body, age := h.kept.get(which, time.Now()); body != nil {
			if seen, ok := w.(*recorder); ok {
				seen.kept = true
			}
			h.metrics.kept.WithLabelValues(op.Name).Inc()
			w.Header().Set("Age", strconv.Itoa(int(age.Seconds()))) // RFC 9111, 5.1
			h.write(w, body)
			return
		}
	}
	ctx, cancel := context.WithTimeout(r.Context(), h.options.Timeout)
	defer cancel()
	h.metrics.waiting.Inc()
	began := time.Now()
	result := h.options.Call(ctx, op.Name, fields)
	h.metrics.waiting.Dec()
	h.metrics.upstream.WithLabelValues(op.Name).Observe(time.Since(began).Seconds())
	switch {
	case result.Problem != nil:
		h.fail(w, result.Problem)
		return
	case result.Answer == nil || op.Answer == nil:
		w.WriteHeader(http.StatusAccepted)
		return
	}
	body := []byte(h.options.Mask(document.WriteJSON(instance.Fields(h.options.Schema, op.Answer, result.Answer),
		document.Style{}) + "\n"))
	if keep > 0 {
		h.kept.put(which, body, time.Now(), keep)
	}
	h.write(w, body)
}

func (h *Handler) write(w http.ResponseWriter, body []byte) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store") // what others keep is theirs to ask for here
	_, _ = w.Write(body)
}

// metrics are what is counted.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	kept     *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	upstream *prometheus.HistogramVec
	waiting  prometheus.Gauge
}

func newMetrics() *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "bridge_requests_total",
			Help: "Requests by operation and status.",
		}, []string{"operation", "status"}),
		kept: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: "bridge_kept_answers_total",
			Help: "Answers that were given out of what is kept.",
		}, []string{"operation"}),
		seconds: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "bridge_request_seconds",
			Help: "Time of requests.",
		}, []string{"operation"}),
		upstream: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "bridge_call_seconds",
			Help: "Time of the calls to the service.",
		}, []string{"operation"}),
		waiting: prometheus.NewGauge(prometheus.GaugeOpts{
			Name: "bridge_calls_waiting",
			Help: "Calls that the service has not answered yet.",
		}),
	}
	m.registry.MustRegister(m.requests, m.kept, m.seconds, m.upstream, m.waiting)
	return m
}

// keeping holds answers for a time.
type keeping struct {
	mutex  sync.Mutex
	kept   map[string]*keptAnswer
	oldest *list.List // of them, in the order in which they came
	bytes  int
}

type keptAnswer struct {
	which       string // was asked
	body        []byte
	since, ends time.Time
	place       *list.Element
}

func (one *keptAnswer) size() int { return len(one.which) + len(one.body) }

// mostKept bounds the answers that are kept, in bytes with what they were asked for; one takes
// at most a part of that.
const (
	mostKept    = 64 << 20
	mostKeptOne = mostKept / 16
)

func newKeeping() *keeping { return &keeping{kept: map[string]*keptAnswer{}, oldest: list.New()} }

func (k *keeping) get(which string, now time.Time) (body []byte, age time.Duration) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	one := k.kept[which]
	if one == nil {
		return nil, 0
	}
	if now.After(one.ends) {
		k.drop(one)
		return nil, 0
	}
	return one.body, now.Sub(one.since)
}

func (k *keeping) drop(one *keptAnswer) {
	k.bytes -= one.size()
	k.oldest.Remove(one.place)
	delete(k.kept, one.which)
}

func (k *keeping) put(which string, body []byte, now time.Time, keep time.Duration) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	one := &keptAnswer{which: which, body: body, since: now, ends: now.Add(keep)}
	if one.size() > mostKeptOne {
		return
	}
	if before := k.kept[which]; before != nil {
		k.drop(before)
	}
	for k.bytes+one.size() > mostKept {
		k.drop(k.oldest.Front().Value.(*keptAnswer))
	}
	one.place = k.oldest.PushBack(one)
	k.kept[which] = one
	k.bytes += one.size()
}
