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
// others are refused. A command takes the options that are in one of its forms.
type form struct {
	name    string // in messages: "with -resume"; empty for the usual one
	is      func(u used) bool
	options []string
}

// used is a command line as it was read.
type used struct {
	args  []string
	given map[string]bool // the options that are given
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
	atSite   = take("bench site set")
	fetching = take("log insecure allow timeout most")
	reading  = take("fresh", fetching) // contracts
	sending  = take("write", atSite, reading)
	ofCall   = take("in fill body bytes login soap port action contract")
)

func with(option string) func(used) bool { return func(u used) bool { return u.has(option) } }

func always(used) bool { return true }

func never(used) bool { return false }

// the makes the only form of a command.
func the(names string, shared ...[]string) []form {
	return []form{{"", always, take(names, shared...)}}
}

// take lists options: names with spaces between, and those that several commands have.
func take(names string, shared ...[]string) []string {
	return slices.Concat(strings.Fields(names), slices.Concat(shared...))
}

// on says whether the first argument is one of some words.
func on(words ...string) func(used) bool {
	return func(u used) bool { return len(u.args) > 0 && slices.Contains(words, u.args[0]) }
}

// onSheet says whether the first argument is the file of a sheet.
func onSheet(u used) bool { return len(u.args) > 0 && isSheetFile(u.args[0]) }

func isSheetFile(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// forms are those of each command. Of several that fit the first counts.
var forms = map[string][]form{
	"new":  the("json"),
	"demo": the("dir serve json", fetching),
	"add": {
		{"with -from-shell", with("from-shell"), take("from-shell bench json")},
		{"with -from-sample", with("from-sample"), take("from-sample bench json")},
		{"with -from-har", with("from-har"), take("from-har bench json")},
		{"with -example", with("example"), take("example bench json")},
		{"", always, take("json login", atSite, reading)},
	},
	"survey": {
		{"over all contracts of the bench", func(u used) bool {
			return len(u.args) == 0
		}, take("find", atSite, reading)},
		{"with -logins", with("logins"), take("logins", atSite, reading)},
		// What is surveyed is known when it is read: see surveyCommand.
		{"of a whole contract", never, take("find json", atSite, reading)},
		{"of an operation", never, take("find depth port soap json", atSite, reading)},
		{"of a schema", never, take("find depth json", atSite, reading)},
	},
	"token": {
		{"with -forget", with("forget"), take("forget", atSite, fetching)},
		{"with -bare", with("bare"), take("bare spoil", atSite, fetching)},
		{"", always, take("verify spoil json", atSite, fetching)},
	},
	"secret": {
		{"list", on("list"), take("bench json")},
		{"lock and unlock", on("lock", "unlock"), take("bench")},
		{"share of all secrets", func(u used) bool {
			return len(u.args) == 2 && u.args[0] == "share"
		}, take("bench withdraw")},
		{"share", on("share"), take("bench site withdraw")},
		{"remove", on("remove"), take("bench site mine")},
		{"set", always, take("bench site mine replace")},
	},
	"draft": {
		{"with -json", with("json"), take("json only soap port answer", atSite, reading)},
		{"", always, take("as only soap port answer", atSite, reading)},
		{"of a schema", never, take("as json only", atSite, reading)},
	},
	"call": {
		{"with -dry", with("dry"), take("dry spoil http as pages stay into keep json", ofCall, sending)},
		{"with -json", with("json"), take("json spoil http as pages stay save keep into", ofCall, sending)},
		{"with -pick", with("pick"), take("pick spoil http as pages stay save keep into", ofCall, sending)},
		{"", always, take("spoil http as pages stay headers show full save keep into", ofCall, sending)},
	},
	"fields": {
		{"with -json", with("json"), take("json find kind bench")},
		{"with -as", with("as"), take("as find kind bench")},
		{"", always, take("find kind tree bench")},
	},
	"propose": {
		{"with -times and -into", func(u used) bool {
			return u.has("times") && u.has("into")
		}, take("times into step", sending)},
		{"with -times", with("times"), take("times step json", sending)},
		{"with -into", with("into"), take("into step bench")},
		{"of saved answers", always, take("step json bench")},
	},
	// What is compared is known when its arguments are looked at: see session.compare.
	"compare": {
		{"of contracts", never, take("breaks as json", atSite, reading)},
		{"of runs", never, take("values ignore key full as json bench")},
		{"of answers", never, take("ignore key root out full as json bench")},
		{"of answers at two sites", never, take("ignore key root out full as json", ofCall, sending)},
	},
	"watch": the("every for times until alarm pick out size login json", sending),
	"run": {
		{
			"with -resume", with("resume"),
			take("resume stop out show full detail jobs listen callback json bench set", reading),
		},
		{"with -dry", with("dry"), take("dry step rows share of full json", sending)},
		{
			"with -json", with("json"),
			take("step tag from rows stop accept doubt out jobs rate repeat for share of listen callback json",
				sending),
		},
		{"without -show", func(u used) bool {
			return !u.has("show")
		}, take("step tag from rows stop accept doubt out detail jobs rate repeat for share of listen callback",
			sending)},
		{"", always, take("step tag from rows stop accept doubt out show full detail jobs rate repeat for share of "+
			"listen callback", sending)},
	},
	"doubt": {
		{"with -json", with("json"), take("least most into out json", atSite)},
		{"", always, take("least most all into out", atSite)},
	},
	"probe": {
		{"with -as sheet, of a step", func(u used) bool {
			return u.has("as") && onSheet(u)
		}, take("as out only seed", sending)},
		{"with -as sheet", with("as"), take("as out only seed", ofCall, sending)},
		{"of a step", onSheet, take("only seed rate within bad out json", sending)},
		{"with -json", with("json"), take("only seed rate within out json", ofCall, sending)},
		{"", always, take("only seed rate within bad out", ofCall, sending)},
	},
	"vet":      the("json", atSite),
	"validate": the("all operation status request json", atSite, reading),
	"history": {
		{"with -prune", with("prune"), take("prune bench")},
		{"with -steps", with("steps"), take("steps most site json bench")},
		{"with -values", with("values"), take("values out size most site json bench")},
		{"with -import", with("import"), take("import bench")},
		{"with -export", with("export"), take("export most bench")},
		{"of a run", func(u used) bool {
			return len(u.args) > 0 && u.args[0] != "last" && !strings.Contains(u.args[0], ".")
		}, take("json bench")},
		{"of an exchange", func(u used) bool { return len(u.args) > 0 }, take("full json bench")},
		{"", always, take("most site json bench")},
	},
	"cover": {
		{"with -json", with("json"), take("runs least out into json", atSite, reading)},
		{"", always, take("runs least all out into", atSite, reading)},
	},
	"report": {
		{"with -json", with("json"), take("merge out full json bench")},
		{"with -merge", with("merge"), take("merge out full all bench")},
		{"", always, take("out full all bench")},
	},
	"schema": the(""),
	"handover": {
		{"of a past exchange", func(u used) bool {
			_, _, ok := exchangeName(strings.Join(u.args, " "))
			return ok
		}, take("as out bench")},
		{"of a step", onSheet, take("as out pick row", sending)},
		{"", always, take("as out pick", ofCall, sending)},
	},
	"bridge": {
		{"with -role", with("role"), take("role operations methods port", atSite, reading)},
		{"with -issue-key", with("issue-key"), take("issue-key operations roles until port", atSite, reading)},
		{"with -withdraw-key", with("withdraw-key"), take("withdraw-key bench")},
		{"with -list-keys", with("list-keys"), take("list-keys json bench")},
		{"", always, take("listen port cert key access-log keep host rate max-request wait open closed key-header",
			sending)},
	},
	"standin": {
		{"with -contract", with("contract"), take("contract script record play listen", atSite, reading)},
		{"without -contract", always, take("listen ca offset lifetime weak books refuse json")},
	},
	"help":       the(""),
	"completion": the(""),
	"version":    the("json"),
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

// checkInForm refuses options that have no effect in a form that is known by its name.
func checkInForm(s *session, name string) error {
	for _, f := range forms[s.command.name] {
		if f.name == name {
			return s.command.onlyOptions(f, s.used)
		}
	}
	return fmt.Errorf("%s has no form %q", s.command.name, name)
}

func (c *command) onlyOptions(f form, u used) error {
	for _, name := range slices.Sorted(maps.Keys(u.given)) {
		if name == "plain" || name == "quiet" || slices.Contains(f.options, name) {
			continue
		}
		return usagef(c.inPlaceOf(name, f), "-%s has no effect in %s", name, c.in(f))
	}
	return nil
}

// in names a form in messages: run with -json.
func (c *command) in(f form) string { return strings.TrimSpace(c.name + " " + f.name) }

// inPlaceOf says what to do about an option that has no effect in a form.
func (c *command) inPlaceOf(option string, f form) string {
	var others []string
	for _, other := range forms[c.name] {
		if !slices.Contains(other.options, option) {
			continue
		}
		if what, ok := strings.CutPrefix(f.name, "with -"); ok && (other.name == "" || other.name == "with -"+option) {
			return "take it out, or take -" + what + " out"
		}
		if other.name != "" {
			others = append(others, c.in(other))
		}
	}
	if len(others) == 0 {
		return "take it out"
	}
	return "take it out; it is used in " + strings.Join(others, ", ")
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
			if f.Name != "site" || flags.Name() != "compare" && flags.Name() != "history" {
				f.Value = &once{Value: f.Value, name: f.Name}
			}
		}
	})
}
