package document_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"encoding/xml"
	"io"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/xmlstream"
)

func TestReadErrors(t *testing.T) {
	cases := []struct {
		format       document.Format
		text         string
		line, column int
		want         string
	}{
		{document.JSON, "", 1, 1, "it is empty"},
		{document.JSON, `{"a": 1,}`, 1, 9, "invalid character"},
		{document.JSON, "{\"a\": 1,\n \"b\" 2}", 2, 6, "after object name"},
		{document.JSON, `{"a": 1, "a": 2}`, 1, 10, "duplicate"},
		{document.JSON, `{"a": 1} {}`, 1, 11, "something follows"},
		{document.JSON, "[01]", 1, 3, "invalid character"},
		{document.JSON, "{\"a\": \"\xff\"}", 1, 8, "invalid UTF-8"},
		{document.JSON, `{"a": [1`, 1, 9, "too early"},
		{document.JSON, strings.Repeat("[", 2000) + strings.Repeat("]", 2000), 1, 1002, "deeper than 1000"},
		{document.XML, "", 1, 1, "it is empty"},
		{document.XML, "<a>\n  <b></c>\n</a>", 2, 6, "</c> found where </b> is expected"},
		{document.XML, "<a><b></a>", 1, 7, "</a> found where </b> is expected"},
		{document.XML, "<a/><b/>", 1, 5, "a second root element"},
		{document.XML, "<a>", 1, 4, "it ends before </a>"},
		{document.XML, "<p:a/>", 1, 2, "the prefix p of <p:a> is not declared"},
		{document.XML, `<a x="1" x="2"/>`, 1, 10, "is there twice"},
		{document.XML, `<a xmlns:p="u" xmlns:q="u" p:x="1" q:x="2"/>`, 1, 36, "is there twice"},
		{document.XML, `<!DOCTYPE a><a/>`, 1, 1, "DOCTYPE"},
		{document.XML, `<a/>text`, 1, 5, "text after the root element"},
		{document.XML, "<a>\xff</a>", 1, 4, "not UTF-8 here"},
		{document.XML, strings.Repeat("<a>", 1500), 1, 3001, "deeper than 1000"},
	}
	for _, c := range cases {
		_, err := document.ReadAs(c.format, "", []byte(c.text))
		var problem *document.Error
		if assert.ErrorAs(t, err, &problem, c.text) {
			assert.Contains(t, problem.Message, c.want, c.text)
			assert.Equal(t, []int{c.line, c.column}, []int{problem.Line, problem.Column}, c.text)
		}
	}
}

func TestNumbersKeepTheirText(t *testing.T) {
	node, err := document.ReadJSON([]byte(`{"a": 1.10, "b": 12345678901234567890.5e2, "c": "é\u0000"}`))
	require.NoError(t, err)
	assert.Equal(t, `{"a":1.10,"b":12345678901234567890.5e2,"c":"é\u0000"}`, document.WriteJSON(node, document.Style{}))
	for text, want := range map[string]bool{
		"0": true, "-1.5e+3": true, "00": false, "1.": false, ".5": false,
		"+1": false, "NaN": false, "1_000": false, "": false, "0x1": false, "1e": false,
	} {
		assert.Equal(t, want, document.IsNumber(text), text)
	}
	_, ok := document.Decimal("1e99999")
	assert.False(t, ok, "an exponent that would cost memory")
}

func TestEqual(t *testing.T) {
	untyped, text, number := document.NewUntyped, document.NewText, document.NewNumber
	cases := []struct {
		a, b *document.Node
		want bool
	}{
		{untyped("1.0"), number("1"), true},
		{untyped("1.0"), text("1"), false},
		{untyped("1.0"), untyped("1"), true},
		{untyped("00123"), untyped("123"), false},
		{text("1"), number("1"), false},
		{untyped("true"), document.NewBoolean(true), true},
		{text("true"), document.NewBoolean(true), false},
		{untyped("null"), &document.Node{}, true},
		{number("100"), number("1e2"), true},
		{untyped("A"), text("A"), true},
		{untyped("a"), text("A"), false},
	}
	for _, c := range cases {
		assert.Equal(t, c.want, document.Equal(c.a, c.b), "%v %v", c.a, c.b)
		assert.Equal(t, c.want, document.Equal(c.b, c.a), "%v %v", c.b, c.a)
	}
	x, err := document.ReadXML([]byte("<a k='1'><b>2</b><c>x</c><c>y</c></a>"), "")
	require.NoError(t, err)
	j, err := document.ReadJSON([]byte(`{"c": ["x", "y"], "b": 2, "k": "1"}`))
	require.NoError(t, err)
	assert.True(t, document.Equal(x, j))
}

// What is written is read back by the standard library as the same text.
func FuzzWrite(f *testing.F) {
	for _, seed := range []string{
		"a", `"q" & <x> ]]>`, "line\r\nbreak\ttab", "\x00\x1f\u007f\u2028", "Grüße 蜂",
		"\xff",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		var back string
		if err := json.Unmarshal([]byte(document.QuoteJSON(text)), &back); err != nil ||
			back != strings.ToValidUTF8(text, "\ufffd") && !strings.Contains(back, "\ufffd") {
			t.Fatalf("JSON: %q came back as %q (%v)", text, back, err)
		}
		if !xmlstream.IsText(text) {
			return
		}
		element := document.NewElement(document.Name{Local: "a"}, document.NewUntyped(text))
		element.AppendAttributes(document.Attribute{Name: document.Name{Local: "b"}, Value: text})
		var read struct {
			Text string `xml:",chardata"`
			B    string `xml:"b,attr"`
		}
		if err := xml.Unmarshal([]byte(document.WriteXML(element, document.Style{})), &read); err != nil ||
			read.Text != text || read.B != text {
			t.Fatalf("XML: %q came back as %q and %q (%v)", text, read.Text, read.B, err)
		}
	})
}

// unmarked is text without its byte order mark, which says what it is in, in UTF-8.
func unmarked(data []byte) []byte {
	var order binary.ByteOrder = binary.BigEndian
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xfe")):
		order = binary.LittleEndian
	case !bytes.HasPrefix(data, []byte("\xfe\xff")):
		return bytes.TrimPrefix(data, []byte("\ufeff"))
	}
	var units []uint16
	for i := 2; i+1 < len(data); i += 2 {
		units = append(units, order.Uint16(data[i:]))
	}
	return []byte(string(utf16.Decode(units)))
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{
		`{"a": [1, "x", null]}`, `<a b="c"><d/>text</a>`, "a=b&c=d",
		"<?xml version='1.0' encoding='iso-8859-1'?><a>\xe4</a>", "\xfe\xff\x00<\x00a\x00/\x00>", "<\u3130/>", "[[[[",
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, contentType := range []string{
			"", "application/json", "text/xml", "application/xml; charset=utf-16",
			"application/x-www-form-urlencoded", "text/plain; charset=latin1",
		} {
			node, format, err := document.Read(contentType, data)
			if err != nil {
				continue
			}
			switch format {
			case document.JSON:
				// What we take for JSON, the standard library takes too.
				if !json.Valid(unmarked(data)) {
					t.Fatalf("not JSON, yet read: %q", data)
				}
				if again, err := document.ReadJSON([]byte(document.WriteJSON(node,
					document.Style{Indent: " "}))); err != nil || !document.Equal(node, again) {
					t.Fatalf("%q does not come back: %v", data, err)
				}
			case document.XML:
				written := document.WriteXML(node, document.Style{})
				if again, err := document.ReadXML([]byte(written), ""); err != nil || !document.Equal(node, again) {
					t.Fatalf("%q is written as %q, which does not come back: %v", data, written, err)
				}
				decoder := xml.NewDecoder(strings.NewReader(written))
				for {
					_, err := decoder.Token()
					// The library has the names of XML 1.0's fourth edition; the fifth has more.
					if err == io.EOF || err != nil && strings.Contains(err.Error(), "invalid XML name") {
						break
					}
					if err != nil {
						t.Fatalf("%q is written as %q: %v", data, written, err)
					}
				}
			}
		}
	})
}
