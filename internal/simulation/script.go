package simulation

import (
	"crypto/rand"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"testbench/internal/document"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/suggest"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Script says where another answer than a sample is wanted. The first entry whose
// operation, fields and state fit answers.
type Script struct {
	file    *yamlfile.File
	state   map[string]*document.Node
	entries []*entry
}

type entry struct {
	line      int
	operation string
	at        *yamlfile.Node
	asked     []condition // of the fields of the request
	while     []condition // of what holds from earlier calls
	status    int
	body      *request.Tree
	text      *value.Template
	headers   []named
	fault     *faultForm
	after     time.Duration
	fromNow   []named
	times     int // how often it answers; 0 for always
	said      int
}

type condition struct {
	path *path.Path
	rule *rule.Rule
}

type named struct {
	name string
	tree *request.Tree
}

type faultForm struct {
	code   string
	text   *value.Template
	detail *request.Tree
}

// Saying is an answer that a script gives.
type Saying struct {
	Status  int
	Body    *document.Node
	Text    string
	Headers map[string]string
	Fault   *Fault
	After   time.Duration
}

// ReadScript reads a script. What is wrong with it is told all at once.
func ReadScript(name string, data []byte) (*Script, error) {
	s := &Script{file: yamlfile.Read(name, data), state: map[string]*document.Node{}}
	root := s.file.Root
	if root != nil {
		s.keys(root, map[string]func(*yamlfile.Node){
			"state": func(n *yamlfile.Node) {
				for _, e := range n.Entries {
					if tree := s.tree(e.Value); tree != nil {
						if node, err := tree.Node(&scope{}); err == nil {
							s.state[e.Key.Text] = node
						} else {
							s.file.Report(e.Value, "", "%v", err)
						}
					}
				}
			},
			"answers": func(n *yamlfile.Node) {
				if n.Kind != yamlfile.Sequence {
					s.file.Report(n, "begin each answer with a dash", "answers is a list")
				}
				for _, item := range n.Items {
					s.entries = append(s.entries, s.entry(item))
				}
			},
		})
	}
	if serious := s.file.Problems.Serious(); len(serious) > 0 {
		return nil, serious
	}
	return s, nil
}

// keys hands the entries of a mapping to those who read them.
func (s *Script) keys(n *yamlfile.Node, readers map[string]func(*yamlfile.Node)) {
	if n.Kind != yamlfile.Mapping {
		s.file.Report(n, "", "keys are expected here, and there is %s", n.Kind)
		return
	}
	var names []string
	for name := range readers {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, e := range n.Entries {
		if read := readers[e.Key.Text]; read != nil {
			read(e.Value)
			continue
		}
		try := suggest.DidYouMean(e.Key.Text, names)
		if try == "" {
			try = "there are: " + strings.Join(names, ", ")
		}
		s.file.Report(e.Key, try, "%s is not a key here", e.Key.Text)
	}
}

func (s *Script) entry(n *yamlfile.Node) *entry {
	e := &entry{line: n.Line, at: n}
	s.keys(n, map[string]func(*yamlfile.Node){
		"operation": func(n *yamlfile.Node) { e.operation, e.at = n.Text, n },
		"asked":     func(n *yamlfile.Node) { e.asked = s.conditions(n) },
		"while":     func(n *yamlfile.Node) { e.while = s.conditions(n) },
		"says": func(n *yamlfile.Node) {
			s.keys(n, map[string]func(*yamlfile.Node){
				"status": func(n *yamlfile.Node) {
					status, err := strconv.Atoi(n.Text)
					if err != nil || status < 200 || status > 599 {
						s.file.Report(n, "", "%q is not a status: 200 to 599", n.Text)
					}
					e.status = status
				},
				"body":    func(n *yamlfile.Node) { e.body = s.tree(n) },
				"text":    func(n *yamlfile.Node) { e.text = s.template(n) },
				"headers": func(n *yamlfile.Node) { e.headers = s.named(n) },
				"fault": func(n *yamlfile.Node) {
					e.fault = &faultForm{code: "Client", text: value.Literal("")}
					s.keys(n, map[string]func(*yamlfile.Node){
						"code": func(n *yamlfile.Node) {
							if n.Text != "Client" && n.Text != "Server" {
								s.file.Report(n, "Client or Server", "a fault is the client's or the server's, not %q",
									n.Text)
							}
							e.fault.code = n.Text
						},
						"text":   func(n *yamlfile.Node) { e.fault.text = s.template(n) },
						"detail": func(n *yamlfile.Node) { e.fault.detail = s.tree(n) },
					})
				},
			})
		},
		"after": func(n *yamlfile.Node) {
			after, err := time.ParseDuration(strings.ReplaceAll(n.Text, " ", ""))
			if err != nil || after < 0 || after > time.Hour {
				s.file.Report(n, "write it like 200 ms or 2 s", "%q is not a time", n.Text)
			}
			e.after = after
		},
		"from now": func(n *yamlfile.Node) { e.fromNow = s.named(n) },
		"times": func(n *yamlfile.Node) {
			times, err := strconv.Atoi(n.Text)
			if err != nil || times < 1 {
				s.file.Report(n, "", "%q is not a number of times", n.Text)
			}
			e.times = times
		},
	})
	return e
}

func (s *Script) conditions(n *yamlfile.Node) []condition {
	var out []condition
	for _, e := range n.Entries {
		where, err := path.Compile(e.Key.Text)
		if err != nil {
			s.file.Report(e.Key, "", "%v", err)
			continue
		}
		parsed, err := rule.Parse(e.Value.Text, e.Value.Quoted || e.Value.Block)
		if err == nil {
			err = parsed.CheckLead(where)
		}
		if err != nil {
			s.file.Report(e.Value, "", "%v", err)
			continue
		}
		out = append(out, condition{where, parsed})
	}
	return out
}

func (s *Script) named(n *yamlfile.Node) []named {
	var out []named
	for _, e := range n.Entries {
		if tree := s.tree(e.Value); tree != nil {
			out = append(out, named{e.Key.Text, tree})
		}
	}
	return out
}

func (s *Script) template(n *yamlfile.Node) *value.Template {
	t, err := value.Parse(n.Text)
	if err != nil {
		s.file.Report(n, "", "%v", err)
		return value.Literal("")
	}
	return t
}

// tree reads a value with placeholders in it.
func (s *Script) tree(n *yamlfile.Node) *request.Tree {
	t := &request.Tree{Line: n.Line, Column: n.Column}
	switch n.Kind {
	case yamlfile.Mapping:
		for _, e := range n.Entries {
			if inner := s.tree(e.Value); inner != nil {
				t.Fields = append(t.Fields, request.Field{Name: e.Key.Text, Value: inner})
			}
		}
	case yamlfile.Sequence:
		t.IsList = true
		for _, item := range n.Items {
			if inner := s.tree(item); inner != nil {
				t.Items = append(t.Items, inner)
			}
		}
	default:
		if n.Text == "null" && !n.Quoted {
			t.Null = true
			break
		}
		t.Scalar, t.Typed = s.template(n), n.Quoted || n.Block
	}
	return t
}

// check finds entries for operations that there are not.
func (s *Script) check(names []string) error {
	for _, e := range s.entries {
		if e.operation != "" && !slices.Contains(names, e.operation) {
			s.file.Report(e.at, suggest.DidYouMean(e.operation, names), "the contract has no operation %q", e.operation)
		}
	}
	if serious := s.file.Problems.Serious(); len(serious) > 0 {
		return serious
	}
	return nil
}

// say gives the answer of the first entry that fits, and keeps what holds from now on.
func (s *Script) say(operation string, fields, state *document.Node, number int) (*Saying, int, error) {
	sc := &scope{asked: fields, state: state, number: number}
	for _, e := range s.entries {
		if e.operation != "" && e.operation != operation || e.times > 0 && e.said >= e.times {
			continue
		}
		fits, err := hold(e.asked, fields, sc)
		if err == nil && fits {
			fits, err = hold(e.while, state, sc)
		}
		if err != nil {
			return nil, e.line, fmt.Errorf("line %d: %w", e.line, err)
		}
		if !fits {
			continue
		}
		said, err := e.saying(sc)
		if err != nil {
			return nil, e.line, fmt.Errorf("line %d: %w", e.line, err)
		}
		e.said++
		for _, f := range e.fromNow {
			node, err := f.tree.Node(sc)
			if err != nil {
				return nil, e.line, fmt.Errorf("line %d: from now: %s: %w", e.line, f.name, err)
			}
			state.Set(f.name, node)
		}
		return said, e.line, nil
	}
	return nil, 0, nil
}

func hold(conditions []condition, of *document.Node, sc value.Scope) (bool, error) {
	roots := path.Roots{Answer: of}
	for _, c := range conditions {
		found, err := c.path.Find(roots, sc)
		if err != nil {
			return false, err
		}
		verdict, err := c.rule.Judge(found, roots, sc)
		if err != nil || !verdict.Passed {
			return false, err
		}
	}
	return true, nil
}

func (e *entry) saying(sc *scope) (*Saying, error) {
	out := &Saying{Status: e.status, After: e.after, Headers: map[string]string{}}
	var err error
	if e.body != nil {
		if out.Body, err = e.body.Node(sc); err != nil {
			return nil, err
		}
	}
	if e.text != nil {
		text, err := e.text.Text(sc, value.Raw)
		if err != nil {
			return nil, err
		}
		out.Text = text.Sent
	}
	for _, h := range e.headers {
		node, err := h.tree.Node(sc)
		if err != nil {
			return nil, err
		}
		out.Headers[http.CanonicalHeaderKey(h.name)] = node.Text
	}
	if e.fault == nil {
		return out, nil
	}
	text, err := e.fault.text.Text(sc, value.Raw)
	if err != nil {
		return nil, err
	}
	out.Fault = &Fault{Code: e.fault.code, Text: text.Sent}
	if e.fault.detail != nil {
		out.Fault.Detail, err = e.fault.detail.Node(sc)
	}
	return out, err
}

// scope gives the values of placeholders: ${asked.field}, ${state.name}, ${number} of the
// call, ${now}, ${today}, ${uuid}.
type scope struct {
	asked, state *document.Node
	number       int
}

// Hide hides nothing: there are no secrets here.
func (s *scope) Hide(string) {}

// Lookup finds a value.
func (s *scope) Lookup(space, name string) (*document.Node, error) {
	switch {
	case space == "" && name == "asked" && s.asked != nil:
		return s.asked, nil
	case space == "" && name == "state" && s.state != nil:
		return s.state, nil
	case space == "" && name == "number":
		return document.NewNumber(strconv.Itoa(s.number)), nil
	case space == "" && name == "now":
		return document.NewText(time.Now().UTC().Format(time.RFC3339)), nil
	case space == "" && name == "today":
		return document.NewText(time.Now().UTC().Format("2006-01-02")), nil
	case space == "" && name == "uuid":
		b := make([]byte, 16)
		_, _ = rand.Read(b)
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80 // version 4 (RFC 9562, 5.4)
		return document.NewText(fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])), nil
	}
	return nil, fmt.Errorf("there is no ${%s}; there are asked.FIELD, state.NAME, number, now, today, uuid",
		strings.TrimPrefix(space+"."+name, "."))
}

// Played are past exchanges that are answered again, each request with the answer that it
// had; where it had several, one after the other.
type Played struct {
	mutex   sync.Mutex
	answers map[string][]*PlayedAnswer
}

// PlayedAnswer is the answer of a past exchange.
type PlayedAnswer struct {
	Status  int
	Headers map[string][]string
	Body    string
}

// Add adds a past exchange.
func (p *Played) Add(method, address, body string, answer *PlayedAnswer) {
	if p.answers == nil {
		p.answers = map[string][]*PlayedAnswer{}
	}
	key := playedKey(method, address, body)
	p.answers[key] = append(p.answers[key], answer)
}

// playedKey is a request without its host.
func playedKey(method, address, body string) string {
	if _, rest, ok := strings.Cut(address, "://"); ok {
		if at := strings.IndexByte(rest, '/'); at >= 0 {
			address = rest[at:]
		} else {
			address = "/"
		}
	}
	return method + " " + address + "\n" + strings.Join(strings.Fields(body), " ")
}

func (p *Played) next(r *http.Request, body []byte) *PlayedAnswer {
	if p == nil {
		return nil
	}
	key := playedKey(r.Method, r.URL.RequestURI(), string(body))
	p.mutex.Lock()
	defer p.mutex.Unlock()
	answers := p.answers[key]
	if len(answers) == 0 {
		return nil
	}
	if len(answers) > 1 {
		p.answers[key] = answers[1:]
	}
	return answers[0]
}

func (a *PlayedAnswer) write(w http.ResponseWriter) {
	for name, values := range a.Headers {
		switch http.CanonicalHeaderKey(name) {
		case "Content-Length", "Transfer-Encoding", "Content-Encoding", "Connection", "Date":
			continue
		}
		for _, v := range values {
			w.Header().Add(name, v)
		}
	}
	w.WriteHeader(a.Status)
	_, _ = w.Write([]byte(a.Body))
}
