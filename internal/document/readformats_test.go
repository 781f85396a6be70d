package document_test

import (
	"archive/zip"
	"bytes"
	"image"
	"image/png"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
)

// What is neither JSON nor XML is read into the same tree, as its type says.
func TestReadOthers(t *testing.T) {
	const mixed = "--b\r\nContent-Disposition: form-data; name=\"about\"\r\nContent-Type: application/json\r\n\r\n{\"lot\": 1}\r\n--b\r\nContent-Disposition: form-data; name=\"photo\"; filename=\"a.png\"\r\nContent-Type: image/png\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw==\r\n--b\r\n\r\nplain\r\n--b--\r\n"
	const page = `<!doctype html><title>Hall  list</title><body><script>no()</script><h1>The <b>hall</b></h1><p>Two<br>lines</p>
<a href="/lots" rel=next>All lots</a><table><tr><th>Lot<th>Kilos</tr><tr><td>L-1<td>40<td>x</tr></table><table><tr><td>1<td>2</tr></table>
<form action="/in" method=post><input name=user value=clerk><textarea name=note>a  b</textarea><select name=grade><option>A<option value=B selected>b</select><input type=hidden name=word value="w"></form>`
	for _, c := range []struct{ name, contentType, text, want string }{
		{
			"CSV", "text/csv", "lot,kilos,note\nL-1,40,\"a, \"\"b\"\"\"\nL-2,1.50,\n",
			`[{"lot":"L-1","kilos":40,"note":"a, \"b\""},{"lot":"L-2","kilos":1.50,"note":""}]`,
		},
		{"JSON with a byte order mark", "application/json", "\ufeff{\"a\": \"é\"}", `{"a":"é"}`},
		{"JSON in a character set", "application/json; charset=ISO-8859-1", "{\"a\": \"\xe9\"}", `{"a":"é"}`},
		{"JSON in UTF-8 that is called another", "application/json; charset=ISO-8859-1", `{"a": "é"}`, `{"a":"é"}`},
		{"JSON in UTF-16", "application/json; charset=utf-16le", "{\x00}\x00", `{}`},
		{"JSON in UTF-16 with its mark", "application/json", "\xfe\xff\x00[\x00]", `[]`},
		{"lines with a byte order mark", "application/x-ndjson", "\ufeff1\n2\n", `[1,2]`},
		{"CSV with semicolons", "text/csv; charset=utf-8", "lot;kilos\r\n\"L;1\";40\r\n", `[{"lot":"L;1","kilos":40}]`},
		{"CSV without a header", "text/csv; header=absent", "lot,kilos\nL-1,40\n", `[["lot","kilos"],["L-1",40]]`},
		{"CSV that cannot have one", "text/csv", "L-1,40\nL-2,41\n", `[["L-1",40],["L-2",41]]`},
		{"CSV with more cells", "text/csv", "a,b\n1,2,3\n", `[{"a":1,"b":2,"column 3":3}]`},
		{"tabs", "text/tab-separated-values", "a\tb\n1\t2\n", `[{"a":1,"b":2}]`},
		{"empty CSV", "text/csv", "\n", `[]`},
		{"lines", "application/x-ndjson", "{\"a\":1}\n\n[2]\r\n", `[{"a":1},[2]]`},
		{"a sequence", "application/json-seq", "\x1e{\"a\":1}\n\x1e2\n", `[{"a":1},2]`},
		{
			"events", "text/event-stream", ": hello\ndata: {\"n\": 1}\n\nevent: add\nid: 7\ndata: two\ndata: lines\n\nretry: 5\n\ndata: [DONE]\r\n\r\ndata:cut",
			`[{"data":{"n":1}},{"event":"add","id":7,"data":"two\nlines"},{"data":"[DONE]"},{"data":"cut"}]`,
		},
		{"no events", "text/event-stream", "", `[]`},
		{"parts", "multipart/form-data; boundary=b", mixed, ""},
		{
			"a page", "text/html", page,
			`{"title":"Hall list","headings":["The hall"],"text":"Hall list The hall Two lines All lots Lot Kilos L-1 40 x 1 2 a b A b","links":[{"href":"/lots","text":"All lots","rel":"next"}],"tables":[[{"Lot":"L-1","Kilos":40,"column 3":"x"}],[[1,2]]],"forms":[{"action":"/in","method":"post","fields":{"user":"clerk","note":"a b","grade":"B","word":"w"}}]}`,
		},
	} {
		node, _, err := document.Read(c.contentType, []byte(c.text))
		require.NoError(t, err, c.name)
		if c.want != "" {
			assert.Equal(t, c.want, document.WriteJSON(node, document.Style{}), c.name)
			continue
		}
		require.Len(t, node.Items(), 3)
		assert.Equal(t, `{"lot":1}`, document.WriteJSON(node.Items()[0].Get("content"), document.Style{}))
		assert.Equal(t, []string{"photo", "a.png", "image/png", "4"},
			[]string{
				node.Items()[1].Get("name").Text, node.Items()[1].Get("file").Text,
				node.Items()[1].Get("type").Text, node.Items()[1].Get("size").Text,
			})
		assert.Equal(t, "0f4636c78f65d3639ece5a064b5ae753e3408614a14fb18ab4d7540d2c248543",
			node.Items()[1].Get("sha256").Text)
		assert.Equal(t, "plain", node.Items()[2].Get("content").Text)
	}
	for contentType, c := range map[string][2]string{
		"text/csv":                     {"a,b\n1,\"2\n", "CSV at line 2"},
		"application/x-ndjson":         {"{}\n{a}\n", "lines of JSON at line 2, column 2"},
		"application/json;charset=q":   {"{\"a\": \"\xe9\"}", "invalid UTF-8"},
		"multipart/mixed":              {"x", "names no boundary"},
		"multipart/mixed; boundary=xy": {"--xy\r\n\r\nx", "EOF"},
	} {
		_, _, err := document.Read(contentType, []byte(c[0]))
		assert.ErrorContains(t, err, c[1])
	}
}

// YAML of descriptions is read as its core schema has it.
func TestReadYAML(t *testing.T) {
	for text, want := range map[string]string{
		`a: 1
b: yes
c: "1"
d: ~
e: 0x1F
f: +1.50
g: .5
h: True
i: 2026-11-23
`: `{"a":1,"b":"yes","c":"1","d":null,"e":31,"f":1.50,"g":0.5,"h":true,"i":"2026-11-23"}`,
		`base: &b {x: 1, y: 2}
more:
  <<: *b
  y: 3
list: [*b]
`: `{"base":{"x":1,"y":2},"more":{"x":1,"y":3},"list":[{"x":1,"y":2}]}`,
		"": "null", "# nothing\n": "null", "text: |\n  a\n  b\n": `{"text":"a\nb\n"}`, "- !!str 5\n- 007\n": `["5",7]`,
	} {
		node, err := document.ReadYAML([]byte(text))
		require.NoError(t, err, text)
		assert.Equal(t, want, document.WriteJSON(node, document.Style{}), text)
	}
	for text, says := range map[string]string{
		"a: 1\na: 2\n": "line 2, column 1: \"a\" is here a second time", "a: [\n": "not well-formed YAML",
		"? [a]\n: b\n": "a key must be a text", "a: \xff": "not UTF-8", "a: &a [*a]": "inside what it refers to",
		strings.Repeat("[", 2000) + strings.Repeat("]", 2000): "nested deeper",
	} {
		_, err := document.ReadYAML([]byte(text))
		assert.ErrorContains(t, err, says)
	}
}

func FuzzReadOthers(f *testing.F) {
	for i, text := range []string{
		"a,b\n1,2", "{}\n[]", "--b\n\nx\n--b--",
		"<table><tr><th>a<tr><td>b<form><input name=x>", "event: a\ndata: {\"b\": [1]}\n\n", "a: &b [1]\nc: *b",
	} {
		f.Add(byte(i), []byte(text))
	}
	f.Fuzz(func(_ *testing.T, kind byte, data []byte) {
		types := []string{"text/csv", "application/x-ndjson", "multipart/mixed; boundary=b", "text/html", "text/event-stream"}
		if int(kind) < len(types) {
			_, _, _ = document.Read(types[kind], data)
			_ = document.MediaWords(document.Media(data))
			return
		}
		_, _ = document.ReadYAML(data)
	})
}

// What is in a picture or an archive is told; what is damaged tells nothing.
func TestMedia(t *testing.T) {
	var picture, packed bytes.Buffer
	require.NoError(t, png.Encode(&picture, image.NewGray(image.Rect(0, 0, 30, 20))))
	archive := zip.NewWriter(&packed)
	for _, name := range []string{"lots.csv", "../out", "c", "d", "e", "f"} {
		file, err := archive.Create(name)
		require.NoError(t, err)
		_, err = file.Write([]byte("honey"))
		require.NoError(t, err)
	}
	require.NoError(t, archive.Close())
	for _, c := range []struct {
		name       string
		data       []byte
		tree, said string
	}{
		{"a picture", picture.Bytes(), `{"image":{"width":30,"height":20}}`, "30 by 20 pixels"},
		{"an archive", packed.Bytes(), "", "6 files: lots.csv, ../out, c, d, e, …"},
		{"a damaged archive", packed.Bytes()[:40], "null", ""},
		{"a damaged picture", picture.Bytes()[:12], "null", ""},
		{"text", []byte("honey"), "null", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			media := document.Media(c.data)
			assert.Equal(t, c.said, document.MediaWords(media))
			switch {
			case c.tree == "null":
				assert.Nil(t, media)
			case c.tree != "":
				assert.Equal(t, c.tree, document.WriteJSON(media, document.Style{}))
			default:
				assert.Equal(t, "5", media.Get("files").Items()[1].Get("size").Text)
			}
		})
	}
}
