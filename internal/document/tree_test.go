package document_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

func TestDescribe(t *testing.T) {
	cases := []struct{ text, want string }{
		{`null`, "null"},
		{`true`, "true"},
		{`1.50`, "1.50"},
		{`"a \"b\""`, `"a \"b\""`},
		{`[]`, "an empty list"},
		{`[1, 2]`, "a list of 2"},
		{`{}`, "an empty object"},
		{`{"a": 1, "b": 2}`, "an object with a, b"},
		{
			`{"a":1,"b":1,"c":1,"d":1,"e":1,"f":1,"g":1,"h":1,"i":1,"j":1}`,
			"an object with a, b, c, d, e, f, g, h and 2 more",
		},
		{`"` + strings.Repeat("x", 100) + `"`, `"` + strings.Repeat("x", 100) + `"`}, // whoever shows it shortens it
	}
	for _, c := range cases {
		node, err := document.ReadJSON([]byte(c.text))
		require.NoError(t, err)
		assert.Equal(t, c.want, node.Describe())
	}
	for text, want := range map[string]string{
		"<a>x</a>":          `"x"`,
		"<a/>":              `""`,
		"<a b='1'><c/></a>": "an element with c, b",
		`<a xmlns:i="http://www.w3.org/2001/XMLSchema-instance" i:nil="true"/>`: "null",
	} {
		node, err := document.ReadXML([]byte(text), "")
		require.NoError(t, err)
		assert.Equal(t, want, node.Describe(), text)
	}
	assert.Equal(t, "missing", (*document.Node)(nil).Describe())
}

// The format is told by the media type, and guessed where there is none.
func TestFormats(t *testing.T) {
	cases := []struct {
		contentType, data string
		want              document.Format
	}{
		{"application/json", "", document.JSON},
		{"application/hal+json; charset=utf-8", "", document.JSON},
		{"APPLICATION/JSON", "", document.JSON},
		{"text/xml; charset=utf-16", "", document.XML},
		{"application/soap+xml", "", document.XML},
		{"application/xhtml+xml", "", document.HTML},
		{"text/html", "", document.HTML},
		{"text/csv", "", document.CSV},
		{"application/x-www-form-urlencoded", "", document.Form},
		{"application/pdf", "%PDF", document.Binary},
		{"", ` {"a": 1}`, document.JSON},
		{"", "\ufeff[1]", document.JSON},
		{"application/octet-stream", "<a/>", document.XML},
		{"", "<!DOCTYPE html><p>", document.HTML},
		{"", "<HTML>", document.HTML},
		{"", "plain", document.Plain},
		{"", "", document.Plain},
		{"", "a\x00b", document.Binary},
		{"broken; ;;=", "{}", document.Binary},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, document.FormatOf(c.contentType, []byte(c.data)), "%s %q", c.contentType, c.data)
	}
}

// XML keeps what matters of a document: prefixes, scope, order, mixed text.
func TestXMLComesBack(t *testing.T) {
	for _, text := range []string{
		`<a/>`,
		`<a b="1" c="&lt;&quot;&#10;&amp;"/>`,
		`<p:a xmlns:p="urn:p"><p:b xmlns:p="urn:q"/></p:a>`,
		`<a xmlns="urn:a"><b xmlns=""/></a>`,
		`<a>one<b/>two<b>three</b></a>`,
		`<a>&lt;&amp;&gt;&#13;</a>`,
		`<a xml:lang="en"> x </a>`,
	} {
		node, err := document.ReadXML([]byte(text), "")
		require.NoError(t, err, text)
		assert.Equal(t, text, document.WriteXML(node, document.Style{}))
	}
	node, err := document.ReadXML(
		[]byte("<?xml version='1.0' encoding='windows-1252'?><a>\n  <b><![CDATA[1 < 2]]> \x80</b>\n</a>"), "")
	require.NoError(t, err)
	assert.Equal(t, "1 < 2 €", node.Child("b").OwnText())
	assert.Len(t, node.Children(), 1)
	assert.Empty(t, node.OwnText(), "blanks between elements are layout")
	assert.Equal(t, "<a>\n  <b>1 &lt; 2 €</b>\n</a>", document.WriteXML(node, document.Style{Indent: "  "}))
	_, err = document.ReadXML([]byte("<a/>"), "klingon")
	assert.ErrorContains(t, err, `the character set "klingon" is not one that can be read`)
}

// What is secret is written as a mask, wherever it stands.
func TestHiding(t *testing.T) {
	node, err := document.ReadJSON([]byte(`{"a": "x", "b": ["y", {"c": 5}]}`))
	require.NoError(t, err)
	node.Get("b").MarkSecret()
	style := document.Style{Hide: "[masked]"}
	assert.Equal(t, `{"a":"x","b":["[masked]",{"c":"[masked]"}]}`, document.WriteJSON(node, style))
	assert.Equal(t, `{"a":"x","b":["y",{"c":5}]}`, document.WriteJSON(node, document.Style{}))
	xml, err := document.ReadXML([]byte(`<a b="1"><c>2</c></a>`), "")
	require.NoError(t, err)
	xml.Attributes()[0].Secret = true
	xml.Child("c").Items()[0].Secret = true
	assert.Equal(t, `<a b="[masked]"><c>[masked]</c></a>`, document.WriteXML(xml, style))
}

func TestDecimals(t *testing.T) {
	for text, want := range map[string]string{
		"1.10": "1.10", "1e3": "1000", "-0": "-0", "1E-7": "0.0000001",
		"1e50": "1E+50", "12345678901234567890.123": "12345678901234567890.123",
	} {
		d, ok := document.Decimal(text)
		require.True(t, ok, text)
		assert.Equal(t, want, document.FormatDecimal(d))
	}
	for _, node := range []*document.Node{
		nil,
		{},
		document.NewBoolean(true), document.NewList(), document.NewText("x"),
		document.NewUntyped(""),
	} {
		_, ok := node.Decimal()
		assert.False(t, ok)
	}
	_, ok := document.NewUntyped(" 5 ").Decimal()
	assert.True(t, ok, "XML lets blanks stand around a number")
	_, ok = document.NewText(" 5 ").Decimal()
	assert.False(t, ok)
}

func BenchmarkRead(b *testing.B) {
	json := []byte("[" + strings.Repeat(`{"id": "L-2201", "kilos": 120.50, "barrels": [1, 2, 3]},`, 10_000) + "null]")
	xml := []byte("<lots>" + strings.Repeat(`<lot id="L-2201"><kilos>120.50</kilos><barrel>1</barrel></lot>`, 10_000) +
		"</lots>")
	b.Run("JSON", func(b *testing.B) {
		b.SetBytes(int64(len(json)))
		for b.Loop() {
			if _, err := document.ReadJSON(json); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("XML", func(b *testing.B) {
		b.SetBytes(int64(len(xml)))
		for b.Loop() {
			if _, err := document.ReadXML(xml, ""); err != nil {
				b.Fatal(err)
			}
		}
	})
}

// What is made of the smallest values only is bounded by their number: a tree takes many times
// what they take as text.
func TestTooManyValues(t *testing.T) {
	_, err := document.ReadJSON([]byte("[" + strings.Repeat("1,", document.MaxNodes+1) + "1]"))
	assert.ErrorContains(t, err, "it holds more than 4194304 values")
	event := "data: [" + strings.Repeat("1,", document.MaxNodes/2) + "1]\n\n"
	_, err = document.ReadEvents(strings.Repeat(event, 3))
	assert.ErrorContains(t, err, "it holds more than 4194304 values")
	// Lines share what they are made of, and the place of a mistake is its own.
	list, err := document.ReadLines([]byte(strings.Repeat("{}\n", 1000) + "{\"a\": [1]}"))
	require.NoError(t, err)
	assert.Len(t, list.Items(), 1001)
	assert.Empty(t, list.Items()[999].Members())
	assert.Equal(t, "1", list.Items()[1000].Get("a").Items()[0].Text)
	_, err = document.ReadLines([]byte("{}\n\n [1, x]\n"))
	assert.ErrorContains(t, err, "line 3, column 6")
	placed, err := document.ReadPlacedJSON([]byte("{\"ä\": 1, \"b\": [2,\n 3], \"c\": 4}"))
	require.NoError(t, err)
	for path, want := range map[string][2]int32{"ä": {1, 7}, "b": {1, 15}, "c": {2, 11}} {
		assert.Equal(t, want, [2]int32{placed.Get(path).Line, placed.Get(path).Column}, path)
	}
}

func BenchmarkReadLines(b *testing.B) {
	data := []byte(strings.Repeat("{}\n", 100_000))
	b.SetBytes(int64(len(data)))
	b.ReportAllocs()
	for b.Loop() {
		_, _ = document.ReadLines(data)
	}
}

// Half a million fields take half a million times as long as one, not its square.
func TestManyFields(t *testing.T) {
	var form, xml strings.Builder
	const many = 500_000
	for i := range many {
		fmt.Fprintf(&form, "f%d=%d&", i, i)
		if i < many/5 {
			fmt.Fprintf(&xml, "<f%d>%d</f%d>", i, i, i)
		}
	}
	read := document.ReadForm(form.String() + "f7=twice&f7=thrice")
	assert.Len(t, read.Members(), many)
	assert.Len(t, read.Get("f7").Items(), 3)
	root, err := document.ReadXML([]byte("<r>"+xml.String()+"<f7>twice</f7></r>"), "")
	require.NoError(t, err)
	plain := document.NewObject()
	plain.SetMembers(read.Members()[:many/5])
	assert.False(t, document.Equal(plain, root), "f7 is there twice")
	fields := document.NewFields()
	for i := range many {
		fields.Set(fmt.Sprint(i%1000), document.NewNumber(fmt.Sprint(i)))
	}
	assert.Len(t, fields.Object().Members(), 1000)
	assert.Equal(t, "499007", fields.Get("7").Text)
	assert.Nil(t, fields.Get("none"))
}

// An attribute in a namespace gets a prefix, for the default namespace is not one of attributes; that of xml is its own.
func TestDeclaredAttributes(t *testing.T) {
	attribute := func(space, prefix, local string) document.Attribute {
		return document.Attribute{Name: document.Name{Space: space, Prefix: prefix, Local: local}, Value: "v"}
	}
	child := document.NewElement(document.Name{Space: "urn:t", Local: "child"})
	child.AppendAttributes(attribute("urn:t", "", "unit"), attribute("http://www.w3.org/XML/1998/namespace", "", "lang"))
	root := document.NewElement(document.Name{Space: "urn:t", Local: "root"}, child)
	root.AppendAttributes(attribute("urn:t", "p", "depot"), attribute("urn:u", "", "mark"), attribute("", "", "plain"))
	document.Declare(root)
	assert.Equal(t, `<root xmlns="urn:t" p:depot="v" a1:mark="v" plain="v" xmlns:p="urn:t" xmlns:a1="urn:u">`+
		`<child p:unit="v" xml:lang="v"/></root>`, document.WriteXML(root, document.Style{}))
}
