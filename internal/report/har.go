package report

import (
	"encoding/json"
	"io"
	"net/url"
	"slices"
	"strings"
	"time"

	"testbench/internal/history"
	"testbench/internal/secret"
)

// HAR writes the exchanges of a run as an HTTP Archive, version 1.2, one entry an
// exchange. One that is recorded without what was sent has no entry.
func HAR(to io.Writer, run history.Finished) error {
	head := run.Run()
	if _, err := io.WriteString(to,
		`{"log":{"version":"1.2","creator":{"name":"Test Bench","version":"1"},"comment":`); err != nil {
		return err
	}
	comment, err := json.Marshal(head.Bench + ", run " + head.ID)
	if err != nil {
		return err
	}
	if _, err := to.Write(append(comment, []byte(",\"entries\":[")...)); err != nil {
		return err
	}
	first := true
	for place, e := range history.Exchanges(run) {
		if e.Request == nil {
			continue
		}
		text, err := marshal(harEntry(place, e))
		if err != nil {
			return err
		}
		separator := ",\n"
		if first {
			separator = "\n"
		}
		first = false
		if _, err := io.WriteString(to, separator+text); err != nil {
			return err
		}
	}
	_, err = io.WriteString(to, "\n]}}\n")
	return err
}

func marshal(v any) (string, error) {
	var out strings.Builder
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(v)
	return strings.TrimSuffix(out.String(), "\n"), err
}

type (
	harPair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	harPost struct {
		MimeType string `json:"mimeType"`
		Text     string `json:"text"`
	}
	harRequest struct {
		Method      string    `json:"method"`
		URL         string    `json:"url"`
		HTTPVersion string    `json:"httpVersion"`
		Cookies     []harPair `json:"cookies"`
		Headers     []harPair `json:"headers"`
		QueryString []harPair `json:"queryString"`
		PostData    *harPost  `json:"postData,omitempty"`
		HeadersSize int       `json:"headersSize"`
		BodySize    int       `json:"bodySize"`
	}
	harContent struct {
		Size     int    `json:"size"`
		MimeType string `json:"mimeType"`
		Text     string `json:"text,omitempty"`
	}
	harResponse struct {
		Status      int        `json:"status"`
		StatusText  string     `json:"statusText"`
		HTTPVersion string     `json:"httpVersion"`
		Cookies     []harPair  `json:"cookies"`
		Headers     []harPair  `json:"headers"`
		Content     harContent `json:"content"`
		RedirectURL string     `json:"redirectURL"`
		HeadersSize int        `json:"headersSize"`
		BodySize    int        `json:"bodySize"`
	}
	harTimings struct {
		DNS     float64 `json:"dns"`
		Connect float64 `json:"connect"`
		SSL     float64 `json:"ssl"`
		Send    float64 `json:"send"`
		Wait    float64 `json:"wait"`
		Receive float64 `json:"receive"`
	}
	harEntryForm struct {
		Started  string      `json:"startedDateTime"`
		Time     float64     `json:"time"`
		Request  harRequest  `json:"request"`
		Response harResponse `json:"response"`
		Cache    struct{}    `json:"cache"`
		Timings  harTimings  `json:"timings"`
		Comment  string      `json:"comment,omitempty"`
	}
)

func harPairs(header map[string][]secret.Text) []harPair {
	pairs := []harPair{}
	for name, values := range header {
		for _, v := range values {
			pairs = append(pairs, harPair{name, string(v)})
		}
	}
	slices.SortFunc(pairs, func(a, b harPair) int {
		return strings.Compare(a.Name+"\x00"+a.Value, b.Name+"\x00"+b.Value)
	})
	return pairs
}

func harEntry(place *history.Source, e *history.Exchange) *harEntryForm {
	version := e.Protocol
	if version == "" {
		version = "HTTP/1.1"
	}
	out := &harEntryForm{
		Started: e.Started.Format(time.RFC3339Nano),
		Request: harRequest{
			Method: e.Request.Method, URL: string(e.Request.Address), HTTPVersion: version, Cookies: []harPair{},
			Headers: harPairs(e.Request.Headers), QueryString: []harPair{},
			HeadersSize: -1, BodySize: len(e.Request.Body),
		},
		Response: harResponse{
			Status: e.Status, StatusText: string(e.Reason), HTTPVersion: version, Cookies: []harPair{},
			Headers: harPairs(e.Headers),
			Content: harContent{
				Size: len(e.Body), MimeType: string(history.Field(e.Headers, "Content-Type")),
				Text: string(e.Body),
			}, HeadersSize: -1, BodySize: len(e.Body),
		},
	}
	if e.Request.Body != "" {
		out.Request.PostData = &harPost{
			e.Request.MediaType(),
			string(e.Request.Body),
		}
	}
	if u, err := url.Parse(string(e.Request.Address)); err == nil {
		for _, pair := range strings.Split(u.RawQuery, "&") {
			name, v, _ := strings.Cut(pair, "=")
			if pair != "" {
				out.Request.QueryString = append(out.Request.QueryString, harPair{unescaped(name), unescaped(v)})
			}
		}
	}
	out.Response.RedirectURL = string(history.Field(e.Headers, "Location"))
	out.Timings = harTimings{DNS: -1, Connect: -1, SSL: -1}
	for name, into := range map[string]*float64{
		"lookup": &out.Timings.DNS, "connect": &out.Timings.Connect,
		"tls": &out.Timings.SSL,
	} {
		if ms := e.Phases[name]; ms > 0 {
			*into = ms // -1 says that it was not needed
		}
	}
	out.Timings.Wait, out.Timings.Receive = e.Phases["waiting"], e.Phases["receiving"]
	known := max(out.Timings.DNS, 0) + max(out.Timings.Connect, 0) + out.Timings.Wait + out.Timings.Receive
	out.Timings.Send = max(e.Milliseconds-known, 0)
	// The time of an entry is the sum of its parts.
	out.Time = known + out.Timings.Send
	out.Comment = place.Sheet.Sheet + ": " + place.Step.Step
	if which := place.Row.Name(); which != "" {
		out.Comment += " (" + which + ")"
	}
	if e.Failure != "" {
		out.Comment += ": " + string(e.Failure)
	}
	return out
}

func unescaped(text string) string {
	if plain, err := url.QueryUnescape(text); err == nil {
		return plain
	}
	return text
}
