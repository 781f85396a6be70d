package soap_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/soap"
)

func read(t *testing.T, text string) *document.Node {
	t.Helper()
	node, err := document.ReadXML([]byte(text), "")
	require.NoError(t, err)
	return node
}

func TestEnvelope(t *testing.T) {
	block := read(t, `<k:Keeper xmlns:k="urn:k" mustUnderstand="true" role="urn:next">Bryony</k:Keeper>`)
	payload := read(t, `<Weigh xmlns="urn:h"/>`)
	cases := map[soap.Version][]string{
		soap.V11: {
			`xmlns:soap="http://schemas.xmlsoap.org/soap/envelope/"`, `soap:mustUnderstand="1"`,
			`soap:actor="urn:next"`,
		},
		soap.V12: {
			`xmlns:soap="http://www.w3.org/2003/05/soap-envelope"`, `soap:mustUnderstand="true"`,
			`soap:role="urn:next"`,
		},
	}
	for version, parts := range cases {
		written := document.WriteXML(soap.Envelope(version, []*document.Node{block}, []*document.Node{payload}),
			document.Style{})
		for _, part := range parts {
			assert.Contains(t, written, part)
		}
		message, ok := soap.Read(read(t, written))
		require.True(t, ok)
		assert.Equal(t, version, message.Version)
		assert.Equal(t, "Keeper", message.Blocks[0].Name().Local)
		assert.Equal(t, "urn:h", message.Payload.Name().Space)
		assert.Nil(t, message.Fault)
	}
	empty, ok := soap.Read(soap.Envelope(soap.V11, nil, nil))
	require.True(t, ok)
	assert.Nil(t, empty.Payload)
}

func TestContentTypes(t *testing.T) {
	assert.Equal(t, "text/xml; charset=utf-8", soap.V11.ContentType("urn:a"))
	assert.Equal(t, `application/soap+xml; charset=utf-8; action="urn:\"a\""`, soap.V12.ContentType(`urn:"a"`))
	assert.Equal(t, `""`, soap.ActionHeader(""))
	for contentType, want := range map[string]soap.Version{
		"text/xml": soap.V11, "text/xml;charset=utf-16": soap.V11, "application/soap+xml; action=x": soap.V12,
		"application/xml": "", "": "", ";;": "",
	} {
		assert.Equal(t, want, soap.VersionOf(contentType), contentType)
	}
}

// Faults of both versions, and of servers that mix them, come in one form.
func TestFaults(t *testing.T) {
	const detail = `<l:LabFault xmlns:l="urn:l"><l:field>moisture</l:field></l:LabFault>`
	cases := []struct {
		name, text string
		want       soap.Fault
		departs    bool
	}{
		{
			name: "1.1",
			text: `<e:Envelope xmlns:e="` + soap.Namespace11 +
				`"><e:Body><e:Fault><faultcode>e:Client</faultcode><faultstring> too moist </faultstring><faultactor>urn:lab</faultactor><detail>` + detail + `</detail></e:Fault></e:Body></e:Envelope>`,
			want: soap.Fault{Code: "Client", Text: "too moist", Role: "urn:lab"},
		},
		{
			name: "1.2",
			text: `<e:Envelope xmlns:e="` + soap.Namespace12 +
				`"><e:Body><e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>x:Moist</e:Value></e:Subcode></e:Code><e:Reason><e:Text xml:lang="en">too moist</e:Text></e:Reason><e:Role>urn:lab</e:Role><e:Detail>` + detail + `</e:Detail></e:Fault></e:Body></e:Envelope>`,
			want: soap.Fault{Code: "Sender", Subcode: "Moist", Text: "too moist", Role: "urn:lab"},
		},
		{
			name: "1.2 in 1.1",
			text: `<e:Envelope xmlns:e="` + soap.Namespace11 +
				`"><e:Body><e:Fault><e:Code><e:Value>Sender</e:Value></e:Code><e:Reason><e:Text>x</e:Text></e:Reason><e:Detail>` + detail + `</e:Detail></e:Fault></e:Body></e:Envelope>`,
			want:    soap.Fault{Code: "Sender", Text: "x"},
			departs: true,
		},
		{
			name: "unbound prefix, nothing else",
			text: `<e:Envelope xmlns:e="` + soap.Namespace11 +
				`"><e:Body><e:Fault><faultcode>srv.Server</faultcode><detail>` + detail +
				`</detail></e:Fault></e:Body></e:Envelope>`,
			want: soap.Fault{Code: "srv.Server"},
		},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			message, ok := soap.Read(read(t, c.text))
			require.True(t, ok)
			require.NotNil(t, message.Fault)
			got := *message.Fault
			require.NotNil(t, got.Detail)
			assert.Equal(t, "moisture", got.Detail.Child("LabFault").Child("field").OwnText())
			got.Detail = nil
			assert.Equal(t, c.want, got)
			assert.Equal(t, c.departs, len(message.Departures) > 0)
			assert.Equal(t, "moisture", message.Fault.Node().Get("detail").Child("LabFault").Child("field").OwnText())
		})
	}
}

func TestNoEnvelope(t *testing.T) {
	for _, text := range []string{`<a/>`, `<Envelope/>`, `<Envelope xmlns="urn:other"/>`} {
		_, ok := soap.Read(read(t, text))
		assert.False(t, ok, text)
	}
	message, ok := soap.Read(read(t, `<Envelope xmlns="`+soap.Namespace11+`"/>`))
	assert.True(t, ok)
	assert.Contains(t, message.Departures, "the envelope has no Body")
	_, ok = soap.Read(nil)
	assert.False(t, ok)
}
