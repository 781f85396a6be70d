package mapping

import (
	"time"

	"testbench/internal/exchange"
	"testbench/internal/yamlfile"
)

var streamKeys = []Key[exchange.Stream]{
	TextKey("end", "the data of the event that is the last", func(s *exchange.Stream) *string { return &s.End }),
	TimeoutKey("quiet", "it has ended when no event comes for so long",
		func(s *exchange.Stream) *time.Duration { return &s.Quiet }),
	NewKey("most", "how many events are read", func(r *Reader, s *exchange.Stream, n *yamlfile.Node) {
		s.Most = r.Whole(n, "most")
	}),
}

// StreamHelp says what the key is for.
const StreamHelp = "when a stream of events has ended: end:, quiet: or most:; when the service ends it unless said"

// Stream reads when a stream has ended.
func (r *Reader) Stream(n *yamlfile.Node) *exchange.Stream {
	s := &exchange.Stream{}
	r.NotEmpty(n, "stream")
	Read(r, "a stream", n, s, streamKeys)
	return s
}
