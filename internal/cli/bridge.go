package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"strings"
	"time"

	"testbench"
	"testbench/internal/bridge"
)

type bridgeOptions struct {
	listen, port, cert, key, log string
	keep, hosts                  list
	rate                         float64
	maxBody                      int64
	timeout                      time.Duration
	open                         bool
	issue, withdraw, operations  string
	until                        time.Duration
	list                         bool
}

func bridgeCommand() *command {
	return &command{name: "bridge", group: "handing over", purpose: "offers the operations of a SOAP service as JSON over HTTP", usage: "SERVICE",
		examples: []string{"testbench bridge lab", "testbench bridge lab -issue-key orchard -operations GradeLot -until 720h", "testbench bridge lab -listen 127.0.0.1:8730 -keep GradeLot=30s -rate 20"},
		options: func(f *flag.FlagSet) any {
			o := &bridgeOptions{}
			f.StringVar(&o.listen, "listen", "127.0.0.1:8730", "the `address` to listen on; port 0 takes a free one")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.StringVar(&o.cert, "cert", "", "a `file` with the certificate for TLS, in PEM")
			f.StringVar(&o.key, "key", "", "the `file` with its key")
			f.StringVar(&o.log, "access-log", "", "write a line of JSON for each request to a `file`; else they go to standard error")
			f.Var(&o.keep, "keep", "`OPERATION=30s`: keep answers of an operation for a time; may stand several times")
			f.Var(&o.hosts, "host", "a `name` by which it is asked, beside those of the loopback; may stand several times")
			f.Float64Var(&o.rate, "rate", 0, "how many requests a `second` each key may make")
			f.Int64Var(&o.maxBody, "max-request", 1<<20, "how many `bytes` a request may hold")
			f.DurationVar(&o.timeout, "wait", 30*time.Second, "how `long` the service is waited for")
			f.BoolVar(&o.open, "open", false, "answer everybody beyond the loopback too, without a key")
			f.StringVar(&o.issue, "issue-key", "", "make a key for whoever is called `NAME`, and print it")
			f.StringVar(&o.operations, "operations", "", "the operations that the key is for, with commas between `them`; else all")
			f.DurationVar(&o.until, "until", 0, "for how `long` the key is good; else for ever")
			f.BoolVar(&o.list, "list-keys", false, "list the keys that were issued")
			f.StringVar(&o.withdraw, "withdraw-key", "", "take the key of `NAME` back")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.bridge(ctx, options.(*bridgeOptions), args)
		}}
}

func (s *session) bridge(ctx context.Context, o *bridgeOptions, args []string) (int, error) {
	if len(args) != 1 {
		return 0, usagef("testbench bridge lab", "bridge takes the name of one service")
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	keys, err := bench.BridgeKeys(args[0])
	if err != nil {
		return 0, err
	}
	switch {
	case o.issue != "":
		return s.issueKey(ctx, bench, keys, o, args[0])
	case o.withdraw != "":
		if err := keys.Withdraw(o.withdraw); err != nil {
			return 0, err
		}
		s.tell.note("the key of %s was withdrawn", s.tell.visible(o.withdraw))
		return ExitHeld, nil
	case o.list:
		return ExitHeld, s.listKeys(keys)
	}
	return s.serveBridge(ctx, bench, keys, o, args[0])
}

func (s *session) issueKey(ctx context.Context, bench *testbench.Bench, keys *bridge.Keys, o *bridgeOptions, service string) (int, error) {
	var operations []string
	for name := range strings.SplitSeq(o.operations, ",") {
		if name = strings.TrimSpace(name); name != "" {
			operations = append(operations, name)
		}
	}
	if len(operations) > 0 {
		c, err := bench.Contract(ctx, service, nil, s.options())
		if err != nil {
			return 0, err
		}
		for _, name := range operations {
			if _, _, err := c.Operation(name, o.port, ""); err != nil {
				return 0, err
			}
		}
	}
	until := time.Time{}
	if o.until > 0 {
		until = time.Now().Add(o.until).UTC().Round(time.Second)
	}
	key, err := keys.Issue(o.issue, operations, until)
	if err != nil {
		return 0, err
	}
	s.tell.printf("%s\n", key)
	s.tell.note("this is the key of %s: it is shown this once, and kept as a hash only", s.tell.visible(o.issue))
	return ExitHeld, nil
}

func (s *session) listKeys(keys *bridge.Keys) error {
	all := keys.List()
	if s.common.json {
		return jsonList(s.tell, all)
	}
	if len(all) == 0 {
		s.tell.note("no key was issued")
	}
	for _, key := range all {
		state := "good"
		switch {
		case !key.Withdrawn.IsZero():
			state = "withdrawn " + key.Withdrawn.Format("2006-01-02")
		case !key.Until.IsZero() && time.Now().After(key.Until):
			state = "good until " + key.Until.Format("2006-01-02 15:04") + ", which is over"
		case !key.Until.IsZero():
			state = "good until " + key.Until.Format("2006-01-02 15:04")
		}
		s.tell.printf("%s  %s  %s  %s\n", s.tell.fit(key.Name, 16), key.Issued.Format("2006-01-02"), s.tell.fit(firstOf(strings.Join(key.Operations, ", "), "all operations"), 28), state)
	}
	return nil
}

func (s *session) serveBridge(ctx context.Context, bench *testbench.Bench, keys *bridge.Keys, o *bridgeOptions, service string) (int, error) {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return 0, usagef("-listen 127.0.0.1:8730", "-listen %s: %v", o.listen, err)
	}
	ip := net.ParseIP(host)
	isLoopback := host == "localhost" || ip != nil && ip.IsLoopback()
	if len(keys.List()) == 0 {
		keys = nil
		if !isLoopback && !o.open {
			return 0, usagef("`testbench bridge "+service+" -issue-key NAME` makes a key; -open does without", "on %s everybody could ask, and no key was issued", o.listen)
		}
	}
	if (o.cert == "") != (o.key == "") {
		return 0, usagef("-cert cert.pem -key key.pem", "for TLS both -cert and -key are needed")
	}
	options := bridge.Options{Keys: keys, PerSecond: o.rate, MaxBody: o.maxBody, Timeout: o.timeout, Keep: map[string]time.Duration{}}
	for _, text := range o.keep {
		name, long, ok := strings.Cut(text, "=")
		keep, err := time.ParseDuration(long)
		if !ok || err != nil || keep <= 0 {
			return 0, usagef("-keep GradeLot=30s", "-keep takes an operation and a time, not %q", text)
		}
		options.Keep[name] = keep
	}
	if isLoopback {
		options.Hosts = append([]string{"127.0.0.1", "localhost", host}, o.hosts...)
	}
	access := s.tell.err
	if o.log != "" {
		file, err := os.OpenFile(o.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return 0, err
		}
		defer func() { _ = file.Close() }()
		options.Log = slog.New(slog.NewJSONHandler(file, nil))
	} else {
		options.Log = slog.New(slog.NewJSONHandler(access, nil))
	}
	with := s.options()
	if with.Timeout == 0 || with.Timeout > o.timeout {
		with.Timeout = o.timeout
	}
	handler, done, err := bench.Bridge(ctx, service, o.port, options, with)
	if err != nil {
		return 0, err
	}
	defer func() { _ = done() }()
	return s.listenBridge(ctx, handler, o)
}

// listenBridge answers until it is interrupted, and lets what is being answered end.
func (s *session) listenBridge(ctx context.Context, handler http.Handler, o *bridgeOptions) (int, error) {
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return 0, explainListen(o.listen, err)
	}
	server := &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute, WriteTimeout: o.timeout + time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	scheme := "http"
	if o.cert != "" {
		pair, err := tls.LoadX509KeyPair(o.cert, o.key)
		if err != nil {
			return 0, fmt.Errorf("%s, %s: %w", o.cert, o.key, err)
		}
		server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
		scheme = "https"
	}
	s.tell.printf("%s://%s\n", scheme, listener.Addr())
	s.tell.note("operations by POST /OPERATION, the page at /, what it is at /openapi.json; Ctrl-C ends it")
	ended := make(chan error, 1)
	go func() {
		if server.TLSConfig != nil {
			ended <- server.ServeTLS(listener, "", "")
		} else {
			ended <- server.Serve(listener)
		}
	}()
	select {
	case err := <-ended:
		return 0, err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), o.timeout)
	defer cancel()
	if err := server.Shutdown(stop); err != nil && !errors.Is(err, http.ErrServerClosed) {
		return 0, err
	}
	return ExitHeld, nil
}
