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
		{"UTF-8 by the transport, whatever is declared", "utf-8", `<?xml version="1.0" encoding="us-ascii"?>` + text, "Hönig € 𝄞"},
		{"UTF-16 big with a mark", "", string(pairs(text, true, true)), "Hönig € 𝄞"},
		{"UTF-16 little with a mark", "", string(pairs(text, false, true)), "Hönig € 𝄞"},
		{"UTF-16 big without", "", string(pairs(text, true, false)), "Hönig € 𝄞"},
		{"UTF-16 little without", "utf-16", string(pairs(text, false, false)), "Hönig € 𝄞"},
		{"UTF-16 declared", "", string(pairs(`<?xml version="1.0" encoding="UTF-16"?>`+text, false, true)), "Hönig € 𝄞"},
		{"a mark before what the transport says", "iso-8859-1", string(pairs(text, false, true)), "Hönig € 𝄞"},
		{"ISO-8859-1 declared", "", `<?xml version="1.0" encoding="ISO-8859-1"?>` + single(latin, "ö", "\xf6"), "Hönig"},
		{"ISO-8859-1 by the transport", "ISO-8859-1", single(latin, "ö", "\xf6"), "Hönig"},
		{"a control character of ISO-8859-1", "iso-8859-1", "<p>\x80</p>", "\u0080"},
		{"windows-1252", "", `<?xml version='1.0' encoding='windows-1252'?>` + "<p>\x80 5</p>", "€ 5"},
		{"iso-8859-2 as another", "iso-8859-2", "<p>\xb3</p>", "ł"},
		{"US-ASCII", "us-ascii", "<p>&#246;</p>", "ö"},
		{"US-ASCII that is not", "us-ascii", "<p>\xf6</p>", "! line 1, column 4: the byte F6 is no character of us-ascii"},
		{"windows-1252 without a meaning", "windows-1252", "<p>\x81</p>", "! line 1, column 4: the byte 81 is no character of windows-1252"},
		{"half a pair", "", string(pairs("<p>", true, true)) + "\xd8\x00\x00<", "! line 1, column 4: it is UTF-16 and holds half a surrogate pair"},
		{"half a character", "", string(pairs("<p/>", true, true)) + "\x00", "! line 1, column 5: it is UTF-16 and ends in the middle of a character"},
		{"not UTF-8", "", "<p>H\xf6nig</p>", "! line 1, column 5: the byte F6 is not UTF-8 here; if the text is in another encoding, it must say so"},
		{"overlong", "", "<p>\xc0\xaf</p>", "! line 1, column 4: the byte C0 is not UTF-8 here; if the text is in another encoding, it must say so"},
		{"UTF-16 declared in bytes", "", `<?xml version="1.0" encoding="UTF-16"?><p/>`, "! line 1, column 1: it declares itself as UTF-16, but is not written so"},
		{"UTF-8 declared in UTF-16", "", string(pairs(`<?xml version="1.0" encoding="utf-8"?><p/>`, true, true)), "! line 1, column 1: it declares itself as utf-8, but is written as UTF-16"},
		{"unknown", "ebcdic", "<p/>", `! line 1, column 1: the character set "ebcdic" is not one that can be read; UTF-8, UTF-16 and those of one byte a character can`},
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
		{"<a>\n <b>\n</a>", "line 3, column 1: </a> stands where </b> should close"},
		{"<a>", "line 1, column 4: it ends before </a>"},
		{"<a", "line 1, column 3: it ends inside a tag"},
		{"<a><!-- ", "line 1, column 9: it ends inside a comment"},
		{"<a><![CDATA[ x", "line 1, column 15: it ends inside a CDATA section"},
		{"</a>", "line 1, column 1: </a> closes nothing"},
		{"<a/><b/>", "line 1, column 5: <b> is a second root element"},
		{"<a/>x", "line 1, column 5: text after the root element"},
		{"<a>&nbsp;</a>", "line 1, column 4: the entity &nbsp; is not declared; XML knows amp, lt, gt, quot and apos without a DOCTYPE"},
		{"<a>R&D</a>", "line 1, column 5: & begins a reference like &amp; and this one has no end; for the sign itself write &amp;"},
		{"<a>&#0;</a>", "line 1, column 4: the character U+0000 cannot stand in XML, not even as a reference"},
		{"<a>&#x110000;</a>", "line 1, column 4: &#x110000; is not a reference to a character"},
		{"<a>\x01</a>", "line 1, column 4: the character U+0001 cannot stand in XML, not even as a reference"},
		{"<a>\uffff</a>", "line 1, column 4: the character U+FFFF cannot stand in XML, not even as a reference"},
		{"<a>]]></a>", "line 1, column 4: ]]> cannot stand in text; write ]]&gt;"},
		{"<a><!-- a -- b --></a>", "line 1, column 11: -- cannot stand inside a comment"},
		{"<a b=c/>", "line 1, column 6: the value of the attribute b must stand in quotes"},
		{"<a b/>", "line 1, column 5: the attribute b of <a> has no value: = is missing"},
		{"<a b='<'/>", "line 1, column 7: < must be written &lt; in the value of an attribute"},
		{"<a b='1'c='2'/>", `line 1, column 9: "c" cannot stand here in the tag <a>`},
		{"<a b='1' b='2'/>", "line 1, column 10: the attribute b stands twice on <a>"},
		{"<a xmlns:p='u' xmlns:q='u' p:b='' q:b=''/>", "line 1, column 35: the attribute q:b stands twice on <a>"},
		{"<p:a/>", "line 1, column 2: the prefix p of <p:a> is not declared"},
		{"<a p:b=''/>", "line 1, column 4: the prefix p of the attribute p:b is not declared"},
		{"<a xmlns:p=''/>", "line 1, column 4: the prefix p is declared as empty"},
		{"<a><b xmlns:p='u'/><p:c/></a>", "line 1, column 21: the prefix p of <p:c> is not declared"},
		{"<a:b:c/>", "line 1, column 2: the name a:b:c can hold one colon, between a prefix and a name (Namespaces in XML)"},
		{"<a>1 < 2</a>", "line 1, column 6: < must be written &lt; where it does not begin a tag"},
		{"<a><?xml version='1.0'?></a>", "line 1, column 4: <?xml can stand only once and only at the very beginning"},
		{" <?xml version='1.0'?><a/>", "line 1, column 2: <?xml can stand only once and only at the very beginning"},
		{"<?xml version='2.0'?><a/>", `line 1, column 1: the XML declaration must say version 1.0, not "2.0"`},
		{"<?xml version='1.0' standalone='maybe'?><a/>", `line 1, column 1: standalone can be yes or no, not "maybe"`},
		{"<a>" + strings.Repeat("<b>", 1000), "line 1, column 3001: elements are nested deeper than 1000"},
	} {
		_, err := transcript(NewBytes([]byte(c.document), Options{}))
		require.EqualError(t, err, c.want, short([]byte(c.document)))
		_, err = transcript(newReader(iotest.OneByteReader(strings.NewReader(c.document)), Options{}, 8))
		require.EqualError(t, err, c.want, "in small pieces: %s", short([]byte(c.document)))
	}
}

func TestDoctypeIsToldApart(t *testing.T) {
	_, err := transcript(NewBytes([]byte("<?xml version='1.0'?>\n<!DOCTYPE a [<!ENTITY b 'c'>]>\n<a>&b;</a>"), Options{}))
	var e *Error
	require.ErrorAs(t, err, &e)
	require.True(t, e.Doctype)
	require.Equal(t, 2, e.Line)
}

func TestBounds(t *testing.T) {
	endless := func(head string) io.Reader {
		return io.MultiReader(strings.NewReader(head), io.LimitReader(iotest.DataErrReader(repeated('x')), 200<<20))
	}
	for name, head := range map[string]string{"a name": "<", "a value": "<a b='", "a comment": "<a><!--", "an instruction": "<a><?b "} {
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
	for _, s := range []string{"<a>]]&gt;</a>", "<a b='&#10;'\r\n/>", "\xff\xfe<\x00a\x00/\x00>\x00", "<?xml version='1.0' encoding='latin1'?><a>\xe4</a>", "<a><![CDATA[]]]]></a>"} {
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
