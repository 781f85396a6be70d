package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"

	"testbench/internal/report"
	"testbench/internal/safefile"
	"testbench/internal/standin"
	"testbench/internal/standin/demo"
	"testbench/internal/workbench"
)

// askAddress is what `new` asks at a terminal.
const askAddress = "the address of a service to test (empty for none): "

func newCommand() *command {
	return &command{
		name: "new", group: "starting", purpose: "starts a bench: bench.yaml, folders, a first sheet",
		usage: "DIR [ADDRESS]",
		examples: []string{
			"testbench new honey 'http://127.0.0.1:8720/index/prices.xml?fd=1&fm=11&fy=2026'",
			"cd honey && testbench run sheets/first.yaml",
		},
		prepare: noOptions(runNew),
	}
}

func runNew(ctx context.Context, s *session, args []string) (int, error) {
	switch {
	case len(args) == 0:
		return 0, usagef("testbench new DIR ADDRESS", "in which folder?")
	case len(args) > 2:
		return 0, usagef("testbench new DIR ADDRESS", "new takes a folder and an address, and there is also %q", args[2])
	}
	var address string
	var err error
	if len(args) == 2 {
		address = args[1]
	} else if address, err = askLine(ctx, s, askAddress); err != nil {
		return 0, err
	}
	written, err := workbench.New(args[0], address)
	if err != nil {
		return 0, err
	}
	if s.common.json {
		return ExitPassed, s.tell.json(map[string]any{"written": written})
	}
	for _, file := range written {
		s.tell.printf("written: %s\n", filepath.ToSlash(file))
	}
	next := "testbench run sheets/first.yaml"
	if address == "" {
		next = "testbench add NAME CONTRACT   (a file or an address: WSDL, OpenAPI, OData, WADL)"
	}
	if filepath.Clean(args[0]) != "." {
		next = "cd " + args[0] + " && " + next
	}
	s.tell.note("next: %s", next)
	return ExitPassed, nil
}

type standinOptions struct {
	contract, script, record, play string
	standin.Options
	listen, ca string
}

func standinCommand() *command {
	return &command{
		name: "standin", group: "services to talk to",
		purpose: "runs the simulated services of the demo, or one by its contract",
		examples: []string{
			"testbench standin", "testbench standin -listen 127.0.0.1:9000",
			"testbench standin -contract partner.wsdl -script partner.yaml -record asked.ndjson",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &standinOptions{}
			f.StringVar(&o.listen, "listen", standin.DefaultAddress,
				"the `address` to listen on; port 0 takes a free one")
			f.StringVar(&o.contract, "contract", "",
				"simulate a service by its contract: a `file`, an address, or a service of the bench")
			f.StringVar(&o.script, "script", "",
				"a `file` that says where another answer than a valid sample is wanted")
			f.StringVar(&o.record, "record", "", "write what was asked to a `file`, a line of JSON each")
			f.StringVar(&o.play, "play", "", "answer requests of a past `run` as they were answered then")
			f.StringVar(&o.ca, "ca", "", "write the authority of its TLS certificates to a `file`")
			f.DurationVar(&o.Offset, "offset", 0, "by how `much` its clock is ahead of the machine's (1h, -5m)")
			f.IntVar(&o.Lifetime, "lifetime", 0, "how many `seconds` its tokens and sessions live (else 600)")
			f.BoolVar(&o.Weak, "weak", false,
				"do several things wrong that a probe is to find; they are told at the start")
			f.StringVar(&o.Books, "books", "",
				"a `file` in which the ledger keeps its intakes as a database (SQLite) too")
			f.IntVar(&o.Refuse, "refuse", 0,
				"refuse the token at each request of this `number` that shows one")
			return o.run
		},
	}
}

func (o *standinOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) > 0 {
		return 0, usagef("testbench standin -contract "+args[0], "standin takes no arguments, and there is %q",
			args[0])
	}
	if o.contract != "" {
		return runStandin(ctx, s, o)
	}
	if err := checkLoopback(o.listen); err != nil {
		return 0, err
	}
	server, err := standin.Start(o.listen, o.Options)
	if err != nil {
		return 0, explainListen(o.listen, err)
	}
	defer server.Close()
	if o.ca != "" {
		if err := safefile.Write(o.ca, server.CA, 0o644); err != nil {
			return 0, err
		}
	}
	announceStandin(s, server)
	if o.Weak && !s.common.json {
		s.tell.printf("it is weak:\n  %s\n", strings.Join(standin.Weaknesses, "\n  "))
	}
	return ExitPassed, server.Wait(ctx)
}

// checkLoopback keeps the stand-in, whose credentials everyone knows, off the network.
func checkLoopback(address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return usagef("-listen 127.0.0.1:8720", "-listen %s: %v", address, err)
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return usagef("-listen 127.0.0.1:8720",
			"the stand-in listens on loopback addresses only, not on %q: everybody knows its passwords", host)
	}
	return nil
}

func explainListen(address string, err error) error {
	return usagef("perhaps a stand-in runs already; -listen 127.0.0.1:0 takes a free port", "cannot listen on %s: %v",
		address, err)
}

func announceStandin(s *session, server *standin.Server) {
	if s.common.json {
		_ = s.tell.jsonLine(map[string]any{"address": "http://" + server.Address})
		return
	}
	s.tell.printf("the stand-in listens on http://%s\n", server.Address)
	for _, service := range server.Services() {
		s.tell.printf("  %s  %s\n", s.tell.fit(service[0], 8), service[1])
	}
	s.tell.note("Ctrl-C ends it")
}

type demoOptions struct {
	dir   string
	serve bool
}

func demoCommand() *command {
	return &command{
		name: "demo", group: "starting",
		purpose:  "writes the Heatherfold bench, starts its services, runs every sheet, writes the report",
		examples: []string{"testbench demo", "testbench demo -dir honey -serve"},
		prepare: func(f *flag.FlagSet) action {
			o := &demoOptions{}
			f.StringVar(&o.dir, "dir", "", "the `folder` to write the bench into (else a temporary one)")
			f.BoolVar(&o.serve, "serve", false, "keep the services up afterwards, until Ctrl-C")
			return o.run
		},
	}
}

// run runs the demo bench. One sheet fails on purpose, to show how that
// looks; the demo holds when exactly that one does.
func (o *demoOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) > 0 {
		return 0, usagef("testbench demo -dir "+args[0], "demo takes no arguments, and there is %q", args[0])
	}
	dir := o.dir
	if dir == "" {
		temporary, err := os.MkdirTemp("", "testbench-demo-")
		if err != nil {
			return 0, err
		}
		dir = temporary
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, err
	}
	options := standin.Options{Books: filepath.Join(dir, demo.BooksFile)}
	server, err := standin.Start(standin.DefaultAddress, options)
	if err != nil {
		if server, err = standin.Start("127.0.0.1:0", options); err != nil {
			return 0, err
		}
	}
	defer server.Close()
	bench, sheets, err := demoBench(s, dir, "http://"+server.Address)
	if err != nil {
		return 0, err
	}
	var observer workbench.Observer = &jsonRun{session: s}
	if !s.common.json {
		showDemoStart(s.tell, dir, len(sheets))
		observer = &demoRun{&textRun{session: s}}
	}
	result, err := bench.Run(ctx, sheets,
		workbench.RunOptions{Options: s.options(), Observer: observer, Kill: s.kill})
	if err != nil {
		return 0, err
	}
	defer func() { _ = result.Close() }()
	if !s.common.json {
		s.tell.printf("\n")
	}
	showSummary(s, result)
	reportFile := filepath.Join(dir, "report.html")
	if err := report.WriteFile(reportFile, result.Finished, report.Options{Masker: s.masker}); err != nil {
		return 0, err
	}
	asPlanned := ctx.Err() == nil && isAsPlanned(result)
	if !s.common.json {
		showDemoEnd(s.tell, dir, reportFile, asPlanned)
		showDemoNext(s.tell, o)
	}
	if o.serve && ctx.Err() == nil {
		s.tell.note("")
		announceStandin(s, server)
		if err := server.Wait(ctx); err != nil {
			return 0, err
		}
	}
	if !asPlanned {
		return ExitFailed, nil
	}
	return ExitPassed, nil
}

// demoBench writes the demo's bench, seals its secrets, and gives its sheets.
func demoBench(s *session, dir, address string) (*workbench.Bench, []string, error) {
	kept, err := demo.Renew(dir, address)
	if err != nil {
		return nil, nil, err
	}
	for _, file := range kept {
		s.tell.note("%s was changed here, and stays as it is", s.tell.visible(file))
	}
	bench, err := workbench.Open(dir)
	if err != nil {
		return nil, nil, err
	}
	for name, text := range standin.Secrets {
		if _, err := bench.Store.Set("", name, text); err != nil {
			return nil, nil, fmt.Errorf("sealing the demo's secrets: %w", err)
		}
	}
	sheets, err := bench.SheetFiles()
	return bench, sheets, err
}

// isAsPlanned says whether all sheets of the demo passed but the one that fails on purpose.
func isAsPlanned(result *workbench.Result) bool {
	for _, sheet := range result.Sheets {
		planned := workbench.Passed
		if sheet.Name == demo.SheetThatFails {
			planned = workbench.Failed
		}
		if sheet.Outcome != planned {
			return false
		}
	}
	return true
}

func showDemoStart(t *printer, dir string, sheets int) {
	t.printf("%s\n", t.in(bold, "The Heatherfold bench is in "+dir))
	t.printf("%s\n\n", t.wrap(fmt.Sprintf(
		"It simulates the services of a honey co-operative on this machine, and runs %s against them. "+
			"The first is shown in full, the others with a line each and what failed.",
		count(sheets, "sheet")), t.width, 0))
}

func showDemoEnd(t *printer, dir, reportFile string, asPlanned bool) {
	if asPlanned {
		t.printf("%s: the sheet %q fails on purpose, to show how that looks.\n",
			t.in(green, "All came out as planned"), demo.SheetThatFails)
	} else {
		t.printf("%s\n", t.in(red, "Not all came out as planned; see above."))
	}
	t.printf("\n  the bench    %s\n  the sheets   %s\n  the report   %s\n", filepath.Join(dir, "bench.yaml"),
		filepath.Join(dir, "sheets"), reportFile)
}

// showDemoNext says how to go on: with the services up, in the folder that is told.
func showDemoNext(t *printer, o *demoOptions) {
	dir, next := cmp.Or(o.dir, "honey"), "next, in another terminal:"
	if !o.serve {
		next = fmt.Sprintf("next: testbench demo -dir %s -serve      (keeps the services up; in another terminal:)", dir)
	}
	t.printf("\n%s\n      cd %s && testbench call stores/search grade=A\n      testbench doubt last      "+
		"(which changes of the answers would nobody notice?)\n", next, dir)
}
