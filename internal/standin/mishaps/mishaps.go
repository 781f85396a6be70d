// Package mishaps fails in each way in which a service can: it hangs, cuts, floods, lies.
package mishaps

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"testbench/internal/standin/service"
)

// Service has an address for each way to fail.
type Service struct {
	Addresses map[string]string // of the ports that speak TLS
	Ca        []byte
}

// failures are the mishaps that need no port of their own, with what each does.
var failures = map[string]struct {
	about string
	do    http.HandlerFunc
}{
	"slow":   {"answers after ms milliseconds (3000 unless said)", slow},
	"hang":   {"never answers", hang},
	"cut":    {"says 1000 bytes and sends 300", cut},
	"long":   {"sends more than it says", long},
	"type":   {"JSON under the type of a picture", wrongType},
	"broken": {"JSON that ends in the middle", broken("application/json", `{"lots": [{"id": "L-2201", "grade": `)},
	"markup": {
		"XML with a tag that is never closed",
		broken("application/xml", `<lots><lot id="L-2201"><grade>A</lot></lots>`),
	},
	"doctype": {"XML with a DOCTYPE and an entity bomb", broken("application/xml", entityBomb)},
	"bytes":   {"JSON with bytes that are not UTF-8", broken("application/json", "{\"keeper\": \"Br\xffony\"}")},
	"deep":    {"JSON 100,000 levels deep", deep},
	"page": {
		"an HTML page where JSON was asked for",
		broken("text/html; charset=utf-8",
			"<!doctype html><html><head><title>Please sign in</title></head><body><form>…</form></body></html>"),
	},
	"empty": {"status 200 and nothing else", broken("application/json", "")},
	"quiet": {
		"an error under status 200",
		broken("application/json", `{"result": null, "error": {"code": "E-17", "message": "the lot is locked"}}`),
	},
	"reset":     {"resets the connection", reset},
	"away":      {"redirects to another host", away},
	"ring":      {"redirects to itself", ring},
	"enormous":  {"10 GB", enormous},
	"bomb":      {"a few kilobytes that unfold to 10 GB", bomb},
	"gibberish": {"what is not HTTP", gibberish},
}

const entityBomb = `<?xml version="1.0"?><!DOCTYPE l [` +
	`<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]><l>&b;</l>`

// Register puts the mishaps at its addresses.
func (m *Service) Register(mux *http.ServeMux) {
	mux.HandleFunc("GET /mishaps", func(w http.ResponseWriter, _ *http.Request) {
		list := map[string]string{}
		for name, f := range failures {
			list[name] = f.about
		}
		service.WriteJSON(w, http.StatusOK, map[string]any{"mishaps": list, "addresses": m.Addresses})
	})
	mux.HandleFunc("GET /mishaps/ca.pem", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/x-pem-file")
		_, _ = w.Write(m.Ca)
	})
	mux.HandleFunc("/mishaps/{name}", func(w http.ResponseWriter, r *http.Request) {
		f, ok := failures[r.PathValue("name")]
		if !ok {
			names := make([]string, 0, len(failures))
			for name := range failures {
				names = append(names, name)
			}
			slices.Sort(names)
			service.Problem(w, http.StatusNotFound, "no_such_mishap", "", "there are: "+strings.Join(names, ", "))
			return
		}
		f.do(w, r)
	})
}

func slow(w http.ResponseWriter, r *http.Request) {
	milliseconds, err := strconv.Atoi(r.URL.Query().Get("ms"))
	if err != nil {
		milliseconds = 3000
	}
	select {
	case <-time.After(time.Duration(milliseconds) * time.Millisecond):
		service.WriteJSON(w, http.StatusOK, map[string]int{"waited": milliseconds})
	case <-r.Context().Done():
	}
}

func hang(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }

// raw takes the connection and writes bytes to it as they are.
func raw(w http.ResponseWriter, r *http.Request, text string, abort bool) {
	hijacker, ok := w.(http.Hijacker)
	if !ok {
		panic(http.ErrAbortHandler) // HTTP/2: the stream is reset
	}
	connection, _, err := hijacker.Hijack()
	if err != nil {
		return
	}
	defer func() { _ = connection.Close() }()
	_, _ = io.WriteString(connection, text)
	if tcp, ok := connection.(*net.TCPConn); ok && abort {
		_ = tcp.SetLinger(0)
	}
}

func cut(w http.ResponseWriter, r *http.Request) {
	raw(w, r, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n"+`{"lots": [`+
		strings.Repeat(" ", 290), false)
}

func long(w http.ResponseWriter, r *http.Request) {
	raw(w, r, "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: 10\r\nConnection: close\r\n\r\n"+
		`{"id": 1, "more": "than was said"}`, false)
}

func reset(w http.ResponseWriter, r *http.Request) { raw(w, r, "", true) }

func gibberish(w http.ResponseWriter, r *http.Request) {
	raw(w, r, "220 mail.heatherfold.example ready\r\n\r\n", false)
}

func wrongType(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "image/png")
	_, _ = io.WriteString(w, `{"id": "L-2201"}`)
}

func broken(contentType, text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", contentType)
		_, _ = io.WriteString(w, text)
	}
}

func deep(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	_, _ = io.WriteString(w, strings.Repeat("[", 100_000)+strings.Repeat("]", 100_000))
}

func away(w http.ResponseWriter, r *http.Request) {
	to := r.URL.Query().Get("to")
	if to == "" {
		to = "http://elsewhere.heatherfold.example/lots"
	}
	http.Redirect(w, r, to, http.StatusFound)
}

func ring(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "/mishaps/ring", http.StatusFound)
}

const tenGigabytes = 10 << 30

func enormous(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	fill(w, r)
}

// packedBlanks are 16 MB of blanks, packed once: packed data may be joined (RFC 1952, 2.2).
var packedBlanks = sync.OnceValue(func() []byte {
	var out bytes.Buffer
	packed := gzip.NewWriter(&out)
	_, _ = io.WriteString(packed, strings.Repeat(" ", 16<<20))
	_ = packed.Close()
	return out.Bytes()
})

func bomb(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Content-Encoding", "gzip")
	for range tenGigabytes / (16 << 20) {
		if _, err := w.Write(packedBlanks()); err != nil || r.Context().Err() != nil {
			return
		}
	}
}

// fill writes blanks until it is enough or nobody listens any more.
func fill(w io.Writer, r *http.Request) {
	chunk := []byte(strings.Repeat(" ", 1<<20))
	for written := 0; written < tenGigabytes; written += len(chunk) {
		if _, err := w.Write(chunk); err != nil || r.Context().Err() != nil {
			return
		}
	}
	_, _ = fmt.Fprint(w, "{}")
}
