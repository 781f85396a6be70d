package cli

import (
	"context"
	"flag"
	"runtime"
	"runtime/debug"
	"strings"

	"testbench/internal/suggest"
)

// Version is the program's version.
const Version = "0.1.0"

func helpCommand() *command {
	return &command{
		name: "help", group: "the program", purpose: "explains the commands", usage: "[COMMAND]",
		examples: []string{"testbench help call"},
		run: func(_ context.Context, s *session, _ any, args []string) (int, error) {
			if len(args) > 1 {
				return 0, usagef("testbench help "+args[0], "help explains one command at a time")
			}
			if len(args) == 0 {
				s.overview()
				return ExitPassed, nil
			}
			var names []string
			for _, c := range commands() {
				if c.name == args[0] {
					s.help(c)
					return ExitPassed, nil
				}
				names = append(names, c.name)
			}
			return 0, usagef(suggest.DidYouMean(args[0], names), "there is no command %q", args[0])
		},
	}
}

func (s *session) overview() {
	t := s.tell
	t.printf("Test Bench builds and runs authenticated requests against SOAP, REST and ERP\nendpoints, and checks what comes back.\n\nusage: testbench COMMAND [options] [arguments]\n")
	group := ""
	for _, c := range commands() {
		if c.group != group {
			group = c.group
			t.printf("\n%s\n", t.in(bold, group))
		}
		t.printf("  %s  %s\n", t.fit(c.name, 11), c.purpose)
	}
	t.printf("\n`testbench help COMMAND` explains one; `testbench demo` shows all of it at work.\n")
	t.printf("exit status: 0 all passed, 1 something failed, 2 the command or a file is wrong,\n3 an endpoint not reached or a token not obtained, 130 interrupted, 143 terminated\n")
}

func (s *session) help(c *command) {
	t := s.tell
	t.printf("testbench %s %s %s\n\nusage: testbench %s\n", c.name, t.sign("·", "-"), c.purpose,
		strings.TrimSpace(c.name+" [options] "+c.usage))
	flags, _ := s.flags(c)
	t.printf("\n%s\n", t.in(bold, "options"))
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
	if len(c.examples) > 0 {
		t.printf("\n%s\n", t.in(bold, "examples"))
		for _, example := range c.examples {
			t.printf("  %s\n", example)
		}
	}
}

func versionCommand() *command {
	return &command{
		name: "version", group: "the program", purpose: "says which version this is",
		run: func(_ context.Context, s *session, _ any, args []string) (int, error) {
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
		},
	}
}
