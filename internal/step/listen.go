package step

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"testbench/internal/callback"
	"testbench/internal/mapping"
	"testbench/internal/request"
	"testbench/internal/result"
	"testbench/internal/sheet"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

// Listen waits for a callback.
type Listen struct {
	single
	Method string
	Path   *value.Template   // after the address that was given out; nil for nothing
	Match  []sheet.FieldRule // which of the calls that come it is
	Signed *callback.Signed
	Answer callback.Answer
	Quiet  time.Duration // so long nothing more may come
}

var listenKind = sheet.Kind{
	Word: "listen", What: "a step that listens",
	Common: mapping.KeysOf("step, about, when, skip, tags, stop, until, within, states, keep, checks, fields, where, " +
		"soft"),
	Own: []mapping.Key[sheet.Step]{
		own("listen", "waits for a callback: method, path, match, signed, answer",
			func(r *mapping.Reader, _ *sheet.Step, l *Listen, n *yamlfile.Node) {
				if n.Kind == yamlfile.Scalar {
					l.Method = r.Choice(n, "method", request.Methods...)
					return
				}
				mapping.Read(r, "listen", n, l, listenKeys)
			}),
	},
	Instead: map[string]string{"for each": "make a step of its own for each call"},
	New:     func() sheet.Action { return &Listen{Method: http.MethodPost} },
}

var listenKeys = []mapping.Key[Listen]{
	mapping.NewKey("method", "the method; POST unless said", func(r *mapping.Reader, l *Listen, n *yamlfile.Node) {
		l.Method = r.Choice(n, "method", request.Methods...)
	}),
	mapping.TemplateKey("path", "what is after the address that was given out",
		func(l *Listen) **value.Template { return &l.Path }),
	mapping.NewKey("match", "path: rule: which of the calls it is",
		func(r *mapping.Reader, l *Listen, n *yamlfile.Node) {
			l.Match = sheet.ReadFieldRules(r, n, "")
		}),
	mapping.NewKey("signed", "how calls show that they are genuine: header, hash, key, encode, before",
		func(r *mapping.Reader, l *Listen, n *yamlfile.Node) {
			l.Signed = &callback.Signed{Hash: "sha256", Encode: "hex"}
			mapping.Read(r, "signed", n, l.Signed, signedKeys)
			r.Needs(n, "header", "key")
			if n.Kind == yamlfile.Mapping && (l.Signed.Header == "" || l.Signed.Key == nil) {
				r.File.Report(n, "write header: X-Signature and key: ${sealed.NAME}", "signed needs header: and key:")
			}
		}),
	mapping.NewKey("answer", "what calls are answered with: status, headers, body or text",
		func(r *mapping.Reader, l *Listen, n *yamlfile.Node) {
			mapping.Read(r, "the answer", n, &l.Answer, callAnswerKeys)
			if l.Answer.Body != nil && l.Answer.Text != nil {
				r.File.Report(n, "keep one of them", "the answer has a body: and a text:")
			}
		}),
	mapping.DurationKey("quiet", "so long nothing more may come", func(l *Listen) *time.Duration { return &l.Quiet }),
}

var signedKeys = []mapping.Key[callback.Signed]{
	mapping.TextKey("header", "the header field that holds the signature",
		func(s *callback.Signed) *string { return &s.Header }),
	mapping.NewKey("hash", "sha1, sha256 or sha512; sha256 unless said",
		func(r *mapping.Reader, s *callback.Signed, n *yamlfile.Node) {
			s.Hash = r.Choice(n, "hash", "sha1", "sha256", "sha512")
		}),
	mapping.SecretKey("key", "the key, from ${sealed.x}", func(s *callback.Signed) **value.Template { return &s.Key }),
	mapping.NewKey("encode", "hex or base64; hex unless said",
		func(r *mapping.Reader, s *callback.Signed, n *yamlfile.Node) {
			s.Encode = r.Choice(n, "encoding", "hex", "base64")
		}),
	mapping.TextKey("before", "what is before it, as sha256=", func(s *callback.Signed) *string { return &s.Before }),
}

var callAnswerKeys = []mapping.Key[callback.Answer]{
	mapping.NewKey("status", "the status; 204 unless said",
		func(r *mapping.Reader, a *callback.Answer, n *yamlfile.Node) {
			status, err := strconv.Atoi(r.PlainText(n))
			if err != nil || status < 200 || status > 599 {
				r.File.Report(n, "status: 204", "a call is answered with a status from 200 to 599")
				return
			}
			a.Status = status
		}),
	mapping.NewKey("headers", "header fields", func(r *mapping.Reader, a *callback.Answer, n *yamlfile.Node) {
		a.Headers = r.Values(n, "headers")
	}),
	mapping.NewKey("body", "a body as a tree, written as JSON",
		func(r *mapping.Reader, a *callback.Answer, n *yamlfile.Node) {
			r.NotFile(n, "body", "write what is in the file below body:")
			a.Body = r.Tree(n)
		}),
	mapping.NewKey("text", "a body as text", func(r *mapping.Reader, a *callback.Answer, n *yamlfile.Node) {
		r.NotFile(n, "text", "write what is in the file")
		a.Text = r.Template(n)
	}),
}

// Target says that it listens.
func (l *Listen) Target() string { return "listen" }

// Listening lists the steps of a sheet that wait for a callback, those of groups too.
func Listening(s *sheet.Sheet) []*sheet.Step {
	var found []*sheet.Step
	var look func([]*sheet.Step)
	look = func(steps []*sheet.Step) {
		for _, step := range steps {
			if _, ok := step.Action.(*Listen); ok {
				found = append(found, step)
			}
			inner, _ := step.Inner()
			look(inner)
		}
	}
	look(s.AllSteps())
	return found
}

// Run waits for the call, and judges it. A dry run waits for none.
func (l *Listen) Run(ctx context.Context, row Row, s *sheet.Step, name string) result.Outcome {
	return once(ctx, row, s, name, func(ctx context.Context, at *place, res *result.Step) {
		if at.IsDry() {
			res.Outcome, res.Reason = result.NotRun, "a dry run waits for no call"
			return
		}
		if at.session.Options.Replay != nil {
			res.Outcome, res.Reason = result.NotRun, "nobody calls back when answers are recorded ones"
			return
		}
		o, err := at.Calls().of(s.Name)
		if err != nil {
			failed(ctx, res, err)
			return
		}
		w := &sheet.Waiting{Within: sheet.UsualWithin}
		if s.Wait != nil {
			w = s.Wait
		}
		waiting := &calling{at: at, opened: o, wait: w, result: res, begun: time.Now()}
		j, err := waiting.run(ctx)
		if err != nil {
			failed(ctx, res, err)
			return
		}
		res.Notes = append(res.Notes, waiting.notes()...)
		if j == nil {
			res.Checks = waiting.checks
			res.Outcome = result.Failed
			return
		}
		j.Checks = waiting.checks
		j.FinishPayload(res)
		res.Got = "" // the call shows it
	})
}
