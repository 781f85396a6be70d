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
	"net/url"
	"slices"
	"strings"
	"time"

	"golang.org/x/net/http/httpguts"

	"testbench/internal/bridge"
	"testbench/internal/safefile"
	"testbench/internal/workbench"
)

type bridgeOptions struct {
	listen, port, cert, key, log string
	keep, hosts                  list
	rate                         float64
	maxBody                      int64
	timeout                      time.Duration
	open, closed                 bool
	issue, withdraw, operations  string
	role, methods, roles, header string
	until                        time.Duration
	list                         bool
}

func bridgeCommand() *command {
	return &command{
		name: "bridge", group: "handing over", purpose: "offers the operations of a SOAP service as JSON over HTTP",
		usage: "SERVICE",
		examples: []string{
			"testbench bridge lab", "testbench bridge lab -issue-key orchard -operations GradeLot -until 720h",
			"testbench bridge lab -role grader -operations GradeLot -methods POST",
			"testbench bridge lab -issue-key orchard -roles grader",
			"testbench bridge lab -listen 127.0.0.1:8730 -keep GradeLot=30s -rate 20",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &bridgeOptions{}
			f.StringVar(&o.listen, "listen", "127.0.0.1:8730", "the `address` to listen on; port 0 takes a free one")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.StringVar(&o.cert, "cert", "", "a `file` with the certificate for TLS, in PEM")
			f.StringVar(&o.key, "key", "", "the `file` with its key")
			f.StringVar(&o.log, "access-log", "",
				"write a line of JSON for each request to a `file`; else they go to standard error")
			f.Var(&o.keep, "keep", "`OPERATION=30s`: keep answers of an operation for a time; repeatable")
			f.Var(&o.hosts, "host",
				"a `name` by which it is asked, beside those of the loopback, with :PORT where it is another there; "+
					"repeatable")
			f.Float64Var(&o.rate, "rate", 0, "how many requests a `second` each key may make")
			f.Int64Var(&o.maxBody, "max-request", 1<<20, "how many `bytes` a request may hold")
			f.DurationVar(&o.timeout, "wait", 30*time.Second, "how `long` the service is waited for")
			f.BoolVar(&o.open, "open", false, "answer everybody beyond the loopback too, without a key")
			f.StringVar(&o.issue, "issue-key", "", "make a key for whoever is called `NAME`, and print it")
			f.StringVar(&o.operations, "operations", "",
				"the operations that the key or role is for, with commas between `them`; else all")
			f.StringVar(&o.role, "role", "", "say what the role of this `NAME` is for, by -operations and -methods")
			f.StringVar(&o.methods, "methods", "",
				"the methods that the role is for: POST asks for operations, GET for the page, /openapi.json, "+
					"/metrics and /health; else `both`")
			f.StringVar(&o.roles, "roles", "", "the roles that the key has, with commas between `them`")
			f.StringVar(&o.header, "key-header", "",
				"the header field that holds the key, as `X-Key`; else it is Authorization: Bearer KEY")
			f.BoolVar(&o.closed, "closed", false, "ask for a key for the page, /openapi.json, /metrics and /health too")
			f.DurationVar(&o.until, "until", 0, "for how `long` the key is good; else for ever")
			f.BoolVar(&o.list, "list-keys", false, "list the keys that were issued")
			f.StringVar(&o.withdraw, "withdraw-key", "", "take the key of `NAME` back")
			return o.run
		},
	}
}

func (o *bridgeOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) != 1 {
		return 0, usagef("testbench bridge lab", "bridge takes the name of one service")
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	keys, err := workbench.BridgeKeys(bench, args[0])
	if err != nil {
		return 0, err
	}
	switch {
	case o.role != "":
		return setRole(ctx, s, bench, keys, o, args[0])
	case o.issue != "":
		return issueKey(ctx, s, bench, keys, o, args[0])
	case o.withdraw != "":
		if err := keys.Withdraw(o.withdraw); err != nil {
			return 0, err
		}
		s.tell.note("the key of %s was withdrawn", s.tell.visible(o.withdraw))
		return ExitPassed, nil
	case o.list:
		return ExitPassed, listKeys(s, keys)
	}
	return serveBridge(ctx, s, bench, keys, o, args[0])
}

func issueKey(ctx context.Context, s *session, bench *workbench.Bench, keys *bridge.Keys, o *bridgeOptions,
	service string,
) (int, error) {
	operations, err := runBridgeOperations(ctx, s, bench, o, service)
	if err != nil {
		return 0, err
	}
	until := time.Time{}
	if o.until < 0 {
		return 0, usagef("-until 720h", "-until takes a time, not %s", o.until)
	}
	if o.until > 0 {
		until = time.Now().Add(o.until).UTC().Round(time.Second)
	}
	key, err := keys.Issue(o.issue, operations, separated(o.roles), until)
	if err != nil {
		return 0, err
	}
	s.tell.printf("%s\n", key)
	s.tell.note("this is the key of %s: it is shown this once, and kept as a hash only", s.tell.visible(o.issue))
	return ExitPassed, nil
}

// separated gives what is between commas.
func separated(text string) []string {
	var all []string
	for one := range strings.SplitSeq(text, ",") {
		if one = strings.TrimSpace(one); one != "" {
			all = append(all, one)
		}
	}
	return all
}

// runBridgeOperations are those that -operations names, all of which the contract has.
func runBridgeOperations(ctx context.Context, s *session, bench *workbench.Bench, o *bridgeOptions,
	service string,
) ([]string, error) {
	operations := separated(o.operations)
	if len(operations) == 0 {
		return nil, nil
	}
	c, err := bench.Contract(ctx, service, nil, s.options())
	if err != nil {
		return nil, err
	}
	for _, name := range operations {
		if _, err := c.Operation(name, workbench.Binding{Port: o.port}); err != nil {
			return nil, err
		}
	}
	return operations, nil
}

func setRole(ctx context.Context, s *session, bench *workbench.Bench, keys *bridge.Keys, o *bridgeOptions,
	service string,
) (int, error) {
	operations, err := runBridgeOperations(ctx, s, bench, o, service)
	if err != nil {
		return 0, err
	}
	methods := separated(strings.ToUpper(o.methods))
	for _, method := range methods {
		if err := oneOf("methods", method, http.MethodGet, http.MethodPost); err != nil {
			return 0, err
		}
	}
	if err := keys.SetRole(o.role, bridge.Role{Operations: operations, Methods: methods}); err != nil {
		return 0, err
	}
	s.tell.note("the role %s is for %s %s", s.tell.visible(o.role), firstOf(strings.Join(methods, ", "), "GET, POST"),
		firstOf(strings.Join(operations, ", "), "of all operations"))
	return ExitPassed, nil
}

func listKeys(s *session, keys *bridge.Keys) error {
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
		s.tell.printf("%s  %s  %s  %s\n", s.tell.fit(key.Name, 16), key.Issued.Format("2006-01-02"),
			s.tell.fit(keyIsFor(key), 28), state)
	}
	return nil
}

func keyIsFor(key *bridge.Key) string {
	words := firstOf(strings.Join(key.Operations, ", "), "all operations")
	if len(key.Roles) > 0 {
		words = "as " + strings.Join(key.Roles, ", ")
		if len(key.Operations) > 0 {
			words += ": " + strings.Join(key.Operations, ", ")
		}
	}
	return words
}

func serveBridge(ctx context.Context, s *session, bench *workbench.Bench, keys *bridge.Keys, o *bridgeOptions,
	service string,
) (int, error) {
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil {
		return 0, usagef("-listen 127.0.0.1:8730", "-listen %s: %v", o.listen, err)
	}
	ip := net.ParseIP(host)
	isLoopback := host == "localhost" || ip != nil && ip.IsLoopback()
	switch hasKeys := keys.Any(); {
	case !hasKeys && o.closed:
		return 0, usagef("`testbench bridge "+service+" -issue-key NAME` makes a key",
			"-closed asks for a key for everything, and no key was issued")
	case !hasKeys && !isLoopback && !o.open:
		return 0, usagef("`testbench bridge "+service+" -issue-key NAME` makes a key; -open does without",
			"on %s everybody could ask, and no key was issued", o.listen)
	case hasKeys && o.open:
		return 0, usagef("take -open out", "-open has no effect: keys were issued, and nothing is answered without one")
	}
	if err := o.check(); err != nil {
		return 0, err
	}
	options := bridge.Options{
		Keys: keys, KeyHeader: o.header, Closed: o.closed, PerSecond: o.rate, MaxBody: o.maxBody,
		Timeout: o.timeout, Keep: map[string]time.Duration{},
	}
	for _, text := range o.keep {
		name, long, ok := strings.Cut(text, "=")
		keep, err := time.ParseDuration(long)
		if !ok || err != nil || keep <= 0 {
			return 0, usagef("-keep GradeLot=30s", "-keep takes an operation and a time, not %q", text)
		}
		options.Keep[name] = keep
	}
	listener, err := net.Listen("tcp", o.listen)
	if err != nil {
		return 0, explainListen(o.listen, err)
	}
	defer func() { _ = listener.Close() }()
	options.Hosts = bridgeHosts(listener.Addr(), isLoopback, o)
	access := s.tell.err
	if o.log != "" {
		file, err := safefile.Append(o.log)
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
	handler, done, err := workbench.Bridge(ctx, bench, service, o.port, options, with)
	if err != nil {
		return 0, err
	}
	defer func() { _ = done() }()
	return listenBridge(ctx, s.tell, listener, handler, o)
}

// check says what of the options could never have an effect.
func (o *bridgeOptions) check() error {
	switch {
	case (o.cert == "") != (o.key == ""):
		return usagef("-cert cert.pem -key key.pem", "for TLS both -cert and -key are needed")
	case o.header != "" && (!httpguts.ValidHeaderFieldName(o.header) || strings.EqualFold(o.header, "Host")):
		return usagef("-key-header X-Key", "-key-header %q: no header field that could hold a key has this name",
			o.header)
	case o.rate < 0:
		return usagef("-rate 20", "-rate takes how many requests a second, not %g", o.rate)
	case o.maxBody <= 0:
		return usagef("-max-request 1048576", "-max-request takes how many bytes, not %d", o.maxBody)
	case o.timeout <= 0:
		return usagef("-wait 30s", "-wait takes a time, not %s", o.timeout)
	}
	for _, host := range o.hosts {
		if at, err := url.Parse("http://" + host); err != nil || at.Host != host || at.Hostname() == "" {
			return usagef("-host bench.example, -host bench.example:8443", "-host %q: no host has this name", host)
		}
	}
	return nil
}

// bridgeHosts are what requests may name as their host: the addresses of the loopback where it
// listens there, and the names that it was given, at its port, which the default one of the
// scheme need not be written for.
func bridgeHosts(at net.Addr, isLoopback bool, o *bridgeOptions) []string {
	names := slices.Clone(o.hosts)
	if isLoopback {
		names = append(names, "127.0.0.1", "localhost", "[::1]")
	}
	_, port, _ := net.SplitHostPort(at.String())
	standard := map[bool]string{true: "80", false: "443"}[o.cert == ""]
	var hosts []string
	for _, name := range names {
		if _, _, err := net.SplitHostPort(name); err == nil {
			hosts = append(hosts, name)
			continue
		}
		hosts = append(hosts, name+":"+port)
		if port == standard {
			hosts = append(hosts, name)
		}
	}
	return hosts
}

// listenBridge answers until it is interrupted, and lets what is being answered end.
func listenBridge(ctx context.Context, t *printer, listener net.Listener, handler http.Handler,
	o *bridgeOptions,
) (int, error) {
	server := &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		WriteTimeout: o.timeout + time.Minute, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
	}
	scheme := "http"
	if o.cert != "" {
		pair, err := tls.LoadX509KeyPair(o.cert, o.key)
		if err != nil {
			return 0, fmt.Errorf("%s, %s: %w", o.cert, o.key, err)
		}
		server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{pair}}
		scheme = "https"
	}
	t.printf("%s://%s\n", scheme, listener.Addr())
	t.note("operations by POST /OPERATION, the page at /, what it is at /openapi.json; Ctrl-C ends it")
	if err := serve(ctx, server, listener, o.timeout); err != nil {
		return 0, err
	}
	return ExitPassed, nil
}

// serve answers until the context ends, and gives what is asked by then the time to be answered.
func serve(ctx context.Context, server *http.Server, listener net.Listener, patience time.Duration) error {
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
		return err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	if err := server.Shutdown(stop); err != nil && !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
