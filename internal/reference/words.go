package reference

import (
	"fmt"

	"testbench/internal/callback"
	"testbench/internal/contract/source"
	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/lookup"
	"testbench/internal/mapping"
	"testbench/internal/path/jsonpath"
	"testbench/internal/path/xpath"
	"testbench/internal/run"
	"testbench/internal/sheet"
	"testbench/internal/table"
	"testbench/internal/yamlfile"
)

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
	{
		Form:  ".testbench/contracts/*.json",
		About: "a contract that was fetched, good for ten minutes (-fresh fetches again)",
	},
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

var paths = []Entry{
	{Form: "NAME.NAME", About: "a field of an object, or an element or attribute of XML", Example: "lot.keeper"},
	{Form: "NAME[N], NAME.N", About: "an element of a list, from 0; -1 is the last", Example: "lots[0].id"},
	{Form: "NAME[*]", About: "each element of a list", Example: "lots[*].grade"},
	{
		Form: "NAME[2:5], NAME[-2:]", About: "the elements from 2 to 4; the last two (RFC 9535, 2.3.4)",
		Example: "lots[2:5].grade",
	},
	{
		Form: "PATH | FILTER", About: "what a filter makes of a value; a path that goes on in it begins with a dot",
		Example: "payload | parse json | .lots[0].id",
	},
	{
		Form: "NAME[KEY=VALUE]", About: "the elements in which a field has a value",
		Example: "measures.measure[name=hmf].value",
	},
	{Form: `["NAME"]`, About: "a name with a dot, a space or a bracket in it", Example: `["total.net"].amount`},
	{Form: "answer", About: "the whole answer, where a path may begin elsewhere too", Example: "answer.total"},
	{
		Form: "reply", About: "what is beside the body: status, headers, cookies, text, type, size, time, fault, " +
			"error; " +
			"of what is not text kind, sha256, image and files",
		Example: "reply.headers.ETag",
	},
	{Form: "$...", About: "a path that begins with $ is JSONPath (RFC 9535)", Example: "$.lots[?@.kilos > 5].id"},
	{Form: "/...", About: "a path that begins with / is XPath 1.0", Example: "//measure[@name='hmf']"},
}

var events = []Entry{
	{Form: "sheet started", About: "a sheet begins: sheet, file, site, rows"},
	{Form: "step done", About: "a step is over: sheet, row, turn, step (as in the results of `schema result`)"},
	{Form: "row done", About: "a row is over: sheet, row, turn, label, phase, outcome"},
	{Form: "sheet done", About: "a sheet is over: sheet, outcome, seconds, counts, times, checks"},
	{Form: "would send", About: "of run -dry: step, and request or what is unknown"},
	{Form: "doubted", About: "of run -doubt: what the checks of a sheet notice, at the end of the run"},
	{Form: "record lost", About: "the history takes no more: reason"},
	{Form: "error", About: "the command could not go on: message, and what to try"},
	{Form: "run done", About: "the end, always the last line: outcome, counts, what is in the results"},
}

func limit(what string, format string, args ...any) Entry {
	return Entry{Form: what, About: fmt.Sprintf(format, args...)}
}

func mebi(n int) string { return fmt.Sprintf("%d MiB", n>>20) }

var limits = []Entry{
	limit("a response", "%s of body, unpacked (-most changes it), and %s of headers", mebi(exchange.DefaultMaxBody),
		mebi(exchange.MaxHeader)),
	limit("an exchange", "%s (timeout:, -timeout), and %d redirects", exchange.DefaultTimeout, exchange.MaxRedirects),
	limit("a tree", "%d values and %d levels", document.MaxNodes, document.MaxDepth),
	limit("a path", "%d steps of JSONPath, %d nodes of XPath", jsonpath.MostSteps, xpath.MostVisits),
	limit("a contract", "%s a document, %s all its documents", mebi(source.MaxDocument), mebi(source.MaxAll)),
	limit("a file of the bench", "%s of YAML; %s that a request is made of", mebi(yamlfile.MaxSize),
		mebi(mapping.MaxInput)),
	limit("rows", "%s of a file that is read whole (JSON, XML, a spreadsheet); others have no end",
		mebi(table.MostWhole)),
	limit("for each", "%d items", run.MostItems),
	limit("sheets in sheets", "%d deep", sheet.MostDepth),
	limit("a lookup", "%d rows", lookup.MostRows),
	limit("a callback", "%s, and %d that wait", mebi(callback.MostCallBody), callback.MostCalls),
	limit("the history", "%s, after which the oldest runs go; a row %s", mebi(history.MostBytes),
		mebi(history.MostRow)),
}
