//go:build unix

package main

import (
	"fmt"
	"io"
	"strings"
)

// kindOfSchema is a schema with what differs from the other ones, and its records.
type kindOfSchema struct {
	name   string
	schema string // in place of what a list of records is: the element record, and the types of its own
	record func(i int) string
	keys   string // of the list
}

const (
	simple = `<xs:simpleType name=%q><xs:restriction base=%q>%s</xs:restriction></xs:simpleType>`
	field  = `<xs:element name=%q type=%q/>`
)

func typed(name, base string, facets ...string) string {
	return fmt.Sprintf(simple, name, base, strings.Join(facets, ""))
}

func fields(pairs ...string) string {
	out := ""
	for i := 0; i < len(pairs); i += 2 {
		out += fmt.Sprintf(field, pairs[i], pairs[i+1])
	}
	return out
}

func recordOf(content string) string {
	return `<xs:element name="record"><xs:complexType>` + content + `</xs:complexType></xs:element>`
}

func sequence(content string) string { return "<xs:sequence>" + content + "</xs:sequence>" }

// repeated is n pieces.
func repeated(n int, piece func(i int) string) string {
	var out strings.Builder
	for i := range n {
		out.WriteString(piece(i))
	}
	return out.String()
}

// kindsOfSchemas are schemas of the kinds that services have.
var kindsOfSchemas = []kindOfSchema{
	{"plain records", recordOf(sequence(fields("keeper", "xs:string", "number", "xs:int", "on", "xs:date", "kilos", "xs:decimal", "sold", "xs:boolean", "note", "xs:string"))), func(i int) string {
		return fmt.Sprintf("<record><keeper>Keeper %d of the moor</keeper><number>%d</number><on>2026-11-%02d</on><kilos>%d.50</kilos><sold>%t</sold><note>a note of some length</note></record>\n", i%97, i, 1+i%28, i%90, i%2 == 0)
	}, ""},
	{"patterns, lists, unions, digits, moments", typed("lot", "xs:string", `<xs:pattern value="[A-Z]{1,2}-[0-9]{7}"/>`) +
		typed("money", "xs:decimal", `<xs:totalDigits value="10"/><xs:fractionDigits value="2"/><xs:minInclusive value="0"/>`) +
		`<xs:simpleType name="numbers"><xs:list itemType="xs:int"/></xs:simpleType>` +
		typed("grade", "xs:token", `<xs:enumeration value="A"/><xs:enumeration value="B"/><xs:enumeration value="C"/>`) +
		`<xs:simpleType name="gradeOrNumber"><xs:union memberTypes="grade xs:integer"/></xs:simpleType>` +
		recordOf(sequence(fields("lot", "lot", "price", "money", "jars", "numbers", "is", "gradeOrNumber", "at", "xs:dateTime", "for", "xs:duration"))), func(i int) string {
		return fmt.Sprintf("<record><lot>L-%07d</lot><price>%d.50</price><jars>%d %d %d %d</jars><is>%s</is><at>2026-11-%02dT08:%02d:00Z</at><for>P%dDT2H</for></record>\n", i, i%90000, i%9, i%7, i%5, i%100, []string{"A", "17"}[i%2], 1+i%28, i%60, i%30)
	}, ""},
	{"deep nesting", `<xs:complexType name="part"><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="part" type="part" minOccurs="0" maxOccurs="2"/></xs:sequence></xs:complexType><xs:element name="record" type="part"/>`, func(i int) string {
		return "<record><name>a</name>" + strings.Repeat("<part><name>b of the moor</name>", 30) + strings.Repeat("</part>", 30) + "</record>\n"
	}, ""},
	{"many attributes", recordOf(repeated(12, func(i int) string {
		return fmt.Sprintf(`<xs:attribute name="a%d" type=%q use="required"/>`, i, []string{"xs:string", "xs:int", "xs:date", "xs:NMTOKEN"}[i%4])
	})), func(i int) string {
		return "<record" + repeated(12, func(n int) string {
			return fmt.Sprintf(` a%d=%q`, n, []string{"of the moor", "17", "2026-11-23", "L-2201"}[n%4])
		}) + "/>\n"
	}, ""},
	{"keys and references to them", recordOf(sequence(fields("name", "xs:string")) + `<xs:attribute name="id" type="xs:string"/><xs:attribute name="of" type="xs:string"/>`), func(i int) string {
		return fmt.Sprintf("<record id=\"L-%07d\" of=\"L-%07d\"><name>Keeper %d of the moor</name></record>\n", i, i/2, i%97)
	}, `<xs:key name="k"><xs:selector xpath="record"/><xs:field xpath="@id"/></xs:key><xs:keyref name="r" refer="k"><xs:selector xpath="record"/><xs:field xpath="@of"/></xs:keyref>`},
	{"substitution and xsi:type", `<xs:complexType name="base"><xs:sequence><xs:element name="name" type="xs:string"/></xs:sequence></xs:complexType>` +
		`<xs:complexType name="more"><xs:complexContent><xs:extension base="base"><xs:sequence><xs:element name="kilos" type="xs:decimal"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>` +
		`<xs:element name="thing" type="base"/><xs:element name="jar" type="more" substitutionGroup="thing"/>` +
		recordOf(`<xs:sequence><xs:element ref="thing" maxOccurs="9"/></xs:sequence>`), func(i int) string {
		return "<record><thing><name>of the moor</name></thing><jar><name>a jar</name><kilos>1.50</kilos></jar><thing xsi:type=\"more\"><name>another</name><kilos>2</kilos></thing></record>\n"
	}, ""},
	{"mixed content", `<xs:element name="record"><xs:complexType mixed="true"><xs:choice minOccurs="0" maxOccurs="unbounded">` + fields("b", "xs:string", "i", "xs:string", "day", "xs:date") + `</xs:choice></xs:complexType></xs:element>`, func(i int) string {
		return "<record>a note of <b>some</b> length, <i>and more</i> of it &amp; on <day>2026-11-23</day> it was said</record>\n"
	}, ""},
	{"anything", recordOf(`<xs:sequence><xs:element name="name" type="xs:string"/><xs:any namespace="##other" processContents="lax" maxOccurs="unbounded"/></xs:sequence><xs:anyAttribute namespace="##other" processContents="skip"/>`), func(i int) string {
		return "<record o:at=\"2026\"><name>of the moor</name><o:extra><o:a>some</o:a><o:b c=\"d\">more</o:b></o:extra><o:extra>last</o:extra></record>\n"
	}, ""},
	{"large choices", recordOf(`<xs:choice minOccurs="0" maxOccurs="unbounded">` + repeated(80, func(i int) string {
		return fmt.Sprintf(field, fmt.Sprintf("f%d", i), []string{"xs:string", "xs:int"}[i%2])
	}) + `</xs:choice>`), func(i int) string {
		return "<record>" + repeated(10, func(n int) string {
			at := (i*7 + n*13) % 80
			return fmt.Sprintf("<f%d>17</f%d>", at, at)
		}) + "</record>\n"
	}, ""},
	{"all, of many", recordOf(`<xs:all>` + repeated(20, func(i int) string {
		return fmt.Sprintf(field, fmt.Sprintf("f%d", i), []string{"xs:string", "xs:int"}[i%2])
	}) + `</xs:all>`), func(i int) string {
		return "<record>" + repeated(20, func(n int) string {
			at := (i + n*7) % 20
			return fmt.Sprintf("<f%d>17</f%d>", at, at)
		}) + "</record>\n"
	}, ""},
}

// schemas holds 50 MB of each kind against its schema.
func (m *measuring) schemas() error {
	const much = 50_000_000
	for _, kind := range kindsOfSchemas {
		if err := m.write("kind.xsd", func(w io.Writer) {
			_, _ = io.WriteString(w, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" elementFormDefault="qualified">`+kind.schema+
				`<xs:element name="list"><xs:complexType><xs:sequence><xs:element ref="record" maxOccurs="unbounded"/></xs:sequence></xs:complexType>`+
				kind.keys+`</xs:element></xs:schema>`)
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
