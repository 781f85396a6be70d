package document_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// readers read a text at once, and as a large message is read.
var readers = map[document.Format][2]func(data []byte) (*document.Node, error){
	document.JSON: {document.ReadJSON, document.ReadMessageJSON},
	document.XML: {
		func(data []byte) (*document.Node, error) { return document.ReadXML(data, "") }, document.ReadMessageXML,
	},
}

// sameTree holds two trees against each other, with the places of what is in them.
func sameTree(t *testing.T, want, got *document.Node, at string) {
	require.Equal(t, want.Kind, got.Kind, at)
	require.Equal(t, want.Text, got.Text, at)
	require.Equal(t, want.Name(), got.Name(), at)
	require.Equal(t, want.Attributes(), got.Attributes(), at)
	require.Equal(t, [2]int32{want.Line, want.Column}, [2]int32{got.Line, got.Column}, at)
	require.Len(t, got.Items(), len(want.Items()), at)
	for i, item := range want.Items() {
		sameTree(t, item, got.Items()[i], fmt.Sprintf("%s[%d]", at, i))
	}
	require.Len(t, got.Members(), len(want.Members()), at)
	for i, m := range want.Members() {
		require.Equal(t, m.Key, got.Members()[i].Key, at)
		sameTree(t, m.Value, got.Members()[i].Value, at+"."+m.Key)
	}
}

// sameAtOnce reads a text in both ways: the trees are the same, or the mistakes.
func sameAtOnce(t *testing.T, format document.Format, data []byte) {
	want, wrong := readers[format][0](data)
	got, err := readers[format][1](data)
	require.Equal(t, wrong, err)
	if err == nil {
		sameTree(t, want, got, "")
	}
}

func TestUnread(t *testing.T) {
	for _, c := range []struct {
		name   string
		format document.Format
		text   string
	}{
		{"objects", document.JSON, `{"lots": [{"id": 1, "of": {"a": [1, 2, {}]}}, {"id": "x\"]}", "é": null}, true, []]}`},
		{"lists in lists", document.JSON, `[[[1,[2,[3,[4]]]],[[[[[5]]]], [[[[6]]],[7]]]], [[], [[]], [[[]]]]]`},
		{"escapes", document.JSON, `[{}, {"a\\": "\\"}, {"\u00e9": "\ud83d\ude00\\\""}, ["\\\\"], {"b": -1.5e3 }]`},
		{"a name twice", document.JSON, `[{"a": 1}, {"a": 1, "a": 2}]`},
		{"not closed", document.JSON, `[{"a": 1}, {"a": [1}]`},
		{"half a letter", document.JSON, "[{}, {\"a\": \"\xff\"}]"},
		{"too deep", document.JSON, "[[]," + strings.Repeat("[", 1000) + strings.Repeat("]", 1000) + "]"},
		{"as deep as may be", document.JSON, "[[]," + strings.Repeat("[", 999) + "1" + strings.Repeat("]", 999) + "]"},
		{"elements", document.XML, "<lots>\n <lot id='1'><a>x</a></lot>\n <lot id='2'>\n  <a>é y</a><a><b/></a>\n </lot>\n</lots>"},
		{"namespaces from outside", document.XML, `<p:r xmlns:p="urn:p" xmlns="urn:d" xmlns:q="urn:q"><x q:y="1"/>` +
			`<x xmlns:q="urn:other" q:y="2"><p:z/><p:z><q:a/><q:a xmlns="">t</q:a></p:z></x><x q:y="3" xml:lang="de"/></p:r>`},
		{"scopes that end", document.XML, `<r><g xmlns:p="urn:1"><p:x/><p:x>1</p:x></g><h xmlns:p="urn:2"><p:x/>` +
			`<p:x p:a="1" b="2"/></h><h xmlns:p="urn:2"/></r>`},
		{"an attribute at one place in two", document.XML, `<r><l a="1"/><l a="1"/><l a="1" b="2"/><l a="1" b="2"/></r>`},
		{"all but elements", document.XML, "<r><x/><x><!-- c --><?i t?><![CDATA[<&>]]> a &amp; b</x><!--d--><x> </x> t<x> <y/></x></r>"},
		{"a mark before it", document.XML, "\ufeff<r>\n<x/><x>é</x>\n<x>\n<y/></x></r>"},
		{"another encoding", document.XML, "<?xml version='1.0' encoding='ISO-8859-1'?><r><x/><x>\xe9</x><x>\xe9</x></r>"},
		{"no end", document.XML, "<r><x/><x><y></x></r>"},
		{"a prefix of nothing", document.XML, "<r><x/><x><p:y/></x></r>"},
		{"too deep for XML", document.XML, strings.Repeat("<x><x/>", 1001)},
	} {
		t.Run(c.name, func(t *testing.T) { sameAtOnce(t, c.format, []byte(c.text)) })
	}
	t.Run("what is counted", func(t *testing.T) {
		_, err := document.ReadMessageJSON([]byte("[[0]" + strings.Repeat(",[1,{}]", document.MaxNodes/3) + "]"))
		assert.ErrorContains(t, err, "JSON that is too much to read, at line 1, column 9786712: it holds more than 4194304 values")
		_, err = document.ReadMessageXML([]byte("<r>" + strings.Repeat("<x>1<y/></x>\n", document.MaxNodes/3+1) + "</r>"))
		assert.ErrorContains(t, err, "XML that is too much to read, at line 1398102, column 9: it holds more than 4194304 values")
	})
}

// What was left unread is read once, whoever asks first, and then is as any other node.
func TestUnreadIsShared(t *testing.T) {
	root, err := document.ReadMessageXML([]byte("<r>" + strings.Repeat("<x><y>1</y><y>2</y></x>", 50) + "</r>"))
	require.NoError(t, err)
	var group sync.WaitGroup
	for range 4 {
		group.Go(func() {
			for _, x := range root.Items() {
				assert.Equal(t, "2", x.Items()[1].OwnText())
			}
		})
	}
	group.Wait()
	list, err := document.ReadMessageJSON([]byte(`[{}, {"a": 1}, {"a": 1}, {"a": 1}]`))
	require.NoError(t, err)
	items := list.Items()
	items[1].Set("b", document.NewNumber("2"))
	items[2].SetMembers(nil)
	assert.Equal(t, `[{},{"a":1,"b":2},{},{"a":1}]`, document.WriteJSON(list, document.Style{}))
	assert.Equal(t, `{"a":1}`, document.WriteJSON(items[3].Copy(), document.Style{}))
}

func FuzzUnread(f *testing.F) {
	for _, text := range []string{
		`[{"a": [1, "\\\""]}, {"a": [2, {}]}]`, `[[[],[1]],[[2]]]`, `<r xmlns:p="u"><p:x a="1"/><p:x> t<p:y/><p:y>&lt;</p:y></p:x></r>`,
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		for format := range readers {
			sameAtOnce(t, format, data)
		}
	})
}
