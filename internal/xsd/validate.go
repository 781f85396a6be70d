package xsd

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"testbench/internal/document"
	"testbench/internal/xmlstream"
)

// Fault is one place where an instance breaks its schema.
type Fault struct {
	Line, Column int
	Offset       int64
	Path         string // as paths of answers are written, without the root
	Message      string
}

// Text is the message with the path before it, unless it begins with that itself.
func (f Fault) Text() string {
	if f.Path == "" || strings.HasPrefix(f.Message, f.Path+" ") {
		return f.Message
	}
	return f.Path + ": " + f.Message
}

func (f Fault) String() string {
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Text())
}

// place is where something stands in an instance.
type place struct {
	line, column int
	offset       int64
}

// Validator holds one instance, or a part of one, against a schema in one
// pass. Its memory grows with the depth of the instance, and with the values of
// keys and IDs, but not with its size.
type Validator struct {
	// Report is told of each fault, in the order in which they are met.
	Report func(Fault)
	// Ignore are namespaces whose attributes are passed over wherever they
	// stand, as those of an envelope's encoding.
	Ignore map[string]bool
	// Encoded says that values are written by SOAP 1.1, section 5, where an array
	// may call itself just that.
	Encoded bool

	schema *Schema
	frames []frame
	names  []Name // of the open elements
	where  func() place
	lookup scope
	scopes []*keyScope
	ids    map[string]bool
	idrefs []keyRef
	faults int
	text   []byte
}

type frame struct {
	decl    *Element
	typ     Type
	model   *model
	state   state
	simple  *SimpleType // what the text is a value of
	mode    frameMode
	isNil   bool
	ignored bool  // an unknown element: what is in it is not judged
	text    int   // where its text begins in the validator's
	at      place // of the start tag, where the text is judged at the end
	hasText bool
	last    Name // of the child before
	repeat  int  // how many of that name in a row
	many    bool // the last may occur several times
	keys    []*keyScope
	tables  map[*Constraint]map[string]string // keys that elements inside declared
}

type frameMode uint8

const (
	validated frameMode = iota
	laxly               // without a declaration: children are validated where they have one
	skipped
)

// maxText bounds the text of one simple value.
const maxText = 256 << 20

// NewValidator returns a Validator. Schema may not be nil.
func NewValidator(schema *Schema) *Validator {
	return &Validator{schema: schema, ids: map[string]bool{}}
}

// ErrNotDeclared says that the schema knows nothing of the root element.
var ErrNotDeclared = errors.New("not declared")

// Validate reads a whole document and validates it. The faults go to Report; the
// error is one of reading.
func (v *Validator) Validate(in io.Reader, charset string) error {
	r := xmlstream.NewReader(in, xmlstream.Options{Charset: charset})
	return v.Stream(r)
}

// Stream validates what a reader still has to give.
func (v *Validator) Stream(r *xmlstream.Reader) error {
	v.where = func() place {
		at := r.Position()
		return place{at.Line, at.Column, at.Offset}
	}
	v.lookup = r
	for {
		kind, err := r.Next()
		if err == io.EOF {
			v.Finish()
			return nil
		}
		if err != nil {
			return err
		}
		v.token(r, kind)
	}
}

func (v *Validator) token(r *xmlstream.Reader, kind xmlstream.Kind) {
	switch kind {
	case xmlstream.Start:
		name := r.Name()
		v.start(Name{name.Space, name.Local}, nil, attributesOf{stream: r.Attrs(), reader: r})
	case xmlstream.End:
		v.end()
	case xmlstream.Text:
		v.characters(r.Text())
	}
}

// Element validates an element that is open in the reader, as the payload
// of an envelope, to its end. The declaration is the one that the surroundings
// ask for; nil looks for a global one.
func (v *Validator) Element(r *xmlstream.Reader, decl *Element) error {
	v.where = func() place {
		at := r.Position()
		return place{at.Line, at.Column, at.Offset}
	}
	v.lookup = r
	name := r.Name()
	v.start(Name{name.Space, name.Local}, decl, attributesOf{stream: r.Attrs(), reader: r})
	for len(v.frames) > 0 {
		kind, err := r.Next()
		if err != nil {
			return err
		}
		v.token(r, kind)
	}
	v.Finish()
	return nil
}

// Tree validates an element of a tree; the prefixes are those declared outside.
func (v *Validator) Tree(root *document.Node, decl *Element, prefixes map[string]string) {
	v.node(root, decl, &nodeScope{prefixes: prefixes})
	v.Finish()
}

func (v *Validator) node(n *document.Node, decl *Element, outer *nodeScope) {
	names := outer.inner(n)
	enter := func() {
		v.where = func() place { return place{line: int(n.Line), column: int(n.Column)} }
		v.lookup = names
	}
	enter()
	v.start(Name{n.Name.Space, n.Name.Local}, decl, attributesOf{tree: n})
	for _, item := range n.Items {
		switch item.Kind {
		case document.Element:
			v.node(item, nil, names)
			enter()
		case document.Comment, document.Instruction:
		default:
			v.characters([]byte(item.Text))
		}
	}
	v.end()
}

// attributesOf reads the attributes of a token or of a tree in one way.
type attributesOf struct {
	stream []xmlstream.Attr
	reader *xmlstream.Reader
	tree   *document.Node
}

func (a attributesOf) len() int {
	if a.tree != nil {
		return len(a.tree.Attributes)
	}
	return len(a.stream)
}

func (a attributesOf) at(i int) (name Name, value string, declares bool) {
	if a.tree != nil {
		attr := &a.tree.Attributes[i]
		return Name{attr.Name.Space, attr.Name.Local}, attr.Value, attr.IsDeclaration()
	}
	attr := &a.stream[i]
	if attr.IsDeclaration() {
		return Name{}, "", true
	}
	return Name{attr.Name.Space, attr.Name.Local}, string(attr.Value), false
}

// name is like at without the value, which would have to be copied.
func (a attributesOf) name(i int) (name Name, declares bool) {
	if a.tree != nil {
		attr := &a.tree.Attributes[i]
		return Name{attr.Name.Space, attr.Name.Local}, attr.IsDeclaration()
	}
	attr := &a.stream[i]
	return Name{attr.Name.Space, attr.Name.Local}, attr.IsDeclaration()
}

func (a attributesOf) text(i int) string {
	_, text, _ := a.at(i)
	return text
}

// instance finds xsi:type and xsi:nil; empty where they are not.
func (a attributesOf) instance() (typ, isNil string) {
	for i := range a.len() {
		if a.tree == nil && a.stream[i].Name.Space != InstanceNamespace {
			continue
		}
		name, value, declares := a.at(i)
		if declares || name.Space != InstanceNamespace {
			continue
		}
		switch name.Local {
		case "type":
			typ = strings.TrimSpace(value)
		case "nil":
			isNil = strings.TrimSpace(value)
			if isNil == "" {
				isNil = " "
			}
		}
	}
	return typ, isNil
}

// placeOf is where an attribute stands; of a tree, its element.
func (v *Validator) placeOf(a attributesOf, i int) place {
	if a.reader == nil {
		return v.where()
	}
	at := a.reader.At(a.stream[i].Offset)
	return place{at.Line, at.Column, at.Offset}
}

func (v *Validator) fault(format string, args ...any) {
	v.faultAt(v.where(), v.path(), format, args...)
}

func (v *Validator) faultAt(at place, path, format string, args ...any) {
	v.faults++
	if v.Report != nil {
		v.Report(Fault{Line: at.line, Column: at.column, Offset: at.offset, Path: path, Message: fmt.Sprintf(format, args...)})
	}
}

// Faults is how many were found so far.
func (v *Validator) Faults() int { return v.faults }

// path leads to the innermost open element, with an index where there are many.
func (v *Validator) path() string {
	if len(v.names) == 1 {
		return v.names[0].Local
	}
	var out strings.Builder
	for i, name := range v.names[1:] {
		if i > 0 {
			out.WriteByte('.')
		}
		out.WriteString(name.Local)
		if parent := &v.frames[i]; parent.many || parent.repeat > 1 {
			fmt.Fprintf(&out, "[%d]", parent.repeat-1)
		}
	}
	return out.String()
}

// start begins an element: finds its declaration and type, and checks its attributes.
func (v *Validator) start(name Name, decl *Element, attrs attributesOf) {
	known := decl != nil
	process := Strict
	wild := false
	v.frames = append(v.frames, frame{text: len(v.text)})
	f := &v.frames[len(v.frames)-1]
	if len(v.frames) > 1 {
		parent := &v.frames[len(v.frames)-2]
		if parent.last == name {
			parent.repeat++
		} else {
			parent.last, parent.repeat, parent.many = name, 1, false
		}
		v.names = append(v.names, name)
		switch {
		case parent.mode == skipped || parent.ignored:
			f.mode, f.ignored = skipped, parent.ignored
			return
		case parent.mode == laxly:
			decl, process, wild = v.schema.Elements[name], Lax, true
		default:
			decl, process, wild = v.child(parent, name)
			if decl == nil && !wild {
				f.mode, f.ignored = skipped, true
				return
			}
		}
		known = decl != nil
	} else {
		v.names = append(v.names, name)
		if !known {
			decl = v.schema.Elements[name]
			known = decl != nil
		}
	}
	if wild {
		switch {
		case process == Skip:
			f.mode = skipped
			return
		case !known:
			decl = v.schema.Elements[name]
			known = decl != nil
		}
		if !known && process == Strict {
			v.fault("%s is not declared, and must be", name.Local)
		}
	}
	v.open(f, name, decl, attrs, wild && process == Lax)
}

// open enters an element whose declaration, if any, is found.
func (v *Validator) open(f *frame, name Name, decl *Element, attrs attributesOf, lax bool) {
	f.decl = decl
	if decl != nil {
		f.typ = decl.Type
		if decl.Abstract {
			v.fault("%s is abstract: one of its substitutes must stand there%s", name.Local, behind(", ", v.schema.substituteNames(decl)))
		}
	}
	named, nilText := attrs.instance()
	if named != "" {
		v.instanceType(f, named)
	}
	if f.typ == nil {
		if len(v.frames) == 1 {
			v.fault("%s", v.undeclaredRoot(name))
			f.mode, f.ignored = skipped, true
			return
		}
		f.mode = laxly
		return
	}
	if c, ok := f.typ.(*ComplexType); ok && c.Abstract {
		v.fault("the type %s is abstract: xsi:type must name one derived from it%s", nameOr(c.Name, "of "+name.Local), behind(", ", v.schema.derivedNames(c)))
	}
	if nilText != "" {
		v.instanceNil(f, nilText)
	}
	switch t := f.typ.(type) {
	case *SimpleType:
		f.simple = t
		v.simpleAttributes(name, attrs)
	case *ComplexType:
		v.attributes(t, attrs)
		switch t.Content {
		case SimpleContent:
			f.simple = t.Simple
		case ElementContent, MixedContent:
			f.model = v.schema.model(t)
		case EmptyContent:
			f.model = v.schema.model(t)
		}
	}
	if f.simple != nil {
		f.at = v.where()
	}
	v.findTargets(attrs)
	if decl != nil && len(decl.Constraints) > 0 {
		v.beginKeys(decl, attrs)
	}
}

func (v *Validator) undeclaredRoot(name Name) string {
	var same, all []string
	for declared := range v.schema.Elements {
		if declared.Local == name.Local {
			same = append(same, declared.Full())
		}
		all = append(all, declared.Local)
	}
	if len(same) > 0 {
		return fmt.Sprintf("%s is not declared; %s is", name.Full(), strings.Join(same, ", "))
	}
	return fmt.Sprintf("%s is not declared%s", name.Full(), nearestName(name.Local, all))
}

// child finds what a parent's content model makes of a child.
func (v *Validator) child(parent *frame, name Name) (decl *Element, process Process, wild bool) {
	if parent.isNil {
		v.fault("%s is nil and must be empty", v.names[len(v.names)-2].Local)
		return nil, 0, false
	}
	if parent.model == nil {
		v.fault("%s cannot stand in %s, which holds %s", name.Local, v.names[len(v.names)-2].Local, parent.simple.Words())
		return nil, 0, false
	}
	before := parent.state
	taken, decl, ok := v.schema.step(parent.model, &parent.state, name)
	if !ok {
		expected := parent.model.expected(&before)
		message := v.unexpected(parent, name, expected)
		if taken, decl, ok = v.schema.jump(parent.model, &parent.state, name); !ok {
			message += v.otherNamespace(parent, name)
		}
		v.fault("%s", message)
		if !ok {
			return nil, 0, false
		}
	}
	if taken.wildcard != nil {
		return nil, taken.wildcard.Process, true
	}
	parent.many = taken.origin.Max > 1 || taken.origin.Max == Unbounded
	return decl, Strict, false
}

// unexpected says what should stand in place of a child.
func (v *Validator) unexpected(parent *frame, name Name, expected []string) string {
	after := ""
	if parent.state.begun && len(v.names) > 1 {
		after = "after " + v.before(parent) + ": "
	}
	switch {
	case len(expected) == 0 && !parent.state.begun:
		return fmt.Sprintf("%s must be empty, found %s", v.names[len(v.names)-2].Local, name.Local)
	case len(expected) == 0:
		return fmt.Sprintf("%sthe end of %s expected, found %s", after, v.names[len(v.names)-2].Local, name.Local)
	case parent.model.mayEnd(&parent.state):
		return fmt.Sprintf("%s%s or the end of %s expected, found %s", after, strings.Join(cut(expected, 8), ", "), v.names[len(v.names)-2].Local, name.Local)
	}
	return fmt.Sprintf("%s%s expected, found %s", after, inWords(expected, 8), name.Local)
}

func cut(words []string, most int) []string {
	if len(words) > most {
		return append(append([]string(nil), words[:most]...), "…")
	}
	return words
}

// before names the last child that the model took.
func (v *Validator) before(parent *frame) string {
	m, st := parent.model, &parent.state
	switch {
	case m.all != nil:
		return "what is there"
	case m.several && len(st.configs) > 0:
		return wordOf(&m.positions[st.configs[0].at])
	}
	return wordOf(&m.positions[st.at])
}

func wordOf(p *position) string {
	if p.element != nil {
		return p.element.Name.Local
	}
	return "the elements before"
}

// otherNamespace tells of a name that would do in another namespace.
func (v *Validator) otherNamespace(parent *frame, name Name) string {
	var names []string
	for i := range parent.model.positions {
		if e := parent.model.positions[i].element; e != nil {
			if e.Name.Local == name.Local && e.Name.Space != name.Space {
				return fmt.Sprintf(" in the namespace %q; it belongs in %q", name.Space, e.Name.Space)
			}
			names = append(names, e.Name.Local)
		}
	}
	return nearestName(name.Local, names)
}

// instanceType takes the type that xsi:type names (Part 1, 3.3.4).
func (v *Validator) instanceType(f *frame, text string) {
	prefix, local, qualified := strings.Cut(text, ":")
	if !qualified {
		prefix, local = "", text
	}
	space, known := v.lookup.Lookup(prefix)
	if !known {
		v.fault("xsi:type is %q, whose prefix is not declared", text)
		return
	}
	named := v.schema.typeOf(Name{today(space), local})
	switch {
	case named == nil:
		v.fault("xsi:type names the type %s, which is not declared", Name{space, local}.Full())
	case v.Encoded && isArrayOf(f.typ) && derivedFrom(f.typ, named, 0):
	case f.typ != nil && !derivedFrom(named, f.typ, blockFor(f)):
		why := "is not derived from"
		if derivedFrom(named, f.typ, 0) {
			why = "may not stand in place of"
		}
		v.fault("the type %s that xsi:type names %s %s", local, why, nameOr(f.typ.TypeName(), "the declared type"))
	default:
		f.typ = named
	}
}

func isArrayOf(t Type) bool {
	c, ok := t.(*ComplexType)
	return ok && c.ArrayOf != nil
}

func blockFor(f *frame) derivation {
	block := blockOf(f.typ)
	if f.decl != nil {
		block |= f.decl.block &^ bySubstitution
	}
	return block
}

// typeOf finds a type by name, built-in ones too.
func (s *Schema) typeOf(name Name) Type {
	if t := s.Types[name]; t != nil {
		return t
	}
	if name.Space == Namespace {
		return builtinNamed(name.Local)
	}
	return nil
}

// Type finds a type by name, built-in ones too; nil when there is none.
func (s *Schema) Type(name Name) Type { return s.typeOf(name) }

func (v *Validator) instanceNil(f *frame, text string) {
	switch {
	case text != "true" && text != "1" && text != "false" && text != "0":
		v.fault("xsi:nil is %q; it can be true or false", text)
	case f.decl == nil:
	case !f.decl.Nillable:
		v.fault("%s cannot be nil", f.decl.Name.Local)
	case text == "true" || text == "1":
		f.isNil = true
		if f.decl.Fixed != nil {
			v.fault("%s has the fixed value %s and cannot be nil", f.decl.Name.Local, short(*f.decl.Fixed))
		}
	}
}

// Content.

func (v *Validator) characters(text []byte) {
	if len(v.frames) == 0 || len(text) == 0 {
		return
	}
	f := &v.frames[len(v.frames)-1]
	switch {
	case f.mode != validated:
		return
	case f.isNil:
		v.fault("%s is nil and must be empty", v.names[len(v.names)-1].Local)
		return
	case f.simple != nil:
		if len(v.text)-f.text+len(text) > maxText {
			return
		}
		v.text = append(v.text, text...)
		return
	}
	if c, ok := f.typ.(*ComplexType); ok && c.Content == MixedContent {
		f.hasText = f.hasText || len(text) > 0
		if f.decl != nil && (f.decl.Fixed != nil || f.decl.Default != nil) {
			v.text = append(v.text, text...)
		}
		return
	}
	if !xmlstream.IsBlank(text) && !f.hasText {
		f.hasText = true
		v.fault("%s holds elements, but here is the text %s", v.names[len(v.names)-1].Local, short(strings.TrimSpace(string(text))))
	}
}

func (v *Validator) end() {
	f := &v.frames[len(v.frames)-1]
	value, text := Value{}, ""
	hasValue := false
	if f.mode == validated {
		switch {
		case f.isNil:
		case f.simple != nil:
			value, text, hasValue = v.simpleValue(f)
		case f.model != nil && !f.model.mayEnd(&f.state):
			v.incomplete(f)
		}
		if f.model != nil && f.decl != nil && f.decl.Fixed != nil && f.state.begun {
			v.fault("%s has a fixed value and cannot hold elements", f.decl.Name.Local)
		} else if f.model != nil && f.decl != nil && f.decl.Fixed != nil && f.hasText && string(v.text[f.text:]) != *f.decl.Fixed {
			v.fault("%s must be %s", short(string(v.text[f.text:])), short(*f.decl.Fixed))
		}
	}
	if len(v.scopes) > 0 || f.tables != nil {
		v.endKeys(f, value, text, hasValue)
	}
	v.text = v.text[:f.text]
	v.names = v.names[:len(v.names)-1]
	v.frames = v.frames[:len(v.frames)-1]
}

// incomplete says what is missing at the end of an element.
func (v *Validator) incomplete(f *frame) {
	name := v.names[len(v.names)-1].Local
	expected := f.model.expected(&f.state)
	if m := f.model; m.all != nil {
		expected = nil
		for i, p := range m.all {
			if p.Min > 0 && (f.state.seen == nil || !f.state.seen[i]) {
				expected = append(expected, p.Term.(*Element).Name.Local)
			}
		}
		v.fault("%s is not complete: %s missing", name, inWords(expected, 8))
		return
	}
	switch {
	case !f.state.begun && len(expected) > 0:
		v.fault("%s is empty: %s expected", name, inWords(expected, 8))
	case len(expected) == 0:
		v.fault("%s is not complete", name)
	default:
		v.fault("%s is not complete: after %s, %s expected", name, v.before(f), inWords(expected, 8))
	}
}

// simpleValue checks an element's text as a value of its type.
func (v *Validator) simpleValue(f *frame) (Value, string, bool) {
	plain := f.decl == nil || f.decl.Fixed == nil && f.decl.Default == nil
	if plain && len(v.scopes) == 0 && f.simple.surely(v.text[f.text:]) && !f.simple.mayIdentify() {
		return Value{}, "", false
	}
	text := string(v.text[f.text:])
	if text == "" && f.decl != nil {
		if f.decl.Fixed != nil {
			text = *f.decl.Fixed
		} else if f.decl.Default != nil {
			text = *f.decl.Default
		}
	}
	value, err := f.simple.parse(text, v.lookup)
	if err != nil {
		v.faultAt(f.at, v.path(), "%s", err)
		return Value{}, text, false
	}
	if f.decl != nil && f.decl.Fixed != nil {
		if wanted, err := f.simple.parse(*f.decl.Fixed, v.lookup); err == nil && !wanted.same(value) {
			v.faultAt(f.at, v.path(), "%s must be %s", short(text), short(*f.decl.Fixed))
		}
	}
	if f.simple.mayIdentify() {
		v.identifier(f.simple, f.simple.Normalize(text), v.where(), v.path())
	}
	return value, text, true
}

// Finish ends the instance: it checks that each IDREF has its ID.
func (v *Validator) Finish() {
	for _, ref := range v.idrefs {
		if !v.ids[ref.key] {
			v.faultAt(ref.at, ref.words, "no element has the ID %s that is referred to", ref.key)
		}
	}
	v.idrefs, v.ids = nil, map[string]bool{}
}

// SyntaxFault turns an error of reading into a fault, where it says that the
// instance is not well-formed.
func SyntaxFault(err error) (Fault, bool) {
	var syntax *xmlstream.Error
	if !errors.As(err, &syntax) {
		return Fault{}, false
	}
	return Fault{Line: syntax.Line, Column: syntax.Column, Offset: syntax.Offset, Message: "not well-formed XML: " + syntax.Message}, true
}
