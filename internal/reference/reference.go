// Package reference says what every key, rule, filter, function and word means, with an example of each:
// for help, for the page and for the manual. It is made of the tables by which the program reads.
package reference

import (
	"slices"
	"strings"

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
// form is none, and of a key of a file what it may hold and what holds where it is not there; "" for
// nothing.
type Entry struct{ Form, About, Example, Type, Default string }

// topics are the parts of the reference, with what they are made of.
var topics = []struct {
	name, about string
	entries     func() []Entry
}{
	{"bench", "The keys of bench.yaml; those of logins are a topic of their own.", func() []Entry {
		return slices.DeleteFunc(keysOf(bench.Schema(sheet.CheckSchema())), isOfLogin)
	}},
	{"logins", "The kinds of logins in bench.yaml, with their keys.", func() []Entry {
		return slices.DeleteFunc(keysOf(bench.Schema(sheet.CheckSchema())), func(e Entry) bool { return !isOfLogin(e) })
	}},
	{"sheets", "The keys of a sheet and of its steps.", func() []Entry { return keysOf(sheet.Schema(step.Kinds)) }},
	{"paths", "A path leads to a value of an answer, in JSON and XML alike.", func() []Entry { return paths }},
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
		"placeholders", "A placeholder ${...} is replaced by a value, in every text of a file.",
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
	{"events", "The events of run -json, a line of JSON each.", func() []Entry { return events }},
	{
		"limits", "What is bounded; what is over a limit is told, and never cut short in silence.",
		func() []Entry { return limits },
	},
}

// isOfLogin says whether a key is that of a kind of login.
func isOfLogin(e Entry) bool { return strings.HasPrefix(e.Form, ofLogin) }

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
