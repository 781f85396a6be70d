//go:build unix

package main

import (
	"fmt"
	"io"
	"regexp"
	"strings"
)

// kindOfSchema is a schema with what differs from the other ones, and its records.
type kindOfSchema struct {
	name   string
	schema string // the element record, and the types of its own
	record func(i int) string
	keys   string // of the list of records
}

// repeated is n pieces.
func repeated(n int, piece func(i int) string) string {
	var out strings.Builder
	for i := range n {
		out.WriteString(piece(i))
	}
	return out.String()
}

var layout = regexp.MustCompile(`\n\s*`)

// record writes a record as one line.
func record(form string, values ...any) string {
	return fmt.Sprintf("<record"+layout.ReplaceAllString(form, "")+"</record>\n", values...)
}

// oneOf is a text by a number.
func oneOf(i int, texts ...string) string { return texts[i%len(texts)] }

// numbered are elements f0, f1 and so on, of text and whole numbers by turns.
func numbered(count int) string {
	return repeated(count, func(i int) string {
		return fmt.Sprintf(`<xs:element name="f%d" type=%q/>`, i, oneOf(i, "xs:string", "xs:int"))
	})
}

// kindsOfSchemas are schemas of the kinds that services have.
var kindsOfSchemas = []kindOfSchema{
	{
		name: "plain records",
		schema: `<xs:element name="record"><xs:complexType><xs:sequence>
			<xs:element name="keeper" type="xs:string"/><xs:element name="number" type="xs:int"/>
			<xs:element name="on" type="xs:date"/><xs:element name="kilos" type="xs:decimal"/>
			<xs:element name="sold" type="xs:boolean"/><xs:element name="note" type="xs:string"/>
			</xs:sequence></xs:complexType></xs:element>`,
		record: func(i int) string {
			return record(`><keeper>Keeper %d of the moor</keeper><number>%d</number><on>2026-11-%02d</on>
				<kilos>%d.50</kilos><sold>%t</sold><note>a note of some length</note>`, i%97, i, 1+i%28, i%90, i%2 == 0)
		},
	},
	{
		name: "patterns, lists, unions, digits, moments",
		schema: `<xs:simpleType name="lot"><xs:restriction base="xs:string"><xs:pattern value="[A-Z]{1,2}-[0-9]{7}"/>
			</xs:restriction></xs:simpleType>
			<xs:simpleType name="money"><xs:restriction base="xs:decimal"><xs:totalDigits value="10"/>
			<xs:fractionDigits value="2"/><xs:minInclusive value="0"/></xs:restriction></xs:simpleType>
			<xs:simpleType name="numbers"><xs:list itemType="xs:int"/></xs:simpleType>
			<xs:simpleType name="grade"><xs:restriction base="xs:token"><xs:enumeration value="A"/>
			<xs:enumeration value="B"/><xs:enumeration value="C"/></xs:restriction></xs:simpleType>
			<xs:simpleType name="gradeOrNumber"><xs:union memberTypes="grade xs:integer"/></xs:simpleType>
			<xs:element name="record"><xs:complexType><xs:sequence>
			<xs:element name="lot" type="lot"/><xs:element name="price" type="money"/>
			<xs:element name="jars" type="numbers"/><xs:element name="is" type="gradeOrNumber"/>
			<xs:element name="at" type="xs:dateTime"/><xs:element name="for" type="xs:duration"/>
			</xs:sequence></xs:complexType></xs:element>`,
		record: func(i int) string {
			return record(`><lot>L-%07d</lot><price>%d.50</price><jars>%d %d %d %d</jars><is>%s</is>
				<at>2026-11-%02dT08:%02d:00Z</at><for>P%dDT2H</for>`, i, i%90000, i%9, i%7, i%5, i%100, oneOf(i, "A", "17"),
				1+i%28, i%60, i%30)
		},
	},
	{
		name: "deep nesting",
		schema: `<xs:complexType name="part"><xs:sequence><xs:element name="name" type="xs:string"/>
			<xs:element name="part" type="part" minOccurs="0" maxOccurs="2"/></xs:sequence></xs:complexType>
			<xs:element name="record" type="part"/>`,
		record: func(int) string {
			return record("><name>a</name>" + strings.Repeat("<part><name>b of the moor</name>", 30) + strings.Repeat("</part>", 30))
		},
	},
	{
		name: "many attributes",
		schema: `<xs:element name="record"><xs:complexType>` + repeated(12, func(i int) string {
			return fmt.Sprintf(`<xs:attribute name="a%d" type=%q use="required"/>`, i,
				oneOf(i, "xs:string", "xs:int", "xs:date", "xs:NMTOKEN"))
		}) + `</xs:complexType></xs:element>`,
		record: func(int) string {
			return record(repeated(12, func(n int) string {
				return fmt.Sprintf(` a%d=%q`, n, oneOf(n, "of the moor", "17", "2026-11-23", "L-2201"))
			}) + ">")
		},
	},
	{
		name: "keys and references to them",
		schema: `<xs:element name="record"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence>
			<xs:attribute name="id" type="xs:string"/><xs:attribute name="of" type="xs:string"/></xs:complexType></xs:element>`,
		record: func(i int) string {
			return record(` id="L-%07d" of="L-%07d"><name>Keeper %d of the moor</name>`, i, i/2, i%97)
		},
		keys: `<xs:key name="k"><xs:selector xpath="record"/><xs:field xpath="@id"/></xs:key>
			<xs:keyref name="r" refer="k"><xs:selector xpath="record"/><xs:field xpath="@of"/></xs:keyref>`,
	},
	{
		name: "substitution and xsi:type",
		schema: `<xs:complexType name="base"><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType>
			<xs:complexType name="more"><xs:complexContent><xs:extension base="base"><xs:sequence>
			<xs:element name="kilos" type="xs:decimal"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
			<xs:element name="thing" type="base"/><xs:element name="jar" type="more" substitutionGroup="thing"/>
			<xs:element name="record"><xs:complexType><xs:sequence><xs:element ref="thing" maxOccurs="9"/></xs:sequence>
			</xs:complexType></xs:element>`,
		record: func(int) string {
			return record(`><thing><name>of the moor</name></thing><jar><name>a jar</name><kilos>1.50</kilos></jar>
				<thing xsi:type="more"><name>another</name><kilos>2</kilos></thing>`)
		},
	},
	{
		name: "mixed content",
		schema: `<xs:element name="record"><xs:complexType mixed="true"><xs:choice minOccurs="0" maxOccurs="unbounded">
			<xs:element name="b" type="xs:string"/><xs:element name="i" type="xs:string"/><xs:element name="day" type="xs:date"/>
			</xs:choice></xs:complexType></xs:element>`,
		record: func(int) string {
			return record(`>a note of <b>some</b> length, <i>and more</i> of it &amp; on <day>2026-11-23</day> it was said`)
		},
	},
	{
		name: "anything",
		schema: `<xs:element name="record"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/>
			<xs:any namespace="##other" processContents="lax" maxOccurs="unbounded"/></xs:sequence>
			<xs:anyAttribute namespace="##other" processContents="skip"/></xs:complexType></xs:element>`,
		record: func(int) string {
			return record(` o:at="2026"><name>of the moor</name><o:extra><o:a>some</o:a><o:b c="d">more</o:b></o:extra>
				<o:extra>last</o:extra>`)
		},
	},
	{
		name: "large choices",
		schema: `<xs:element name="record"><xs:complexType><xs:choice minOccurs="0" maxOccurs="unbounded">` + numbered(80) +
			`</xs:choice></xs:complexType></xs:element>`,
		record: func(i int) string {
			return record(">" + repeated(10, func(n int) string {
				at := (i*7 + n*13) % 80
				return fmt.Sprintf("<f%d>17</f%d>", at, at)
			}))
		},
	},
	{
		name:   "all, of many",
		schema: `<xs:element name="record"><xs:complexType><xs:all>` + numbered(20) + `</xs:all></xs:complexType></xs:element>`,
		record: func(i int) string {
			return record(">" + repeated(20, func(n int) string {
				at := (i + n*7) % 20
				return fmt.Sprintf("<f%d>17</f%d>", at, at)
			}))
		},
	},
}

// schemas holds 50 MB of each kind against its schema.
func (m *measuring) schemas() error {
	const much = 50_000_000
	for _, kind := range kindsOfSchemas {
		if err := m.write("kind.xsd", func(w io.Writer) {
			_, _ = io.WriteString(w, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" elementFormDefault="qualified">`+
				kind.schema+`<xs:element name="list"><xs:complexType><xs:sequence>`+
				`<xs:element ref="record" maxOccurs="unbounded"/></xs:sequence></xs:complexType>`+kind.keys+
				`</xs:element></xs:schema>`)
		}); err != nil {
			return err
		}
		if err := m.write("kind.xml", func(w io.Writer) {
			_, _ = io.WriteString(w, `<list xmlns:o="urn:other" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">`+"\n")
			for i, size := 0, 0; size < much; i++ {
				record := kind.record(i)
				size += len(record)
				_, _ = io.WriteString(w, record)
			}
			_, _ = io.WriteString(w, "</list>\n")
		}); err != nil {
			return err
		}
		if err := m.against("50 MB of XML: "+kind.name, "xmllint --stream --schema (libxml2)", 3,
			command{"xmllint", "--stream", "--noout", "--schema", "kind.xsd", "kind.xml"},
			command{m.program, "validate", "kind.xsd", "kind.xml"}); err != nil {
			return err
		}
	}
	return nil
}
