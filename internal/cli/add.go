package cli

import (
	"context"
	"flag"
	"os"
	"strings"

	"testbench/internal/addservice"
	"testbench/internal/secret"
)

type addOptions struct {
	example bool
	login   string
	sample  string
	har     string
	shell   string
}

func addCommand() *command {
	return &command{
		name: "add", group: "finding out",
		purpose: "adds a service to the bench, from its contract, an example address or a command line",
		usage:   "NAME [FILE|ADDRESS|-]",
		examples: []string{
			"testbench add lab2 contracts/lab.wsdl",
			"testbench add prices 'http://127.0.0.1:8720/index/prices.xml?fd=1&fm=11&fy=2026'",
			"testbench add lots -from-shell 'curl -u clerk:word http://127.0.0.1:8720/stores/lots'",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &addOptions{}
			f.BoolVar(&o.example, "example", false,
				"the address is an example of a request, and not fetched as a contract")
			f.StringVar(&o.login, "login", "",
				"the `login` of the service, which its contract is fetched with where it is not given without")
			f.StringVar(&o.sample, "from-sample", "",
				"a `file` with a request as documentation shows it (request line, header fields, body), and the "+
					"answer "+
					"after it; - is standard input")
			f.StringVar(&o.har, "from-har", "",
				"a `file` with recorded traffic (HAR): its requests become operations, those to ADDRESS or else to "+
					"the host "+
					"that is asked most often")
			f.StringVar(&o.shell, "from-shell", "",
				"a `command line` of curl or wget out of somebody's documentation, in place of a file or an address")
			return o.run
		},
	}
}

func (o *addOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if o.shell != "" && len(args) == 1 {
		args = append(args, o.shell)
		s.masker.Hide(o.shell)
	} else if o.shell != "" {
		return 0, usagef("testbench add NAME -from-shell 'COMMAND LINE'", "with -from-shell, add takes a name alone")
	}
	var pasted []byte
	if from := firstOf(o.sample, o.har); from != "" {
		var err error
		if pasted, err = readFile(s, from); err != nil {
			return 0, err
		}
		if len(args) == 1 {
			args = append(args, "")
		}
	}
	if len(args) != 2 {
		return 0, usagef("testbench help add",
			"add takes a name and a contract (a file or an address), or an example address")
	}
	bench, err := s.open()
	if err != nil {
		return 0, err
	}
	addition := addservice.Addition{
		Name: args[0], Source: args[1], Example: o.example, Shell: o.shell != "", Login: o.login,
		ReadFile: func(name string) ([]byte, error) { return readFile(s, name) },
		Seal: func(name, text string) error {
			s.masker.Hide(text)
			return seal(s.tell, bench.Store, name, text)
		},
	}
	if o.har != "" {
		addition.HAR = pasted
	} else {
		addition.Sample = pasted
	}
	added, err := bench.Add(ctx, addition, s.options())
	if err != nil {
		return 0, err
	}
	t := s.tell
	if s.common.json {
		return ExitPassed, t.json(map[string]any{
			"name": args[0], "from": added.What, "entries": added.Entries,
			"files": added.Files, "sealed": added.Secrets, "notes": added.Notes,
		})
	}
	t.printf("%s was added to %s, from %s\n", t.in(bold, t.visible(args[0])), t.visible(bench.Model().File()),
		t.visible(added.What))
	for _, entry := range added.Entries {
		lines := strings.Split(strings.TrimRight(entry, "\n"), "\n")
		t.printf("\n%s\n", t.in(faint, t.visible(lines[0])))
		for _, line := range lines[1:] {
			t.printf("%s\n", t.visible(line))
		}
	}
	if len(added.Entries) > 0 {
		t.printf("\n")
	}
	for _, file := range added.Files {
		t.note("copied: %s", file)
	}
	for _, name := range added.Secrets {
		t.note("sealed: %s, which was in the %s", name,
			firstOf(map[bool]string{true: "command line"}[o.shell != ""],
				map[bool]string{true: "sample"}[o.sample != ""],
				map[bool]string{true: "recorded traffic"}[o.har != ""], "address"))
	}
	for _, note := range added.Notes {
		t.note("note: %s", note)
	}
	t.note("next: testbench survey %s", args[0])
	return ExitPassed, nil
}

// seal seals a secret, and says so where that made an identity.
func seal(t *printer, store *secret.Store, name, text string) error {
	_, missing := os.Stat(store.Identity)
	if _, err := store.Set("", name, text); err != nil {
		return err
	}
	if missing != nil {
		t.note("your identity was made: %s; keep a copy of it in a safe place", store.Identity)
	}
	return nil
}
