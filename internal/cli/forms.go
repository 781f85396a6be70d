package cli

import (
	"errors"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// form is one way of using a command, with the options that have an effect there: all
// others are refused. A command takes the options that stand in one of its forms.
type form struct {
	name    string // in messages: "with -resume"; empty for the usual one
	is      func(u used) bool
	options []string
}

// used is a command line as it was read.
type used struct {
	args  []string
	given map[string]bool // the options that stand there
}

func newUsed(flags *flag.FlagSet, args []string) used {
	u := used{args, map[string]bool{}}
	flags.Visit(func(f *flag.Flag) { u.given[f.Name] = true })
	return u
}

func (u used) has(options ...string) bool {
	return slices.ContainsFunc(options, func(name string) bool { return u.given[name] })
}

// Options that several commands have.
var (
	atSite   = []string{"bench", "site", "set"}
	fetching = []string{"log", "insecure", "allow", "timeout", "most"}
	sending  = slices.Concat(atSite, fetching, []string{"write"})
	ofCall   = []string{"in", "fill", "body", "bytes", "login", "soap", "action", "contract"}
)

func with(option string) func(used) bool { return func(u used) bool { return u.has(option) } }

func always(used) bool { return true }

func never(used) bool { return false }

// the makes the only form of a command.
func the(options ...[]string) []form { return []form{{"", always, slices.Concat(options...)}} }

func isSheetFile(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// forms are those of each command. Of several that fit the first counts.
var forms = map[string][]form{
	"new":  the([]string{"json"}),
	"demo": the([]string{"dir", "serve", "json"}, fetching),
	"add": {
		{"with -from-shell", with("from-shell"), []string{"from-shell", "bench", "json"}},
		{"with -example", with("example"), []string{"example", "bench", "json"}},
		{"", always, slices.Concat([]string{"json"}, atSite, fetching)},
	},
	"survey": {
		{"over all contracts of the bench", func(u used) bool { return len(u.args) == 0 }, slices.Concat([]string{"find"}, atSite, fetching)},
		{"with -logins", with("logins"), slices.Concat([]string{"logins", "port", "soap"}, atSite, fetching)},
		{"", always, slices.Concat([]string{"find", "depth", "port", "soap", "json"}, atSite, fetching)},
	},
	"token": {
		{"with -forget", with("forget"), slices.Concat([]string{"forget"}, atSite, fetching)},
		{"with -bare", with("bare"), slices.Concat([]string{"bare", "spoil"}, atSite, fetching)},
		{"", always, slices.Concat([]string{"verify", "spoil", "json"}, atSite, fetching)},
	},
	"secret": {
		{"with secret list", func(u used) bool { return len(u.args) > 0 && u.args[0] == "list" }, []string{"bench", "json"}},
		{"with secret lock and unlock", func(u used) bool { return len(u.args) > 0 && (u.args[0] == "lock" || u.args[0] == "unlock") }, []string{"bench"}},
		{"with secret share of all secrets", func(u used) bool { return len(u.args) == 2 && u.args[0] == "share" }, []string{"bench", "withdraw"}},
		{"with secret share", func(u used) bool { return len(u.args) > 0 && u.args[0] == "share" }, []string{"bench", "site", "withdraw"}},
		{"with secret set and remove", always, []string{"bench", "site"}},
	},
	"draft": {
		{"with -json", with("json"), slices.Concat([]string{"json", "only", "soap", "port", "answer"}, atSite, fetching)},
		{"", always, slices.Concat([]string{"as", "only", "soap", "port", "answer"}, atSite, fetching)},
	},
	"call": {
		{"with -dry", with("dry"), slices.Concat([]string{"dry", "spoil", "http", "pages", "stay", "into", "keep", "json"}, ofCall, sending)},
		{"with -json", with("json"), slices.Concat([]string{"json", "spoil", "http", "pages", "stay", "save", "keep", "into"}, ofCall, sending)},
		{"with -pick", with("pick"), slices.Concat([]string{"pick", "spoil", "http", "pages", "stay", "save", "keep", "into"}, ofCall, sending)},
		{"", always, slices.Concat([]string{"spoil", "http", "pages", "stay", "headers", "show", "full", "save", "keep", "into"}, ofCall, sending)},
	},
	"fields": {
		{"with -json", with("json"), []string{"json", "find", "kind", "bench"}},
		{"with -as", with("as"), []string{"as", "find", "kind", "bench"}},
		{"", always, []string{"find", "kind", "tree", "bench"}},
	},
	"propose": {
		{"with -times and -into", func(u used) bool { return u.has("times") && u.has("into") }, slices.Concat([]string{"times", "into", "step"}, sending)},
		{"with -times", with("times"), slices.Concat([]string{"times", "step", "json"}, sending)},
		{"with -into", with("into"), []string{"into", "step", "bench"}},
		{"of saved answers", always, []string{"step", "json", "bench"}},
	},
	// What is compared is known when its arguments are looked at: see session.compare.
	"compare": {
		{"of contracts", never, slices.Concat([]string{"breaks", "as", "json"}, atSite, fetching)},
		{"of runs", never, []string{"values", "ignore", "key", "as", "json", "bench"}},
		{"of answers", never, []string{"ignore", "key", "as", "json", "bench"}},
		{"of answers at two sites", never, slices.Concat([]string{"ignore", "key", "as", "json"}, sending)},
	},
	"watch": the([]string{"every", "for", "times", "until", "pick", "login", "json"}, sending),
	"run": {
		{"with -resume", with("resume"), slices.Concat([]string{"resume", "stop", "out", "show", "full", "tell", "jobs", "listen", "callback", "json", "bench", "set"}, fetching)},
		{"with -dry", with("dry"), slices.Concat([]string{"dry", "step", "rows", "share", "of", "full", "json"}, sending)},
		{"with -json", with("json"), slices.Concat([]string{"step", "from", "rows", "stop", "out", "jobs", "rate", "repeat", "for", "share", "of", "listen", "callback", "json"}, sending)},
		{"without -show", func(u used) bool { return !u.has("show") }, slices.Concat([]string{"step", "from", "rows", "stop", "out", "tell", "jobs", "rate", "repeat", "for", "share", "of", "listen", "callback"}, sending)},
		{"", always, slices.Concat([]string{"step", "from", "rows", "stop", "out", "show", "full", "tell", "jobs", "rate", "repeat", "for", "share", "of", "listen", "callback"}, sending)},
	},
	"probe": {
		{"with -as sheet, of a step", func(u used) bool { return u.has("as") && len(u.args) > 0 && isSheetFile(u.args[0]) }, slices.Concat([]string{"as", "out", "only", "seed"}, sending)},
		{"with -as sheet", with("as"), slices.Concat([]string{"as", "out", "only", "seed"}, ofCall, sending)},
		{"of a step", func(u used) bool { return len(u.args) > 0 && isSheetFile(u.args[0]) }, slices.Concat([]string{"only", "seed", "rate", "within", "bad", "out", "json"}, sending)},
		{"with -json", with("json"), slices.Concat([]string{"only", "seed", "rate", "within", "out", "json"}, ofCall, sending)},
		{"", always, slices.Concat([]string{"only", "seed", "rate", "within", "bad", "out"}, ofCall, sending)},
	},
	"vet":      the([]string{"json"}, atSite),
	"validate": the([]string{"all", "operation", "status", "request", "json"}, atSite, fetching),
	"history": {
		{"with -prune", with("prune"), []string{"prune", "bench"}},
		{"with -steps", with("steps"), []string{"steps", "most", "json", "bench"}},
		{"of a run", func(u used) bool { return len(u.args) > 0 && u.args[0] != "last" && !strings.Contains(u.args[0], ".") }, []string{"json", "bench"}},
		{"of an exchange", func(u used) bool { return len(u.args) > 0 }, []string{"full", "json", "bench"}},
		{"", always, []string{"most", "json", "bench"}},
	},
	"report": {
		{"with -gather", with("gather"), []string{"gather", "out", "json"}},
		{"", always, []string{"out", "json", "bench"}},
	},
	"schema": the(),
	"handover": {
		{"of a past exchange", func(u used) bool { _, _, ok := exchangeName(strings.Join(u.args, " ")); return ok }, []string{"as", "out", "bench"}},
		{"of a step", func(u used) bool { return len(u.args) > 0 && isSheetFile(u.args[0]) }, slices.Concat([]string{"as", "out", "pick"}, sending)},
		{"", always, slices.Concat([]string{"as", "out", "pick"}, ofCall, sending)},
	},
	"bridge": {
		{"with -issue-key", with("issue-key"), slices.Concat([]string{"issue-key", "operations", "until", "port"}, atSite, fetching)},
		{"with -withdraw-key", with("withdraw-key"), []string{"withdraw-key", "bench"}},
		{"with -list-keys", with("list-keys"), []string{"list-keys", "json", "bench"}},
		{"", always, slices.Concat([]string{"listen", "port", "cert", "key", "access-log", "keep", "host", "rate", "max-request", "wait", "open"}, sending)},
	},
	"standin": {
		{"with -contract", with("contract"), slices.Concat([]string{"contract", "script", "record", "play", "listen"}, atSite, fetching)},
		{"without -contract", always, []string{"listen", "ca", "offset", "lifetime", "weak", "books", "refuse", "json"}},
	},
	"help":       the(),
	"completion": the(),
	"version":    the([]string{"json"}),
}

// has says whether a command has an option in one of its forms.
func (c *command) has(option string) bool {
	return slices.ContainsFunc(forms[c.name], func(f form) bool { return slices.Contains(f.options, option) })
}

// checkForm refuses options that have no effect in the form that the command is used in.
func (c *command) checkForm(u used) error {
	for _, f := range forms[c.name] {
		if f.is(u) {
			return c.onlyOptions(f, u)
		}
	}
	return nil
}

// inForm refuses options that have no effect in a form that is known by its name.
func (s *session) inForm(name string) error {
	for _, f := range forms[s.command.name] {
		if f.name == name {
			return s.command.onlyOptions(f, s.used)
		}
	}
	return fmt.Errorf("%s has no form %q", s.command.name, name)
}

func (c *command) onlyOptions(f form, u used) error {
	for _, name := range slices.Sorted(maps.Keys(u.given)) {
		if name == "plain" || slices.Contains(f.options, name) {
			continue
		}
		var elsewhere []string
		for _, other := range forms[c.name] {
			if other.name != "" && slices.Contains(other.options, name) {
				elsewhere = append(elsewhere, other.name)
			}
		}
		try := "take it out"
		if len(elsewhere) > 0 {
			try += "; it is used " + strings.Join(elsewhere, ", ")
		}
		return usagef(try, "-%s has no effect %s", name, strings.TrimSpace("in "+c.name+" "+f.name))
	}
	return nil
}

// once is an option that takes one value: a second one would be lost.
type once struct {
	flag.Value
	name  string
	given bool
}

// Set takes the value, and refuses another.
func (o *once) Set(text string) error {
	if o.given {
		return errors.New("-" + o.name + " is given twice")
	}
	o.given = true
	return o.Value.Set(text)
}

// Get is the value, for messages.
func (o *once) Get() any {
	if getter, ok := o.Value.(flag.Getter); ok {
		return getter.Get()
	}
	return o.Value.String()
}

// IsBoolFlag says whether the option needs no value.
func (o *once) IsBoolFlag() bool {
	is, ok := o.Value.(interface{ IsBoolFlag() bool })
	return ok && is.IsBoolFlag()
}

// takeOnce makes options that take one value refuse a second one.
func takeOnce(flags *flag.FlagSet) {
	flags.VisitAll(func(f *flag.Flag) {
		switch f.Value.(type) {
		case *list, *pairs:
		default:
			if f.Name != "site" || flags.Name() != "compare" {
				f.Value = &once{Value: f.Value, name: f.Name}
			}
		}
	})
}
