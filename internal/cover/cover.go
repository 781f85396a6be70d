// Package cover tells what of a contract recorded exchanges have touched: operations, statuses, parameters, values,
// fields that came and that a check judged. And it tells where the contract is wrong: what came and is not described,
// and what is described and never came. It reads no contract and no history itself, and judges by the contract alone.
package cover

import (
	"bytes"
	"cmp"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/lazy"
	"testbench/internal/path"
	"testbench/internal/reply"
	"testbench/internal/result"
	"testbench/internal/rule"
	"testbench/internal/schema"
	"testbench/internal/secret"
)

// Use is one step that called a service.
type Use struct {
	Name      string           // of the exchange in the history: 18.3
	Target    string           // service/operation, or as a request is written
	Operation string           // where the step names it; empty for one that is found by its request
	Status    int              // 0 where none came
	Record    *exchange.Record // nil where it is not recorded what was sent
	Blind     bool             // its request is not recorded as it was
	Judged    []string         // the paths that checks judged
	JudgedAll bool             // a check looked at the whole answer
}

// Kind is what of an operation can be touched.
type Kind string

// The kinds, in the order of how much it matters that they were never touched.
const (
	Call   Kind = "operation"
	Status Kind = "answer"   // a status that is described, or a fault
	Given  Kind = "given"    // a parameter, or a field of the body
	Left   Kind = "left out" // one that may be left out, and was
	Value  Kind = "value"    // one of the values that a parameter or a field takes
	Choice Kind = "choice"   // one of several fields of which one is given
	Came   Kind = "came"     // a field of an answer
	Check  Kind = "judged"   // a field of an answer that a check of a sheet judged
)

// Thing is something that can be touched.
type Thing struct {
	Kind  Kind   `json:"kind"`
	Of    string `json:"of,omitempty"` // the answer that a field belongs to
	Name  string `json:"name,omitempty"`
	Value string `json:"value,omitempty"`
	Count int    `json:"count"`           // how often it was touched
	First string `json:"first,omitempty"` // the exchange that did first
}

// Words name the thing.
func (t *Thing) Words() string {
	switch t.Kind {
	case Call:
		return "the operation"
	case Status:
		return t.Name
	case Given:
		return t.Name + " given"
	case Left:
		return t.Name + " left out"
	case Value:
		return t.Name + " = " + t.Value
	case Choice:
		return t.Name + ", one of several"
	case Came:
		return t.Name + " in " + t.Of
	}
	return t.Name + " in " + t.Of + " judged by a check"
}

// Remark is where a contract is not as the service is.
type Remark struct {
	Operation string `json:"operation"`
	Of        string `json:"of"` // the answer
	Path      string `json:"path,omitempty"`
	What      string `json:"what"`
	Exchange  string `json:"exchange,omitempty"` // that shows it; empty for what never came
}

// NotDescribed is what is said of a status that came and that a contract has not.
const NotDescribed = "is not described"

// Operation is one with what of it was touched.
type Operation struct {
	Name   string   `json:"operation"`
	Method string   `json:"method,omitempty"`
	Path   string   `json:"path,omitempty"`
	Calls  int      `json:"calls"`
	Things []*Thing `json:"things"`

	op      contract.Operation
	parts   contract.Parts
	byKey   map[thingKey]*Thing
	element string         // in the envelope; empty for none
	at      *regexp.Regexp // the addresses of requests, where it has its own
}

// Touched counts the things of some kinds that were touched, and all of them.
func (o *Operation) Touched(kinds ...Kind) (touched, of int) {
	for _, t := range o.Things {
		if len(kinds) > 0 && !slices.Contains(kinds, t.Kind) {
			continue
		}
		if of++; t.Count > 0 {
			touched++
		}
	}
	return touched, of
}

// Parts are how many of its things were touched, and how many were not.
func (o *Operation) Parts() [2]int {
	touched, of := o.Touched()
	return [2]int{touched, of - touched}
}

// Service is a contract with what of it was touched.
type Service struct {
	Name       string       `json:"service"`
	Contract   string       `json:"contract"`
	Operations []*Operation `json:"operations"`
	Remarks    []Remark     `json:"remarks"`
	Wrong      string       `json:"wrong,omitempty"` // why its contract could not be read
	// Unseen is how many exchanges are not recorded in full, and could not be told to an operation.
	Unseen int `json:"not looked at,omitempty"`
	// Elsewhere are requests that no operation describes.
	Elsewhere []string `json:"not described,omitempty"`
}

// Touched counts the things that were touched, and all of them. Of an operation that was never called its fields do
// not count.
func (s *Service) Touched() (touched, of int) {
	for _, o := range s.Operations {
		t, all := o.Touched()
		touched, of = touched+t, of+all
	}
	return touched, of
}

// Share is which part was touched, from 0 to 1; 1 where there is nothing.
func (s *Service) Share() float64 {
	touched, of := s.Touched()
	if of == 0 {
		return 1
	}
	return float64(touched) / float64(of)
}

// Contract is what is covered.
type Contract interface {
	Names() []string
	Operation(name string) (contract.Operation, error)
}

// Of tells what exchanges touched of the contract of a service.
func Of(name, location string, c Contract, uses []Use) *Service {
	s := &Service{Name: name, Contract: location, Operations: []*Operation{}, Remarks: []Remark{}}
	byName := map[string]*Operation{}
	for _, operation := range c.Names() {
		op, err := c.Operation(operation)
		if err != nil || op == nil {
			continue // vet tells of it
		}
		facts := op.Facts()
		o := &Operation{
			Name: operation, Method: facts.Method, Path: facts.Path, op: op, at: addresses(facts),
			element: op.Parts(false).Element, byKey: map[thingKey]*Thing{},
		}
		byName[operation] = o
		s.Operations = append(s.Operations, o)
	}
	of := map[*Operation][]Use{}
	for _, use := range uses {
		o := byName[use.Operation]
		if o == nil {
			o = s.find(use)
		}
		if o == nil && use.Record == nil {
			s.Unseen++
			continue
		}
		if o == nil {
			if !slices.Contains(s.Elsewhere, use.Target) {
				s.Elsewhere = append(s.Elsewhere, use.Target)
			}
			continue
		}
		of[o] = append(of[o], use)
	}
	for _, o := range s.Operations {
		s.cover(o, of[o])
	}
	return s
}

// addresses match the requests of an operation that has its own method and path; nil for others.
func addresses(f contract.Facts) *regexp.Regexp {
	if f.Method == "" || f.Path == "" {
		return nil
	}
	pattern, _ := contract.PathPattern(f.Path)
	return regexp.MustCompile(pattern.String() + "$")
}

// find finds the operation of a request: of several whose path fits, the one with the longest path that is written
// out.
func (s *Service) find(use Use) *Operation {
	if use.Record == nil {
		return nil
	}
	var best *Operation
	element := ""
	if r := use.Record.Request; result.IsEnvelope(r) {
		if payload := readRequest(r).Payload; payload != nil {
			element = payload.Name().Local
		}
	}
	for _, o := range s.Operations {
		if element != "" && o.element == element {
			return o
		}
		r := use.Record.Request
		if o.at == nil || o.Method != r.Method || !o.at.MatchString(r.URL.EscapedPath()) {
			continue
		}
		if best == nil || fixedPart(o.Path) > fixedPart(best.Path) {
			best = o
		}
	}
	return best
}

// fixedPart is how much of a path is not a parameter.
func fixedPart(path string) int { return len(contract.FillPath(path, nil)) }

// cover counts what the uses of an operation touched.
func (s *Service) cover(o *Operation, uses []Use) {
	o.Calls = len(uses)
	call := o.thing(Call, "", "", "")
	o.parts = o.op.Parts(len(uses) > 0)
	if len(uses) > 0 && !slices.ContainsFunc(uses, func(u Use) bool { return u.Record != nil && !u.Blind }) {
		o.parts.Given = nil // what was given is not known
	}
	for _, a := range o.parts.Answers {
		o.thing(Status, "", a.Name(), "")
	}
	if len(uses) == 0 {
		for _, row := range o.parts.Given {
			if row.Depth == 0 && row.Fixed == "" {
				o.thing(Given, "", Key(row.Path), "")
			}
		}
		return
	}
	for _, row := range o.parts.Given {
		if row.Fixed != "" || row.Name == "…" {
			continue
		}
		o.thing(Given, "", Key(row.Path), "")
		if !row.Required {
			o.thing(Left, "", Key(row.Path), "")
		}
		for _, value := range row.Only {
			o.thing(Value, "", Key(row.Path), value)
		}
		if row.Choice != "" {
			o.thing(Choice, "", Key(row.Path), "")
		}
	}
	seen := map[string]bool{} // the answers that came
	counted := map[string]int{}
	for _, use := range uses {
		call.touch(use)
		o.request(use)
		s.answer(o, use, seen, counted)
	}
	s.neverCame(o, seen, counted)
}

// thingKey tells things of an operation apart.
type thingKey struct {
	kind            Kind
	of, name, value string
}

// thing is one of the operation, made where it is not there yet.
func (o *Operation) thing(kind Kind, of, name, value string) *Thing {
	key := thingKey{kind, of, name, value}
	if t := o.byKey[key]; t != nil {
		return t
	}
	t := &Thing{Kind: kind, Of: of, Name: name, Value: value}
	o.Things = append(o.Things, t)
	o.byKey[key] = t
	return t
}

func (t *Thing) touch(use Use) {
	t.Count++
	t.First = cmp.Or(t.First, use.Name)
}

// count is how often a thing was touched; 0 where there is none.
func (o *Operation) count(kind Kind, of, name string) int {
	if t := o.byKey[thingKey{kind, of, name, ""}]; t != nil {
		return t.Count
	}
	return 0
}

// touch touches a thing if there is such a one.
func (o *Operation) touch(kind Kind, of, name, value string, use Use) {
	if t := o.byKey[thingKey{kind, of, name, value}]; t != nil {
		t.touch(use)
	}
}

var indexes = lazy.Regexp(`\[(\d+|\*)\]`)

// Key is a path without which element of a list it is, and without the sign of an attribute.
func Key(path string) string {
	path = indexes().ReplaceAllString(path, "")
	return strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(path, "answer"), "."), "@", "")
}

// request counts what a request gave.
func (o *Operation) request(use Use) {
	if use.Record == nil || use.Blind {
		return
	}
	given := o.given(use.Record.Request)
	for _, row := range o.parts.Given {
		name := Key(row.Path)
		values, is := given[name]
		if !is {
			above := name[:max(strings.LastIndex(name, "."), 0)]
			if _, there := given[above]; above == "" || there {
				o.touch(Left, "", name, "", use)
			}
			continue
		}
		o.touch(Given, "", name, "", use)
		o.touch(Choice, "", name, "", use)
		for _, value := range values {
			o.touch(Value, "", name, value, use)
		}
	}
}

// readRequest reads the body of a request as that of an answer.
func readRequest(r *exchange.Request) *reply.Reply {
	header, body := r.Header, r.Body
	// What is attached is recorded below the envelope, in words.
	if envelope, _, found := bytes.Cut(body, []byte("\n(attached: ")); found {
		header, body = http.Header{"Content-Type": {"text/xml"}}, envelope
	}
	return reply.Read(&exchange.Record{Answer: &exchange.Answer{Header: header, Body: body}})
}

// given are the fields of a request by their keys, with their values.
func (o *Operation) given(r *exchange.Request) map[string][]string {
	out := map[string][]string{}
	body := readRequest(r)
	if endpoint := o.op.Facts().Endpoint; endpoint != nil {
		inPath := map[string]string{}
		if o.at != nil {
			values := o.at.FindStringSubmatch(r.URL.EscapedPath())
			for i, name := range contract.PathNames(o.Path) {
				if i+1 < len(values) {
					inPath[name], _ = url.PathUnescape(values[i+1])
				}
			}
		}
		fields, _, _ := endpoint.Receive(&contract.Received{
			Path: inPath, Query: r.URL.Query(), Header: r.Header, Body: r.Body, IsKind: rule.IsKind,
		})
		collect(fields, "", out)
	}
	collect(body.Payload, "", out)
	return out
}

// encoding is the namespace of SOAP 1.1, section 5.
const encoding = "http://schemas.xmlsoap.org/soap/encoding/"

// collect gathers what is below a node by keys.
func collect(n *document.Node, at string, out map[string][]string) {
	if n == nil {
		return
	}
	if v := n.Value(); v.IsScalar() && v.Kind != document.Element {
		if at != "" {
			out[at] = append(out[at], v.Text)
		}
	} else if at != "" && out[at] == nil {
		out[at] = []string{}
	}
	isArray := false // SOAP 1.1, 5.4.2
	for _, a := range n.Attributes() {
		name := a.Name.Local
		if a.Name.Space == encoding {
			isArray = isArray || name == "arrayType"
			continue
		}
		if a.Name.Space == document.SchemaInstance {
			name = "xsi:" + name
		}
		if !a.IsDeclaration() {
			out[path.Below(at, name)] = append(out[path.Below(at, name)], a.Value)
		}
	}
	for _, m := range n.Members() {
		collect(m.Value, path.Below(at, m.Key), out)
	}
	for _, item := range n.Items() {
		switch {
		case n.Kind == document.List, isArray && item.Kind == document.Element:
			collect(item, at, out)
		case item.Kind == document.Element:
			collect(item, path.Below(at, item.Name().Local), out)
		}
	}
}

// described finds what is said of an answer; nil where nothing is.
func (o *Operation) described(use Use, re *reply.Reply) *contract.AnswerPart {
	var class, fallback, plain *contract.AnswerPart
	for i := range o.parts.Answers {
		a := &o.parts.Answers[i]
		switch {
		case a.Fault != "":
			if re.Message != nil && re.Message.Fault != nil && re.Message.Fault.Detail != nil &&
				re.Message.Fault.Detail.Child(a.Element) != nil {
				return a
			}
		case a.Status == "":
			plain = a
		case a.Status == strconv.Itoa(use.Status):
			return a
		case strings.EqualFold(a.Status, fmt.Sprintf("%dXX", use.Status/100)):
			class = a
		case a.Status == "default":
			fallback = a
		}
	}
	if plain != nil && (re.Fault() != nil || use.Status >= 400) {
		return nil
	}
	return cmp.Or(class, fallback, plain)
}

// answer counts what came, and remarks on what is not described.
func (s *Service) answer(o *Operation, use Use, seen map[string]bool, counted map[string]int) {
	if use.Status == 0 {
		return
	}
	re := reply.Read(use.Record)
	a := o.described(use, re)
	if a == nil {
		if len(o.parts.Answers) > 0 {
			s.remark(Remark{Operation: o.Name, Of: strconv.Itoa(use.Status), What: NotDescribed, Exchange: use.Name})
		}
		return
	}
	o.touch(Status, "", a.Name(), "", use)
	if use.Record == nil || re.Payload == nil {
		return
	}
	if !seen[a.Name()] {
		seen[a.Name()] = true
		for _, row := range a.Rows {
			if row.Name != "…" {
				o.thing(Came, a.Name(), Key(row.Path), "")
				if row.Type == "" {
					continue // it only holds others
				}
				o.thing(Check, a.Name(), Key(row.Path), "")
			}
		}
	}
	counted[a.Name()]++
	payload := o.op.Decode(re.Payload)
	if a.Fault != "" && re.Message != nil && re.Message.Fault != nil {
		payload = re.Message.Fault.Detail.Child(a.Element)
	}
	came := map[string][]string{}
	collect(payload, "", came)
	known := map[string]bool{}
	for _, row := range a.Rows {
		for name := Key(row.Path); name != ""; name = name[:max(strings.LastIndex(name, "."), 0)] {
			known[name] = true // and what it is in
		}
	}
	for _, name := range sortedKeys(came) {
		if !known[name] {
			s.unknown(o, a, name, known, use)
			continue
		}
		o.touch(Came, a.Name(), name, "", use)
		if use.JudgedAll || slices.ContainsFunc(use.Judged, func(path string) bool { return Key(path) == name }) {
			o.touch(Check, a.Name(), name, "", use)
		}
	}
	s.judged(o, a, use, re)
}

// unknown remarks on a field that came and is not described, unless what it is in has no fields of its own there, or
// may hold any.
func (s *Service) unknown(o *Operation, a *contract.AnswerPart, name string, known map[string]bool, use Use) {
	above := name[:max(strings.LastIndex(name, "."), 0)]
	isOpen := slices.ContainsFunc(a.Rows, func(row schema.Row) bool {
		return row.Again || row.Name == "…" || row.Type == "anything"
	})
	hasFields := slices.ContainsFunc(a.Rows, func(row schema.Row) bool {
		rest, ok := strings.CutPrefix(Key(row.Path), above)
		return ok && (above == "" || strings.HasPrefix(rest, "."))
	})
	if isOpen || !hasFields || above != "" && !known[above] || strings.Contains(name, "xsi:") {
		return
	}
	s.remark(Remark{Operation: o.Name, Of: a.Name(), Path: name, What: "came and is not described", Exchange: use.Name})
}

// judged remarks on what does not fit: types, formats, what is mandatory and missing.
func (s *Service) judged(o *Operation, a *contract.AnswerPart, use Use, re *reply.Reply) {
	got := use.Record.Answer
	judgement := o.op.Judge(contract.Got{
		Status: got.Status, Header: got.Header, Empty: len(got.Body) == 0, What: string(re.Format), Body: re.Payload,
		Message: re.Message, Lines: re.Format == document.Lines,
	})
	for _, wrong := range judgement.Wrong {
		if !strings.Contains(wrong, secret.Mask) {
			s.remark(Remark{Operation: o.Name, Of: a.Name(), What: anyElement(wrong), Exchange: use.Name})
		}
	}
}

// anyElement takes which element of a list it is out of a sentence, so that the same fault of each is one.
func anyElement(text string) string { return indexes().ReplaceAllString(text, "[*]") }

// remark adds a remark, once.
func (s *Service) remark(r Remark) {
	for _, one := range s.Remarks {
		if one.Operation == r.Operation && one.Of == r.Of && one.Path == r.Path && one.What == r.What {
			return
		}
	}
	s.Remarks = append(s.Remarks, r)
}

// leastAnswers is in how many answers a field that is described must be missing before that is remarked.
const leastAnswers = 3

// neverCame remarks on fields that are described and came in no answer of several.
func (s *Service) neverCame(o *Operation, seen map[string]bool, counted map[string]int) {
	for _, t := range o.Things {
		if t.Kind == Came && t.Count == 0 && seen[t.Of] && counted[t.Of] >= leastAnswers && o.isExpected(t) {
			above := t.Name[:max(strings.LastIndex(t.Name, "."), 0)]
			if above != "" && o.count(Came, t.Of, above) == 0 {
				continue // that it is in never came
			}
			s.remark(Remark{
				Operation: o.Name, Of: t.Of, Path: t.Name,
				What: fmt.Sprintf("is described and came in none of %d answers", counted[t.Of]),
			})
		}
	}
}

// isExpected says whether a field of an answer comes without being asked for, as what OData expands does not.
func (o *Operation) isExpected(t *Thing) bool {
	for _, a := range o.parts.Answers {
		if a.Name() == t.Of {
			at := slices.IndexFunc(a.Rows, func(row schema.Row) bool { return Key(row.Path) == t.Name })
			return at >= 0 && (a.Rows[at].Required || a.Rows[at].Occurs != "")
		}
	}
	return false
}

func sortedKeys(m map[string][]string) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// Untouched is a thing that was never touched, with its operation.
type Untouched struct {
	Operation *Operation
	Thing     *Thing
}

// Never lists what was never touched, what matters most first: operations, answers, parameters, values, choices,
// fields. Of an operation that was never called nothing else is listed, and of a field that never came not that no
// check judged it.
func (s *Service) Never() []Untouched {
	var out []Untouched
	for _, o := range s.Operations {
		for _, t := range o.Things {
			if t.Count > 0 || o.Calls == 0 && t.Kind != Call || t.Kind == Check && o.count(Came, t.Of, t.Name) == 0 {
				continue
			}
			out = append(out, Untouched{o, t})
		}
	}
	order := []Kind{Call, Status, Given, Value, Choice, Check, Came, Left}
	slices.SortStableFunc(out, func(a, b Untouched) int {
		return cmp.Compare(slices.Index(order, a.Thing.Kind), slices.Index(order, b.Thing.Kind))
	})
	return out
}
