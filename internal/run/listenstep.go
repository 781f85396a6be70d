package run

import (
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/sheet"
	"testbench/internal/suggest"
	"testbench/internal/value"
)

// callback checks that a step waits for the calls to an address.
func (v *vetter) callback(u bench.Use) {
	h := u.Placeholder
	switch {
	case len(v.listens) == 0:
		u.File.ReportInside(u.Node, h.Offset, "add a step with listen:", "%s: no step waits to be called back", h.Source)
	case h.Name == "" && len(v.listens) > 1:
		u.File.ReportInside(u.Node, h.Offset, "write ${callback."+v.listens[0]+"}", "%s: several steps wait to be called back: %s", h.Source, document.FewNames(v.listens))
	case h.Name != "" && !slices.Contains(v.listens, h.Name):
		u.File.ReportInside(u.Node, h.Offset, suggest.DidYouMean(h.Name, v.listens), "%s: no step with listen: has that name", h.Source)
	}
}

// boxes are where the calls for a row come in, one for each step that listens.
type boxes struct {
	x     *rowRun
	mutex sync.Mutex
	open  map[string]*opened
	order []*opened
}

type opened struct {
	*box
	step    *sheet.Step
	address string
	seen    map[[32]byte]time.Time // calls that were taken
	last    [32]byte               // the one that was taken last
	states  []seen
	start   time.Time
}

// of gives the box of a step, and makes it where it is first asked for. An empty name
// is the only step that listens.
func (b *boxes) of(name string) (*opened, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	step := listenerOf(b.x.sheet, name)
	if step == nil {
		return nil, fmt.Errorf("%w: no step waits to be called back so", value.ErrNothing)
	}
	if o := b.open[step.Name]; o != nil {
		return o, nil
	}
	receiver := b.x.session.options.Receiver
	if receiver == nil {
		return nil, fmt.Errorf("%w: nobody can call back here", value.ErrNothing)
	}
	l, err := readyToListen(step.Listen, b.x.session.Scope(b.x.values, maps.Clone(b.x.kept)))
	if err != nil {
		return nil, err
	}
	o := &opened{step: step, seen: map[[32]byte]time.Time{}, start: time.Now()}
	if o.box, o.address, err = receiver.open(l); err != nil {
		return nil, err
	}
	if b.open == nil {
		b.open = map[string]*opened{}
	}
	b.open[step.Name] = o
	b.order = append(b.order, o)
	return o, nil
}

// listenerOf is the step of a name that listens, or the only one.
func listenerOf(s *sheet.Sheet, name string) *sheet.Step {
	var found *sheet.Step
	var look func([]*sheet.Step)
	look = func(steps []*sheet.Step) {
		for _, step := range steps {
			if step.Listen != nil && (step.Name == name || name == "") && found == nil {
				found = step
			}
			look(step.Group)
		}
	}
	look(s.AllSteps())
	return found
}

// listening is a step's listening with its values filled in: calls come at any time.
type listening struct {
	method, path string
	signed       *sheet.Signed
	key          []byte
	answer       sheet.CallAnswer
	header       http.Header
	body         []byte
}

func readyToListen(l *sheet.Listen, scope *Values) (*listening, error) {
	out := &listening{method: l.Method, signed: l.Signed, answer: l.Answer, header: http.Header{}}
	text := func(t *value.Template) (string, error) {
		if t == nil {
			return "", nil
		}
		filled, err := t.Text(scope, value.Raw)
		return filled.Sent, err
	}
	var err error
	if out.path, err = text(l.Path); err != nil {
		return nil, err
	}
	out.path = strings.Trim(out.path, "/")
	if l.Signed != nil {
		key, err := text(l.Signed.Key)
		if err != nil {
			return nil, err
		}
		out.key = []byte(key)
	}
	for _, h := range l.Answer.Headers {
		node, err := h.Value.Node(scope)
		if err != nil {
			return nil, err
		}
		out.header.Add(h.Name, node.Text)
	}
	switch {
	case l.Answer.Body != nil:
		node, err := l.Answer.Body.Node(scope)
		if err != nil {
			return nil, err
		}
		out.body = []byte(document.WriteJSON(node, document.Style{}))
		if out.header.Get("Content-Type") == "" {
			out.header.Set("Content-Type", "application/json")
		}
	case l.Answer.Text != nil:
		filled, err := text(l.Answer.Text)
		if err != nil {
			return nil, err
		}
		out.body = []byte(filled)
	}
	if out.answer.Status == 0 {
		out.answer.Status = http.StatusOK
		if len(out.body) == 0 {
			out.answer.Status = http.StatusNoContent
		}
	}
	return out, nil
}

// take looks at a call: one by another method, to another place or with a false
// signature is refused and noted, all others wait for the step.
func (l *listening) take(w http.ResponseWriter, b *box, c *call, rest string) {
	refuse := func(status int, format string, args ...any) {
		b.note(format, args...)
		http.Error(w, http.StatusText(status), status)
	}
	switch {
	case c.method != l.method:
		w.Header().Set("Allow", l.method)
		refuse(http.StatusMethodNotAllowed, "a call by %s came and was refused: %s is waited for", c.method, l.method)
		return
	case strings.Trim(rest, "/") != l.path:
		refuse(http.StatusNotFound, "a call to /%s came and was refused: /%s is waited for", rest, l.path)
		return
	case l.signed != nil && !l.genuine(c):
		refuse(http.StatusUnauthorized, "a call with a false signature came and was refused (header %s)", l.signed.Header)
		return
	}
	if c.answered = l.answer.Status; !b.add(c) {
		http.Error(w, "too many calls", http.StatusTooManyRequests)
		return
	}
	maps.Copy(w.Header(), l.header)
	w.WriteHeader(c.answered)
	_, _ = w.Write(l.body)
}

func (l *listening) genuine(c *call) bool {
	hashes := map[string]func() hash.Hash{"sha1": sha1.New, "sha256": sha256.New, "sha512": sha512.New}
	got, ok := strings.CutPrefix(c.header.Get(l.signed.Header), l.signed.Before)
	if !ok {
		return false
	}
	var signature []byte
	var err error
	if l.signed.Encode == "base64" {
		signature, err = base64.StdEncoding.DecodeString(got)
	} else {
		signature, err = hex.DecodeString(got)
	}
	mac := hmac.New(hashes[l.signed.Hash], l.key)
	_, _ = mac.Write(c.body)
	return err == nil && hmac.Equal(signature, mac.Sum(nil))
}

// record is a call as an exchange: they sent, and were answered.
func (c *call) record(l *listening) *exchange.Record {
	return &exchange.Record{
		Request: &exchange.Request{Method: c.method, URL: c.url, Header: c.header, Body: c.body},
		Answer:  &exchange.Answer{Status: c.answered, Reason: http.StatusText(c.answered), Proto: "HTTP/1.1", Header: l.header, Body: l.body},
		Started: c.at,
	}
}
