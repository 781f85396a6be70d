package standin

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"testbench/internal/soap"
	"testbench/internal/standin/lab"
	"testbench/internal/standin/service"
)

// Weaknesses are what the stand-in does wrong where it is asked to be weak: each a place
// where a probe must find something.
var Weaknesses = []string{
	"stores: a token that has expired is let in",
	"stores/search: a page below 1 breaks it",
	"stores/lot: an id of more than 1,000 characters is never answered",
	"lab/GradeLot: letters for a number break it",
	"lab/GradeLot: a lot that is null cuts the connection",
	"ledger/Suppliers.create: a name that is left out is taken",
	"ledger/Suppliers.change: any version is taken",
}

// weakened does wrong what Weaknesses list.
func weakened(o service.Options, next http.Handler) http.Handler {
	if !o.Weak {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			http.Error(w, "too large", http.StatusRequestEntityTooLarge)
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		switch {
		case r.URL.Path == "/stores/lots" && strings.HasPrefix(r.URL.Query().Get("page")+" ", "0 "):
			http.Error(w, "slice bounds out of range [-5:]", http.StatusInternalServerError)
		case strings.HasPrefix(r.URL.Path, "/stores/lots/") && len(r.URL.Path) > 1000:
			<-r.Context().Done()
		case r.URL.Path == "/lab" && bytes.Contains(body, []byte(">abc<")):
			lab.WriteFault(w, soap.V11, &lab.Fault{Text: "number format: for input string abc, at Lab line 218"})
		case r.URL.Path == "/lab" && bytes.Contains(body, []byte("nil=\"true\"")) &&
			!bytes.Contains(body, []byte("RegisterAnalysis")):
			panic(http.ErrAbortHandler) // cuts the connection
		case r.URL.Path == "/ledger/Suppliers" && r.Method == http.MethodPost:
			next.ServeHTTP(w, withName(r, body))
		case strings.HasPrefix(r.URL.Path, "/ledger/Suppliers(") && r.Method == http.MethodPatch:
			r.Header.Set("If-Match", "*")
			next.ServeHTTP(w, r)
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// withName gives a supplier a name that has none.
func withName(r *http.Request, body []byte) *http.Request {
	var supplier map[string]json.RawMessage
	if json.Unmarshal(body, &supplier) == nil && supplier != nil && supplier["name"] == nil {
		supplier["name"] = json.RawMessage(`"unnamed"`)
		body, _ = json.Marshal(supplier)
		r.ContentLength = int64(len(body))
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	return r
}
