// Package reference says what every key, rule, filter, function and word means, with an example of each:
// for help, for the page and for the manual. It is made of the tables by which the program reads.
package reference

import (
	"testbench/internal/bench"
	"testbench/internal/rule"
	"testbench/internal/sheet"
	"testbench/internal/step"
	"testbench/internal/value"
)

// Topic is a part of the reference: words of one sort.
type Topic struct {
	Name, About string
	Entries     []Entry
}

// Entry is a word of a file or of the machine: how it is written, what it does, an example where the
// form is none, and of a key of a file what it may hold.
type Entry struct{ Form, About, Example, Type string }

// topics are the parts of the reference, with what they are made of.
var topics = []struct {
	name, about string
	entries     func() []Entry
}{
	{"bench", "The keys of bench.yaml.", func() []Entry { return keysOf(bench.Schema(sheet.CheckSchema())) }},
	{"sheets", "The keys of a sheet and of its steps.", func() []Entry { return keysOf(sheet.Schema(step.Kinds)) }},
	{"rules", "Rules judge a value: path: RULE.", func() []Entry {
		var all []Entry
		for _, h := range rule.Reference() {
			all = append(all, Entry{Form: h.Form, About: h.About, Example: h.Example})
		}
		return all
	}},
	{"kinds", "The kinds that a rule knows: is KIND, is not KIND.", func() []Entry {
		var all []Entry
		for _, name := range rule.KindNames() {
			h := rule.KindHelp(name)
			all = append(all, Entry{Form: "is " + name, About: h.About, Example: h.Example})
		}
		return all
	}},
	{"functions", "The functions of conditions (where:, when:, calculate:), beside those of CEL.", func() []Entry {
		var all []Entry
		for _, name := range rule.FunctionNames() {
			h := rule.FunctionHelp(name)
			all = append(all, Entry{Form: h.Form, About: h.About, Example: h.Example})
		}
		return all
	}},
	{
		"placeholders", "A placeholder ${...} stands for a value, in every text of a file.",
		func() []Entry { return placeholders },
	},
	{"filters", "A filter makes another value of one: ${name | FILTER}.", func() []Entry {
		var all []Entry
		for _, name := range value.FilterNames() {
			form, about, example := value.FilterHelp(name)
			all = append(all, Entry{Form: form, About: about, Example: example})
		}
		return all
	}},
	{"environment", "Variables of the machine that the program reads.", func() []Entry { return variables }},
	{
		"files", "The files beside bench.yaml that the program writes or reads by itself.",
		func() []Entry { return files },
	},
	{"status", "The exit status.", func() []Entry { return statuses }},
}

// TopicNames are the names of the parts of the reference.
func TopicNames() []string {
	names := make([]string, len(topics))
	for i, t := range topics {
		names[i] = t.name
	}
	return names
}

// Topics are the parts of the reference.
func Topics() []Topic {
	out := make([]Topic, len(topics))
	for i, t := range topics {
		out[i] = Topic{t.name, t.about, t.entries()}
	}
	return out
}

var placeholders = []Entry{
	{
		Form: "${name}", About: "a value of -set, else a kept value, else a column of the row, else a value of the " +
			"site",
		Example: "${lot}",
	},
	{Form: "${row.NAME}", About: "a column of the row, or a path into it", Example: "${row.moisture}"},
	{Form: "${kept.NAME}", About: "a value that an earlier step kept", Example: "${kept.number}"},
	{Form: "${site.NAME}", About: "a value of the site (set:)", Example: "${site.base}"},
	{Form: "${sealed.NAME}", About: "a sealed secret", Example: "${sealed.clerk}"},
	{Form: "${machine.NAME}", About: "a variable of the environment", Example: "${machine.HOME}"},
	{Form: "${run.id}", About: "the identity of the run", Example: "${run.id}"},
	{Form: "${file:NAME}", About: "the text of a file of the bench", Example: "${file:data/note.txt}"},
	{Form: "${now}, ${today}, ${uuid}", About: "the moment, the day, a new identifier", Example: "${today | add 30 d}"},
	{Form: "${callback}, ${callback.STEP}", About: "the address at which a listen: step waits", Example: "${callback}"},
	{Form: "$${", About: "the two characters themselves", Example: "$${literally}"},
}

var variables = []Entry{
	{Form: "TESTBENCH_IDENTITY", About: "the file with the key that opens sealed secrets; else one in the home folder"},
	{Form: "TESTBENCH_PASSPHRASE", About: "the passphrase of a locked identity"},
	{Form: "TESTBENCH_SEALED_NAME", About: "the text of the secret NAME, in place of the sealed one"},
	{Form: "TESTBENCH_SEALED_NAME_FILE", About: "a file with it"},
	{Form: "NO_COLOR", About: "no colour, where it is not empty"},
	{Form: "TERM", About: "dumb: no colour, and nothing that moves"},
	{Form: "HTTP_PROXY, HTTPS_PROXY, NO_PROXY", About: "the proxy, where the site names none"},
}

var files = []Entry{
	{
		Form:  "local.yaml",
		About: "values of this machine only; you write it, and do not check it in: sites: NAME: set: and services:",
	},
	{Form: ".testbench/history.db", About: "every run of the bench (SQLite)"},
	{Form: ".testbench/kept/NAME.age", About: "a value that call -keep kept, sealed"},
	{Form: ".testbench/tokens/SITE/LOGIN.age", About: "a token that is kept between commands, sealed"},
	{Form: ".testbench/runs/run_N.age", About: "what an interrupted run needs to go on, sealed"},
	{Form: ".testbench/bridge/SERVICE.json", About: "the keys of a bridge, as hashes"},
	{Form: "secrets/NAME.age", About: "a sealed secret"},
	{Form: "secrets/recipients.txt", About: "the public keys that secrets are sealed to"},
}

var statuses = []Entry{
	{Form: "0", About: "all passed"},
	{Form: "1", About: "something failed: a check, a difference, a message that is not valid"},
	{Form: "2", About: "the command or a file is wrong; nothing was sent"},
	{Form: "3", About: "an endpoint was not reached, or a token not obtained"},
	{Form: "130", About: "interrupted"},
	{Form: "143", About: "terminated"},
}
