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
	call, err := rpc.XML.Call("x", given)
	require.NoError(t, err)
	assert.Equal(t, `<methodCall><methodName>x</methodName><params><param><value><struct><member><name>i</name><value><int>-5</int></value></member><member><name>l</name><value><i8>3000000000</i8></value></member><member><name>d</name><value><double>1.50</double></value></member><member><name>b</name><value><boolean>1</boolean></value></member><member><name>s</name><value><string>a&lt;b</string></value></member><member><name>n</name><value><nil/></value></member><member><name>list</name><value><array><data><value><int>1</int></value><value><array><data/></array></value></data></array></value></member><member><name>o</name><value><struct/></value></member><member><name>day</name><value><dateTime.iso8601>20261123T08:00:00</dateTime.iso8601></value></member></struct></value></param></params></methodCall>`, document.WriteXML(call, document.Style{}))
	value := call.Child("params")
	answer := document.NewElement(document.Name{Local: "methodResponse"}, value)
	result, fault, err := rpc.XML.Answer(answer)
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
		_, _, err = rpc.XML.Answer(root)
		assert.ErrorContains(t, err, says)
	}
	_, err = rpc.XML.Call("x", document.NewList(document.NewText("\x00")))
	assert.ErrorContains(t, err, "parameter 0: it holds a character that XML cannot carry")
}

// Calls and answers of both versions of JSON-RPC; of errors of 1.0, which have any shape, those that services send.
func TestVersionsOfJSON(t *testing.T) {
	read := func(text string) *document.Node {
		node, err := document.ReadJSON([]byte(text))
		require.NoError(t, err)
		return node
	}
	for name, c := range map[string]struct {
		kind         rpc.Kind
		fields, call string
	}{
		"2.0, by name":             {rpc.JSON, `{"lot":7}`, `{"jsonrpc":"2.0","method":"look","params":{"lot":7},"id":1}`},
		"2.0, by position":         {rpc.JSON, `{"0":7,"1":"é"}`, `{"jsonrpc":"2.0","method":"look","params":[7,"é"],"id":1}`},
		"2.0, without parameters":  {rpc.JSON, `{}`, `{"jsonrpc":"2.0","method":"look","id":1}`},
		"1.0, by position":         {rpc.JSON1, `{"0":7,"1":"é"}`, `{"method":"look","params":[7,"é"],"id":1}`},
		"1.0, all of them":         {rpc.JSON1, `{"params":[[],null]}`, `{"method":"look","params":[[],null],"id":1}`},
		"1.0, without parameters":  {rpc.JSON1, `{}`, `{"method":"look","params":[],"id":1}`},
		"1.0, by name":             {rpc.JSON1, `{"lot":7}`, "by position only"},
		"1.0, a value as all":      {rpc.JSON1, `{"params":7}`, "by position only"},
		"1.0, one that is a bunch": {rpc.JSON1, `{"0":{"lot":7}}`, `{"method":"look","params":[{"lot":7}],"id":1}`},
	} {
		t.Run(name, func(t *testing.T) {
			call, err := c.kind.Call("look", read(c.fields))
			if err != nil {
				assert.ErrorContains(t, err, c.call)
				return
			}
			assert.Equal(t, c.call, document.WriteJSON(call, document.Style{}))
		})
	}
	for name, c := range map[string]struct {
		kind         rpc.Kind
		answer, says string
	}{
		"2.0, a result":             {rpc.JSON, `{"jsonrpc":"2.0","result":[1],"id":1}`, "[1]"},
		"2.0, of 1.0":               {rpc.JSON, `{"result":[1],"id":1}`, "protocol: json-rpc 1.0"},
		"2.0, the bare result":      {rpc.JSON, `[1]`, "a list of 1; write protocol: json-rpc 1.0"},
		"1.0, a result":             {rpc.JSON1, `{"result":[1],"error":null,"id":1}`, "[1]"},
		"1.0, without error":        {rpc.JSON1, `{"result":null,"id":1}`, "null"},
		"1.0, of another call":      {rpc.JSON1, `{"result":1,"id":2}`, "this was the call 1"},
		"1.0, without an id":        {rpc.JSON1, `{"result":1}`, "this was the call 1"},
		"1.0, neither":              {rpc.JSON1, `{"id":1}`, "neither result nor error"},
		"1.0, the bare result":      {rpc.JSON1, `[1]`, "not a JSON-RPC answer, but a list of 1"},
		"1.0, a text":               {rpc.JSON1, `{"result":null,"error":"no lot","id":1}`, "fault  no lot"},
		"1.0, code and message":     {rpc.JSON1, `{"error":{"code":-3,"message":"no lot"},"id":1}`, "fault -3 no lot"},
		"1.0, a list":               {rpc.JSON1, `{"error":["UserError",["no lot",""]],"id":1}`, "fault  UserError: no lot"},
		"1.0, with lines of code":   {rpc.JSON1, `{"error":["'lot'","Traceback:\n  line 3"],"id":1}`, "fault  'lot'"},
		"1.0, an empty error":       {rpc.JSON1, `{"result":1,"error":{},"id":1}`, "fault"},
		"1.0, error false, a fault": {rpc.JSON1, `{"result":1,"error":false,"id":1}`, "fault  false"},
	} {
		t.Run(name, func(t *testing.T) {
			result, fault, err := c.kind.Answer(read(c.answer))
			got := document.WriteJSON(result, document.Style{})
			if fault != nil {
				got = "fault " + fault.Code + " " + fault.Text
			} else if err != nil {
				got = err.Error()
			}
			assert.Contains(t, got, c.says)
		})
	}
}

func FuzzAnswers(f *testing.F) {
	f.Add([]byte(`{"jsonrpc":"2.0","error":{"code":1,"message":"x"},"id":1}`))
	f.Add([]byte(`<methodResponse><fault><value><struct><member><name>faultCode</name><value><int>4</int></value></member></struct></value></fault></methodResponse>`))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if root, err := document.ReadJSON(data); err == nil {
			_, _, _ = rpc.JSON.Answer(root)
			_, _, _ = rpc.JSON1.Answer(root)
			_, _ = rpc.XML.Call("x", root)
		} else if root, err := document.ReadXML(data, ""); err == nil {
			_, _, _ = rpc.XML.Answer(root)
		}
	})
}
