package sheet

import (
	"slices"
	"strconv"
	"time"

	"testbench/internal/mapping"
	"testbench/internal/path"
	"testbench/internal/request"
	"testbench/internal/rule"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Step is one step of a sheet: what the steps of all kinds have in common, and its action.
type Step struct {
	Name  string
	About string
	// Action is what the step does. It is nil where the file does not say it as it must,
	// which is a problem of the sheet.
	Action Action

	Site    string
	Message               // of the kinds that send something
	Fill    *request.Tree // fields, parameters or values, by name; nil for none
	When    *rule.Condition
	Wait    *Waiting // asks again until something is so; nil for once
	Undo    *Step    // takes back what the step did, at the end of the row
	Each    *Each    // once for each item; nil for once
	Skip    string   // why the step is left out; "" where it is not
	Soft    bool     // checks that fail are told, and the step passes
	Once    bool     // before or after the rows: of several machines that share a run, the first alone runs it
	Tags    []string // by which steps are chosen
	Stop    string   // row or sheet: what ends where the step fails
	Again   *Again   // tries again where it goes wrong; nil for never
	Keep    []Keep
	Expect  Expect
	Fields  []FieldRule
	Where   []Condition

	At     *yamlfile.Node
	SiteAt *yamlfile.Node
	FillAt *yamlfile.Node
	Uses   []mapping.Use

	from origin // of the steps that it may hold
}

// HasTag says whether the sheet, or one of its steps, has one of the tags.
func (s *Sheet) HasTag(tags []string) bool {
	return HasTag(s.Tags, tags) || slices.ContainsFunc(s.AllSteps(), func(step *Step) bool { return step.HasTag(tags) })
}

// AllTags are the tags of the step and of those within it.
func (s *Step) AllTags() []string {
	tags := slices.Clone(s.Tags)
	steps, _ := s.Inner()
	for _, inner := range steps {
		tags = append(tags, inner.AllTags()...)
	}
	return tags
}

// HasTag says whether the step, or one within it, has one of the tags.
func (s *Step) HasTag(tags []string) bool {
	steps, _ := s.Inner()
	return HasTag(s.Tags, tags) || slices.ContainsFunc(steps, func(inner *Step) bool { return inner.HasTag(tags) })
}

// HasTag says whether one of two lists of tags is in the other.
func HasTag(has, tags []string) bool {
	return slices.ContainsFunc(has, func(tag string) bool { return slices.Contains(tags, tag) })
}

// Message is what a step says of the message that it sends, beside where that goes.
type Message struct {
	Login *LoginChoice // nil: the service's own
	SOAP  soap.Version
	Port  string // of a WSDL; empty is that of the service
	// Addressing is true or false where the step says whether WS-Addressing blocks go
	// with it, else empty.
	Addressing string
	Addressed  request.Addressed
	// Contract says what is checked against it: both, request, answer, off; empty is both.
	Contract   string
	Unchecked  bool // what is wrong with its fields is sent all the same, for those who mean to
	SOAPAction *value.Template
	Spec       request.Spec // headers, query, body and so on, as the step adds them
	Stay       bool         // redirects: off
	Pages      int          // how many pages are read and put together; 0 and 1 read one
	Names      map[string]string
	HTTP       string
	Timeout    time.Duration // of each exchange; 0 is the service's, or the site's
	Contents   []string      // the keys of a body that were given
	TextFile   string
	BytesFile  string // of a command line
	textAt     *yamlfile.Node
}

// Action is what a step does: a call, a pause. Each kind of step is one.
type Action interface {
	// Target names what is done, as results show it: stores/search, pause.
	Target() string
	// Check reports what only the whole step can tell. It says no where the step cannot be
	// carried out or vetted as it is.
	Check(r *mapping.Reader, s *Step) bool
	// Inner are the steps within it, and the sheet that it runs; nil for none.
	Inner() ([]*Step, *Sheet)
	// Sets are the names that it keeps by itself, beside what the step keeps of an answer.
	Sets() []string
	// Asks are the placeholders that are filled in before anything is done, and the
	// conditions that are calculated then, beside those of the step.
	Asks() ([]*value.Placeholder, []*rule.Condition)
}

// Simple is an action that holds no steps, keeps no names and asks for none. Kinds embed it
// and say what is otherwise.
type Simple struct{}

// Check finds nothing wrong.
func (Simple) Check(*mapping.Reader, *Step) bool { return true }

// Inner gives no steps and no sheet.
func (Simple) Inner() ([]*Step, *Sheet) { return nil, nil }

// Sets gives no names.
func (Simple) Sets() []string { return nil }

// Asks gives neither placeholders nor conditions.
func (Simple) Asks() ([]*value.Placeholder, []*rule.Condition) { return nil, nil }

// Target names what the step does, as results show it; "" for one that does nothing.
func (s *Step) Target() string {
	if s.Action == nil {
		return ""
	}
	return s.Action.Target()
}

// Inner are the steps within the step, and the sheet that it runs; nil for none.
func (s *Step) Inner() ([]*Step, *Sheet) {
	if s.Action == nil {
		return nil, nil
	}
	return s.Action.Inner()
}

// KeptNames lists what the step keeps, sets and calculates, and what the steps within it do.
func (s *Step) KeptNames() []string {
	var names []string
	if s.Action != nil {
		names = s.Action.Sets()
	}
	for _, k := range s.Keep {
		names = append(names, k.Name)
	}
	inner, _ := s.Inner()
	for _, one := range inner {
		names = append(names, one.KeptNames()...)
	}
	return names
}

// FillFields are the fields that a step fills in; those of a list are called by their place in it, from 0.
func (s *Step) FillFields() []request.Field {
	if s.Fill == nil {
		return nil
	}
	fields := slices.Clone(s.Fill.Fields)
	for i, item := range s.Fill.Items {
		fields = append(fields, request.Field{Name: strconv.Itoa(i), Value: item})
	}
	return fields
}

// Placeholders lists those that the request is made of, or what else is done.
func (s *Step) Placeholders() []*value.Placeholder {
	placeholders := append(s.Spec.Placeholders(), s.Fill.Placeholders()...)
	if s.SOAPAction != nil {
		placeholders = append(placeholders, s.SOAPAction.Placeholders()...)
	}
	if s.Addressing != "" {
		placeholders = append(placeholders, s.Addressed.Placeholders()...)
	}
	if s.Action == nil {
		return placeholders
	}
	asked, _ := s.Action.Asks()
	return append(placeholders, asked...)
}

// Conditions are those of the step by which it is begun or judged.
func (s *Step) Conditions() []*rule.Condition {
	var conditions []*rule.Condition
	if s.When != nil {
		conditions = append(conditions, s.When)
	}
	if s.Action != nil {
		_, asked := s.Action.Asks()
		conditions = append(conditions, asked...)
	}
	for _, c := range s.Where {
		conditions = append(conditions, c.Condition)
	}
	return conditions
}

// LoginChoice is what a step says about logins.
type LoginChoice struct {
	Names []string // empty: none
	Spoil string   // how, where the login is spoilt
	At    *yamlfile.Node
}

// Condition is one with its place in the file.
type Condition struct {
	*rule.Condition
	At *yamlfile.Node
}

// Keep says which part of an answer is kept under which name.
type Keep struct {
	Name    string
	Source  string
	Path    *path.Path
	Filters *value.Template // ${it | filters}; nil without filters
	Default bool            // one of them is default
	Secret  bool
}

// FieldRule is a path with the rule that holds for it.
type FieldRule struct {
	Source string
	Path   *path.Path
	Rule   *rule.Rule
}
