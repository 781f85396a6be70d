package rule

// Help is one way to write a rule, or a function, with what it means and an example.
type Help struct{ Form, About, Example string }

// Reference lists the forms of rules, in the order in which people learn them. What begins with none of
// these words is a text or a number that the value must equal.
func Reference() []Help {
	return []Help{
		{"VALUE", "equal to a text or a number; numbers by their value", "A"},
		{"equals VALUE", "the same, for a text that begins with a word of a rule", "equals over 5"},
		{"not RULE", "the other way round", "not equals 5"},
		{"over N, under N", "more than, less than: numbers, dates, durations", "over 17.5"},
		{"at least N, at most N", "the same, with the limit itself", "at least 1"},
		{"between A and B", "from A to B, both included", "between 1 and 5"},
		{"about N within M", "N, or no more than M away from it; M may be a share (2%)", "about 120.5 within 0.01"},
		{"one of A or B", "one of several values", "one of A or B or C"},
		{"contains TEXT", "a text with TEXT in it, or a list with such an element", "contains honey"},
		{"starts with TEXT, ends with TEXT", "a text that begins or ends so", "starts with L-"},
		{"matches PATTERN", "the whole text matches a regular expression (RE2)", "matches L-[0-9]{4}"},
		{"is KIND", "a value of a kind, see `testbench help kinds`", "is date"},
		{"is present, is absent, is null, is empty", "whether there is a value, and what it is", "is present"},
		{"optional RULE", "absent, or as the rule says", "optional is number"},
		{"if any RULE", "at a path as `lots[*].id`: as the rule says in each element, where the list has any",
			"if any is text"},
		{"null or RULE", "null, or as the rule says", "null or is date"},
		{"count RULE", "how many elements there are", "count between 1 and 5"},
		{"length RULE", "how many characters there are", "length at most 40"},
		{"all RULE, some RULE", "each element, or at least one of them", "all over 0"},
		{"same as PATH", "equal to what another path leads to", "same as answer.total"},
	}
}

// KindHelp tells what values are of a kind, with an example of one; the zero value where there is no
// such kind.
func KindHelp(name string) Help { return kindHelp[name] }

var kindHelp = map[string]Help{
	"base64":   {About: "a text in Base64, padded", Example: "aG9uZXk="},
	"boolean":  {About: "true or false", Example: "true"},
	"country":  {About: "a country by two letters (ISO 3166-1)", Example: "SE"},
	"currency": {About: "a currency by three letters (ISO 4217)", Example: "EUR"},
	"date":     {About: "a day", Example: "2026-11-30"},
	"datetime": {About: "a day with a time, with or without a zone", Example: "2026-11-30T08:00:00Z"},
	"decimal":  {About: "is decimal N: a number with at most N places, and no exponent", Example: "17.40"},
	"duration": {About: "a span of time (ISO 8601)", Example: "PT30M"},
	"email":    {About: "an address of mail", Example: "bryony@heatherfold.example"},
	"gtin":     {About: "a trade item's number, its check digit right", Example: "4006381333931"},
	"hostname": {About: "the name of a host", Example: "lab.heatherfold.example"},
	"iban":     {About: "an account's number, its check digits right", Example: "GB82WEST12345698765432"},
	"integer":  {About: "a whole number", Example: "17"},
	"ipv4":     {About: "an address of version 4", Example: "127.0.0.1"},
	"ipv6":     {About: "an address of version 6", Example: "::1"},
	"json":     {About: "a text that holds JSON", Example: `{"a": 1}`},
	"jwt": {
		About:   "three parts in Base64 with dots between, the first two JSON",
		Example: "eyJhbGciOiJub25lIn0.e30.",
	},
	"language": {About: "a language by its tag (BCP 47)", Example: "sv-SE"},
	"list":     {About: "a list"},
	"number":   {About: "a number", Example: "17.4"},
	"object":   {About: "an object, or an element of XML"},
	"semver":   {About: "a version in three numbers", Example: "1.4.0"},
	"text":     {About: "a text", Example: "heather"},
	"time":     {About: "a time of day", Example: "08:30:00"},
	"uri":      {About: "an address with its scheme", Example: "https://heatherfold.example/lots"},
	"uuid":     {About: "an identifier of 32 hexadecimal digits", Example: "0b6f6c1e-8f4e-4c53-9d0e-0a4d1b1e7c11"},
	"hex":      {About: "hexadecimal digits", Example: "0fb7"},
	"xml":      {About: "a text that holds XML", Example: "<a/>"},
}

// FunctionHelp tells what a function of conditions gives, with an example; the zero value where there is
// no such function.
func FunctionHelp(name string) Help { return functionHelp[name] }

var functionHelp = map[string]Help{
	"abs":    {"abs(N)", "the number without its sign", "abs(answer.total) < 100"},
	"absent": {"absent(V)", "true where there is no such value", "absent(answer.error)"},
	"at": {
		"at(PATH)", "what a path leads to in the answer; for names that CEL cannot write",
		`at("lot-no") == "L-1"`,
	},
	"avg":      {"avg(LIST)", "the mean of numbers", "avg(answer.lots.map(l, l.kilos)) > 10"},
	"date":     {"date(TEXT)", "a date, for comparing and calculating", `date(answer.day) < date("2026-12-01")`},
	"datetime": {"datetime(TEXT)", "a date with time", `datetime(answer.at) > datetime("2026-11-01T08:00:00Z")`},
	"days":     {"days(N)", "a duration of days", `date(answer.due) == date(answer.day) + days(14)`},
	"first": {"first(LIST)", "the first of a list; absent, where it is empty",
		`first(answer.lots.filter(l, l.grade == "A")).id == "L-1"`},
	"last": {"last(LIST)", "the last of a list", `last(answer.states) == "done"`},
	"least": {"least(LIST, FIELD)", "the item whose field is the smallest",
		`least(answer.offers, "price").seller == "Ansel"`},
	"most": {"most(LIST, FIELD)", "the item whose field is the largest", `most(answer.lots, "kilos").grade == "A"`},
	"placed": {
		"placed(LIST)", "each item with its place: it, index, previous, next; those at the ends are absent",
		"placed(answer.prices).all(p, absent(p.previous) || abs(p.it - p.previous) <= 0.2 * p.previous)",
	},
	"max":     {"max(LIST), max(A, B)", "the greatest", "max(answer.lots.map(l, l.kilos)) <= 50"},
	"min":     {"min(LIST), min(A, B)", "the least", "min(answer.lots.map(l, l.kilos)) > 0"},
	"number":  {"number(TEXT)", "a text as a number", "number(row.moisture) < 17"},
	"present": {"present(V)", "true where there is such a value", "present(answer.id)"},
	"round": {
		"round(N, PLACES)", "a number rounded half away from zero, to whole numbers without places",
		"round(answer.total, 2) == 12.5",
	},
	"sum":  {"sum(LIST)", "the sum of numbers", "answer.total == sum(answer.lines.map(l, l.amount))"},
	"text": {"text(V)", "a value as a text", `text(answer.number) == "17"`},
}
