package cli

import (
	"context"
	"flag"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"testbench/internal/reference"
	"testbench/internal/suggest"
)

// Version is the program's version; scripts/release sets it.
var Version = "0.1.0"

func helpCommand() *command {
	return &command{
		name: "help", group: "the program", purpose: "explains commands, keys, rules and more",
		usage:    "[COMMAND | TOPIC | KEY]",
		examples: []string{"testbench help call", "testbench help rules", "testbench help again"},
		prepare:  noOptions(runHelp),
	}
}

func runHelp(_ context.Context, s *session, args []string) (int, error) {
	if len(args) > 1 {
		return 0, usagef("testbench help "+args[0], "help explains one command at a time")
	}
	if len(args) == 0 {
		showOverview(s.tell)
		return ExitPassed, nil
	}
	var names []string
	for _, c := range commands() {
		if c.name == args[0] {
			showHelp(s.tell, c)
			return ExitPassed, nil
		}
		names = append(names, c.name)
	}
	return helpOn(s, args[0], names)
}

// helpOn explains a topic of the reference, or the keys and words of a name.
func helpOn(s *session, word string, commands []string) (int, error) {
	if word == "options" {
		sharedHelp(s)
		return ExitPassed, nil
	}
	if word == "keys" {
		for _, topic := range reference.Topics() {
			if slices.Contains([]string{"bench", "logins", "sheets"}, topic.Name) {
				s.tell.printf("%s\n\n", topic.About)
				showEntries(s.tell, topic.Entries)
				s.tell.printf("\n")
			}
		}
		return ExitPassed, nil
	}
	names := append(commands, "options", "keys")
	var found []reference.Entry
	for _, topic := range reference.Topics() {
		if topic.Name == word {
			s.tell.printf("%s\n\n", topic.About)
			showEntries(s.tell, topic.Entries)
			return ExitPassed, nil
		}
		names = append(names, topic.Name)
		for _, e := range topic.Entries {
			last := e.Form[strings.LastIndex(e.Form, "> ")+1:]
			last = strings.TrimSpace(last)
			if last == word || strings.HasPrefix(last, word+" ") || strings.HasPrefix(last, word+"(") {
				found = append(found, e)
			}
			names = append(names, last)
		}
	}
	if len(found) == 0 {
		return 0, usagef(firstOf(suggest.DidYouMean(word, names), "`testbench help` lists commands and topics"),
			"there is no command, topic or key %q", word)
	}
	showEntries(s.tell, found)
	return ExitPassed, nil
}

func showEntries(t *printer, entries []reference.Entry) {
	width := 0
	for _, e := range entries {
		width = min(max(width, len([]rune(e.Form))), 44)
	}
	for _, e := range entries {
		about := e.About
		if e.Example != "" && e.Example != e.Form {
			about += ": " + e.Example
		}
		if e.Type != "" {
			about += " (" + e.Type + map[bool]string{true: "; else " + e.Default}[e.Default != ""] + ")"
		}
		text := t.wrap(about, t.width, width+4)
		t.printf("  %s  %s\n", t.fit(e.Form, width), strings.TrimLeft(text, " "))
	}
}

func showOverview(t *printer) {
	t.printf("Test Bench builds and runs authenticated requests against SOAP, REST and ERP\nendpoints, and checks " +
		"what comes back.\n\nusage: testbench COMMAND [options] [arguments]\n")
	group := ""
	for _, c := range commands() {
		if c.group != group {
			group = c.group
			t.printf("\n%s\n", t.in(bold, group))
		}
		t.printf("  %s  %s\n", t.fit(c.name, 11), c.purpose)
	}
	t.printf("\n%s\n", t.wrap("topics: options, keys, "+strings.Join(reference.TopicNames(), ", "), t.width, 2))
	t.printf("\n`testbench help COMMAND`, `help TOPIC` and `help KEY` explain one; `testbench demo` shows all of it " +
		"at work.\n")
	t.printf("exit status: 0 all passed, 1 something failed, 2 the command or a file is wrong,\n3 an endpoint not " +
		"reached or a token not obtained, 130 interrupted, 143 terminated\n")
}

func showHelp(t *printer, c *command) {
	t.printf("testbench %s %s %s\n\nusage: testbench %s\n", c.name, t.sign("·", "-"), c.purpose,
		strings.TrimSpace(c.name+" [options] "+c.usage))
	own := flag.NewFlagSet(c.name, flag.ContinueOnError)
	c.prepare(own)
	var shared []string
	for _, option := range c.sharedBy(own) {
		shared = append(shared, "-"+option.name)
	}
	t.printf("\n%s\n", t.in(bold, "options"))
	explainOptions(t, own)
	t.printf("%s\n", t.wrap("shared options (see `testbench help options`): "+strings.Join(shared, ", "), t.width, 2))
	if len(c.examples) > 0 {
		t.printf("\n%s\n", t.in(bold, "examples"))
		for _, example := range c.examples {
			t.printf("  %s\n", example)
		}
	}
}

// explainOptions explains options.
func explainOptions(t *printer, flags *flag.FlagSet) {
	flags.VisitAll(func(f *flag.Flag) {
		placeholder, about := flag.UnquoteUsage(f)
		name := "-" + f.Name
		if placeholder != "" {
			name += " " + placeholder
		}
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "0s" {
			about += " (default " + f.DefValue + ")"
		}
		t.printf("  %s  %s\n", t.fit(name, 22), strings.TrimLeft(t.wrap(about, t.width, 26), " "))
	})
}

// sharedHelp explains the options that commands share.
func sharedHelp(s *session) {
	flags := flag.NewFlagSet("", flag.ContinueOnError)
	for _, option := range sharedOptions {
		option.declare(s, flags)
	}
	s.tell.printf("Options that commands share: `testbench help COMMAND` says which it has.\n\n")
	explainOptions(s.tell, flags)
}

func versionCommand() *command {
	return &command{
		name: "version", group: "the program", purpose: "says which version this is",
		prepare: noOptions(runVersion),
	}
}

func runVersion(_ context.Context, s *session, args []string) (int, error) {
	if len(args) > 0 {
		return 0, usagef("testbench version", "version takes no arguments, and there is %q", args[0])
	}
	revision := ""
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, setting := range info.Settings {
			if setting.Key == "vcs.revision" {
				revision = setting.Value[:min(12, len(setting.Value))]
			}
		}
	}
	if s.common.json {
		return ExitPassed, s.tell.json(map[string]string{
			"version": Version, "go": runtime.Version(),
			"system": runtime.GOOS + "/" + runtime.GOARCH, "revision": revision,
		})
	}
	s.tell.printf("testbench %s (%s, %s/%s)\n", Version, runtime.Version(), runtime.GOOS, runtime.GOARCH)
	return ExitPassed, nil
}
