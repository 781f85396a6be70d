package reply_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"testbench/internal/exchange"
	"testbench/internal/reply"
)

// What bodies say of errors, in the forms that services give them; under a status of
// success only what calls itself one counts.
func TestErrorsAsTheyAreTold(t *testing.T) {
	for _, c := range []struct {
		name   string
		status int
		body   string
		want   *reply.Error // nil for none
	}{
		{"an element of success", 200, `<result code="0" ok="true"><order no="7"/></result>`, nil},
		{
			"data by field", 400,
			`{"data": {"kilos": {"code": "low", "message": "too few"}}, "message": "not made", "status": 400}`,
			&reply.Error{Code: "400", Text: "not made", Details: []reply.Error{{Code: "low", Text: "too few", Target: "kilos"}}},
		},
		{
			"data that is not about fields", 400, `{"data": {"lot": {"id": 7}}, "message": "not made"}`,
			&reply.Error{Text: "not made"},
		},
		{
			"a result of several", 200, `{"results": [{"n": 0, "error": ""}, {"n": 1, "error": "no hive"}]}`,
			&reply.Error{Text: "no hive"},
		},
		{"items that have errors", 200, `{"jobs": [{"id": 1, "name": "a", "error": "late"}]}`, nil},
		{"items with a state", 200, `[{"id": 1, "status": "error"}]`, nil},
		{"a flag that is false", 200, `<result ok="false"><message>out</message></result>`, &reply.Error{Text: "out"}},
		{
			"a message and a code as an attribute", 200,
			`<result code="17" ok="false"><errorMessage>unknown</errorMessage></result>`,
			&reply.Error{Code: "17", Text: "unknown"},
		},
		{
			"attributes below one that only wraps", 200, `<reply><result code="17" ok="false"/></reply>`,
			&reply.Error{Code: "17"},
		},
		{
			"the innermost exception", 500, `{"Message": "An error has occurred.", "ExceptionMessage": "outer", ` +
				`"InnerException": {"ExceptionMessage": "the lot is locked", "ExceptionType": "LockException"}}`,
			&reply.Error{Code: "LockException", Text: "the lot is locked"},
		},
		{"a flag that is an object", 200, `{"success": {"no": "false"}, "lot": "L"}`, nil},
		{"a flag alone", 200, `{"success": false}`, &reply.Error{Text: "success is false"}},
		{"a status alone", 200, `{"Status": "FAILURE", "lot": "L"}`, &reply.Error{Code: "FAILURE"}},
		{"a flag that is null", 200, `{"ok": null, "lot": "L"}`, nil},
		{"an error that is an empty text", 200, `{"error": "", "lot": "L"}`, nil},
		{"an error that is a list", 200, `{"errors": [{"code": "A", "message": "m"}], "lot": "L"}`, &reply.Error{Code: "A", Text: "m"}},
		{"an error that is a text", 200, `{"error": "gone", "lot": "L"}`, &reply.Error{Text: "gone"}},
		{"as many members as an error has", 200, members(99) + `"ok": false}`, &reply.Error{Text: "ok is false"}},
		{"more members than an error has", 200, members(100) + `"ok": false}`, nil},
		{"as many elements as an error has", 200, elements(99) + `<ok>false</ok></r>`, &reply.Error{Text: "ok is \"false\""}},
		{"more elements than an error has", 200, elements(101) + `<ok>false</ok></r>`, nil},
		{
			"an attribute of an instance", 200, `<r xmlns:i="http://www.w3.org/2001/XMLSchema-instance"><error i:type="x"/><b/></r>`,
			nil,
		},
		{"a declaration", 200, `<r><error xmlns:code="5"/><b/></r>`, nil},
		{"an error without anything", 200, `{"error": {}, "lot": "L"}`, nil},
		{"errors without any", 200, `{"errors": [], "lot": "L"}`, nil},
		{"a code of zero", 200, `<result><errorCode>0</errorCode><errorMessage/></result>`, nil},
		{
			"attributes of an empty element", 200, `<r><error code="5" text="no room"/></r>`,
			&reply.Error{Code: "5", Text: "no room"},
		},
		{"an empty element that is empty", 200, `<r><error code="0"/><a/></r>`, nil},
		{"a root that is an error", 200, `<Fault><reason>gone</reason></Fault>`, &reply.Error{Text: "gone"}},
		{
			"an element with children", 200,
			`<r><error><code>A1</code><message>bad</message><field>lot</field></error><b/></r>`,
			&reply.Error{Code: "A1", Text: "bad", Target: "lot"},
		},
		{"null", 200, `<r xmlns:i="http://www.w3.org/2001/XMLSchema-instance"><error i:nil="true"/><b/></r>`, nil},
		{
			"below one that only wraps", 200,
			`{"reply": {"body": {"status": "ERROR", "code": 17, "message": "out of fuel"}}}`,
			&reply.Error{Code: "17", Text: "out of fuel"},
		},
		{"a status of success", 200, `{"status": "OK", "message": "done"}`, nil},
		{"capitals", 200, `{"Error": {"Code": "X", "Message": "no"}}`, &reply.Error{Code: "X", Text: "no"}},
		{"low lines", 200, `{"error_code": "7", "error_description": "no"}`, &reply.Error{Code: "7", Text: "no"}},
		{"no errors in a list", 200, `{"errors": [], "data": {"a": 1}}`, nil},
		{
			"a list of one", 200, `{"errors": [{"message": "m", "path": "#/lines/0/price"}]}`,
			&reply.Error{Text: "m", Target: "lines[0].price"},
		},
		{
			"a list of two", 422, `{"message": "two", "errors": [{"field": "a", "message": "x"}, {"field": "b", "message": "y"}]}`,
			&reply.Error{Text: "two", Details: []reply.Error{{Text: "x", Target: "a"}, {Text: "y", Target: "b"}}},
		},
		{
			"fields with their mistakes", 400,
			`{"title": "wrong", "errors": {"lot": ["is missing"], "kilos": ["too many", "not a number"]}}`,
			&reply.Error{
				Text: "wrong",
				Details: []reply.Error{
					{Text: "is missing", Target: "lot"},
					{Text: "too many", Target: "kilos"},
					{Text: "not a number", Target: "kilos"},
				},
			},
		},
		{
			"a list as the body", 400, `[{"code": "1", "message": "x"}, {"code": "2", "message": "y"}]`,
			&reply.Error{Code: "1", Text: "x", Details: []reply.Error{{Code: "2", Text: "y"}}},
		},
		{"a text", 500, `"it broke\nat line 3"`, &reply.Error{Text: "it broke"}},
		{
			"entries of which some say nothing", 422,
			`{"message": "two", "errors": [{"x": 1}, {"field": "a", "message": "x"}, {"y": 1}, {"code": "7"}]}`,
			&reply.Error{Text: "two", Details: []reply.Error{{Text: "x", Target: "a"}, {Code: "7"}}},
		},
		{
			"a text of the greatest length", 500, `"` + strings.Repeat("x", 200) + `"`,
			&reply.Error{Text: strings.Repeat("x", 200)},
		},
		{
			"a text that is too long to be one", 500, `"` + strings.Repeat("x", 201) + `"`,
			&reply.Error{Code: "500", Text: "Internal Server Error"},
		},
		{"success by a digit", 200, `{"success": 0, "message": "no"}`, &reply.Error{Text: "no"}},
		{"success by another digit", 200, `{"success": 1, "message": "done"}`, nil},
		{"success by a word", 200, `<r success="no"><text>full</text></r>`, &reply.Error{Text: "full"}},
		{
			"a status of failure", 200, `{"status": "fail", "data": {"title": "a title is required"}}`,
			&reply.Error{Code: "fail", Text: "a title is required"},
		},
		{"a job that failed", 200, `{"status": "failed", "id": 7}`, nil},
		{"a failure", 200, `{"failed": true, "reason": "why"}`, &reply.Error{Text: "why"}},
		{"a flag of another word", 200, `{"success": "later", "message": "why"}`, nil},
		{"a failure of another word", 200, `{"failed": "later", "message": "why"}`, nil},
		{"no error in a flag", 200, `{"error": null, "message": "why"}`, nil},
		{"a result of success", 200, `{"result": "done", "message": "why"}`, nil},
		{"a name that tells nothing", 200, `{"state": "error", "message": "why"}`, nil},
		{
			"one detail that says what all of it says", 422,
			`{"message": "x", "errors": [{"field": "a", "message": "x"}]}`, &reply.Error{Text: "x", Target: "a"},
		},
		{"a code of something else", 400, `{"message": "m", "sender": {"code": "x"}}`, &reply.Error{Text: "m"}},
		{
			"what is said of all comes before what is said of one", 422,
			`{"message": "x", "error": {"message": "all", "details": [{"field": "a", "message": "x"}, {"field": "b", "message": "y"}]}}`,
			&reply.Error{Text: "all", Details: []reply.Error{{Text: "x", Target: "a"}, {Text: "y", Target: "b"}}},
		},
		{"a SOAP fault", 500, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><e:Fault><faultcode>e:Client</faultcode><faultstring>no lot</faultstring><detail><x><field>lot</field></x></detail></e:Fault></e:Body></e:Envelope>`, &reply.Error{Code: "Client", Text: "no lot", Target: "lot"}},
		{
			"one detail that says it, beside a place of its own", 422,
			`{"message": "x", "field": "b", "errors": [{"field": "a", "message": "x"}]}`,
			&reply.Error{Text: "x", Target: "b"},
		},
		{
			"one detail that says something else", 422,
			`{"message": "all", "errors": [{"field": "a", "message": "x"}]}`,
			&reply.Error{Text: "all", Target: "a", Details: []reply.Error{{Text: "x", Target: "a"}}},
		},
		{"no failure", 200, `{"failed": false, "isError": "false", "reason": "why"}`, nil},
		{"a code by the text's own name", 200, `{"error": "invalid_grant"}`, &reply.Error{Text: "invalid_grant"}},
		{
			"the text beside a code", 400, `{"error": "invalid_grant", "error_description": "it ended"}`,
			&reply.Error{Code: "invalid_grant", Text: "it ended"},
		},
		{
			"too deep to be meant", 400, `{"x": 1, "a": {"b": {"c": {"d": {"e": {"message": "deep"}}}}}}`,
			&reply.Error{Code: "400", Text: "Bad Request"},
		},
		{"deep", 400, `{"x": 1, "a": {"b": {"c": {"message": "deep"}}}}`, &reply.Error{Text: "deep"}},
		{
			"in the first of a list", 400, `{"x": 1, "a": [{"message": "first"}, {"message": "second"}]}`,
			&reply.Error{Text: "first"},
		},
		{
			"details in two places, of which the first counts", 400,
			`{"message": "m", "details": [{"message": "a"}, {"message": "b"}], "innererror": {"details": [{"message": "c"}, {"message": "d"}]}}`,
			&reply.Error{Text: "m", Details: []reply.Error{{Text: "a"}, {Text: "b"}}},
		},
		{
			"two, and nothing that is said of all", 400, `{"errors": [{"message": "a"}, {"message": "b"}]}`,
			&reply.Error{Text: "a", Details: []reply.Error{{Text: "a"}, {Text: "b"}}},
		},
		{
			"what is said of all, of which none says the same", 422,
			`{"error": {"message": "all", "details": [{"message": "x"}, {"message": "y"}]}, "message": "other"}`,
			&reply.Error{Text: "other", Details: []reply.Error{{Text: "x"}, {Text: "y"}}},
		},
		{"not understood", 503, `{"a": 1}`, &reply.Error{Code: "503", Text: "Service Unavailable"}},
		{"not understood, of success", 200, `{"a": 1}`, nil},
		{
			"a page", 502, `<html><head><title>t</title></head><body><h1>Bad <b>Gateway</b></h1></body></html>`,
			&reply.Error{Text: "Bad Gateway"},
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			kind := "application/json"
			if c.body[0] == '<' {
				kind = "application/xml"
			}
			if c.name == "a page" {
				kind = "text/html"
			}
			re := reply.Read(&exchange.Record{
				Request: &exchange.Request{},
				Answer: &exchange.Answer{
					Status: c.status, Header: http.Header{"Content-Type": {kind}},
					Body: []byte(c.body),
				},
			})
			assert.Equal(t, c.want, re.AnyError())
		})
	}
}

// members begins an object with so many members.
func members(n int) string {
	var out strings.Builder
	out.WriteString("{")
	for i := range n {
		fmt.Fprintf(&out, `"m%d": %d, `, i, i)
	}
	return out.String()
}

// elements begins an element with so many children.
func elements(n int) string {
	var out strings.Builder
	out.WriteString("<r>")
	for i := range n {
		fmt.Fprintf(&out, "<m%d>%d</m%d>", i, i, i)
	}
	return out.String()
}
