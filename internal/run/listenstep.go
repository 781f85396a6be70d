package run

import (
	"fmt"
	"maps"
	"net/http"
	"strings"
	"sync"
	"time"

	"testbench/internal/callback"
	"testbench/internal/document"
	"testbench/internal/judge"
	"testbench/internal/session"
	"testbench/internal/sheet"
	"testbench/internal/value"
)

// boxes are where the calls for a row come in, one for each step that listens.
type boxes struct {
	x     *rowRun
	mutex sync.Mutex
	open  map[string]*opened
	order []*opened
}

type opened struct {
	*callback.Box
	step    *sheet.Step
	address string
	seen    map[[32]byte]time.Time // calls that were taken
	last    [32]byte               // the one that was taken last
	states  []judge.StateSeen
	start   time.Time
}

// addressOf is where a step that listens is called.
func (b *boxes) addressOf(name string) (string, error) {
	o, err := b.of(name)
	if err != nil {
		return "", err
	}
	return o.address, nil
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
	receiver := b.x.session.Options.Receiver
	if receiver == nil {
		return nil, fmt.Errorf("%w: nobody can call back here", value.ErrNothing)
	}
	l, err := readyToListen(step.Listen, b.x.session.Scope(b.x.values, maps.Clone(b.x.kept)))
	if err != nil {
		return nil, err
	}
	o := &opened{step: step, seen: map[[32]byte]time.Time{}, start: time.Now()}
	if o.Box, o.address, err = receiver.Open(l); err != nil {
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

func readyToListen(l *sheet.Listen, scope *session.Values) (*callback.Listener, error) {
	out := &callback.Listener{Method: l.Method, Signed: l.Signed, Answer: l.Answer, Header: http.Header{}}
	text := func(t *value.Template) (string, error) {
		if t == nil {
			return "", nil
		}
		filled, err := t.Text(scope, value.Raw)
		return filled.Sent, err
	}
	var err error
	if out.Path, err = text(l.Path); err != nil {
		return nil, err
	}
	out.Path = strings.Trim(out.Path, "/")
	if l.Signed != nil {
		key, err := text(l.Signed.Key)
		if err != nil {
			return nil, err
		}
		out.Key = []byte(key)
	}
	for _, h := range l.Answer.Headers {
		node, err := h.Value.Node(scope)
		if err != nil {
			return nil, err
		}
		out.Header.Add(h.Name, node.Text)
	}
	switch {
	case l.Answer.Body != nil:
		node, err := l.Answer.Body.Node(scope)
		if err != nil {
			return nil, err
		}
		out.Body = []byte(document.WriteJSON(node, document.Style{}))
		if out.Header.Get("Content-Type") == "" {
			out.Header.Set("Content-Type", "application/json")
		}
	case l.Answer.Text != nil:
		filled, err := text(l.Answer.Text)
		if err != nil {
			return nil, err
		}
		out.Body = []byte(filled)
	}
	if out.Answer.Status == 0 {
		out.Answer.Status = http.StatusOK
		if len(out.Body) == 0 {
			out.Answer.Status = http.StatusNoContent
		}
	}
	return out, nil
}
