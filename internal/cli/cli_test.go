package cli

import (
	"bytes"
	"flag"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/secret"
)

// Options stand anywhere among the arguments; after -- nothing is one.
func TestParse(t *testing.T) {
	cases := []struct {
		args       string
		positional string
		site       string
		err        string
	}{
		{"a -site s b", "a b", "s", ""},
		{"-site=s a b", "a b", "s", ""},
		{"a b --site s", "a b", "s", ""},
		{"a -- -site s", "a -site s", "", ""},
		{"x=-5 a", "x=-5 a", "", ""},
		{"a -sites s", "", "", `did you mean "-site"?`},
		{"a -site", "", "", "-site needs a value"},
		{"a -most x", "", "", "-most takes a whole number, not \"x\""},
	}
	for _, c := range cases {
		flags := flag.NewFlagSet("call", flag.ContinueOnError)
		flags.SetOutput(io.Discard)
		site := flags.String("site", "", "")
		flags.Int("most", 1, "")
		positional, err := parse(flags, strings.Fields(c.args))
		if c.err != "" {
			require.Error(t, err, c.args)
			usage := err.(*usageError)
			assert.Contains(t, usage.message+" "+usage.try, c.err, c.args)
			continue
		}
		require.NoError(t, err, c.args)
		assert.Equal(t, c.positional, strings.Join(positional, " "), c.args)
		assert.Equal(t, c.site, *site, c.args)
	}
}

func TestParseRows(t *testing.T) {
	rows, err := parseRows("3, 5-7")
	require.NoError(t, err)
	assert.Equal(t, [][2]int{{3, 3}, {5, 7}}, rows)
	for _, text := range []string{"0", "7-5", "x", "1-", "1,,2", "-3"} {
		_, err := parseRows(text)
		assert.Error(t, err, text)
	}
}

func TestWords(t *testing.T) {
	assert.Equal(t, "1 row", count(1, "row"))
	assert.Equal(t, "0 rows", count(0, "row"))
	for d, want := range map[time.Duration]string{
		1500 * time.Microsecond: "1.5 ms", 99 * time.Millisecond: "99 ms",
		12 * time.Second: "12.0 s",
	} {
		assert.Equal(t, want, milliseconds(d))
	}
	for n, want := range map[int]string{999: "999 B", 1500: "1.5 kB", 64_000_000: "64.0 MB"} {
		assert.Equal(t, want, size(n))
	}
	for d, want := range map[time.Duration]string{
		0: "less than a second", 40 * time.Second: "40 s",
		65 * time.Minute: "1 h 5 min", 49*time.Hour + time.Second: "2 d 1 h",
	} {
		assert.Equal(t, want, inWords(d))
	}
}

func TestText(t *testing.T) {
	masker := &secret.Masker{}
	masker.Hide("a pass  phrase with blanks")
	masker.Hide("sealed-key-77")
	tell := newTeller(io.Discard, io.Discard, masker)
	assert.Equal(t, "abc  ", tell.fit("abc", 5))
	assert.Equal(t, "abc…", tell.fit("abcdef", 4))
	assert.Equal(t, "蜂蜜…", tell.fit("蜂蜜蜂蜜", 3))
	assert.Equal(t, `a b`, tell.fit("a\nb", 3))
	assert.Equal(t, "  one two\n  three", tell.wrap("one two three", 10, 2))
	assert.Equal(t, "status   expected 201", tell.wrap("status   expected 201", 40, 0), "three blanks stay")
	assert.Equal(t, `\x1b[31m\x9b\x202e ok`+"\n", tell.visible("\x1b[31m\u009b\u202e ok\n"))
	assert.Equal(t, "plain ü 蜂", tell.visible("plain ü 蜂"))
	assert.Equal(t, "step … (2 of 40)", tell.fitItem("step of a long name (2 of 40)", 16))

	// A secret is masked before it is cut, folded or joined.
	assert.Equal(t, "it is\n[masked].", tell.wrap("it is a pass  phrase with blanks.", 12, 0))
	assert.Equal(t, "it is\n[masked].", tell.wrap("it is a pass phrase with blanks.", 12, 0), "with its blanks as one")
	assert.Equal(t, "[masked] b…", tell.fit("sealed-key-77 behind", 11))
	assert.Equal(t, "a [masked]", tell.oneLine("a sealed-key-77"))
	assert.Equal(t, "s [… (2 of 40)", tell.fitItem("s sealed-key-77 (2 of 40)", 14))
}

func TestLayOut(t *testing.T) {
	node, err := document.ReadJSON([]byte(`{"a":[1]}`))
	require.NoError(t, err)
	assert.Equal(t, "{\n  \"a\": [\n    1\n  ]\n}", layOut(document.JSON, node, nil))
	node, err = document.ReadXML([]byte("<a><b>1</b><c>x<d/>y</c></a>"), "")
	require.NoError(t, err)
	assert.Equal(t, "<a>\n  <b>1</b>\n  <c>x<d/>y</c>\n</a>", layOut(document.XML, node, nil),
		"blanks are added only where they carry no content")
	assert.Equal(t, "(3 B of binary data)", layOut(document.Binary, document.NewUntyped("x"), []byte("\x00\x01\xff")))
	for sent, shown := range map[string]string{
		"plain": "plain", "sp\xe4te Ernte\r\n": "sp\ufffdte Ernte\r\n",
		"\x1b[31mred\tand a text": "\x1b[31mred\tand a text",
		"a\x00text":               "(6 B of binary data)", "\x01\x02abcdefgh\x7f\x80": "(12 B of binary data)",
	} {
		assert.Equal(t, shown, layOut(document.Plain, document.NewUntyped(sent), []byte(sent)))
	}
}

// A terminal is shown values in the colour of their kind and the first of what there is
// much of; a secret is masked before it could be cut.
func TestBody(t *testing.T) {
	var out bytes.Buffer
	key := strings.Repeat("sealed-key-77-", 40)
	masker := &secret.Masker{}
	masker.Hide(key)
	s := &session{tell: newTeller(&out, &out, masker), masker: masker}
	s.tell.terminal, s.tell.colour = true, true
	json, err := document.ReadJSON([]byte(`{"n": -1.50, "yes": true, "list": [` + strings.Repeat(`"x",`, 40) +
		`null], "long": "` + strings.Repeat("é", 400) + `", "key": "` + key + `", "odd": "1 … \u001b[31m\" }"}`))
	require.NoError(t, err)
	s.tell.printf("%s\n", bodyText(s, document.JSON, json, nil, "  "))
	s.tell.close()
	text := out.String()
	for _, says := range []string{
		"  \x1b[1m\"n\"\x1b[0m: \x1b[36m-1.50\x1b[0m,", "\x1b[35mtrue\x1b[0m",
		"\x1b[2m… 29 more of 41\x1b[0m", strings.Repeat("é", 280) + "… (400 characters)", `\"key\"`,
	} {
		assert.Contains(t, text, strings.ReplaceAll(says, `\"`, `"`))
	}
	assert.NotContains(t, text, "sealed-key")
	assert.NotContains(t, text, "\x1b[31m")
	assert.Equal(t, 12, strings.Count(text, `"x"`))
	xml, err := document.ReadXML([]byte(`<a b="1">`+strings.Repeat("<lot>5</lot>", 30)+`<t>text</t></a>`), "")
	require.NoError(t, err)
	text = bodyText(s, document.XML, xml, nil, "")
	for _, says := range []string{
		"<a b=\x1b[32m\"1\"\x1b[0m>", "\x1b[36m5\x1b[0m",
		"\x1b[2m<!-- 18 more of 30 lot -->\x1b[0m", "\x1b[32mtext\x1b[0m",
	} {
		assert.Contains(t, text, says)
	}
	s.full = true
	assert.Equal(t, 40, strings.Count(bodyText(s, document.JSON, json, nil, ""), `"x"`))
	assert.Equal(t, "(8 B of binary data, image/png)",
		bodyText(s, document.Binary, nil, []byte("\x89PNG\x0d\x0a\x1a\x0a"), ""))
	assert.Equal(t, "(3 B of binary data)", bodyText(s, document.JSON, nil, []byte("\x00\x01\xff"), ""),
		"its size has no colour")
}

// What goes to a printer is masked, whichever way it goes.
func TestTeller(t *testing.T) {
	var out, err bytes.Buffer
	masker := &secret.Masker{}
	masker.Hide("sealed-key-77")
	tell := newTeller(&out, &err, masker)
	tell.printf("a sealed-key-77\n")
	tell.note("b sealed-key-77")
	require.NoError(t, tell.json(map[string]string{"c": "sealed-key-77"}))
	tell.fail(usagef("d sealed-key-77", "e sealed-key-77"))
	tell.close()
	assert.NotContains(t, out.String()+err.String(), "sealed-key-77")
	assert.Equal(t, 5, strings.Count(out.String()+err.String(), "[masked]"))
	assert.NotContains(t, out.String(), "\x1b", "no colour where there is no terminal")
}
