package exchange

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// Stream says when a stream of events has ended for whoever reads it, where the service keeps it open.
type Stream struct {
	End   string        // the data of the event that is its last; "" for none
	Quiet time.Duration // no event came for so long; 0 for however long
	Most  int           // so many events came; 0 for however many
}

// streamTypes are the media types of streams: of events (HTML Standard, 9.2), which a blank line ends, and of JSON
// values, one a line.
var streamTypes = map[string]bool{
	"text/event-stream": true, "application/x-ndjson": false, "application/jsonl": false,
	"application/jsonlines": false, "application/json-seq": false,
}

// streamReader reads a stream until it has ended.
type streamReader struct {
	from     io.Reader
	stream   *Stream
	isEvents bool
	// mayBeDocument says that the type is that of a document: services that keep a stream open often send its values
	// as application/json. isDocument says that it is one.
	mayBeDocument, isDocument bool

	line    []byte
	data    [][]byte // of the event that is being read
	wasCR   bool
	events  int
	why     string // it has ended, and why
	quiet   *time.Timer
	isQuiet atomic.Bool
}

// newStreamReader gives nil for an answer that cannot be a stream. What it returns must be finished, nil too.
func newStreamReader(s *Stream, from io.Reader, received *http.Response, answer *Answer) *streamReader {
	mediaType, _, _ := mime.ParseMediaType(answer.ContentType())
	isEvents, isStream := streamTypes[mediaType]
	isJSON := mediaType == "application/json" || strings.HasSuffix(mediaType, "+json")
	if !isStream && (!isJSON || answer.Status/100 != 2) {
		return nil
	}
	r := &streamReader{from: from, stream: s, isEvents: isEvents, mayBeDocument: !isStream}
	if s.Quiet > 0 {
		r.quiet = time.AfterFunc(s.Quiet, func() {
			r.isQuiet.Store(true)
			_ = received.Body.Close()
		})
	}
	return r
}

// finish stops the clock, and notes what the answer was.
func (r *streamReader) finish(record *Record) {
	r.stopClock()
	if r == nil || !r.isStream() {
		record.note("the answer is not a stream of events: stream: has no effect")
		return
	}
	if r.why != "" {
		record.note("the stream was left: %s", r.why)
	}
	if r.mayBeDocument {
		record.Answer.ReadAs = "application/x-ndjson"
	}
}

func (r *streamReader) stopClock() {
	if r != nil && r.quiet != nil {
		r.quiet.Stop()
	}
}

// Read gives what comes up to the end of the last event.
func (r *streamReader) Read(p []byte) (int, error) {
	if r.why != "" {
		return 0, io.EOF
	}
	n, err := r.from.Read(p)
	for i, c := range p[:n] {
		if r.ends(c) {
			return i + 1, nil
		}
	}
	if err != nil && r.isQuiet.Load() {
		r.why, err = fmt.Sprintf("no event came for %s", r.stream.Quiet), io.EOF
	}
	return n, err
}

// ends says whether the stream has ended with a byte.
func (r *streamReader) ends(c byte) bool {
	isPair := r.wasCR && c == '\n'
	r.wasCR = c == '\r'
	switch {
	case isPair:
		return false
	case c != '\n' && c != '\r':
		if r.mayBeDocument && r.events == 0 && len(r.line) == 0 {
			r.stopClock() // a document is not cut, however slowly it comes; an event starts the clock anew
		}
		r.line = append(r.line, c)
		return false
	}
	line := r.line
	r.line = nil
	if !r.isEvents {
		if line = bytes.Trim(line, " \t\x1e"); len(line) == 0 || r.isDocument {
			return false
		}
		if r.mayBeDocument && r.events == 0 && !json.Valid(line) {
			r.isDocument = true // which goes on in the next line
			return false
		}
		return r.event(line)
	}
	if rest, isData := bytes.CutPrefix(line, []byte("data")); isData && (len(rest) == 0 || rest[0] == ':') {
		r.data = append(r.data, bytes.TrimPrefix(bytes.TrimPrefix(rest, []byte(":")), []byte(" ")))
		return false
	}
	if len(line) > 0 || r.data == nil {
		return false
	}
	data := bytes.Join(r.data, []byte("\n"))
	r.data = nil
	return r.event(data)
}

// isStream says whether it was one: more than one value came where it could be a document, or the service kept it open.
func (r *streamReader) isStream() bool {
	isMore := r.events > 1 || r.events == 1 && len(bytes.TrimSpace(r.line)) > 0
	return !r.mayBeDocument || !r.isDocument && (isMore || r.why != "")
}

// event counts an event, and says whether it is the last.
func (r *streamReader) event(data []byte) bool {
	r.events++
	if r.quiet != nil {
		r.quiet.Reset(r.stream.Quiet)
	}
	switch {
	case r.stream.End != "" && string(data) == r.stream.End:
		r.why = "its last event came"
	case r.stream.Most > 0 && r.events == r.stream.Most:
		r.why = fmt.Sprintf("%d events came", r.events)
	}
	return r.why != ""
}
