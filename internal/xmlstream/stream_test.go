package xmlstream

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var everything = Options{Comments: true, Instructions: true}

// transcript writes every token in a line, with text that comes in pieces joined.
func transcript(r *Reader) (string, error) {
	var out strings.Builder
	text := ""
	for {
		kind, err := r.Next()
		if kind != Text && text != "" {
			fmt.Fprintf(&out, "text %q\n", text)
			text = ""
		}
		if err != nil {
			if err == io.EOF {
				err = nil
			}
			return out.String(), err
		}
		at := r.Position()
		switch kind {
		case Start:
			fmt.Fprintf(&out, "%d:%d start {%s}%s", at.Line, at.Column, r.Name().Space, r.Name())
			for _, a := range r.Attrs() {
				at := r.At(a.Offset)
				fmt.Fprintf(&out, " %d:%d {%s}%s=%q", at.Line, at.Column, a.Name.Space, a.Name, a.Value)
			}
			out.WriteByte('\n')
		case End:
			fmt.Fprintf(&out, "end %s\n", r.Name())
		case Text:
			text += string(r.Text())
		case Comment:
			fmt.Fprintf(&out, "%d:%d comment %q\n", at.Line, at.Column, r.Text())
		case Instruction:
			fmt.Fprintf(&out, "%d:%d instruction %s %q\n", at.Line, at.Column, r.Name(), r.Text())
		}
	}
}

const honey = `<?xml version="1.0" encoding="utf-8"?>
<!-- lots of the day -->
<?page break?>
<h:lots xmlns:h="urn:example:honey" xmlns="urn:example:plain"
        day='2026-05-04'>
  <lot h:id="L-1&amp;&#x32;" note="two
lines&#10;and	a tab">Lärche &lt;3 ` + "\r\n" + `<![CDATA[a < b && c ]] ]]]]><![CDATA[>]]></lot><empty xmlns=""/>
</h:lots>
<!--end-->`

const honeyTokens = `2:1 comment " lots of the day "
3:1 instruction page "break"
4:1 start {urn:example:honey}h:lots 4:9 {http://www.w3.org/2000/xmlns/}xmlns:h="urn:example:honey" 4:37 {http://www.w3.org/2000/xmlns/}xmlns="urn:example:plain" 5:9 {}day="2026-05-04"
text "\n  "
6:3 start {urn:example:plain}lot 6:8 {urn:example:honey}h:id="L-1&2" 6:30 {}note="two lines\nand a tab"
text "Lärche <3 \na < b && c ]] ]]>"
end lot
8:48 start {}empty 8:55 {http://www.w3.org/2000/xmlns/}xmlns=""
end empty
text "\n"
end h:lots
10:1 comment "end"
`

func TestTokens(t *testing.T) {
	whole, err := transcript(NewBytes([]byte(honey), everything))
	require.NoError(t, err)
	require.Equal(t, honeyTokens, whole)
	for _, chunk := range []int{8, 13, 16, 21, 64, 100} {
		small, err := transcript(newReader(iotest.OneByteReader(strings.NewReader(honey)), everything, chunk))
		require.NoError(t, err, "in pieces of %d", chunk)
		require.Equal(t, honeyTokens, small, "in pieces of %d", chunk)
	}
}

// What the references and line ends of a document stand for, whatever pieces it comes in.
func TestText(t *testing.T) {
	for _, c := range []struct{ document, want string }{
		{"<a>&#xaF;&#xAf;&#0065;&quot;&apos;&gt;</a>", "1:1 start {}a\ntext \"\u00af\u00afA\\\"'>\"\nend a\n"},
		{
			"<a b='&#" + strings.Repeat("0", 60) + "65;'>&#x" + strings.Repeat("0", 90) + "42;</a>",
			"1:1 start {}a 1:4 {}b=\"A\"\ntext \"B\"\nend a\n",
		},
		{"<a>\r\r\n\n\r</a>", "1:1 start {}a\ntext \"\\n\\n\\n\\n\"\nend a\n"},
		{"<a b='\r\n\t&#13;&#10;&#9;\r'/>", "1:1 start {}a 1:4 {}b=\"  \\r\\n\\t \"\nend a\n"},
		{"<a><?b c?d>?><?e?></a>", "1:1 start {}a\n1:4 instruction b \"c?d>\"\n1:14 instruction e \"\"\nend a\n"},
		{
			"<a><!---->\r\n<!-- x\r\n--></a>",
			"1:1 start {}a\n1:4 comment \"\"\ntext \"\\n\"\n2:1 comment \" x\\n\"\nend a\n",
		},
		{"<a><![CDATA[]]]]>]&gt;<![CDATA[]]></a >", "1:1 start {}a\ntext \"]]]>\"\nend a\n"},
		{
			"<a xml:lang='de' xmlns:xml='http://www.w3.org/XML/1998/namespace'/>",
			"1:1 start {}a 1:4 {http://www.w3.org/XML/1998/namespace}xml:lang=\"de\" 1:18 {http://www.w3.org/2000/xmlns/}xmlns:xml=\"http://www.w3.org/XML/1998/namespace\"\nend a\n",
		},
		{"<é ü='1'\n>\U0001D11E</é>", "1:1 start {}é 1:4 {}ü=\"1\"\ntext \"𝄞\"\nend é\n"},
	} {
		for chunk := 8; chunk < 40; chunk++ {
			got, err := transcript(newReader(iotest.OneByteReader(strings.NewReader(c.document)), everything, chunk))
			require.NoError(t, err, c.document)
			require.Equal(t, c.want, got, "%s in pieces of %d", c.document, chunk)
		}
	}
	wide, err := transcript(NewBytes([]byte("<a "+attributes(40)+"/>"), everything))
	require.NoError(t, err)
	require.Contains(t, wide, "{}n39=\"39\"\nend a")
}

func TestEncodings(t *testing.T) {
	pairs := func(text string, big, mark bool) []byte {
		var out []byte
		units := utf16.Encode([]rune(text))
		if mark {
			units = append([]uint16{0xFEFF}, units...)
		}
		for _, u := range units {
			if big {
				out = append(out, byte(u>>8), byte(u))
			} else {
				out = append(out, byte(u), byte(u>>8))
			}
		}
		return out
	}
	const text = `<p>Hönig € 𝄞</p>`
	const latin = `<p>Hönig</p>`
	single := strings.ReplaceAll
	for _, c := range []struct {
		name, charset, data, want string
	}{
		{"UTF-8", "", text, "Hönig € 𝄞"},
		{"UTF-8 with a mark", "", "\ufeff" + text, "Hönig € 𝄞"},
		{
			"UTF-8 by the transport, whatever is declared", "utf-8", `<?xml version="1.0" encoding="us-ascii"?>` + text,
			"Hönig € 𝄞",
		},
		{"UTF-16 big with a mark", "", string(pairs(text, true, true)), "Hönig € 𝄞"},
		{"UTF-16 little with a mark", "", string(pairs(text, false, true)), "Hönig € 𝄞"},
		{"UTF-16 big without", "", string(pairs(text, true, false)), "Hönig € 𝄞"},
		{"UTF-16 little without", "utf-16", string(pairs(text, false, false)), "Hönig € 𝄞"},
		{
			"UTF-16 declared", "", string(pairs(`<?xml version="1.0" encoding="UTF-16"?>`+text, false, true)),
			"Hönig € 𝄞",
		},
		{"a mark before what the transport says", "iso-8859-1", string(pairs(text, false, true)), "Hönig € 𝄞"},
		{
			"ISO-8859-1 declared", "", `<?xml version="1.0" encoding="ISO-8859-1"?>` + single(latin, "ö", "\xf6"),
			"Hönig",
		},
		{"ISO-8859-1 by the transport", "ISO-8859-1", single(latin, "ö", "\xf6"), "Hönig"},
		{"a control character of ISO-8859-1", "iso-8859-1", "<p>\x80</p>", "\u0080"},
		{"windows-1252", "", `<?xml version='1.0' encoding='windows-1252'?>` + "<p>\x80 5</p>", "€ 5"},
		{"iso-8859-2 as another", "iso-8859-2", "<p>\xb3</p>", "ł"},
		{"US-ASCII", "us-ascii", "<p>&#246;</p>", "ö"},
		{
			"US-ASCII that is not", "us-ascii", "<p>\xf6</p>",
			"! line 1, column 4: the byte F6 is not a character of us-ascii",
		},
		{
			"windows-1252 without a meaning", "windows-1252", "<p>\x81</p>",
			"! line 1, column 4: the byte 81 is not a character of windows-1252",
		},
		{
			"half a pair", "", string(pairs("<p>", true, true)) + "\xd8\x00\x00<",
			"! line 1, column 4: it is UTF-16 and holds half a surrogate pair",
		},
		{
			"half a character", "", string(pairs("<p/>", true, true)) + "\x00",
			"! line 1, column 5: it is UTF-16 and ends in the middle of a character",
		},
		{
			"not UTF-8", "", "<p>H\xf6nig</p>",
			"! line 1, column 5: the byte F6 is not UTF-8 here; if the text is in another encoding, it must say so",
		},
		{
			"overlong", "", "<p>\xc0\xaf</p>",
			"! line 1, column 4: the byte C0 is not UTF-8 here; if the text is in another encoding, it must say so",
		},
		{
			"UTF-16 declared in bytes", "", `<?xml version="1.0" encoding="UTF-16"?><p/>`,
			"! line 1, column 1: it declares itself as UTF-16, but is not written so",
		},
		{
			"UTF-8 declared in UTF-16", "", string(pairs(`<?xml version="1.0" encoding="utf-8"?><p/>`, true, true)),
			"! line 1, column 1: it declares itself as utf-8, but is written as UTF-16",
		},
		{"UTF-16LE by the transport", "utf-16le", string(pairs(text, false, false)), "Hönig € 𝄞"},
		{"UTF-16BE by the transport", "UTF-16BE", string(pairs(text, true, false)), "Hönig € 𝄞"},
		{
			"a mark of UTF-8 and another name", "", "\ufeff" + `<?xml version="1.0" encoding="iso-8859-1"?><p/>`,
			"! line 1, column 1: it declares itself as iso-8859-1, but begins with the mark of UTF-8",
		},
		{
			"no name, where the transport says it", "utf-8", `<?xml version="1.0" encoding="8bit"?><p/>`,
			`! line 1, column 1: "8bit" is not the name of an encoding`,
		},
		{
			"declared without quotes", "", `<?xml version="1.0" encoding=utf-8?><p/>`,
			"! line 1, column 30: the value of encoding in the XML declaration must be in quotes",
		},
		{
			"unknown", "ebcdic", "<p/>",
			`! line 1, column 1: the character set "ebcdic" is not one that can be read; UTF-8, UTF-16 and those of one byte a character can`,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			for _, r := range []*Reader{
				NewBytes([]byte(c.data), Options{Charset: c.charset}),
				newReader(iotest.HalfReader(strings.NewReader(c.data)), Options{Charset: c.charset}, 512),
			} {
				text := ""
				for {
					kind, err := r.Next()
					if err == io.EOF {
						break
					}
					if err != nil {
						text = "! " + err.Error()
						break
					}
					if kind == Text {
						text += string(r.Text())
					}
				}
				assert.Equal(t, c.want, text)
			}
		})
	}
}

func TestNotWellFormed(t *testing.T) {
	for _, c := range []struct{ document, want string }{
		{"", "line 1, column 1: it is empty"},
		{" \n ", "line 2, column 2: there is no element in it"},
		{"<!-- a -->", "line 1, column 11: there is no element in it"},
		{"not XML at all", `line 1, column 1: it does not begin with < as XML does, but with "not XML at all"`},
		{`{"lot": 1}`, `line 1, column 1: it does not begin with < as XML does, but with "{\"lot\": 1}"`},
		{"<a>\n <b>\n</a>", "line 3, column 1: </a> found where </b> is expected"},
		{"<a>", "line 1, column 4: it ends before </a>"},
		{"<a", "line 1, column 3: it ends inside a tag"},
		{"<a><!-- ", "line 1, column 9: it ends inside a comment"},
		{"<a><![CDATA[ x", "line 1, column 15: it ends inside a CDATA section"},
		{"</a>", "line 1, column 1: </a> closes nothing"},
		{"<a/><b/>", "line 1, column 5: <b> is a second root element"},
		{"<a/>x", "line 1, column 5: text after the root element"},
		{"<a>&nbsp;</a>", "line 1, column 4: the entity &nbsp; is not declared; XML knows amp, lt, gt, quot and apos without a DOCTYPE"},
		{"<a>R&D</a>", "line 1, column 5: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a>&#0;</a>", "line 1, column 4: the character U+0000 is not allowed in XML, not even as a reference"},
		{"<a>&#x110000;</a>", "line 1, column 4: &#x110000; is not a reference to a character"},
		{"<a>\x01</a>", "line 1, column 4: the character U+0001 is not allowed in XML, not even as a reference"},
		{"<a>\uffff</a>", "line 1, column 4: the character U+FFFF is not allowed in XML, not even as a reference"},
		{"<a>]]></a>", "line 1, column 4: ]]> is not allowed in text; write ]]&gt;"},
		{"<a><!-- a -- b --></a>", "line 1, column 11: -- is not allowed inside a comment"},
		{"<a b=c/>", "line 1, column 6: the value of the attribute b must be in quotes"},
		{"<a b/>", "line 1, column 5: the attribute b of <a> has no value: = is missing"},
		{"<a b='<'/>", "line 1, column 7: < must be written &lt; in the value of an attribute"},
		{"<a b='1'c='2'/>", `line 1, column 9: "c" is not allowed here in the tag <a>`},
		{"<a b='1' b='2'/>", "line 1, column 10: the attribute b is there twice on <a>"},
		{"<a xmlns:p='u' xmlns:q='u' p:b='' q:b=''/>", "line 1, column 35: the attribute q:b is there twice on <a>"},
		{"<p:a/>", "line 1, column 2: the prefix p of <p:a> is not declared"},
		{"<a p:b=''/>", "line 1, column 4: the prefix p of the attribute p:b is not declared"},
		{"<a xmlns:p=''/>", "line 1, column 4: the prefix p is declared as empty"},
		{"<a><b xmlns:p='u'/><p:c/></a>", "line 1, column 21: the prefix p of <p:c> is not declared"},
		{"<a:b:c/>", "line 1, column 2: the name a:b:c can hold one colon, between a prefix and a name (Namespaces in XML)"},
		{"<a>1 < 2</a>", "line 1, column 6: < must be written &lt; where it does not begin a tag"},
		{"<a><?xml version='1.0'?></a>", "line 1, column 4: <?xml is allowed only once and only at the very beginning"},
		{" <?xml version='1.0'?><a/>", "line 1, column 2: <?xml is allowed only once and only at the very beginning"},
		{"<?xml version='2.0'?><a/>", `line 1, column 1: the XML declaration must say version 1.0, not "2.0"`},
		{"<?xml version='1.0' standalone='maybe'?><a/>", `line 1, column 1: standalone can be yes or no, not "maybe"`},
		{"<a>" + strings.Repeat("<b>", 1000), "line 1, column 3001: elements are nested deeper than 1000"},
		{"<?xml", "line 1, column 6: it ends inside a processing instruction"},
		{"<?xml version='1.0'", "line 1, column 1: the XML declaration has no end"},
		{"<?xml encoding='utf-8'?><a/>", "line 1, column 7: the XML declaration must begin with version"},
		{
			"<?xml version=1.0?><a/>",
			"line 1, column 15: the value of version in the XML declaration must be in quotes",
		},
		{"<?xml version '1.0'?><a/>", "line 1, column 15: version in the XML declaration needs = and a value"},
		{"<?xml version='1.0?><a/>", "line 1, column 15: the value of version in the XML declaration has no end"},
		{
			"<?xml version='1.0' encoding='8bit'?><a/>",
			`line 1, column 1: the character set "8bit" is not one that can be read; UTF-8, UTF-16 and those of one byte a character can`,
		},
		{
			"<?xml version='1.0' standalone='yes' encoding='utf-8'?><a/>",
			`line 1, column 38: "encoding='utf-8'" is not allowed in the XML declaration: it has version, encoding and standalone, in this order`,
		},
		{
			"<?xml version='1.0' lang='de'?><a/>",
			`line 1, column 21: "lang='de'" is not allowed in the XML declaration: it has version, encoding and standalone, in this order`,
		},
		{"<![CDATA[x]]><a/>", "line 1, column 1: a CDATA section is not allowed outside of the root element"},
		{
			"<a><!ELEMENT b></a>",
			"line 1, column 4: <! begins a comment (<!--) or a CDATA section (<![CDATA[) here, and this is neither",
		},
		{"<a></ b></a>", `line 1, column 4: "</ b>" is not an end tag`},
		{"<a><1/></a>", "line 1, column 4: < must be written &lt; where it does not begin a tag"},
		{"<\xff/>", "line 1, column 2: the byte FF is not UTF-8 here; if the text is in another encoding, it must say so"},
		{"<a / >", "line 1, column 4: / is allowed in a tag only before its >"},
		{"<a>&</a>", "line 1, column 4: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a>& b;</a>", "line 1, column 4: & must be written &amp; where it does not begin a reference"},
		{"<a>&#xZ;</a>", "line 1, column 4: &#xZ; is not a reference to a character"},
		{"<a>&#1", "line 1, column 4: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a>&#", "line 1, column 4: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a b='\x02'/>", "line 1, column 7: the character U+0002 is not allowed in XML, not even as a reference"},
		{"<a b='&#2;'/>", "line 1, column 7: the character U+0002 is not allowed in XML, not even as a reference"},
		{"<a b='c", "line 1, column 8: it ends inside a tag"},
		{"<a b='&lt", "line 1, column 7: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{
			"<a><!-- \x03 --></a>",
			"line 1, column 9: the character U+0003 is not allowed in XML, not even as a reference",
		},
		{
			"<a><!-- \xf6 --></a>",
			"line 1, column 9: the byte F6 is not UTF-8 here; if the text is in another encoding, it must say so",
		},
		{
			"<a><![CDATA[\ufffe]]></a>",
			"line 1, column 13: the character U+FFFE is not allowed in XML, not even as a reference",
		},
		{"<a><? b?></a>", "line 1, column 4: a processing instruction needs a name"},
		{"<a><??></a>", "line 1, column 4: a processing instruction needs a name"},
		{"<a><?></a>", "line 1, column 11: it ends inside a processing instruction"},
		{"<a><?1?></a>", `line 1, column 6: "1" is not a name for a processing instruction`},
		{"<a><?b:c d?></a>", "line 1, column 6: the name b:c of a processing instruction cannot hold a colon (Namespaces in XML)"},
		{"<a><?b", "line 1, column 7: it ends inside a processing instruction"},
		{"<a></a", "line 1, column 7: it ends inside an end tag"},
		{"<a>x &amp", "line 1, column 6: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a>H\xc3", "line 1, column 5: it ends in the middle of a character"},
		{"<a xmlns:xmlns='u'/>", "line 1, column 4: the prefix xmlns cannot be declared"},
		{"<a xmlns:xml='u'/>", "line 1, column 4: the prefix xml and the namespace http://www.w3.org/XML/1998/namespace belong together and to nothing else"},
		{
			"<a xmlns:b='http://www.w3.org/XML/1998/namespace'/>",
			"line 1, column 4: the prefix xml and the namespace http://www.w3.org/XML/1998/namespace belong together and to nothing else",
		},
		{
			"<a xmlns:b='http://www.w3.org/2000/xmlns/'/>",
			"line 1, column 4: the namespace http://www.w3.org/2000/xmlns/ cannot be declared",
		},
		{"<a xmlns='' xmlns=''/>", "line 1, column 13: the attribute xmlns is there twice on <a>"},
		{
			"<a " + attributes(20) + " xmlns='' xmlns=''/>",
			"line 1, column 173: the attribute xmlns is there twice on <a>",
		},
		{"<a " + attributes(20) + " n7=''/>", "line 1, column 164: the attribute n7 is there twice on <a>"},
		{
			"<a " + attributes(20) + " xmlns:p='u' xmlns:q='u' p:n7='' q:n7=''/>",
			"line 1, column 196: the attribute q:n7 is there twice on <a>",
		},
		{
			"<a " + attributes(20) + " xmlns:p='u' xmlns:p='v'/>",
			"line 1, column 176: the attribute xmlns:p is there twice on <a>",
		},
	} {
		_, err := transcript(NewBytes([]byte(c.document), Options{}))
		require.EqualError(t, err, c.want, "%.60s", c.document)
		_, err = transcript(newReader(iotest.OneByteReader(strings.NewReader(c.document)), Options{}, 8))
		require.EqualError(t, err, c.want, "in small pieces: %s", "%.60s", c.document)
	}
}

// Attributes writes so many different attributes of a tag.
func attributes(count int) string {
	list := make([]string, count)
	for i := range list {
		list[i] = fmt.Sprintf("n%d='%d'", i, i)
	}
	return strings.Join(list, " ")
}

func TestDoctypeIsToldApart(t *testing.T) {
	_, err := transcript(NewBytes([]byte("<?xml version='1.0'?>\n<!DOCTYPE a [<!ENTITY b 'c'>]>\n<a>&b;</a>"),
		Options{}))
	var e *Error
	require.ErrorAs(t, err, &e)
	require.True(t, e.Doctype)
	require.Equal(t, 2, e.Line)
}

func TestBounds(t *testing.T) {
	endless := func(head string) io.Reader {
		return io.MultiReader(strings.NewReader(head), io.LimitReader(iotest.DataErrReader(repeated('x')), 200<<20))
	}
	for name, head := range map[string]string{
		"a name": "<", "a value": "<a b='", "a comment": "<a><!--",
		"an instruction": "<a><?b ",
	} {
		r := NewReader(endless(head), Options{MaxToken: 1 << 20})
		_, err := transcript(r)
		var e *Error
		require.ErrorAs(t, err, &e, name)
		require.True(t, e.Limit, "%s: %v", name, err)
		require.Less(t, len(r.buf), 8<<20, name)
	}
	r := NewReader(endless("<a>"), Options{})
	length := 0
	for {
		kind, err := r.Next()
		if err != nil {
			require.ErrorContains(t, err, "it ends before </a>")
			break
		}
		if kind == Text {
			length += len(r.Text())
		}
	}
	require.Equal(t, 200<<20, length)
	require.LessOrEqual(t, len(r.buf), 2*chunkSize, "character data has no bound and takes no memory")
}

type repeated byte

func (c repeated) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(c)
	}
	return len(p), nil
}

// A document of ever new names and prefixes goes on after the table was emptied.
func TestManyNames(t *testing.T) {
	var out bytes.Buffer
	out.WriteString(`<k:root xmlns:k="urn:kept">`)
	for i := range 3 * mostNames {
		fmt.Fprintf(&out, `<p%d:n%d xmlns:p%d="u%d" k:x="1"/>`, i, i, i, i)
	}
	out.WriteString(`</k:root>`)
	r := NewReader(&out, Options{})
	for {
		if _, err := r.Next(); err == io.EOF {
			break
		} else {
			require.NoError(t, err)
		}
		if r.Name().Prefix != "k" {
			require.Equal(t, "u"+r.Name().Local[1:], r.Name().Space)
		}
	}
	require.LessOrEqual(t, r.names.count, mostNames+10)
}

func TestSourceFails(t *testing.T) {
	broken := errors.New("the line went dead")
	_, err := transcript(NewReader(io.MultiReader(strings.NewReader("<a>"), iotest.ErrReader(broken)), Options{}))
	require.ErrorIs(t, err, broken)
}

func FuzzReader(f *testing.F) {
	f.Add([]byte(honey), uint8(16))
	for _, s := range []string{
		"<a>]]&gt;</a>", "<a b='&#10;'\r\n/>", "\xff\xfe<\x00a\x00/\x00>\x00",
		"<?xml version='1.0' encoding='latin1'?><a>\xe4</a>", "<a><![CDATA[]]]]></a>",
	} {
		f.Add([]byte(s), uint8(9))
	}
	f.Fuzz(func(t *testing.T, document []byte, chunk uint8) {
		whole, wholeErr := transcript(NewBytes(document, everything))
		small, smallErr := transcript(newReader(bytes.NewReader(document), everything, 8+int(chunk)))
		require.Equal(t, wholeErr == nil, smallErr == nil, "%v, in pieces %v", wholeErr, smallErr)
		if wholeErr == nil {
			require.Equal(t, whole, small)
		} else {
			require.Equal(t, wholeErr.Error(), smallErr.Error())
		}
	})
}

// An element that ends tells where it began, however long ago that was and whatever was asked meanwhile.
func TestOpened(t *testing.T) {
	t.Parallel()
	document := "<ä>\n"
	for i := range 40 {
		document += fmt.Sprintf("<b>%s\n<c/><d x='%d'>ö%s</d></b>\n", strings.Repeat("ab\n", i%7), i, strings.Repeat("e", i*3))
	}
	document += "</ä>"
	for _, chunk := range []int{8, 21, 64, 1024} {
		for _, often := range []int{0, 1, 3} { // how often a place is asked for
			all := NewBytes([]byte(document), Options{})
			r := newReader(strings.NewReader(document), Options{}, chunk)
			var starts []Position
			for count := 0; ; count++ {
				kind, err := r.Next()
				if err == io.EOF {
					break
				}
				require.NoError(t, err)
				for kind != Text || all.EndOffset() < r.EndOffset() {
					other, err := all.Next()
					require.NoError(t, err)
					if other == Start {
						starts = append(starts, all.Position())
					}
					if other == kind {
						break
					}
				}
				if often > 0 && count%often == 0 {
					r.Position()
				}
				if kind == End {
					require.Equal(t, starts[len(starts)-1], r.Opened(), "chunks of %d, asked %d", chunk, often)
					starts = starts[:len(starts)-1]
				}
			}
			assert.Empty(t, starts)
		}
	}
}
