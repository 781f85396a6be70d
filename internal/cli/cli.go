// Package cli is the face of Test Bench: options, tables, colour and exit
// statuses, one file a command. It decides nothing of the trade; that is the
// core's, in package testbench.
package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"testbench/internal/bench"
	"testbench/internal/history"
	"testbench/internal/httpurl"
	"testbench/internal/lazy"
	"testbench/internal/login"
	"testbench/internal/result"
	"testbench/internal/safefile"
	"testbench/internal/secret"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
)

// The exit statuses.
const (
	ExitPassed      = 0
	ExitFailed      = 1
	ExitWrong       = 2
	ExitUnreachable = 3
	ExitInterrupted = 130
	ExitTerminated  = 143 // by SIGTERM
)

// command is one command of the program.
type command struct {
	name     string
	group    string
	purpose  string // one line
	usage    string // what is after the name
	examples []string
	// prepare declares the command's own options, and gives what it does when they are read.
	prepare func(*flag.FlagSet) action
}

// action is what a command does; it gives the exit status.
type action func(ctx context.Context, s *session, args []string) (int, error)

// noOptions is for a command that has none of its own.
func noOptions(run action) func(*flag.FlagSet) action {
	return func(*flag.FlagSet) action { return run }
}

// commands lists the commands in the order of the work.
func commands() []*command {
	return []*command{
		newCommand(), demoCommand(),
		addCommand(), surveyCommand(), tokenCommand(), secretCommand(),
		draftCommand(), callCommand(),
		fieldsCommand(), proposeCommand(), compareCommand(), watchCommand(),
		runCommand(), doubtCommand(), probeCommand(), vetCommand(), validateCommand(),
		historyCommand(), coverCommand(), reportCommand(), schemaCommand(), handoverCommand(), bridgeCommand(),
		standinCommand(),
		helpCommand(), completionCommand(), versionCommand(),
	}
}

// session is one run of the program.
type session struct {
	kill    context.Context
	stdin   io.Reader
	tell    *printer
	masker  *secret.Masker
	common  common
	talking talking
	full    bool // bodies are shown however long they are
	command *command
	used    used // the command line
	gone    []goneService
}

// common are the options of every command.
type common struct {
	bench string
	site  string
	sites list // all that were named; most commands take the last
	set   pairs
	json  bool
	plain bool
	quiet bool
	log   string
}

// talking are the options of commands that send something.
type talking struct {
	write    string
	insecure bool
	allow    list
	timeout  time.Duration
	most     int
	fresh    bool
}

// usualMost is how large an answer may be where nobody says, in MiB.
const usualMost = 64

// pairs is an option that may be repeated: name=value.
type pairs map[string]string

func (p *pairs) String() string { return "" }

// Set takes one name=value.
func (p *pairs) Set(text string) error {
	name, v, ok := strings.Cut(text, "=")
	if !ok || name == "" {
		return fmt.Errorf("-set %s: write it as name=value", text)
	}
	if *p == nil {
		*p = pairs{}
	}
	(*p)[name] = v
	return nil
}

// list is an option that repeatable.
type list []string

func (l *list) String() string { return "" }

// Set takes one more.
func (l *list) Set(text string) error {
	*l = append(*l, text)
	return nil
}

// usageError is a mistake on the command line.
type usageError struct {
	message, try string
}

func (e *usageError) Error() string { return e.message }

func usagef(try, format string, args ...any) error {
	return &usageError{fmt.Sprintf(format, args...), try}
}

// Main runs the program and returns its exit status. ctx ends the work in
// order; kill cuts that short.
func Main(ctx, kill context.Context, args []string, stdin io.Reader, stdout, stderr io.Writer) (status int) {
	masker := &secret.Masker{}
	s := &session{
		kill: kill, stdin: stdin, masker: masker, tell: newTeller(stdout, stderr, masker),
		talking: talking{most: usualMost},
	}
	defer func() {
		if s.tell.close() != nil {
			status = max(status, ExitWrong)
		}
	}()
	if len(args) == 0 {
		showOverview(s.tell)
		return ExitWrong
	}
	name := args[0]
	switch name {
	case "-h", "-help", "--help":
		name = "help"
	case "-version", "--version":
		name = "version"
	}
	var names []string
	for _, c := range commands() {
		if c.name == name {
			return s.execute(ctx, c, args[1:])
		}
		names = append(names, c.name)
	}
	try := suggest.DidYouMean(name, names)
	if try == "" {
		try = "`testbench help` lists the commands"
	}
	s.tell.fail(usagef(try, "there is no command %q", name))
	return ExitWrong
}

func (s *session) execute(ctx context.Context, c *command, args []string) int {
	for _, arg := range args {
		if user, ok := httpurl.User(arg); ok {
			_, password, _ := strings.Cut(user, ":")
			s.masker.Hide(password)
			s.masker.Hide("//" + user + "@") // a short one is masked with what is around it
		}
	}
	flags, run := s.flags(c)
	s.tell.isJSON = flags.Lookup("json") != nil && slices.ContainsFunc(args, func(arg string) bool {
		return strings.TrimLeft(arg, "-") == "json" && strings.HasPrefix(arg, "-")
	})
	takeOnce(flags)
	positional, err := parse(flags, args)
	if errors.Is(err, flag.ErrHelp) {
		showHelp(s.tell, c)
		return ExitPassed
	}
	if err != nil {
		s.tell.fail(err)
		return ExitWrong
	}
	if s.common.plain {
		s.tell.plain()
	}
	if s.common.quiet {
		s.tell.isQuiet, s.tell.errTerminal = true, nil
	}
	closeLog, err := s.openLog()
	if err != nil {
		s.tell.fail(err)
		return ExitWrong
	}
	defer closeLog()
	s.command, s.used = c, newUsed(flags, positional)
	if err := c.checkForm(s.used); err != nil {
		s.tell.fail(err)
		return ExitWrong
	}
	status, err := run(ctx, s, positional)
	if err != nil {
		s.tell.fail(err)
		status = statusOf(ctx, err)
	}
	return status
}

// statusOf is the exit status that goes with an error.
func statusOf(ctx context.Context, err error) int {
	var refused *login.Error
	var unreached *bench.FetchError
	var nothing *noAnswerError
	switch {
	case errors.As(err, &nothing) && nothing.result.Outcome != workbench.Passed:
		return nothing.result.Outcome.ExitStatus()
	case errors.As(err, &unreached) && ctx.Err() == nil:
		return ExitUnreachable
	case ctx.Err() != nil:
		return ExitInterrupted
	case errors.As(err, &refused):
		return result.OfLogin(refused).ExitStatus()
	}
	return ExitWrong
}

// sharedOption is one that means the same at every command that has it. It is explained once.
type sharedOption struct {
	name    string
	declare func(s *session, flags *flag.FlagSet)
}

var sharedOptions = []sharedOption{
	{"bench", func(s *session, flags *flag.FlagSet) {
		flags.StringVar(&s.common.bench, "bench", "", "the bench `folder` (else the nearest bench.yaml upward)")
	}},
	{"site", func(s *session, flags *flag.FlagSet) {
		flags.Func("site", "the `site` (else the sheet's, or the first of the bench)", func(name string) error {
			s.common.site = name
			return s.common.sites.Set(name)
		})
	}},
	{"set", func(s *session, flags *flag.FlagSet) {
		flags.Var(&s.common.set, "set", "`name=value`: overrides all other values; repeatable")
	}},
	{"json", func(s *session, flags *flag.FlagSet) { flags.BoolVar(&s.common.json, "json", false, "results as JSON") }},
	{"log", func(s *session, flags *flag.FlagSet) {
		flags.StringVar(&s.common.log, "log", "", "a log of every exchange into a `file`, masked; - is standard error")
	}},
	{"write", func(s *session, flags *flag.FlagSet) {
		flags.StringVar(&s.talking.write, "write", "", "the guarded `site` that may be written to")
	}},
	{"insecure", func(s *session, flags *flag.FlagSet) {
		flags.BoolVar(&s.talking.insecure, "insecure", false, "server certificates are not checked")
	}},
	{"allow", func(s *session, flags *flag.FlagSet) {
		flags.Var(&s.talking.allow, "allow", "a further `host` that requests may go to; repeatable")
	}},
	{"timeout", func(s *session, flags *flag.FlagSet) {
		const about = "how long one exchange may take, a `duration`; it overrides timeout: of the files (else 30s)"
		flags.Func("timeout", about, func(text string) (err error) {
			s.talking.timeout, err = time.ParseDuration(text)
			if err != nil || s.talking.timeout <= 0 {
				return fmt.Errorf("-timeout takes a duration over 0 (5s, 2m), not %q", text)
			}
			return nil
		})
	}},
	{"most", func(s *session, flags *flag.FlagSet) {
		flags.Func("most", fmt.Sprintf("how large an answer may be, in `MiB` (else %d)", usualMost),
			func(text string) (err error) {
				s.talking.most, err = strconv.Atoi(text)
				if err != nil || s.talking.most < 1 {
					return fmt.Errorf("-most takes a whole number of MiB from 1, not %q", text)
				}
				return nil
			})
	}},
	{"fresh", func(s *session, flags *flag.FlagSet) {
		flags.BoolVar(&s.talking.fresh, "fresh", false,
			"contracts are fetched again; else those of the last ten minutes are good enough")
	}},
	{"plain", func(s *session, flags *flag.FlagSet) {
		flags.BoolVar(&s.common.plain, "plain", false, "no colour, no special signs")
	}},
	{"quiet", func(s *session, flags *flag.FlagSet) {
		flags.BoolVar(&s.common.quiet, "quiet", false, "no notes and no progress, only results and errors")
	}},
}

// sharedBy are the shared options that a command has, where none of its own is called so.
func (c *command) sharedBy(own *flag.FlagSet) []sharedOption {
	var all []sharedOption
	for _, option := range sharedOptions {
		isEverywhere := option.name == "plain" || option.name == "quiet"
		if (isEverywhere || c.has(option.name)) && own.Lookup(option.name) == nil {
			all = append(all, option)
		}
	}
	return all
}

func (s *session) flags(c *command) (*flag.FlagSet, action) {
	flags := flag.NewFlagSet(c.name, flag.ContinueOnError)
	flags.SetOutput(io.Discard)
	run := c.prepare(flags)
	for _, option := range c.sharedBy(flags) {
		option.declare(s, flags)
	}
	return flags, run
}

// parse takes options from anywhere among the arguments; what follows -- is no
// option. The flag package itself stops at the first argument.
func parse(flags *flag.FlagSet, args []string) ([]string, error) {
	var positional []string
	for {
		err := flags.Parse(args)
		if err != nil {
			return nil, explainFlag(flags, err)
		}
		rest := flags.Args()
		if len(rest) == 0 {
			return positional, nil
		}
		if consumed := len(args) - len(rest); consumed > 0 && args[consumed-1] == "--" {
			return append(positional, rest...), nil
		}
		positional = append(positional, rest[0])
		args = rest[1:]
	}
}

// invalidValue is what the flag package says of a number or a time that it cannot read.
var invalidValue = lazy.Regexp(
	`^invalid (?:boolean )?value (".*") for (?:flag )?-([a-z-]+): (?:parse error|value out of range)$`)

// kindOf says what an option takes.
func kindOf(f *flag.Flag) string {
	if getter, ok := f.Value.(flag.Getter); ok {
		switch getter.Get().(type) {
		case time.Duration:
			return "a time, as 500ms, 90s or 2m"
		case bool:
			return "true or false"
		}
	}
	return "a whole number"
}

// optionMeant says what to write in place of options that there are not: those that had another name
// once, and those that people bring along.
var optionMeant = map[string]string{
	"tell": "-detail", "gather": "-merge", "header": "-in header.NAME=VALUE", "query": "-in query.NAME=VALUE",
	"cookie": "-in cookie.NAME=VALUE", "form": "-in form.NAME=VALUE", "data": "-body FILE, or -in form.NAME=VALUE",
	"var": "-set NAME=VALUE", "env": "-site NAME", "output": "-out FILE", "report": "-out FILE",
	"parallel": "-jobs N", "threads": "-jobs N", "workers": "-jobs N", "verbose": "-show all", "only": "-step NAME",
	"user": "-login NAME", "dry-run": "-dry", "fail-fast": "-stop",
	"from-curl": "-from-shell 'curl …'", "from-wget": "-from-shell 'wget …'",
}

func explainFlag(flags *flag.FlagSet, err error) error {
	if errors.Is(err, flag.ErrHelp) {
		return err
	}
	message := err.Error()
	name, found := strings.CutPrefix(message, "flag provided but not defined: -")
	if !found {
		if _, said, ok := strings.Cut(message, " for flag -"); ok {
			if _, own, ok := strings.Cut(said, ": "); ok && own != "parse error" && own != "value out of range" {
				return usagef("`testbench help "+flags.Name()+"` explains the options", "%s", own)
			}
		}
		if match := invalidValue().FindStringSubmatch(message); match != nil {
			message = "-" + match[2] + " takes " + kindOf(flags.Lookup(match[2])) + ", not " + match[1]
		}
		if option, ok := strings.CutPrefix(message, "flag needs an argument: "); ok {
			message = option + " needs a value"
		}
		return usagef("`testbench help "+flags.Name()+"` explains the options", "%s", message)
	}
	var names []string
	flags.VisitAll(func(f *flag.Flag) { names = append(names, f.Name) })
	try := optionMeant[name]
	if try != "" && flags.Lookup(strings.TrimLeft(strings.Fields(try)[0], "-")) == nil {
		try = ""
	}
	if try == "" {
		try = strings.Replace(suggest.DidYouMean(name, names), `"`, `"-`, 1)
	} else {
		try = "write " + try
	}
	if try == "" {
		try = "`testbench help " + flags.Name() + "` lists the options"
	}
	return usagef(try, "%s has no option -%s", flags.Name(), name)
}

func (s *session) openLog() (func(), error) {
	if s.common.log == "" {
		return func() {}, nil
	}
	if s.common.log == standard { // standard output is for results
		s.tell.log = slog.New(slog.NewTextHandler(s.tell.err, nil))
		return func() {}, nil
	}
	f, err := safefile.Append(s.common.log)
	if err != nil {
		return nil, err
	}
	masked := secret.NewWriter(f, s.masker)
	s.tell.log = slog.New(slog.NewTextHandler(masked, nil))
	return func() {
		_ = masked.Close()
		_ = f.Close()
	}, nil
}

// options gathers what the core needs to know of the command line.
func (s *session) options() workbench.Options {
	return workbench.Options{
		Site: s.common.site, Set: s.common.set, Write: s.talking.write, Insecure: s.talking.insecure,
		Allow: s.talking.allow, Fresh: s.talking.fresh,
		Timeout: s.talking.timeout, MaxBody: int64(s.talking.most) << 20, Masker: s.masker, Log: s.tell.log,
		Prompter: func(p login.Prompt) { askPerson(s, p) },
	}
}

// benchDir finds the bench folder; it is empty where there is none.
func (s *session) benchDir() (string, error) {
	if s.common.bench != "" {
		if _, err := os.Stat(s.common.bench); err != nil {
			return "", usagef("", "there is no folder %s", s.common.bench)
		}
		return s.common.bench, nil
	}
	return bench.Find(".")
}

// open opens the bench, which must be there.
func (s *session) open() (*workbench.Bench, error) {
	dir, err := s.benchDir()
	if err != nil {
		return nil, err
	}
	if dir == "" {
		return nil, usagef("`testbench new DIR` starts a bench, `testbench demo` writes one to look at; -bench DIR "+
			"names one", "there is no bench.yaml here or above")
	}
	return s.openAt(dir)
}

// history opens the history of the bench. The caller closes it.
func (s *session) history() (*workbench.Bench, *history.Store, error) {
	bench, err := s.open()
	if err != nil {
		return nil, nil, err
	}
	store, err := bench.History()
	return bench, store, err
}

func (s *session) openAt(dir string) (*workbench.Bench, error) {
	bench, err := workbench.Open(dir)
	if err == nil {
		bench.Standard = s.stdin
		bench.Store.Passphrase = func(file string) (string, error) { return askPassphrase(s, file) }
	}
	return bench, err
}

// openOrNone opens the bench if there is one.
func (s *session) openOrNone() (*workbench.Bench, error) {
	dir, err := s.benchDir()
	if err != nil {
		return nil, err
	}
	if dir == "" {
		return workbench.AdHoc(), nil
	}
	return s.openAt(dir)
}
