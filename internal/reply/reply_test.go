package reply_test

import (
	"net/http"
	"net/url"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/path"
	"testbench/internal/reply"
)

func record(contentType, body string) *exchange.Record {
	header := http.Header{"Content-Type": {contentType}, "X-Two": {"a", "b"}}
	return &exchange.Record{Phases: exchange.Phases{Total: 14200 * time.Microsecond}, Answer: &exchange.Answer{
		Status: 200, Reason: "OK", Proto: "HTTP/1.1", Header: header, Body: []byte(body),
		Cookies: []*http.Cookie{{Name: "SID", Value: "7"}},
	}}
}

const fault = `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Header><r xmlns="urn:r"><serial>9</serial></r></s:Header><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>too moist</faultstring></s:Fault></s:Body></s:Envelope>`

func TestPathsIntoReplies(t *testing.T) {
	cases := []struct{ contentType, body, path, want string }{
		{"application/json", `{"a": [1, 2]}`, "a[1]", "2"},
		{"application/vnd.hive+json; charset=utf-8", `{"a": 1}`, "a", "1"},
		{"text/xml", `<x><a>1</a></x>`, "a", "1"},
		{"application/x-www-form-urlencoded", `a=1&a=2&b=x+y`, "a[1]", "2"},
		{"application/x-www-form-urlencoded", `a=1&a=2&b=x+y`, "b", `"x y"`},
		{"text/plain", "hello", "answer", `"hello"`},
		{"", `{"a": true}`, "a", "true"},
		{"application/json", `{}`, "reply.status", "200"},
		{"application/json", `{}`, "reply.time", `"14.2 ms"`},
		{"application/json", `{}`, "reply.size", "2"},
		{"application/json", `{}`, "reply.text", `"{}"`},
		{"application/json", `{}`, "reply.headers.x-two[1]", `"b"`},
		{"application/json", `{}`, "reply.cookies.SID", "7"},
		{"text/xml", fault, "faultstring", `"too moist"`},
		{"text/xml", fault, "reply.fault.code", `"Client"`},
		{"text/xml", fault, "reply.soap.version", "1.1"},
		{"text/xml", fault, "reply.soap.header.r.serial", "9"},
	}
	for _, c := range cases {
		compiled, err := path.Compile(c.path)
		require.NoError(t, err)
		found, err := compiled.Find(reply.Read(record(c.contentType, c.body)).Roots(nil), nil)
		require.NoError(t, err)
		require.NotNil(t, found.First(), "%s: %v", c.path, found.Missed())
		assert.Equal(t, c.want, document.WriteJSON(found.First(), document.Style{}), c.path)
	}
}

// What is not a reply of an exchange tells of no error.
func TestNoExchange(t *testing.T) {
	tree, err := document.ReadJSON([]byte(`{"error": "no"}`))
	require.NoError(t, err)
	assert.Nil(t, reply.Of(tree, nil).Error())
	assert.Nil(t, reply.Read(&exchange.Record{}).Error())
}

func TestUnreadable(t *testing.T) {
	r := reply.Read(record("application/json", `{"a": `))
	assert.ErrorContains(t, r.Problem, "it ends too early")
	assert.Nil(t, r.Payload)
	assert.NotNil(t, r.Tree().Get("text"), "its text can still be looked at")
	assert.Nil(t, reply.Read(&exchange.Record{}).Tree())
	assert.Nil(t, reply.Read(nil).Fault())
	assert.Equal(t, document.Binary, reply.Read(record("image/png", "\x89PNG")).Format)
}

// An answer is read as what it was told to be, in the charset that it was sent with.
func TestReadAs(t *testing.T) {
	for name, c := range map[string]struct {
		sent, as, body string
		format         document.Format
		first          string
	}{
		"JSON called text":          {"text/plain", "json", `{"n": "é"}`, document.JSON, "é"},
		"JSON called a page":        {"text/html", "json", `{"n": "é"}`, document.JSON, "é"},
		"XML called text in Latin":  {"text/plain; charset=iso-8859-1", "xml", "<r><n>\xe9</n></r>", document.XML, "é"},
		"a form without a type":     {"", "form", "n=%C3%A9&m=2", document.Form, "é"},
		"lines called JSON":         {"application/json", "lines", "{\"n\": \"é\"}\n{}", document.Lines, ""},
		"JSON that is to be text":   {"application/json", "text", `{"n": 1}`, document.Plain, ""},
		"CSV called a spreadsheet":  {"application/vnd.ms-excel", "csv", "n;m\né;2", document.CSV, ""},
		"its own type, JSON-RPC":    {"application/json-rpc", "", `{"n": "é"}`, document.JSON, "é"},
		"its own type, versioned":   {"application/x-amz-json-1.1", "", `{"n": "é"}`, document.JSON, "é"},
		"its own type, an old name": {"text/x-xml", "", "<r><n>é</n></r>", document.XML, "é"},
	} {
		t.Run(name, func(t *testing.T) {
			r := record(c.sent, c.body)
			r.Answer.ReadAs = document.ReadingType(c.as)
			read := reply.Read(r)
			require.NoError(t, read.Problem)
			assert.Equal(t, c.format, read.Format)
			if c.first != "" {
				assert.Equal(t, c.first, path.Child(read.Payload, "n").Value().Text)
			}
		})
	}
}

// FuzzRead reads any answer, and what it says of an error.
func FuzzRead(f *testing.F) {
	for _, seed := range [][2]string{
		{"application/json", `{"error":{"code":"x","message":"y","details":[{"target":"a/0/b","message":"z"}]}}`},
		{"text/html", "<h1>a</h1><title>b</title>"},
		{"text/plain", "no"},
		{
			"application/problem+json",
			`{"detail":"d","invalid-params":[{"name":"n","reason":"r"}],"errors":{"a":["b"]}}`,
		},
		{"text/xml", `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:Client</faultcode></e:Fault></e:Body></e:Envelope>`},
		{"multipart/related; boundary=b", "--b\r\n\r\n{}\r\n--b--"},
		{"application/soap+xml", `<Envelope xmlns="http://www.w3.org/2003/05/soap-envelope"><Body/></Envelope>`},
		{"", "[[]]"},
	} {
		f.Add(500, seed[0], []byte(seed[1]))
		f.Add(200, seed[0], []byte(seed[1]))
	}
	f.Fuzz(func(t *testing.T, status int, mediaType string, body []byte) {
		record := &exchange.Record{
			Request: &exchange.Request{Method: "GET", URL: &url.URL{}},
			Answer:  &exchange.Answer{Status: status, Header: http.Header{"Content-Type": {mediaType}}, Body: body},
		}
		re := reply.Read(record)
		_, _, _ = re.Error(), re.Fault(), re.Tree()
	})
}
