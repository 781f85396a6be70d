package simulation

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"testbench/internal/document"
)

// isOData tells whether the contract is one of OData, and whether it is of version 2.
func (c *httpCalls) isOData() (is, two bool) {
	version, is := strings.CutPrefix(c.format, "OData ")
	return is, is && strings.HasPrefix(version, "2")
}

// method is what a request means to do. Clients of OData 2.0 tunnel a method through POST
// (Operations, 2.8), and write PATCH, as later versions call it, for MERGE.
func (c *httpCalls) method(r *http.Request) string {
	method := r.Method
	if _, two := c.isOData(); two {
		if tunnelled := r.Header.Get("X-HTTP-Method"); method == http.MethodPost && tunnelled != "" {
			method = tunnelled
		}
		if method == http.MethodPatch {
			method = "MERGE"
		}
	}
	return method
}

// counted puts how many there are into a list where that is asked for (OData 4.01,
// Protocol, 11.2.6.5; 2.0, URI Conventions, 4.9).
func (c *httpCalls) counted(fields, body *document.Node) *document.Node {
	is, _ := c.isOData()
	list := body.Get("value")
	asked := fields.Get("count")
	if !is || asked == nil || list == nil || list.Kind != document.List ||
		asked.Text != "true" && asked.Text != "allpages" {
		return body
	}
	body.Set("@odata.count", document.NewNumber(strconv.Itoa(len(list.Items()))))
	return body
}

// errorBody is what tells of an error: an error object for OData (4.01, JSON Format, 21.1;
// 2.0 has its message as an object), a problem for all else (RFC 9457, 3.1).
func (c *httpCalls) errorBody(status int, detail string) (mediaType string, body any) {
	switch is, two := c.isOData(); {
	case two:
		return "application/json",
			map[string]any{"error": map[string]any{
				"code":    fmt.Sprint(status),
				"message": map[string]any{"lang": "en", "value": detail},
			}}
	case is:
		return "application/json",
			map[string]any{"error": map[string]any{"code": fmt.Sprint(status), "message": detail}}
	}
	return "application/problem+json",
		map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "detail": detail}
}
