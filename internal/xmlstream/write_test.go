package xmlstream

import (
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWriter(t *testing.T) {
	var out bytes.Buffer
	w := NewWriter(&out)
	w.Indent = "  "
	w.Declaration()
	w.Comment(" a -- b -")
	w.Start("h:lots")
	w.Attribute("xmlns:h", "urn:example:honey")
	w.Attribute("note", "\"a\"\r\n\t<b>&\x01")
	w.Start("empty")
	w.End()
	w.Start("mixed")
	w.Text("one\r ")
	w.Start("b")
	w.Text("]]> & <two>")
	w.End()
	w.End()
	w.Instruction("page", "break")
	w.Start("inner")
	w.Comment("may be left out")
	w.End()
	w.End()
	require.NoError(t, w.Close())
	require.Equal(t, `<?xml version="1.0" encoding="UTF-8"?>
<!-- a - - b - -->
<h:lots xmlns:h="urn:example:honey" note="&quot;a&quot;&#13;&#10;&#9;&lt;b&gt;&amp;�">
  <empty/>
  <mixed>one&#13; <b>]]&gt; &amp; &lt;two&gt;</b></mixed>
  <?page break?>
  <inner>
    <!--may be left out-->
  </inner>
</h:lots>`, out.String())
	require.NoError(t, readAll(NewReader(&out, Options{})))
}

func TestWriterRefuses(t *testing.T) {
	for want, write := range map[string]func(*Writer){
		`"2nd" is not a name that an element can have`: func(w *Writer) { w.Start("2nd"); w.End() },
		`"a b" is not a name that an attribute can have`: func(w *Writer) {
			w.Start("a")
			w.Attribute("a b", "")
			w.End()
		},
		"the attribute b comes after the tag": func(w *Writer) {
			w.Start("a")
			w.Text("x")
			w.Attribute("b", "")
			w.End()
		},
		"<a> is not closed":                        func(w *Writer) { w.Start("a") },
		"no element is open":                       func(w *Writer) { w.End() },
		"text is outside of the root element":      func(w *Writer) { w.Text("x") },
		"<?xml ?> is not a processing instruction": func(w *Writer) { w.Instruction("xml", "") },
		"full": func(w *Writer) {
			w.out = full{}
			w.Start("a")
			w.Text(strings.Repeat("x", 1<<16))
			w.End()
		},
	} {
		w := NewWriter(new(bytes.Buffer))
		write(w)
		require.EqualError(t, w.Close(), want)
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("full") }

// Whatever text goes in comes out of a reader again.
func FuzzEscape(f *testing.F) {
	f.Add("a<b>&\"'\r\n\t]]> ö 𝄞")
	f.Fuzz(func(t *testing.T, text string) {
		var out bytes.Buffer
		w := NewWriter(&out)
		w.Start("a")
		w.Attribute("v", text)
		w.Text(text)
		w.End()
		require.NoError(t, w.Close())
		r := NewReader(&out, Options{})
		_, err := r.Next()
		require.NoError(t, err)
		value, got := string(r.Attrs()[0].Value), ""
		for {
			kind, err := r.Next()
			require.NoError(t, err)
			if kind == End {
				break
			}
			got += string(r.Text())
		}
		if IsText(text) {
			require.Equal(t, text, got)
			require.Equal(t, text, value)
		} else {
			require.Equal(t, value, got)
		}
	})
}

func readAll(r *Reader) error {
	for {
		if _, err := r.Next(); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
	}
}
