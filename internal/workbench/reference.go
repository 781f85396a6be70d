package workbench

import (
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/document"
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

// Entry is a word of a file or of the machine: how it is written, what it does, and an example where
// the form is none.
type Entry struct{ Form, About, Example string }

// Reference is made of the tables by which the program reads: nothing in it can lag behind.
func Reference() []Topic {
	topics := []Topic{
		{Name: "bench", About: "The keys of bench.yaml.", Entries: keysOf(bench.Schema())},
		{Name: "sheets", About: "The keys of a sheet and of its steps.", Entries: keysOf(sheet.Schema(step.Kinds))},
		{Name: "rules", About: "Rules judge a value: path: RULE."},
		{Name: "kinds", About: "The kinds that a rule knows: is KIND, is not KIND."},
		{Name: "functions", About: "The functions of conditions (where:, when:, calculate:), beside those of CEL."},
		{
			Name: "placeholders", About: "A placeholder ${...} stands for a value, in every text of a file.",
			Entries: placeholders,
		},
		{Name: "filters", About: "A filter makes another value of one: ${name | FILTER}."},
		{Name: "environment", About: "Variables of the machine that the program reads.", Entries: variables},
		{Name: "files", About: "The files beside bench.yaml that the program writes or reads by itself.", Entries: files},
		{Name: "status", About: "The exit status.", Entries: statuses},
	}
	for i := range topics {
		t := &topics[i]
		switch t.Name {
		case "rules":
			for _, h := range rule.Reference() {
				t.Entries = append(t.Entries, Entry{h.Form, h.About, h.Example})
			}
		case "kinds":
			for _, name := range rule.KindNames() {
				h := rule.KindHelp(name)
				t.Entries = append(t.Entries, Entry{"is " + name, h.About, h.Example})
			}
		case "functions":
			for _, name := range rule.FunctionNames() {
				h := rule.FunctionHelp(name)
				t.Entries = append(t.Entries, Entry{h.Form, h.About, h.Example})
			}
		case "filters":
			for _, name := range value.FilterNames() {
				form, about, example := value.FilterHelp(name)
				t.Entries = append(t.Entries, Entry{form, about, example})
			}
		}
	}
	return topics
}

var placeholders = []Entry{
	{"${name}", "a value of -set, else a kept value, else a column of the row, else a value of the site", "${lot}"},
	{"${row.NAME}", "a column of the row, or a path into it", "${row.moisture}"},
	{"${kept.NAME}", "a value that an earlier step kept", "${kept.number}"},
	{"${site.NAME}", "a value of the site (set:)", "${site.base}"},
	{"${sealed.NAME}", "a sealed secret", "${sealed.clerk}"},
	{"${machine.NAME}", "a variable of the environment", "${machine.HOME}"},
	{"${run.id}", "the identity of the run", "${run.id}"},
	{"${file:NAME}", "the text of a file of the bench", "${file:data/note.txt}"},
	{"${now}, ${today}, ${uuid}", "the moment, the day, a new identifier", "${today | add 30 d}"},
	{"${callback}, ${callback.STEP}", "the address at which a listen: step waits", "${callback}"},
	{"$${", "the two characters themselves", "$${literally}"},
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
	{Form: "local.yaml", About: "what holds on this machine only, written by you beside bench.yaml and not checked in: sites: NAME: set: and services:"},
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

// keysOf lists the keys of a schema with what they hold, each with the keys that lead to it.
func keysOf(schema string) []Entry {
	root, err := document.ReadJSON([]byte(schema))
	if err != nil {
		panic(err) // it is made here
	}
	var entries []Entry
	seen := map[string]bool{}
	var walk func(n *document.Node, path string)
	walk = func(n *document.Node, path string) {
		switch {
		case n == nil:
		case n.Kind == document.List:
			for _, item := range n.Items() {
				walk(item, path)
			}
		case n.Kind == document.Object:
			properties := n.Get("properties")
			if properties == nil {
				properties = document.NewObject()
			}
			for _, m := range properties.Members() {
				at := strings.TrimPrefix(path+" > "+m.Key, " > ")
				about := ""
				if d := m.Value.Get("description"); d != nil {
					about = d.Text
				}
				if !slices.ContainsFunc(entries, func(e Entry) bool { return e.Form == at }) {
					entries = append(entries, Entry{Form: at, About: about})
				}
				walk(m.Value, at)
			}
			walk(n.Get("anyOf"), path)
			if all := n.Get("allOf"); all != nil { // the kinds of logins
				for _, one := range all.Items() {
					walk(one.Get("then"), "login: "+one.Get("if").Get("properties").Get("kind").Get("const").Text)
				}
			}
			walk(n.Get("items"), path)
			if more := n.Get("additionalProperties"); more != nil && more.Kind == document.Object {
				walk(more, strings.TrimPrefix(path+" > NAME", " > "))
			}
			if ref := n.Get("$ref"); ref != nil && !seen[ref.Text] {
				seen[ref.Text] = true // it is told once, under its own name
				name := strings.TrimPrefix(ref.Text, "#/$defs/")
				walk(root.Get("$defs").Get(name), name)
			}
		}
	}
	walk(root, "")
	return entries
}
