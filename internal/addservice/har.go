package addservice

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"testbench/internal/document"
)

// harFile is recorded traffic in the HTTP Archive format, version 1.2, as far as it is read here.
type harFile struct {
	Log struct {
		Entries []struct {
			Request struct {
				Method, URL string
				Headers     []struct{ Name, Value string }
				PostData    *struct{ MimeType, Text string }
			}
			Response struct {
				Status  int
				Content struct{ MimeType string }
			}
		}
	}
}

// recorded is a request out of recorded traffic.
type recorded struct {
	method, mediaType, body string
	at                      *url.URL
	headers                 [][2]string
}

// ReadHAR makes operations of recorded traffic: of the requests to the origin of an address, or to that which is
// asked most often where the address is empty. Requests that differ in identifiers and values alone are one
// operation, whose defaults are those of the first. Pages, pictures and scripts are left out.
func ReadHAR(service string, data []byte, address string) (*Example, error) {
	var file harFile
	if err := json.Unmarshal(data, &file); err != nil {
		return nil, fmt.Errorf("this is not recorded traffic (HAR, JSON): %w", err)
	}
	origin := func(u *url.URL) string { return u.Scheme + "://" + u.Host }
	counts, all := map[string]int{}, map[string][]recorded{}
	for _, entry := range file.Log.Entries {
		u, err := url.Parse(entry.Request.URL)
		if err != nil || u.Host == "" || isPage(entry.Response.Content.MimeType) || entry.Request.Method == "OPTIONS" ||
			entry.Response.Status >= 400 {
			continue
		}
		r := recorded{method: entry.Request.Method, at: u}
		for _, h := range entry.Request.Headers {
			r.headers = append(r.headers, [2]string{h.Name, h.Value})
		}
		if p := entry.Request.PostData; p != nil {
			r.mediaType, r.body = p.MimeType, p.Text
		}
		counts[origin(u)]++
		all[origin(u)] = append(all[origin(u)], r)
	}
	home := ""
	if given, err := url.Parse(address); address != "" && (err != nil || given.Host == "") {
		return nil, fmt.Errorf("%q is not an address: it begins with http:// or https://", address)
	} else if address != "" {
		home = origin(given)
	}
	for at, n := range counts {
		if address == "" && (n > counts[home] || n == counts[home] && at < home) {
			home = at
		}
	}
	if len(all[home]) == 0 {
		return nil, errors.New("no request of the recording went through to a service: pages, pictures, scripts and " +
			"errors are left out")
	}
	whole := &Example{Address: home}
	if others := len(counts) - 1; others > 0 {
		whole.Notes = append(whole.Notes, fmt.Sprintf("requests to %d other origins were left out", others))
	}
	known := map[string]bool{}
	for _, r := range all[home] {
		one, err := r.example(service, whole)
		if err != nil {
			whole.Notes = append(whole.Notes, fmt.Sprintf("%s %s was left out: %v", r.method, r.at.Path, err))
			continue
		}
		if key := one.Method + " " + one.Path; !known[key] {
			known[key] = true
			whole.add(one)
		}
	}
	whole.hide()
	return whole, nil
}

// isPage says whether an answer is what browsers show, and not what programs ask for.
func isPage(mediaType string) bool {
	for _, begin := range []string{
		"text/html", "text/css", "text/javascript", "application/javascript", "image/",
		"font/", "audio/", "video/",
	} {
		if strings.HasPrefix(mediaType, begin) {
			return true
		}
	}
	return false
}

// passing are header fields that browsers add to every request.
var passing = []string{
	"accept-encoding", "accept-language", "cache-control", "connection", "content-length", "host", "origin", "pragma",
	"priority", "referer", "te", "upgrade-insecure-requests", "user-agent", "content-type", "if-none-match",
	"if-modified-since",
}

// example is one request as an operation of the whole.
func (r *recorded) example(service string, whole *Example) (*Example, error) {
	e, err := ReadExample(service, r.at.String())
	if err != nil {
		return nil, err
	}
	e.Secrets = append(slices.Clone(whole.Secrets), e.Secrets...) // what is sealed twice has one name
	e.Method = r.method
	e.Path = strings.TrimPrefix(e.Address, whole.Address) + e.Path
	e.Address = whole.Address
	prefix := identifier(service) + "_"
	for _, h := range r.headers {
		name := strings.ToLower(h[0])
		if !strings.HasPrefix(name, "sec-") && !strings.HasPrefix(name, ":") && !slices.Contains(passing, name) &&
			h[1] != "" {
			e.header(prefix, h[0], h[1])
		}
	}
	if format := document.FormatOf(r.mediaType, []byte(r.body)); format == document.JSON || format == document.XML {
		return e, e.sampleBody(prefix, r.mediaType, r.body)
	}
	e.body(prefix, r.mediaType, r.body)
	return e, nil
}

// add takes an operation into a service of several.
func (e *Example) add(one *Example) {
	if one.SOAP != "" {
		e.Notes = append(e.Notes, "a SOAP request was left out: add it by -from-sample, as a service of its own")
		return
	}
	for _, s := range one.Secrets {
		if !slices.ContainsFunc(e.Secrets,
			func(known ExampleSecret) bool { return known.Text == s.Text && known.Header == s.Header }) {
			e.Secrets = append(e.Secrets, s)
		}
	}
	for _, c := range one.Cookies {
		if !slices.Contains(e.Cookies, c) {
			e.Cookies = append(e.Cookies, c)
		}
	}
	for _, name := range one.Names {
		if !slices.Contains(e.Names, name) {
			e.Names = append(e.Names, name)
		}
	}
	if one.User != "" {
		e.User = one.User
	}
	if one.Body != "" {
		e.Notes = append(e.Notes,
			fmt.Sprintf("the body of %s %s was left out: it is neither JSON, XML nor a form", one.Method, one.Path))
	}
	taken := func(name string) bool {
		return slices.ContainsFunc(e.More, func(other *Example) bool { return other.Operation == name })
	}
	name := one.Operation
	if taken(name) {
		name = strings.ToLower(one.Method) + "_" + name
	}
	base := name
	for n := 2; taken(name); n++ {
		name = fmt.Sprintf("%s_%d", base, n)
	}
	one.Operation = name
	e.More = append(e.More, one)
}
