package exchange

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"time"
)

// explain tells from an error, and from what had come by then, in which way the
// exchange failed.
func (c *Client) explain(ctx context.Context, record *Record, err error) *Failure {
	var failure *Failure
	if errors.As(err, &failure) {
		return failure
	}
	host := record.Request.URL.Host
	if n := len(record.Hops); n > 0 {
		host = record.Hops[n-1].To
	}
	fail := func(kind FailureKind, format string, args ...any) *Failure {
		return &Failure{Kind: kind, Message: fmt.Sprintf(format, args...), Cause: err}
	}
	if errors.Is(ctx.Err(), context.Canceled) {
		return fail(Interrupted, "interrupted")
	}
	var operation *net.OpError
	if errors.As(err, &operation) && operation.Op == "proxyconnect" {
		through := "the proxy"
		var dial *net.OpError
		if errors.As(operation.Err, &dial) && dial.Addr != nil {
			through += " " + dial.Addr.String()
		}
		return fail(NoProxy, "%s, through which %s is asked, cannot be reached: %v", through, host, operation.Err)
	}
	var network net.Error
	if errors.Is(err, context.DeadlineExceeded) || errors.As(err, &network) && network.Timeout() {
		if record.Answer != nil {
			return fail(TimedOut, "%s answered %d, but the whole answer did not come within %v (%d bytes did)", host,
				record.Answer.Status, c.timeout(record.Request), len(record.Answer.Body))
		}
		return fail(TimedOut, "%s gave no answer within %v", host, c.timeout(record.Request))
	}
	if failure := explainCertificate(host, err, fail); failure != nil {
		return failure
	}
	return explainConnection(record, host, err, fail)
}

// explainConnection tells apart what the system and net/http say of a connection; some of it they say in words alone.
func explainConnection(
	record *Record, host string, err error, fail func(FailureKind, string, ...any) *Failure,
) *Failure {
	var lookup *net.DNSError
	var header tls.RecordHeaderError
	var alert tls.AlertError
	text := err.Error()
	switch {
	case errors.As(err, &lookup):
		return fail(Unknown, "the host %s is not known", lookup.Name)
	case isOneOf(err, refusedBy):
		return fail(Refused, "%s refused the connection: nothing listens there", host)
	case isOneOf(err, unreachableBy):
		return fail(Unreachable, "%s cannot be reached from here", host)
	case strings.Contains(text, "server gave HTTP response to HTTPS client"):
		return fail(BadTLS, "%s answers in plain HTTP on this port, not in TLS", host)
	case strings.Contains(text, `malformed HTTP response "\x15\x03`):
		return fail(BadTLS, "%s speaks TLS on this port, not plain HTTP", host)
	case errors.As(err, &header):
		return fail(BadTLS, "%s does not speak TLS on this port", host)
	case errors.As(err, &alert), strings.Contains(text, "tls: "):
		return fail(BadTLS, "no TLS connection to %s could be made: %s", host,
			strings.TrimPrefix(text, "remote error: "))
	case record.Answer != nil &&
		(errors.Is(err, io.ErrUnexpectedEOF) || isOneOf(err, resetBy) ||
			strings.Contains(text, "stream error")):
		return fail(CutOff, "%s answered %d, then the connection ended before the whole answer had come (%d bytes did)",
			host, record.Answer.Status, len(record.Answer.Body))
	case isOneOf(err, resetBy), isOneOf(err, brokenBy), errors.Is(err, io.EOF),
		strings.Contains(text, "server closed idle connection"),
		strings.Contains(text, "client conn could not be established"),
		strings.Contains(text, "client connection lost"):
		return fail(Reset, "%s closed the connection without an answer", host)
	case strings.HasPrefix(text, "net/http: invalid header field"), strings.HasPrefix(text, "net/http: invalid method"):
		return fail(Unwritable, "the request to %s cannot be written: %s", host, strings.TrimPrefix(text, "net/http: "))
	case strings.Contains(text, "malformed"), strings.Contains(text, "in chunk"),
		strings.Contains(text, "chunked line"), strings.Contains(text, "invalid header"),
		strings.Contains(text, "bad Content-Length"), strings.Contains(text, "unsupported transfer encoding"):
		return fail(NotHTTP, "what %s sent is not HTTP: %s", host, strings.TrimPrefix(text, "net/http: "))
	case strings.Contains(text, "readLoopPeekFail"): // what came before the request had gone out
		return fail(NotHTTP, "what %s sent is not HTTP: it spoke before it was asked, as servers of other protocols do",
			host)
	case strings.Contains(text, "server response headers exceeded"):
		return fail(TooLarge, "the header of the answer from %s is larger than %d MiB", host, MaxHeader>>20)
	}
	return fail(Unreachable, "no exchange with %s: %s", host, text)
}

// isOneOf says whether an error is, or comes from, one of several.
func isOneOf(err error, some []error) bool {
	return slices.ContainsFunc(some, func(one error) bool { return errors.Is(err, one) })
}

func explainCertificate(host string, err error, fail func(FailureKind, string, ...any) *Failure) *Failure {
	var unknown x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	var wrongHost x509.HostnameError
	switch {
	case errors.As(err, &unknown):
		issuer := ""
		if unknown.Cert != nil {
			issuer = " (" + unknown.Cert.Issuer.String() + ")"
		}
		return fail(BadCertificate, "the certificate of %s is from an authority that is not known here%s", host, issuer)
	case errors.As(err, &wrongHost):
		names := wrongHost.Certificate.DNSNames
		for _, ip := range wrongHost.Certificate.IPAddresses {
			names = append(names, ip.String())
		}
		return fail(BadCertificate, "the certificate of %s is for another name: %s", host, strings.Join(names, ", "))
	case errors.As(err, &invalid):
		if invalid.Reason == x509.Expired {
			if now := time.Now(); now.Before(invalid.Cert.NotBefore) {
				return fail(BadCertificate, "the certificate of %s is valid only from %s on", host,
					invalid.Cert.NotBefore.Format(time.RFC3339))
			}
			return fail(BadCertificate, "the certificate of %s expired on %s", host,
				invalid.Cert.NotAfter.Format(time.RFC3339))
		}
		return fail(BadCertificate, "the certificate of %s is not valid: %v", host, invalid)
	}
	return nil
}
