package instance

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/xsd"
)

const orderSchema = schemaHead + `
<xs:element name="Order" type="t:Order"/>
<xs:complexType name="Order"><xs:sequence>
  <xs:element name="number" type="xs:int"/>
  <xs:choice><xs:element name="keeper" type="t:Party"/><xs:element name="shop" type="xs:token"/></xs:choice>
  <xs:element name="line" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="sku" type="t:Sku"/><xs:element name="amount" type="t:Amount"/></xs:sequence><xs:attribute name="no" type="xs:int" use="required"/></xs:complexType></xs:element>
  <xs:element name="tags" minOccurs="0"><xs:simpleType><xs:list itemType="xs:NCName"/></xs:simpleType></xs:element>
  <xs:element ref="t:remark" minOccurs="0" maxOccurs="3"/>
  <xs:element name="due" type="xs:date" nillable="true" minOccurs="0"/>
  <xs:element name="note" minOccurs="0"><xs:complexType mixed="true"><xs:sequence><xs:element name="b" type="xs:string" minOccurs="0" maxOccurs="unbounded"/></xs:sequence></xs:complexType></xs:element>
  <xs:any namespace="##other" processContents="lax" minOccurs="0"/>
</xs:sequence><xs:attribute name="number" type="xs:string"/></xs:complexType>
<xs:complexType name="Party"><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType>
<xs:complexType name="Member"><xs:complexContent><xs:extension base="t:Party"><xs:sequence><xs:element name="since" type="xs:gYear"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:complexType name="Amount"><xs:simpleContent><xs:extension base="xs:decimal"><xs:attribute name="unit" default="kg"><xs:simpleType><xs:restriction base="xs:string"><xs:enumeration value="kg"/><xs:enumeration value="jar"/></xs:restriction></xs:simpleType></xs:attribute></xs:extension></xs:simpleContent></xs:complexType>
<xs:simpleType name="Sku"><xs:restriction base="xs:string"><xs:pattern value="HON-[0-9]+"/></xs:restriction></xs:simpleType>
<xs:element name="remark" type="xs:string"/><xs:element name="warning" type="xs:string" substitutionGroup="t:remark"/>
</xs:schema>`

func TestFill(t *testing.T) {
	orders := loadText(t, orderSchema)
	for _, c := range []struct{ name, fields, want, short string }{
		{
			"any order comes out in the schema's",
			`{"line": {"amount": 5, "no": 1, "sku": "HON-1"}, "shop": "north", "number": 7}`,
			`<Order><number>7</number><shop>north</shop><line no="1"><sku>HON-1</sku><amount>5</amount></line></Order>`,
			"",
		},
		{
			"lists, attributes, own text, a branch of a choice",
			`{"number": 7, "@number": "x", "keeper": {"name": "Ada"}, "line": [{"no": 1, "sku": "HON-1", "amount": {".": 2.50, "unit": "jar"}}, {"no": 2, "sku": "HON-2", "amount": 1}], "tags": ["a", "b"]}`,
			`<Order number="x"><number>7</number><keeper><name>Ada</name></keeper><line no="1"><sku>HON-1</sku><amount unit="jar">2.50</amount></line><line no="2"><sku>HON-2</sku><amount>1</amount></line><tags>a b</tags></Order>`, "",
		},
		{
			"derived, substituted, nil, mixed, any",
			`{"number": 1e1, "keeper": {"@xsi:type": "Member", "since": 2001, "name": "Ada"}, "line": [{"no": 1, "sku": "HON-1", "amount": 1}], "remark": "r", "warning": ["w", "v"], "due": null, "note": ["a ", {"b": "bold"}, " word"], "o:extra": {"o:x": 1}}`,
			`<Order xmlns:t="urn:t" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance"><number>10</number><keeper xsi:type="t:Member"><name>Ada</name><since>2001</since></keeper><line no="1"><sku>HON-1</sku><amount>1</amount></line><remark>r</remark><warning>w</warning><warning>v</warning><due xsi:nil="true"/><note>a <b>bold</b> word</note><extra><x>1</x></extra></Order>`, "",
		},
		{
			"what is missing", `{}`, `<Order/>`,
			"number is missing: it is mandatory, integer|needs one of keeper or shop|line is missing: it is mandatory",
		},
		{
			"what is unknown or wrong",
			`{"numbr": 7, "number": "x", "shop": "n", "line": {"no": 1.5, "sku": "HON", "amount": {".": "much", "unit": "t"}}}`,
			`<Order><number>x</number><shop>n</shop><line no="1.5"><sku>HON</sku><amount unit="t">much</amount></line><numbr>7</numbr></Order>`,
			`numbr is unknown; did you mean "number"?|number "x" is not an integer|line[0].no "1.5" is not an integer|line[0].sku "HON" does not match the pattern HON-[0-9]+|line[0].amount "much" is not a decimal number|line[0].amount.unit "t" is not one of kg, jar`,
		},
		{
			"both branches, null, too often",
			`{"number": null, "shop": "n", "keeper": {"name": "a"}, "line": {"no": 1, "sku": "HON-1", "amount": 1}, "remark": ["1", "2", "3", "4"]}`, "",
			`number cannot be null|shop is not allowed beside what else is given|remark is there too often`,
		},
		{
			"another type", `{"number": 7, "keeper": {"@xsi:type": "Membr", "name": "Ada"}, "line": {"no": 1, "sku": "HON-1", "amount": 1}, "tags": {"x": 1}}`, "",
			`keeper cannot be of the type Membr; did you mean "Member"?|tags.x is unknown: tags holds a list, each item an XML name without a colon`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			fields, err := document.ReadJSON([]byte(c.fields))
			require.NoError(t, err)
			root, found := Fill(orders, orders.Element("urn:t", "Order"), fields,
				FillOptions{Prefixes: map[string]string{"o": "urn:o"}})
			if c.want != "" {
				assert.Equal(t, c.want, document.WriteXML(root, document.Style{}))
			}
			var short []string
			for _, s := range found {
				short = append(short, s.String())
			}
			if c.short == "" {
				assert.Empty(t, short)
				var faults []string
				v := xsd.NewValidator(orders)
				v.Report = func(f xsd.Fault) { faults = append(faults, f.String()) }
				v.Tree(root, nil, map[string]string{"xsi": xsd.InstanceNamespace})
				assert.Empty(t, faults)
			} else {
				assert.ElementsMatch(t, strings.Split(c.short, "|"), short)
			}
		})
	}
}

// What is described in groups, repeats as a whole, or may be in any order.
func TestFillGroups(t *testing.T) {
	orders := loadText(t, schemaHead+`
<xs:element name="Log"><xs:complexType><xs:sequence>
  <xs:sequence minOccurs="0" maxOccurs="3"><xs:element name="at" type="xs:time"/><xs:element name="kg" type="xs:decimal" minOccurs="0"/></xs:sequence>
  <xs:choice minOccurs="0" maxOccurs="unbounded"><xs:element name="note" type="xs:string"/><xs:element name="photo" type="xs:anyURI"/></xs:choice>
  <xs:element name="seal" minOccurs="0"><xs:complexType><xs:all><xs:element name="by" type="xs:string"/><xs:element name="on" type="xs:date" minOccurs="0"/></xs:all></xs:complexType></xs:element>
  <xs:element name="empty" minOccurs="0"><xs:complexType/></xs:element>
  <xs:element name="fixed" type="xs:int" fixed="7" minOccurs="0"/>
  <xs:element name="name" type="xs:QName" minOccurs="0"/>
  <xs:element ref="t:shape" minOccurs="0"/>
</xs:sequence><xs:attribute name="note" type="xs:string"/><xs:anyAttribute namespace="##other" processContents="lax"/></xs:complexType></xs:element>
<xs:element name="shape" abstract="true" type="t:Shape"/><xs:element name="jar" type="t:Shape" substitutionGroup="t:shape"/><xs:complexType name="Shape"><xs:attribute name="grams" type="xs:int" use="required"/></xs:complexType>
</xs:schema>`)
	for _, c := range []struct{ fields, want, short string }{
		{
			`{"at": ["08:00:00", "09:00:00"], "kg": [1, 2]}`,
			`<Log><at>08:00:00</at><kg>1</kg><at>09:00:00</at><kg>2</kg></Log>`, "",
		},
		{`{"photo": "a.png", "note": ["x", "y"]}`, `<Log><note>x</note><note>y</note><photo>a.png</photo></Log>`, ""},
		{`{"note": "element", "@note": "attribute"}`, `<Log note="attribute"><note>element</note></Log>`, ""},
		{`{"@o:mark": "x"}`, `<Log xmlns:o="urn:o" o:mark="x"/>`, ""},
		{`{"seal": {"on": "2026-05-04", "by": "Ada"}}`, `<Log><seal><by>Ada</by><on>2026-05-04</on></seal></Log>`, ""},
		{`{"seal": {}}`, "", "seal.by is missing: it is mandatory, text"},
		{
			`{"seal": "sealed"}`, "",
			"seal is \"sealed\", not fields by name: by, on|seal.by is missing: it is mandatory, text",
		},
		{`{"empty": {}}`, `<Log><empty/></Log>`, ""},
		{`{"empty": "x"}`, `<Log><empty/></Log>`, `empty must be empty, and is "x"`},
		{`{"fixed": 7.0}`, `<Log><fixed>7</fixed></Log>`, ""},
		{`{"fixed": 8}`, "", `fixed must be "7"`},
		{`{"name": "o:thing"}`, `<Log><name xmlns:o="urn:o">o:thing</name></Log>`, ""},
		{`{"name": "z:thing"}`, "", `name the prefix of "z:thing" is not declared there`},
		{`{"jar": {"grams": 500}}`, `<Log><jar grams="500"/></Log>`, ""},
		{`{"shape": {"grams": 500}}`, "", "shape is abstract: give one of its substitutes in its place: jar"},
		{`{"jar": {}}`, "", "jar.grams is missing: it is mandatory, integer"},
		{
			`{"kg": {"x": 1}}`, "",
			"at is missing: it is mandatory, time|kg.x is unknown: kg holds a decimal number|kg has no value: it is decimal number",
		},
		{
			`[{"note": "1"}, {"photo": "p"}, {"note": "2"}, {"@note": "a"}]`,
			`<Log note="a"><note>1</note><photo>p</photo><note>2</note></Log>`, "",
		},
		{
			`[{"nte": "1"}, {"a": 1, "b": 2}]`, "",
			`nte is unknown; did you mean "note"?|[1] content in order is a list of texts and of maps with one key each`,
		},
		{
			`{"nothing": null, "@nowhere": 1}`, "",
			"nothing is unknown; its fields are at, kg, note, photo, seal, empty, fixed, name, shape|@nowhere is unknown",
		},
	} {
		fields, err := document.ReadJSON([]byte(c.fields))
		require.NoError(t, err)
		root, found := Fill(orders, orders.Element("urn:t", "Log"), fields,
			FillOptions{Prefixes: map[string]string{"o": "urn:o"}})
		if c.want != "" {
			assert.Equal(t, c.want, document.WriteXML(root, document.Style{}), c.fields)
		}
		var short []string
		for _, s := range found {
			short = append(short, s.String())
		}
		assert.Equal(t, c.short, strings.Join(short, "|"), c.fields)
	}
}

const schemaHead = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" elementFormDefault="qualified">`

func loadText(t *testing.T, text string) *xsd.Schema {
	t.Helper()
	l := &xsd.Loader{}
	require.NoError(t, l.AddText("order.xsd", []byte(text)))
	loaded, err := l.Schema()
	require.NoError(t, err, text)
	return loaded
}
