package xsd_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/xsd"
	"testbench/internal/xsd/instance"
)

// Every sample of every element of every case is valid, with and without its
// optional parts.
func TestSamplesAreValid(t *testing.T) {
	seen := map[string]bool{}
	for _, p := range xsd.AllPairs(t) {
		if seen[p.Schema] {
			continue
		}
		seen[p.Schema] = true
		types := xsd.LoadText(t, p.Schema)
		for name, e := range types.Elements {
			if strings.Contains(p.Schema, `base="xs:string"><xs:pattern value='a+'/><xs:pattern`) {
				continue
			}
			for _, optional := range []bool{false, true} {
				sample := instance.Sample(types, e, schema.SampleOptions{Optional: optional})
				resolveTypes(sample.Root)
				var faults []string
				v := xsd.NewValidator(types)
				v.Report = func(f xsd.Fault) { faults = append(faults, f.String()) }
				v.Tree(sample.Root, nil, map[string]string{"t": "urn:t", "xsi": xsd.InstanceNamespace})
				// Keys that refer to others cannot be told from a sample of one each.
				if name.Local == "stock" || name.Local == "hall" || name.Local == "list" && optional {
					continue
				}
				assert.Empty(t, faults, "%s %s", p.Name, document.WriteXML(sample.Root, document.Style{}))
			}
		}
	}
}

// resolveTypes writes xsi:type with the prefix t, as whoever sends a sample does.
func resolveTypes(n *document.Node) {
	for i := range n.Attributes() {
		if a := &n.Attributes()[i]; a.Name.Space == xsd.InstanceNamespace {
			a.Value = strings.Replace(a.Value, "{urn:t}", "t:", 1)
		}
	}
	for _, child := range n.Children() {
		resolveTypes(child)
	}
}

func TestRecursiveSampleEnds(t *testing.T) {
	types := xsd.LoadText(t, xsd.SchemaHead+`<xs:element name="part" type="t:Part"/>
<xs:complexType name="Part"><xs:sequence><xs:element name="name" type="xs:string"/><xs:choice><xs:element name="inner" type="t:Part"/><xs:element name="end" type="xs:int"/></xs:choice><xs:element name="more" type="t:Part" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType>
<xs:element name="endless" type="t:Endless"/><xs:complexType name="Endless"><xs:sequence><xs:element name="again" type="t:Endless"/></xs:sequence></xs:complexType></xs:schema>`)
	sample := instance.Sample(types, types.Element("urn:t", "part"), schema.SampleOptions{Optional: true})
	assert.Equal(t, `<part><name>text</name><end>1</end></part>`, document.WriteXML(sample.Root, document.Style{}))
	assert.Equal(t, "one of these: inner or end; integer", sample.Remarks[sample.Root.Child("end")])
	assert.NotEmpty(t, instance.Sample(types, types.Element("urn:t", "endless"), schema.SampleOptions{}).Cut)
}

func FuzzSchema(f *testing.F) {
	for _, p := range xsd.AllPairs(f)[300:] {
		f.Add(p.Schema, p.Instance)
	}
	f.Fuzz(func(t *testing.T, text, document string) {
		l := &xsd.Loader{}
		if l.AddText("fuzz.xsd", []byte(text)) != nil {
			return
		}
		types, err := l.Schema()
		if err != nil {
			return
		}
		_, _ = xsd.FaultsOf(types, document)
		for _, e := range types.Elements {
			instance.Sample(types, e, schema.SampleOptions{Optional: true, MaxDepth: 6})
		}
	})
}
