package document_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// The shapes are those of the examples in Exclusive XML Canonicalization 1.0,
// section 2.2, and Canonical XML 1.0, section 3.
func TestCanonicalXML(t *testing.T) {
	cases := []struct {
		name, source, apex string
		how                document.Canonical
		want               string
	}{
		{
			"attributes and empty elements",
			`<doc><e1   /><e3   name = "elem3"   id="elem3"   /><e5 a:attr="out" b:attr="sorted" attr2="all" attr="I'm" xmlns:b="http://www.ietf.org" xmlns:a="http://www.w3.org" xmlns="http://example.org"/></doc>`, "doc",
			document.Canonical{},
			`<doc><e1></e1><e3 id="elem3" name="elem3"></e3><e5 xmlns="http://example.org" xmlns:a="http://www.w3.org" xmlns:b="http://www.ietf.org" attr="I'm" attr2="all" b:attr="sorted" a:attr="out"></e5></doc>`,
		},
		{
			"references", "<doc a=\"&#9;&#10;&#13;&lt;>'&quot;&amp;\">&#13;\n<![CDATA[<&>]]>\"'</doc>", "doc",
			document.Canonical{},
			"<doc a=\"&#x9;&#xA;&#xD;&lt;>'&quot;&amp;\">&#xD;\n&lt;&amp;&gt;\"'</doc>",
		},
		{
			"an inherited namespace that nothing uses",
			`<n0:local xmlns:n0="foo:bar" xmlns:n3="ftp://example.org"><n1:elem2 xmlns:n1="http://example.net" xml:lang="en"><n3:stuff/></n1:elem2></n0:local>`, "elem2",
			document.Canonical{},
			`<n1:elem2 xmlns:n1="http://example.net" xml:lang="en"><n3:stuff xmlns:n3="ftp://example.org"></n3:stuff></n1:elem2>`,
		},
		{
			"all that is in scope",
			`<n0:local xmlns:n0="foo:bar" xmlns:n3="ftp://example.org" xml:lang="de" xml:space="preserve"><n1:elem2 xmlns:n1="http://example.net" xml:lang="en"><n3:stuff/></n1:elem2></n0:local>`, "elem2",
			document.Canonical{Inclusive: true},
			`<n1:elem2 xmlns:n0="foo:bar" xmlns:n1="http://example.net" xmlns:n3="ftp://example.org" xml:lang="en" xml:space="preserve"><n3:stuff></n3:stuff></n1:elem2>`,
		},
		{
			"named prefixes", `<a xmlns="urn:d" xmlns:x="urn:x" xmlns:y="urn:y"><y:b t="x:word"/></a>`, "b",
			document.Canonical{Prefixes: []string{"x", "#default", "nowhere"}},
			`<y:b xmlns="urn:d" xmlns:x="urn:x" xmlns:y="urn:y" t="x:word"></y:b>`,
		},
		{
			"a default namespace that is undone", `<a xmlns="urn:d"><b xmlns=""><c xmlns="urn:d"/></b></a>`, "a",
			document.Canonical{},
			`<a xmlns="urn:d"><b xmlns=""><c xmlns="urn:d"></c></b></a>`,
		},
		{
			"a default namespace that nothing above wrote", `<p:a xmlns:p="urn:p" xmlns="urn:d"><b xmlns=""/></p:a>`,
			"a",
			document.Canonical{},
			`<p:a xmlns:p="urn:p"><b></b></p:a>`,
		},
		{
			"a prefix bound anew", `<p:a xmlns:p="urn:1"><p:b xmlns:p="urn:2"><p:c xmlns:p="urn:2"/></p:b></p:a>`, "a",
			document.Canonical{},
			`<p:a xmlns:p="urn:1"><p:b xmlns:p="urn:2"><p:c></p:c></p:b></p:a>`,
		},
		{
			"comments and instructions", "<a>x<!-- y --><?z  w?><?v?></a>", "a",
			document.Canonical{},
			"<a>x<?z w?><?v?></a>",
		},
		{"comments expected", "<a>x<!-- y --></a>", "a", document.Canonical{Comments: true}, "<a>x<!-- y --></a>"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			root, err := document.ReadXML([]byte(c.source), "")
			require.NoError(t, err)
			apex := root
			for apex.Name().Local != c.apex {
				apex = apex.Children()[0]
			}
			assert.Equal(t, c.want, string(document.CanonicalXML(root, apex, c.how)))
		})
	}
}

func BenchmarkCanonicalXML(b *testing.B) {
	source := `<l:lots xmlns:l="urn:heatherfold:lab" xmlns:unused="urn:u">` +
		strings.Repeat(`<l:lot id="L-2201" grade="A"><l:keeper>Ansel Thripp &amp; daughters</l:keeper><l:kilos>40</l:kilos></l:lot>`, 10_000) + `</l:lots>`
	root, err := document.ReadXML([]byte(source), "")
	require.NoError(b, err)
	for name, how := range map[string]document.Canonical{"exclusive": {}, "inclusive": {Inclusive: true}} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(source)))
			for b.Loop() {
				document.CanonicalXML(root, root, how)
			}
		})
	}
}
