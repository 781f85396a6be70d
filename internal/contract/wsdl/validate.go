package wsdl

import (
	"bytes"
	"fmt"
	"io"
	"slices"

	"testbench/internal/soap"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd"
)

// Verdict says what a message turned out to be.
type Verdict struct {
	Version   soap.Version
	Operation *Operation // nil where the payload belongs to none
	Answer    bool
	Fault     bool
	Faults    int
}

// String says in words what the message is.
func (v *Verdict) String() string {
	what := "an envelope of SOAP " + string(v.Version)
	if v.Version == "" {
		what = "no envelope"
	}
	switch {
	case v.Fault:
		return what + " with a fault"
	case v.Operation != nil && v.Version == "" && v.Answer:
		return "the payload of the answer of " + v.Operation.Name + ", without an envelope"
	case v.Operation != nil && v.Version == "":
		return "the payload of the request of " + v.Operation.Name + ", without an envelope"
	case v.Operation != nil && v.Answer:
		return what + " with the answer of " + v.Operation.Name
	case v.Operation != nil:
		return what + " with the request of " + v.Operation.Name
	}
	return what
}

// Judge holds a whole envelope against the contract, in one pass. Which
// message it is, its payload tells; of operations that share a name, the one that it fits best. An error is one of
// reading.
func (c *Contract) Judge(in io.Reader, report func(xsd.Fault)) (*Verdict, error) {
	overloaded := c.overloaded()
	if len(overloaded) == 0 {
		return c.ValidateOf(nil, in, report)
	}
	data, err := io.ReadAll(in)
	if err != nil {
		return &Verdict{}, err
	}
	var best *Verdict
	var faults []xsd.Fault
	for _, op := range overloaded {
		var found []xsd.Fault
		v, err := c.ValidateOf(op, bytes.NewReader(data), func(f xsd.Fault) { found = append(found, f) })
		if err != nil {
			return v, err
		}
		if best == nil || v.Faults < best.Faults {
			best, faults = v, found
		}
	}
	for _, f := range faults {
		report(f)
	}
	return best, nil
}

// ValidateOf holds an envelope against the contract as a message of an operation, as far as its payload has the name
// of one of that; nil leaves open which it is.
func (c *Contract) ValidateOf(op *Operation, in io.Reader, report func(xsd.Fault)) (*Verdict, error) {
	r := xmlstream.NewReader(in, xmlstream.Options{})
	v := &Verdict{}
	e := &envelopeReader{contract: c, of: op, reader: r, verdict: v, report: func(f xsd.Fault) {
		v.Faults++
		report(f)
	}}
	return v, e.read()
}

// overloaded lists the operations of which another in the same binding has a payload of the same name that is declared
// otherwise.
func (c *Contract) overloaded() []*Operation {
	var all []*Operation
	for _, b := range c.inUse() {
		declared := map[xsd.Name]*xsd.Element{} // nil where in two ways
		for _, o := range b.Operations {
			if payload := o.Input.Wrapper(); payload != nil {
				if before, met := declared[payload.Name]; met && before != payload {
					payload = nil
				}
				declared[o.Input.Wrapper().Name] = payload
			}
		}
		for _, o := range b.Operations {
			if payload := o.Input.Wrapper(); payload != nil && declared[payload.Name] == nil {
				all = append(all, o)
			}
		}
	}
	return all
}

type envelopeReader struct {
	of       *Operation // of which the message is, where that is known
	payloads []xsd.Name // those that were met, where an operation has them in this order
	contract *Contract
	reader   *xmlstream.Reader
	verdict  *Verdict
	report   func(xsd.Fault)
	headed   bool
	bodied   bool
}

func (e *envelopeReader) fault(format string, args ...any) {
	at := e.reader.Position()
	e.report(xsd.Fault{Line: at.Line, Column: at.Column, Offset: at.Offset, Message: fmt.Sprintf(format, args...)})
}

func (e *envelopeReader) read() error {
	for {
		kind, err := e.reader.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if kind != xmlstream.Start {
			continue
		}
		name := e.reader.Name()
		switch {
		case e.reader.Depth() == 1:
			if err := e.root(name); err != nil {
				return err
			}
		case e.reader.Depth() == 2 && name.Space == e.verdict.Version.Namespace() && name.Local == "Header" &&
			!e.headed && !e.bodied:
			e.headed = true
			err = e.inside(e.block)
		case e.reader.Depth() == 2 && name.Space == e.verdict.Version.Namespace() && name.Local == "Body" && !e.bodied:
			e.bodied = true
			err = e.inside(e.payload)
			e.checkEmpty()
		case e.reader.Depth() == 2:
			e.fault("%s is not allowed there: an envelope holds a Header and a Body", name.Local)
			err = e.skip()
		}
		if err != nil {
			return err
		}
	}
}

func (e *envelopeReader) root(name xmlstream.Name) error {
	switch {
	case name.Local == "Envelope" && name.Space == soap.Namespace11:
		e.verdict.Version = soap.V11
	case name.Local == "Envelope" && name.Space == soap.Namespace12:
		e.verdict.Version = soap.V12
	case name.Local == "Envelope":
		return fmt.Errorf("the namespace %q of the envelope is that of no version of SOAP", name.Space)
	default:
		// A bare payload is checked against the schema, which is what was meant.
		decl := e.contract.Schema.Element(name.Space, name.Local)
		e.verdict.Operation, e.verdict.Answer, _ = e.contract.ByPayload(name.Space, name.Local)
		if expected := e.expected(); expected != nil {
			decl = expected
		}
		if decl == nil {
			e.fault("<%s> is not an envelope, and no element of the contract either", name)
			return e.skip()
		}
		return e.validator().Element(e.reader, decl)
	}
	spoken := false
	for _, b := range e.contract.inUse() {
		spoken = spoken || b.Protocol.Version() == e.verdict.Version
	}
	if !spoken {
		e.fault("the envelope is SOAP %s, which no port of the contract speaks", e.verdict.Version)
	}
	return nil
}

func (e *envelopeReader) validator() *xsd.Validator {
	v := xsd.NewValidator(e.contract.Schema)
	v.Report = e.report
	v.Ignore = map[string]bool{soap.Namespace11: true, soap.Namespace12: true, soap.Encoding11: true}
	return v
}

// inside calls visit at each child of the element that was started.
func (e *envelopeReader) inside(visit func() error) error {
	depth := e.reader.Depth()
	for {
		kind, err := e.reader.Next()
		if err != nil {
			return err
		}
		switch {
		case kind == xmlstream.End && e.reader.Depth() == depth:
			return nil
		case kind == xmlstream.Text && !xmlstream.IsBlank(e.reader.Text()):
			e.fault("text is not allowed there")
		case kind == xmlstream.Start:
			if err := visit(); err != nil {
				return err
			}
		}
	}
}

// skip passes over the element that was started, whatever it holds.
func (e *envelopeReader) skip() error {
	for depth := e.reader.Depth(); ; {
		kind, err := e.reader.Next()
		if err != nil || kind == xmlstream.End && e.reader.Depth() == depth {
			return err
		}
	}
}

// block validates a header block that the schema knows.
func (e *envelopeReader) block() error {
	name := e.reader.Name()
	if decl := e.contract.Schema.Element(name.Space, name.Local); decl != nil {
		return e.validator().Element(e.reader, decl)
	}
	return e.skip()
}

func (e *envelopeReader) payload() error {
	name := e.reader.Name()
	if name.Local == "Fault" && (name.Space == soap.Namespace11 || name.Space == soap.Namespace12) {
		e.verdict.Fault = true
		return e.detail()
	}
	// Of operations that begin alike the one that goes on in this way is meant.
	before := append(slices.Clone(e.payloads), xsd.Name{Space: name.Space, Local: name.Local})
	o, answer, found := e.contract.byPayloads(before)
	if own, isAnswer, isOwn := e.of.with(before[len(before)-1]); isOwn && len(before) == 1 {
		o, answer, found = own, isAnswer, true
	}
	if found {
		e.payloads = before
	} else {
		before = nil
		o, answer, found = e.contract.ByPayload(name.Space, name.Local)
	}
	if !found {
		e.fault("%s is the payload of no operation of the contract",
			xsd.Name{Space: name.Space, Local: name.Local}.Full())
		if decl := e.contract.Schema.Element(name.Space, name.Local); decl != nil {
			return e.validator().Element(e.reader, decl)
		}
		return e.skip()
	}
	e.verdict.Operation, e.verdict.Answer = o, answer
	v := e.validator()
	v.Encoded = answer && o.Output.Encoded || !answer && o.Input.Encoded
	if len(before) > 1 {
		message := o.Input
		if answer {
			message = o.Output
		}
		return v.Element(e.reader, message.Payload[len(before)-1])
	}
	return v.Element(e.reader, e.expected())
}

// expected is the declaration of the payload that was found.
func (e *envelopeReader) expected() *xsd.Element {
	switch {
	case e.verdict.Operation == nil:
		return nil
	case e.verdict.Answer:
		return e.verdict.Operation.Output.Wrapper()
	}
	return e.verdict.Operation.Input.Wrapper()
}

// detail validates what a fault carries, where the schema knows it.
func (e *envelopeReader) detail() error {
	return e.inside(func() error {
		if local := e.reader.Name().Local; local != "detail" && local != "Detail" {
			return e.skip()
		}
		return e.inside(e.block)
	})
}

// checkEmpty tells of an empty Body that no operation asks for.
func (e *envelopeReader) checkEmpty() {
	if e.verdict.Operation != nil || e.verdict.Fault || e.verdict.Faults > 0 {
		return
	}
	for _, b := range e.contract.inUse() {
		for _, o := range b.Operations {
			if o.Input != nil && o.Input.Wrapper() == nil || o.Output != nil && o.Output.Wrapper() == nil {
				return
			}
		}
	}
	e.fault("the Body is empty, and every message of the contract has a payload")
}
