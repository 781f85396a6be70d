package wsdl

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/xmlstream"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// DraftOptions say how a draft is made.
type DraftOptions struct {
	Version  soap.Version     // "" takes that of the binding
	Required bool             // leave out what may be left out
	Answer   bool             // the answer in place of the request
	Overlay  contract.Overlay // what is said of the fields of a request beyond the contract
}

// Draft is the skeleton of a message, with values that are valid.
type Draft struct {
	Envelope *document.Node
	Payload  []*document.Node
	Remarks  map[*document.Node]string
	// Cut tells where the payload would have to go on without end.
	Cut []string
	// TooLarge says that the payload was cut at schema.MostParts.
	TooLarge bool

	samples []*document.Node // the payload before it was encoded
	headers []*document.Node // the header blocks
}

// sameRemarks lets what was made of a sample have its remarks.
func sameRemarks(sample *schema.Sample, from, to *document.Node) {
	if remark := sample.Remarks[from]; remark != "" {
		sample.Remarks[to] = remark
	}
	a, b := from.Children(), to.Children()
	for i := range min(len(a), len(b)) {
		sameRemarks(sample, a[i], b[i])
	}
}

// Draft makes the skeleton of a request.
func (c *Contract) Draft(b *Binding, o *Operation, options DraftOptions) (*Draft, error) {
	message := o.Input
	if options.Answer {
		message, options.Overlay = o.Output, nil
	}
	switch {
	case message == nil && options.Answer:
		return nil, fmt.Errorf("%s is not answered, so there is no answer to draft", o.Name)
	case message == nil:
		return nil, fmt.Errorf("%s has no request: the service sends it of its own", o.Name)
	}
	version := options.Version
	if version == "" {
		version = b.Protocol.Version()
	}
	plain := version == "" && b.Protocol.isPlain()
	switch {
	case version == "" && !plain:
		return nil, fmt.Errorf("%s is not called by SOAP or plain HTTP in the binding %s", o.Name, b.Name)
	case plain && len(message.Payload) == 0:
		return nil, fmt.Errorf("%s says nothing of what is in its body", o.Name)
	}
	d := &Draft{Remarks: map[*document.Node]string{}}
	for _, e := range message.Payload {
		sample := options.Overlay.Sample(schema.SampleOptions{Optional: !options.Required, Encoded: message.Encoded},
			func(o schema.SampleOptions) *schema.Sample {
				return instance.Sample(c.Schema, e, o)
			})
		if message.Encoded {
			// Values carry their types: they are filled in anew from the sample.
			filled, _ := instance.Fill(c.Schema, e, fieldsOf(sample.Root), instance.FillOptions{Encoded: true})
			sameRemarks(sample, sample.Root, filled)
			message.style(filled, version)
			d.samples = append(d.samples, sample.Root)
			sample.Root = filled
		} else {
			d.samples = append(d.samples, sample.Root)
		}
		nameTypes(sample.Root)
		d.Payload = append(d.Payload, sample.Root)
		d.Cut = append(d.Cut, sample.Cut...)
		d.TooLarge = d.TooLarge || sample.TooLarge
		for n, remark := range sample.Remarks {
			d.Remarks[n] = remark
		}
	}
	if plain {
		d.Envelope = d.Payload[0]
		document.Declare(d.Envelope)
		return d, nil
	}
	var blocks []*document.Node
	for _, h := range message.Headers {
		sample := instance.Sample(c.Schema, h.Element, schema.SampleOptions{Optional: !options.Required})
		nameTypes(sample.Root)
		blocks = append(blocks, sample.Root)
		for n, remark := range sample.Remarks {
			d.Remarks[n] = remark
		}
	}
	d.Envelope = soap.Envelope(version, blocks, d.Payload)
	if len(blocks) > 0 {
		// Envelope copies the blocks; their remarks go with them.
		d.headers = blocks
		for i, copied := range d.Envelope.Children()[0].Children() {
			d.Remarks[copied] = d.Remarks[blocks[i]]
			blocks[i] = copied
		}
	}
	for _, n := range append(blocks, d.Payload...) {
		document.Declare(n)
	}
	return d, nil
}

// draftElement makes an instance of a schema's element.
func draftElement(types *xsd.Schema, e *xsd.Element, required bool) *Draft {
	sample := instance.Sample(types, e, schema.SampleOptions{Optional: !required})
	nameTypes(sample.Root)
	document.Declare(sample.Root)
	return &Draft{
		Envelope: sample.Root, Payload: []*document.Node{sample.Root}, samples: []*document.Node{sample.Root},
		Remarks: sample.Remarks, Cut: sample.Cut,
	}
}

// nameTypes gives xsi:type, which a sample holds with the whole namespace, a prefix.
func nameTypes(n *document.Node) {
	for i := range n.Attributes() {
		a := &n.Attributes()[i]
		if a.Name.Space != xsd.InstanceNamespace || a.Name.Local != "type" || !strings.HasPrefix(a.Value, "{") {
			continue
		}
		space, local, _ := strings.Cut(a.Value[1:], "}")
		a.Value = local
		if space != "" {
			a.Value = "t:" + local
			n.AppendAttributes(document.Attribute{Name: document.Name{
				Space: xmlstream.XMLNSSpace, Prefix: "xmlns",
				Local: "t",
			}, Value: space})
		}
	}
	for _, child := range n.Children() {
		nameTypes(child)
	}
}

// XML writes the draft with its remarks after what they speak of.
func (d *Draft) XML() string {
	var out strings.Builder
	w := xmlstream.NewWriter(&out)
	w.Indent = "  "
	w.Declaration()
	d.write(w, d.Envelope)
	_ = w.Close()
	return out.String() + "\n"
}

func (d *Draft) write(w *xmlstream.Writer, n *document.Node) {
	w.Start(n.Name().String())
	for _, a := range n.Attributes() {
		w.Attribute(a.Name.String(), a.Value)
	}
	elements := len(n.Children()) > 0
	if elements && d.Remarks[n] != "" {
		w.Remark(d.Remarks[n])
	}
	for _, item := range n.Items() {
		if item.IsScalar() {
			w.Text(item.Text)
		} else {
			d.write(w, item)
		}
	}
	w.End()
	if !elements && d.Remarks[n] != "" {
		w.Remark(d.Remarks[n])
	}
}

// Fields gives the payload and the header blocks as fields by name, the way they are filled in.
func (d *Draft) Fields() *document.Node {
	fields := d.payloadFields()
	for _, h := range d.headers {
		if name := h.Name().Local; fields.Get(name) == nil {
			fields.Set(name, fieldsOf(h))
		}
	}
	return fields
}

func (d *Draft) payloadFields() *document.Node {
	if len(d.samples) == 1 {
		fields := fieldsOf(d.samples[0])
		switch {
		case fields.Kind == document.Object:
		case fields.Text != "":
			fields = document.NewObject().Set(".", fields) // the payload has no parts
		default:
			fields = document.NewObject()
		}
		return fields
	}
	fields := document.NewObject()
	for _, n := range d.samples {
		fields.Set(n.Name().Local, fieldsOf(n))
	}
	return fields
}

// fieldsOf turns an element into fields by name.
func fieldsOf(n *document.Node) *document.Node {
	fields := document.NewFields()
	for _, a := range n.Attributes() {
		switch {
		case a.IsDeclaration() || a.Name.Space == soap.Encoding11:
		case a.Name.Space == xsd.InstanceNamespace && a.Name.Local == "nil":
			return &document.Node{Kind: document.Null}
		case a.Name.Space == xsd.InstanceNamespace && a.Name.Local == "type":
			fields.Set("@xsi:type", document.NewUntyped(a.Value[strings.IndexByte(a.Value, ':')+1:]))
		default:
			key := a.Name.Local
			if n.Child(key) != nil {
				key = "@" + key
			}
			fields.Set(key, document.NewUntyped(a.Value))
		}
	}
	children := n.Children()
	if len(children) == 0 {
		text := document.NewUntyped(n.OwnText())
		if len(fields.Object().Members()) == 0 && (text.Text != "" || n.Items() == nil) {
			return text
		}
		if text.Text != "" {
			fields.Set(".", text)
		}
		return fields.Object()
	}
	for _, child := range children {
		fields.Append(child.Name().Local, fieldsOf(child))
	}
	return fields.Object()
}

// remarkOf finds the remark on the element that a field came from.
func (d *Draft) remarkOf(parent *document.Node, name string) string {
	if child := parent.Child(name); child != nil {
		return d.Remarks[child]
	}
	return ""
}

// Step writes the draft as a step to put into a sheet.
func (d *Draft) Step(target string, quote func(string) string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "- step: %s\n  call: %s\n", quote(target[strings.IndexByte(target, '/')+1:]), quote(target))
	fields := d.Fields()
	if len(fields.Members()) > 0 {
		out.WriteString("  fill:\n")
		parts := d.samples
		if len(d.samples) == 1 {
			parts = d.samples[0].Children()
		}
		parent := document.NewElement(document.Name{}, append(slices.Clip(parts), d.headers...)...)
		d.yaml(&out, fields, parent, "    ", quote)
	}
	return out.String()
}

func (d *Draft) yaml(out *strings.Builder, fields, from *document.Node, indent string, quote func(string) string) {
	for _, m := range fields.Members() {
		out.WriteString(indent + quote(m.Key) + ":")
		remark := d.remarkOf(from, m.Key)
		if remark != "" {
			remark = "  # " + remark
		}
		child := from.Child(m.Key)
		if child == nil {
			child = &document.Node{Kind: document.Element}
		}
		switch m.Value.Kind {
		case document.Object:
			out.WriteString(remark + "\n")
			d.yaml(out, m.Value, child, indent+"  ", quote)
		case document.List:
			out.WriteString(remark + "\n")
			for _, item := range m.Value.Items() {
				if item.Kind != document.Object {
					out.WriteString(indent + "  - " + scalar(item, quote) + "\n")
					continue
				}
				var inner strings.Builder
				d.yaml(&inner, item, child, indent+"    ", quote)
				text := inner.String()
				out.WriteString(indent + "  - " + strings.TrimPrefix(text, indent+"    "))
			}
		default:
			out.WriteString(" " + scalar(m.Value, quote) + remark + "\n")
		}
	}
}

func scalar(n *document.Node, quote func(string) string) string {
	if n.Kind == document.Null {
		return "null"
	}
	return quote(n.Text)
}
