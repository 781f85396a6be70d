package soap_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/soap"
)

func TestPackageComesBack(t *testing.T) {
	attachments := []soap.Attachment{
		{
			ID: soap.AttachmentID(1), Name: "certificate ü \"1\".pdf", Type: "application/pdf",
			Content: []byte("a\x00\xff\r\n--b"),
		},
		{ID: soap.AttachmentID(2), Type: "text/plain", Content: nil},
	}
	for _, version := range []soap.Version{soap.V11, soap.V12} {
		for _, xop := range []bool{true, false} {
			contentType, body, err := soap.Package(version, "urn:file", []byte("<e/>"), attachments, xop)
			require.NoError(t, err)
			assert.Equal(t, version, soap.VersionOf(contentType), contentType)
			root, rest, packed, err := soap.Unpack(contentType, body)
			require.NoError(t, err)
			assert.True(t, packed)
			assert.Equal(t, "<e/>", string(root.Content))
			assert.Equal(t, version, soap.VersionOf(root.Type), root.Type)
			require.Len(t, rest, 2)
			assert.Equal(t, attachments[0], rest[0])
			assert.Empty(t, rest[1].Content)
			assert.Equal(t, xop && version == soap.V12, strings.Contains(contentType, "action="), contentType)
		}
	}
}

func TestUnpack(t *testing.T) {
	const body = "--b\r\nContent-Type: text/plain\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <x>\r\n\r\naG9uZXk=\r\n--b\r\nContent-ID: <r>\r\nContent-Type: text/xml\r\n\r\n<e/>\r\n--b--\r\n"
	root, rest, packed, err := soap.Unpack(`multipart/related; boundary=b; start="<r>"`, []byte(body))
	require.NoError(t, err)
	assert.True(t, packed)
	assert.Equal(t, "<e/>", string(root.Content))
	assert.Equal(t, "honey", string(rest[0].Content))
	root, _, _, err = soap.Unpack(`multipart/related; boundary=b`, []byte(body))
	require.NoError(t, err)
	assert.Equal(t, "x", root.ID, "without start, the first part is the root")
	root, rest, _, err = soap.Unpack(`multipart/related; boundary=b; start="<gone>"`, []byte(body))
	require.NoError(t, err)
	assert.Equal(t, "x", root.ID)
	assert.Len(t, rest, 1)
	_, _, packed, err = soap.Unpack("text/xml", []byte(body))
	assert.False(t, packed)
	assert.NoError(t, err)
	for contentType, text := range map[string]string{
		"multipart/related":               body,
		"multipart/related; boundary=c":   body,
		"multipart/related; boundary=b":   "--b\r\nbroken",
		`multipart/related; boundary="b"`: "--b\r\nContent-Transfer-Encoding: base64\r\n\r\n!!\r\n--b--\r\n",
		"multipart/related;  boundary=b":  strings.Repeat("--b\r\n\r\n\r\n", 1100) + "--b--",
	} {
		_, _, packed, err := soap.Unpack(contentType, []byte(text))
		assert.True(t, packed)
		assert.Error(t, err, contentType)
	}
}

func TestRestore(t *testing.T) {
	root := read(t, `<a><b><x:Include xmlns:x="`+soap.XOPNamespace+
		`" href="cid:part%201@h"/></b><c><x:Include xmlns:x="`+soap.XOPNamespace+`" href="cid:gone"/></c></a>`)
	soap.Restore(root, []soap.Attachment{{ID: "part 1@h", Content: []byte("honey")}})
	assert.Equal(t, "aG9uZXk=", root.Child("b").OwnText())
	assert.NotNil(t, root.Child("c").Child("Include"), "what is not there stays referred to")
	soap.Restore(nil, nil)
}

func TestReferences(t *testing.T) {
	message := func(payload, beside string) *soap.Message {
		envelope := read(t, `<e:Envelope xmlns:e="`+soap.Namespace11+`" xmlns:enc="`+soap.Encoding12+`"><e:Body>`+
			payload+beside+`</e:Body></e:Envelope>`)
		before := document.WriteXML(envelope, document.Style{})
		m, ok := soap.Read(envelope)
		require.True(t, ok)
		assert.Equal(t, before, document.WriteXML(envelope, document.Style{}), "the message stays as it came")
		return m
	}
	for _, c := range []struct{ payload, beside, want string }{
		{
			`<p><a href="#1"/><b href="#1"/></p>`, `<v id="1" t="x"><n>7</n></v>`,
			`<p><a t="x"><n>7</n></a><b t="x"><n>7</n></b></p>`,
		},
		{`<p><a href="#1"/></p>`, `<v id="1"><n href="#2"/></v><w id="2">7</w>`, `<p><a><n>7</n></a></p>`},
		{`<p><a enc:ref="1"/></p>`, `<v enc:id="1">7</v>`, `<p><a>7</a></p>`},
		{`<p><a href="#1"/></p>`, `<v id="1"><self href="#1"/></v>`, `<p><a><self href="#1"/></a></p>`},
		{
			`<p><a href="#9"/><b href="http://h.example/#1"/></p>`, `<v id="1">7</v>`,
			`<p><a href="#9"/><b href="http://h.example/#1"/></p>`,
		},
		{`<p><a href="#1"/></p>`, ``, `<p><a href="#1"/></p>`},
	} {
		assert.Equal(t, c.want, document.WriteXML(message(c.payload, c.beside).Payload, document.Style{}))
	}
	// References that double at each step come to an end.
	var beside strings.Builder
	for i := range 40 {
		beside.WriteString(strings.NewReplacer("N", string(rune('0'+i/10))+string(rune('0'+i%10)), "M",
			string(rune('0'+(i+1)/10))+string(rune('0'+(i+1)%10))).Replace(
			`<v id="N"><a href="#M"/><b href="#M"/></v>`))
	}
	assert.NotNil(t, message(`<p><a href="#00"/></p>`, beside.String()).Payload)
}

func FuzzUnpack(f *testing.F) {
	contentType, body, err := soap.Package(soap.V12, "urn:a", []byte("<e/>"),
		[]soap.Attachment{{ID: "1", Type: "text/plain", Content: []byte("x")}}, true)
	require.NoError(f, err)
	f.Add(contentType, body)
	f.Add("multipart/related; boundary=b", []byte("--b\r\n\r\n<e/>\r\n--b--"))
	f.Fuzz(func(t *testing.T, contentType string, body []byte) {
		root, rest, packed, err := soap.Unpack(contentType, body)
		if packed && err == nil {
			if n, err := document.ReadXML(root.Content, ""); err == nil {
				soap.Restore(n, rest)
				soap.Read(n)
			}
		}
	})
}
