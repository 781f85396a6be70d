package xsd

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/suggest"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd/datatype"
)

// Fault is one place where an instance breaks its schema.
type Fault = schema.Fault

// place is where something is in an instance.
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
	names  []Name       // of the open elements
	where  func() place // where what is judged is
	opened func() place // where the element that ends began
	lookup datatype.Namespaces
	scopes []*keyScope
	ids    map[string]bool
	idrefs []keyRef
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
	ignored bool // an unknown element: what is in it is not judged
	text    int  // where its text begins in the validator's
	hasText bool
	last    Name // of the child before
	repeat  int  // how many of that name in a row
	many    bool // the last may occur several times
	keys    []*keyScope
	tables  map[*Constraint]map[string]bool // keys that elements inside declared
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

// places takes places, and what prefixes stand for, from a reader.
func (v *Validator) places(r *xmlstream.Reader) {
	at := func(p xmlstream.Position) place { return place{p.Line, p.Column, p.Offset} }
	v.where = func() place { return at(r.Position()) }
	v.opened = func() place { return at(r.Opened()) }
	v.lookup = r
}

// Stream validates what a reader still has to give.
func (v *Validator) Stream(r *xmlstream.Reader) error {
	v.places(r)
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
	v.places(r)
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
		v.opened = v.where
		v.lookup = names
	}
	enter()
	v.start(Name{n.Name().Space, n.Name().Local}, decl, attributesOf{tree: n})
	for _, item := range n.Items() {
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
		return len(a.tree.Attributes())
	}
	return len(a.stream)
}

func (a attributesOf) at(i int) (name Name, value string, declares bool) {
	if a.tree != nil {
		attr := &a.tree.Attributes()[i]
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
		attr := &a.tree.Attributes()[i]
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
	if v.Report != nil {
		v.Report(Fault{
			Line: at.line, Column: at.column, Offset: at.offset, Path: path,
			Message: fmt.Sprintf(format, args...),
		})
	}
}

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
	v.frames = slices.Grow(v.frames, 1)[:len(v.frames)+1]
	f := &v.frames[len(v.frames)-1]
	*f = frame{text: len(v.text)}
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
			v.fault("%s is abstract: one of its substitutes is needed there%s", name.Local,
				suggest.After(", ", v.schema.SubstituteNames(decl)))
		}
	}
	named, nilText := "", ""
	if attrs.len() > 0 {
		named, nilText = attrs.instance()
	}
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
		v.fault("the type %s is abstract: xsi:type must name one derived from it%s", nameOr(c.Name, "of "+name.Local),
			suggest.After(", ", v.schema.DerivedNames(c)))
	}
	if nilText != "" {
		v.instanceNil(f, nilText)
	}
	switch t := f.typ.(type) {
	case *SimpleType:
		if f.simple = t; attrs.len() > 0 {
			v.simpleAttributes(name, attrs)
		}
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
	v.findTargets(attrs)
	if decl != nil && len(decl.Constraints) > 0 {
		v.beginKeys(decl, attrs)
	}
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
func ReportSyntax(err error, report func(Fault)) error {
	var syntax *xmlstream.Error
	if !errors.As(err, &syntax) {
		return err
	}
	report(Fault{
		Line: syntax.Line, Column: syntax.Column, Offset: syntax.Offset,
		Message: "not well-formed XML: " + syntax.Message,
	})
	return nil
}
