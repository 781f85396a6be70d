package sheet

import (
	"net/http"
	"strconv"
	"time"

	"testbench/internal/bench"
	"testbench/internal/request"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Listen says which call a step waits for.
type Listen struct {
	Method string
	Path   *value.Template // behind the address that was given out; nil for nothing
	Match  []FieldRule     // which of the calls that come it is
	Signed *Signed
	Answer CallAnswer
	Quiet  time.Duration // so long nothing more may come

	at *yamlfile.Node
}

// Signed says how calls show that they come from whoever knows a key: by an HMAC
// (RFC 2104) of the body in a header.
type Signed struct {
	Header string
	Hash   string // sha1, sha256, sha512
	Key    *value.Template
	Encode string // hex, base64
	Before string // what stands before it, as sha256=
}

// CallAnswer is what a call is answered with.
type CallAnswer struct {
	Status  int
	Headers []request.Pair
	Body    *request.Tree // as JSON
	Text    *value.Template
}

var listenKeys = []bench.Key[Listen]{
	bench.NewKey("method", "POST unless said otherwise", func(r *bench.Reader, l *Listen, n *yamlfile.Node) { l.Method = r.Choice(n, "method", bench.Methods...) }),
	bench.NewKey("path", "what stands behind the address that was given out", func(r *bench.Reader, l *Listen, n *yamlfile.Node) { l.Path = r.Template(n) }),
	bench.NewKey("match", "path: rule: which of the calls it is", func(r *bench.Reader, l *Listen, n *yamlfile.Node) { l.Match = readFieldRules(r, n, "") }),
	bench.NewKey("signed", "how calls show that they are genuine: header, hash, key, encode, before", func(r *bench.Reader, l *Listen, n *yamlfile.Node) {
		l.Signed = &Signed{Hash: "sha256", Encode: "hex"}
		bench.ReadMapping(r, "signed", n, l.Signed, signedKeys)
		if n.Kind == yamlfile.Mapping && (l.Signed.Header == "" || l.Signed.Key == nil) {
			r.File.Report(n, "write header: X-Signature and key: ${sealed.NAME}", "signed needs header: and key:")
		}
	}),
	bench.NewKey("answer", "what calls are answered with: status, headers, body or text", func(r *bench.Reader, l *Listen, n *yamlfile.Node) {
		bench.ReadMapping(r, "the answer", n, &l.Answer, callAnswerKeys)
		if l.Answer.Body != nil && l.Answer.Text != nil {
			r.File.Report(n, "keep one of them", "the answer has a body: and a text:")
		}
	}),
	bench.NewKey("quiet", "so long nothing more may come", func(r *bench.Reader, l *Listen, n *yamlfile.Node) { l.Quiet = r.Duration(n) }),
}

var signedKeys = []bench.Key[Signed]{
	bench.NewKey("header", "the header field that holds the signature", func(r *bench.Reader, s *Signed, n *yamlfile.Node) { s.Header = r.PlainText(n) }),
	bench.NewKey("hash", "sha1, sha256 or sha512", func(r *bench.Reader, s *Signed, n *yamlfile.Node) {
		s.Hash = r.Choice(n, "hash", "sha1", "sha256", "sha512")
	}),
	bench.NewKey("key", "the key, from ${sealed.x}", func(r *bench.Reader, s *Signed, n *yamlfile.Node) { s.Key = r.Secret(n) }),
	bench.NewKey("encode", "hex or base64", func(r *bench.Reader, s *Signed, n *yamlfile.Node) {
		s.Encode = r.Choice(n, "encoding", "hex", "base64")
	}),
	bench.NewKey("before", "what stands before it, as sha256=", func(r *bench.Reader, s *Signed, n *yamlfile.Node) { s.Before = r.PlainText(n) }),
}

var callAnswerKeys = []bench.Key[CallAnswer]{
	bench.NewKey("status", "204 unless said otherwise", func(r *bench.Reader, a *CallAnswer, n *yamlfile.Node) {
		status, err := strconv.Atoi(r.PlainText(n))
		if err != nil || status < 200 || status > 599 {
			r.File.Report(n, "status: 204", "a call is answered with a status from 200 to 599")
			return
		}
		a.Status = status
	}),
	bench.NewKey("headers", "header fields", func(r *bench.Reader, a *CallAnswer, n *yamlfile.Node) { a.Headers = r.Pairs(n, "headers") }),
	bench.NewKey("body", "a body as a tree, written as JSON", func(r *bench.Reader, a *CallAnswer, n *yamlfile.Node) { a.Body = r.Tree(n) }),
	bench.NewKey("text", "a body as text", func(r *bench.Reader, a *CallAnswer, n *yamlfile.Node) { a.Text = r.Template(n) }),
}

// readListen reads `listen: POST`, or a mapping.
func readListen(r *bench.Reader, n *yamlfile.Node) *Listen {
	l := &Listen{Method: http.MethodPost, at: n}
	if n.Kind == yamlfile.Scalar {
		l.Method = r.Choice(n, "method", bench.Methods...)
		return l
	}
	bench.ReadMapping(r, "listen", n, l, listenKeys)
	return l
}

// Listens lists the steps that wait to be called back.
func (s *Sheet) Listens() []string {
	var names []string
	var collect func([]*Step)
	collect = func(steps []*Step) {
		for _, step := range steps {
			if step.Listen != nil {
				names = append(names, step.Name)
			}
			collect(step.Group)
		}
	}
	collect(s.AllSteps())
	return names
}
