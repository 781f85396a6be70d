package value

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/xmlstream"
)

type filter struct {
	usage       string
	least, most int
	ends        bool // the result needs no further escaping
	check       func(args []string) error
	apply       func(node *document.Node, args []string) (*document.Node, error)
}

// FilterHelp tells how a filter is written and what it makes of a value; example is a placeholder with it.
func FilterHelp(name string) (form, about, example string) {
	return filters[name].usage, filterAbout[name], "${x | " + strings.Split(filters[name].usage, " (")[0] + "}"
}

var filterAbout = map[string]string{
	"add":     "a date or a time moved by a span; -30 d goes back",
	"base64":  "the text in Base64",
	"day":     "the day of a date, 1 to 31",
	"default": "what is meant where there is no value",
	"format":  "a date or a time in another form: d, M, yyyy, H, m, s; doubled with a zero before it",
	"first":   "the first of a list; after a path, of all that it leads to",
	"hex":     "the bytes of the text as hexadecimal digits",
	"inside":  "the part of a text between two others",
	"join": "the values of a list as one text, with a sign between them or none; after a path, all that it " +
		"leads to",
	"json":         "the value as JSON",
	"last":         "the last of a list",
	"least by":     "the item of a list whose field is the least",
	"lower":        "small letters",
	"most by":      "the item of a list whose field is the greatest",
	"month":        "the month of a date, 1 to 12",
	"number":       "a number, with N places after the point",
	"parse base64": "what is written in Base64, with either alphabet",
	"parse json":   "the tree of a text that holds JSON",
	"parse xml":    "the tree of a text that holds XML",
	"raw":          "the value without escaping for where it goes",
	"sha256":       "the hash of the text, as hexadecimal digits",
	"trim":         "without spaces at both ends",
	"upper":        "capital letters",
	"url":          "escaped for an address",
	"xml":          "escaped for XML",
	"year":         "the year of a date",
}

// FilterNames lists the filters in alphabetical order.
func FilterNames() []string {
	names := make([]string, 0, len(filters))
	for name := range filters {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

var filters = map[string]filter{
	"add": {
		usage: "add 30 d (ms, s, min, h, d, months, years)", least: 1, most: 2, check: checkSpan,
		apply: addSpan,
	},
	"format":  {usage: "format dd.MM.yyyy", least: 1, most: 1, check: checkPattern, apply: formatMoment},
	"day":     {usage: "day", apply: partOf("d")},
	"month":   {usage: "month", apply: partOf("M")},
	"year":    {usage: "year", apply: partOf("yyyy")},
	"default": {usage: "default x", least: 1, most: 1},
	"upper":   {usage: "upper", apply: onText(strings.ToUpper)},
	"lower":   {usage: "lower", apply: onText(strings.ToLower)},
	"trim":    {usage: "trim", apply: onText(strings.TrimSpace)},
	"number":  {usage: "number 2", most: 1, check: checkPlaces, apply: asNumber},
	"base64": {usage: "base64", apply: onText(func(s string) string {
		return base64.StdEncoding.EncodeToString([]byte(s))
	})},
	"hex": {usage: "hex", apply: onText(func(s string) string { return hex.EncodeToString([]byte(s)) })},
	"sha256": {usage: "sha256", apply: onText(func(s string) string {
		sum := sha256.Sum256([]byte(s))
		return hex.EncodeToString(sum[:])
	})},
	"url": {usage: "url", ends: true, apply: onText(func(s string) string {
		return strings.ReplaceAll(url.QueryEscape(s), "+", "%20")
	})},
	"join": {usage: `join ", "`, most: 1, apply: join},
	"first": {usage: "first", apply: chosen(func(items []*document.Node, _ []string) (int, error) {
		return min(0, len(items)-1), nil
	})},
	"last": {usage: "last", apply: chosen(func(items []*document.Node, _ []string) (int, error) {
		return len(items) - 1, nil
	})},
	"least by": {usage: "least by kilos", least: 1, most: 1, apply: chosen(extremeBy(-1))},
	"most by":  {usage: "most by kilos", least: 1, most: 1, apply: chosen(extremeBy(1))},
	"json":     {usage: "json", ends: true, apply: asJSON},
	"xml":      {usage: "xml", ends: true, apply: onText(func(s string) string { return xmlstream.Escape(s, true) })},
	"raw": {usage: "raw", ends: true, apply: func(n *document.Node, _ []string) (*document.Node, error) {
		return n, nil
	}},
	"inside":       {usage: `inside "[" "]"`, least: 2, most: 2, apply: inside},
	"parse base64": {usage: "parse base64", apply: parseAs(readBase64)},
	"parse json":   {usage: "parse json", apply: parseAs(document.ReadJSON)},
	"parse xml":    {usage: "parse xml", apply: parseAs(readXML)},
}

// onText makes a filter of a function on text. The result is a typed text,
// unless the value had no type before either.
func onText(change func(string) string) func(*document.Node, []string) (*document.Node, error) {
	return func(node *document.Node, _ []string) (*document.Node, error) {
		text, err := scalarText(node)
		if err != nil {
			return nil, err
		}
		if node.Value().Kind == document.Untyped {
			return document.NewUntyped(change(text)), nil
		}
		return document.NewText(change(text)), nil
	}
}

func scalarText(node *document.Node) (string, error) {
	v := node.Value()
	if !v.IsScalar() {
		return "", fmt.Errorf("it works on a single value, and this is %s", node.Describe())
	}
	return v.Text, nil
}

func asJSON(node *document.Node, _ []string) (*document.Node, error) {
	return document.NewText(document.WriteJSON(node, document.Style{})), nil
}

// parseAs makes a filter that reads a text, or each text of a list, as a document.
func parseAs(read func([]byte) (*document.Node, error)) func(*document.Node, []string) (*document.Node, error) {
	var parse func(node *document.Node, args []string) (*document.Node, error)
	parse = func(node *document.Node, args []string) (*document.Node, error) {
		if v := node.Value(); v != nil && v.Kind == document.List {
			list := &document.Node{Kind: document.List, Secret: v.Secret}
			for i, item := range v.Items() {
				opened, err := parse(item, args)
				if err != nil {
					return nil, fmt.Errorf("[%d]: %w", i, err)
				}
				if item.Secret {
					opened = opened.MarkSecret()
				}
				list.AppendItems(opened)
			}
			return list, nil
		}
		text, err := scalarText(node)
		if err != nil {
			return nil, err
		}
		return read([]byte(text))
	}
	return parse
}

// join makes one text of the values of a list.
func join(node *document.Node, args []string) (*document.Node, error) {
	between := ""
	if len(args) > 0 {
		between = args[0]
	}
	items, isSecret := []*document.Node{node}, node.Secret
	if node.Kind == document.List {
		items = node.Items()
	}
	texts := make([]string, len(items))
	for i, item := range items {
		text, err := scalarText(item)
		if err != nil {
			return nil, err
		}
		texts[i], isSecret = text, isSecret || item.Secret
	}
	joined := document.NewText(strings.Join(texts, between))
	joined.Secret = isSecret
	return joined, nil
}

// readBase64 reads Base64 (RFC 4648, 4) or base64url (5), with or without padding and line ends.
func readBase64(text []byte) (*document.Node, error) {
	plain := strings.TrimRight(strings.Join(strings.Fields(string(text)), ""), "=")
	data, err := base64.RawStdEncoding.DecodeString(strings.NewReplacer("-", "+", "_", "/").Replace(plain))
	if err != nil {
		return nil, errors.New("it is not Base64")
	}
	return document.NewUntyped(string(data)), nil
}

func readXML(text []byte) (*document.Node, error) { return document.ReadXML(bytes.TrimSpace(text), "") }

func inside(node *document.Node, args []string) (*document.Node, error) {
	text, err := scalarText(node)
	if err != nil {
		return nil, err
	}
	_, rest, found := strings.Cut(text, args[0])
	if !found {
		return nil, fmt.Errorf("%q is not in %s", args[0], node.Describe())
	}
	between, _, found := strings.Cut(rest, args[1])
	if !found {
		return nil, fmt.Errorf("after %q there is no %q in %s", args[0], args[1], node.Describe())
	}
	if node.Value().Kind == document.Text {
		return document.NewText(between), nil // 8e89 out of a text is not a number
	}
	return document.NewUntyped(between), nil
}

func checkPlaces(args []string) error {
	if len(args) == 1 {
		if places, err := strconv.Atoi(args[0]); err != nil || places < 0 || places > 100 {
			return errors.New("the number of digits is a whole number from 0 to 100")
		}
	}
	return nil
}

// asNumber makes a number of a text; with places it is rounded half up to that
// many digits after the point.
func asNumber(node *document.Node, args []string) (*document.Node, error) {
	d, ok := node.Decimal()
	if !ok {
		return nil, fmt.Errorf("%s is not a number", node.Describe())
	}
	if len(args) == 0 {
		return document.NewNumber(strings.TrimSpace(node.Value().Text)), nil
	}
	places, _ := strconv.Atoi(args[0])
	context := apd.BaseContext.WithPrecision(uint32(d.NumDigits()) + uint32(max(int64(d.Exponent), 0)) +
		uint32(places) + 2)
	rounded := new(apd.Decimal)
	if _, err := context.Quantize(rounded, d, int32(-places)); err != nil {
		return nil, err
	}
	return document.NewNumber(rounded.Text('f')), nil
}

// Dates and times

// momentLayouts are the forms of a date or time that filters and rules read:
// ISO 8601 as XML Schema and RFC 3339 write it, with or without zone.
var momentLayouts = []string{
	"2006-01-02",
	"2006-01-02T15:04:05.999999999Z07:00",
	"2006-01-02T15:04:05.999999999",
	"2006-01-02T15:04Z07:00",
	"2006-01-02T15:04",
	"2006-01-02Z07:00",
	"15:04:05.999999999Z07:00",
	"15:04:05.999999999",
}

// Moment reads a date, time or date with time. layout is the form it had.
func Moment(text string) (moment time.Time, layout string, err error) {
	for _, layout := range momentLayouts {
		if moment, err := time.Parse(layout, text); err == nil {
			return moment, layout, nil
		}
	}
	return time.Time{}, "", fmt.Errorf("%q is not a date or time (2026-11-23, 2026-11-23T08:30:00Z, 08:30:00)", text)
}

func checkSpan(args []string) error {
	_, _, err := span(args)
	return err
}

// span reads an amount and its unit, with or without a blank between.
func span(args []string) (amount int, unit string, err error) {
	text := strings.Join(args, "")
	end := strings.IndexFunc(text, func(r rune) bool { return r != '-' && r != '+' && (r < '0' || r > '9') })
	if end <= 0 {
		return 0, "", errors.New("an amount and a unit are needed")
	}
	if amount, err = strconv.Atoi(text[:end]); err != nil {
		return 0, "", fmt.Errorf("%q is not a whole number", text[:end])
	}
	unit = text[end:]
	switch unit {
	case "month", "year":
		unit += "s"
	case "months", "years":
	default:
		if _, ok := units[unit]; !ok {
			return 0, "", fmt.Errorf("%q is not a unit of time", unit)
		}
	}
	return amount, unit, nil
}

var units = map[string]time.Duration{
	"ms": time.Millisecond, "s": time.Second, "min": time.Minute, "h": time.Hour, "d": 24 * time.Hour,
}

func addSpan(node *document.Node, args []string) (*document.Node, error) {
	text, err := scalarText(node)
	if err != nil {
		return nil, err
	}
	moment, layout, err := Moment(text)
	if err != nil {
		return nil, err
	}
	amount, unit, err := span(args)
	if err != nil {
		return nil, err
	}
	switch unit {
	case "d":
		moment = moment.AddDate(0, 0, amount)
	case "months":
		moment = addMonths(moment, amount)
	case "years":
		moment = addMonths(moment, 12*amount)
	default:
		moment = moment.Add(time.Duration(amount) * units[unit])
		if layout == "2006-01-02" && units[unit] < 24*time.Hour && moment.Format("15:04:05.999999999") != "00:00:00" {
			layout = "2006-01-02T15:04:05.999999999"
		}
	}
	return document.NewUntyped(moment.Format(layout)), nil
}

// addMonths keeps the day, or takes the month's last where it has no such day:
// one month after 31 January is the end of February.
func addMonths(moment time.Time, months int) time.Time {
	year, month, day := moment.Date()
	first := time.Date(year, month+time.Month(months), 1, moment.Hour(), moment.Minute(), moment.Second(),
		moment.Nanosecond(), moment.Location())
	last := first.AddDate(0, 1, -1).Day()
	return first.AddDate(0, 0, min(day, last)-1)
}

func checkPattern(args []string) error {
	_, err := formatPattern(time.Time{}, args[0])
	return err
}

// partOf takes a part of a date, without leading zeros.
func partOf(pattern string) func(*document.Node, []string) (*document.Node, error) {
	return func(node *document.Node, _ []string) (*document.Node, error) {
		return formatMoment(node, []string{pattern})
	}
}

func formatMoment(node *document.Node, args []string) (*document.Node, error) {
	text, err := scalarText(node)
	if err != nil {
		return nil, err
	}
	moment, _, err := Moment(text)
	if err != nil {
		return nil, err
	}
	formatted, err := formatPattern(moment, args[0])
	return document.NewUntyped(formatted), err
}

// patternLetters maps the letters of a date pattern to Go's layouts, longest
// run first.
var patternLetters = []struct{ letters, layout string }{
	{"yyyy", "2006"},
	{"yy", "06"},
	{"MMMM", "January"},
	{"MMM", "Jan"},
	{"MM", "01"},
	{"M", "1"},
	{"dd", "02"},
	{"d", "2"},
	{"HH", "15"},
	{"mm", "04"},
	{"ss", "05"},
	{"SSS", "000"},
	{"EEEE", "Monday"},
	{"EEE", "Mon"},
	{"XXX", "Z07:00"},
}

// formatPattern writes a moment by a pattern like dd.MM.yyyy HH:mm. Letters in
// single quotes stand for themselves; a letter that means nothing is an error.
func formatPattern(moment time.Time, pattern string) (string, error) {
	var out strings.Builder
next:
	for i := 0; i < len(pattern); {
		for _, known := range patternLetters {
			if strings.HasPrefix(pattern[i:], known.letters) {
				if known.layout == "000" {
					fmt.Fprintf(&out, "%03d", moment.Nanosecond()/1e6)
				} else {
					out.WriteString(moment.Format(known.layout))
				}
				i += len(known.letters)
				continue next
			}
		}
		c := pattern[i]
		if c == '\'' {
			end := strings.IndexByte(pattern[i+1:], '\'')
			if end < 0 {
				return "", errors.New("a single quote is not closed")
			}
			out.WriteString(pattern[i+1 : i+1+end])
			i += end + 2
			continue
		}
		// T is between date and time so often that it needs no quotes.
		if c != 'T' && (c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z') {
			return "", fmt.Errorf("the letter %c means nothing in a pattern (yyyy MM dd HH mm ss SSS XXX, or text in "+
				"single quotes)", c)
		}
		r := runeAt(pattern, i)
		out.WriteRune(r)
		i += len(string(r))
	}
	return out.String(), nil
}
