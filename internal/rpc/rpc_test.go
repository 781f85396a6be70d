package rpc_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/rpc"
)

// Values keep their types on the way, in XML as well.
func TestXMLTypes(t *testing.T) {
	given, err := document.ReadJSON(
		[]byte(`{"i":-5,"l":3000000000,"d":1.50,"b":true,"s":"a<b","n":null,"list":[1,[]],"o":{}}`))
	require.NoError(t, err)
	given.Set("day", document.NewUntyped("2026-11-23T08:00:00"))
	call, err := rpc.CallXML("x", given)
	require.NoError(t, err)
	assert.Equal(t, `<methodCall><methodName>x</methodName><params><param><value><struct><member><name>i</name><value><int>-5</int></value></member><member><name>l</name><value><i8>3000000000</i8></value></member><member><name>d</name><value><double>1.50</double></value></member><member><name>b</name><value><boolean>1</boolean></value></member><member><name>s</name><value><string>a&lt;b</string></value></member><member><name>n</name><value><nil/></value></member><member><name>list</name><value><array><data><value><int>1</int></value><value><array><data/></array></value></data></array></value></member><member><name>o</name><value><struct/></value></member><member><name>day</name><value><dateTime.iso8601>20261123T08:00:00</dateTime.iso8601></value></member></struct></value></param></params></methodCall>`, document.WriteXML(call, document.Style{}))
	value := call.Child("params")
	answer := document.NewElement(document.Name{Local: "methodResponse"}, value)
	result, fault, err := rpc.AnswerXML(answer)
	require.NoError(t, err)
	assert.Nil(t, fault)
	assert.Equal(t, `{"i":-5,"l":3000000000,"d":1.50,"b":true,"s":"a<b","n":null,"list":[1,[]],"o":{},"day":"2026-11-23T08:00:00"}`, document.WriteJSON(result, document.Style{}))
	for text, says := range map[string]string{
		"<methodResponse><params><param/></params></methodResponse>":                                                 "no value",
		"<methodResponse><params><param><value><int>x</int></value></param></params></methodResponse>":               `"x" is not an int`,
		"<methodResponse><params><param><value><boolean>yes</boolean></value></param></params></methodResponse>":     "0 or 1",
		"<methodResponse><params><param><value><base64>?</base64></value></param></params></methodResponse>":         "not Base64",
		"<methodResponse><params><param><value><struct><member/></struct></value></param></params></methodResponse>": "has no name",
		"<other/>": "not an XML-RPC answer",
	} {
		root, err := document.ReadXML([]byte(text), "")
		require.NoError(t, err)
		_, _, err = rpc.AnswerXML(root)
		assert.ErrorContains(t, err, says)
	}
	_, err = rpc.CallXML("x", document.NewList(document.NewText("\x00")))
	assert.ErrorContains(t, err, "parameter 0: it holds a character that XML cannot carry")
}

func FuzzAnswers(f *testing.F) {
	f.Add([]byte(`{"jsonrpc":"2.0","error":{"code":1,"message":"x"},"id":1}`))
	f.Add([]byte(`<methodResponse><fault><value><struct><member><name>faultCode</name><value><int>4</int></value></member></struct></value></fault></methodResponse>`))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if root, err := document.ReadJSON(data); err == nil {
			_, _, _ = rpc.AnswerJSON(root)
			_, _ = rpc.CallXML("x", root)
		} else if root, err := document.ReadXML(data, ""); err == nil {
			_, _, _ = rpc.AnswerXML(root)
		}
	})
}
