package rule

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/mail"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/text/currency"
	"golang.org/x/text/language"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/value"
)

// kindOf tells whether a value is of a kind. Most kinds are forms of a text
// and have only matches; the others look at the value itself.
type kindOf struct {
	takesDigits bool
	is          func(v *document.Node, digits int) bool
	matches     func(text string) bool
}

// KindNames lists the kinds that `is` knows, in alphabetical order.
func KindNames() []string {
	names := make([]string, 0, len(kinds))
	for name := range kinds {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

var kinds = map[string]kindOf{
	"integer": {is: func(v *document.Node, _ int) bool { return isNumber(v) && isInteger(v.Text) }},
	"number":  {is: func(v *document.Node, _ int) bool { return isNumber(v) }},
	"decimal": {takesDigits: true, is: func(v *document.Node, digits int) bool {
		_, fraction, _ := strings.Cut(v.Text, ".")
		return isNumber(v) && !strings.ContainsAny(v.Text, "eE") && len(fraction) <= digits
	}},
	"boolean": {is: func(v *document.Node, _ int) bool {
		return v.Kind == document.Boolean || v.Kind == document.Untyped && (v.Text == "true" || v.Text == "false")
	}},
	"text": {is: func(v *document.Node, _ int) bool {
		return v.Kind == document.Text || v.Kind == document.Untyped
	}},
	"object": {is: func(v *document.Node, _ int) bool {
		return v.Kind == document.Object || v.Kind == document.Element
	}},
	"list":     {is: func(v *document.Node, _ int) bool { return v.Kind == document.List }},
	"date":     {matches: func(s string) bool { return isMeasure(s, aDate) }},
	"time":     {matches: func(s string) bool { return isMeasure(s, timeOfDay, zonedOfDay) }},
	"datetime": {matches: func(s string) bool { return isMeasure(s, zonedTime, localTime) }},
	"duration": {matches: func(s string) bool { return isMeasure(s, aDuration) }},
	"uuid":     {matches: matching(`[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}`)},
	"uri": {matches: func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && u.Scheme != "" && (u.Host != "" || u.Opaque != "" || u.Path != "") &&
			!strings.ContainsAny(s, " <>\"")
	}},
	"email": {matches: func(s string) bool {
		address, err := mail.ParseAddress(s)
		return err == nil && address.Address == s
	}},
	"hostname": {matches: func(s string) bool { return len(s) <= 253 && hostname(s) }},
	"ipv4":     {matches: func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is4() }},
	"ipv6":     {matches: func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is6() }},
	"base64": {matches: func(s string) bool {
		_, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(s), ""))
		return err == nil && s != ""
	}},
	"hex": {matches: func(s string) bool { _, err := hex.DecodeString(s); return err == nil && s != "" }},
	"jwt": {matches: isJWT},
	"currency": {matches: func(s string) bool {
		_, err := currency.ParseISO(s)
		return err == nil && strings.ToUpper(s) == s
	}},
	"country": {matches: func(s string) bool {
		region, err := language.ParseRegion(s)
		return err == nil && len(s) == 2 && region.IsCountry() && region.String() == s
	}},
	"language": {matches: func(s string) bool { _, err := language.Parse(s); return err == nil && s != "" }},
	"iban":     {matches: isIBAN},
	"gtin":     {matches: isGTIN},
}

func (j *judge) is(t *test, node, v *document.Node) (bool, string, error) {
	switch t.state {
	case "":
		known := kinds[t.kind]
		if known.is != nil {
			if t.kind == "list" {
				v = node
			}
			return known.is(v, t.digits), "", nil
		}
		ofText := v.Kind == document.Text || v.Kind == document.Untyped
		return ofText && known.matches(v.Text), "", nil
	case "present":
		return true, "", nil
	case "null":
		return v.Kind == document.Null, "", nil
	case "empty":
		switch v.Kind {
		case document.Text, document.Untyped:
			return v.Text == "", "", nil
		case document.List:
			return len(v.Items()) == 0, "", nil
		case document.Object:
			return len(v.Members()) == 0, "", nil
		}
		return false, "", nil
	case "unique":
		return unique(sequence(node))
	}
	return inOrder(sequence(node), t.state == "descending")
}

func unique(items []*document.Node) (bool, string, error) {
	seen := map[string]int{}
	for i, item := range items {
		key := document.WriteJSON(item, document.Style{})
		if d, ok := item.Decimal(); ok && item.Value().Kind != document.Text {
			reduced, _ := d.Reduce(d)
			key = reduced.String()
		}
		if first, ok := seen[key]; ok {
			return false, fmt.Sprintf("[%d] and [%d] are both %s", first, i, item.Describe()), nil
		}
		seen[key] = i
	}
	return true, "", nil
}

// inOrder compares neighbours as measures where both are, else as texts; equal
// neighbours are in order.
func inOrder(items []*document.Node, descending bool) (bool, string, error) {
	for i := 1; i < len(items); i++ {
		before, after := items[i-1].Value(), items[i].Value()
		for at, item := range []*document.Node{before, after} {
			if !item.IsScalar() || item.Kind == document.Null {
				return false, "", &cannotCompare{fmt.Sprintf("[%d] cannot be put in order", i-1+at)}
			}
		}
		order := strings.Compare(before.Text, after.Text)
		a, errA := readMeasure(before.Text)
		b, errB := readMeasure(after.Text)
		if errA == nil && errB == nil {
			if compared, err := compare(a, b); err == nil {
				order = compared
			}
		}
		if descending {
			order = -order
		}
		if order > 0 {
			return false, fmt.Sprintf("[%d] is %s and [%d] is %s", i-1, before.Describe(), i, after.Describe()), nil
		}
	}
	return true, "", nil
}

func isNumber(v *document.Node) bool {
	return v.Kind == document.Number || v.Kind == document.Untyped && document.IsNumber(v.Text)
}

func isInteger(text string) bool {
	d, ok := document.Decimal(text)
	if !ok {
		return false
	}
	reduced, _ := d.Reduce(d)
	return reduced.Exponent >= 0
}

func isMeasure(text string, expected ...measureKind) bool {
	m, err := readMeasure(text)
	return err == nil && strings.TrimSpace(text) == text && slices.Contains(expected, m.kind)
}

// matching compiles on first use, so that starting the program costs nothing.
func matching(expression string) func(string) bool {
	compiled := lazy.Regexp(`\A(?:` + expression + `)\z`)
	return func(s string) bool { return compiled().MatchString(s) }
}

func hostname(s string) bool {
	for _, label := range strings.Split(strings.TrimSuffix(s, "."), ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for _, c := range label {
			if c != '-' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
				return false
			}
		}
	}
	return s != ""
}

// isJWT looks at the form alone (RFC 7519, section 3): three parts in Base64url,
// the first of which is a JSON object.
func isJWT(s string) bool {
	parts := strings.Split(s, ".")
	if len(parts) != 3 {
		return false
	}
	for _, part := range parts {
		if _, err := base64.RawURLEncoding.DecodeString(part); err != nil {
			return false
		}
	}
	header, _ := base64.RawURLEncoding.DecodeString(parts[0])
	node, err := document.ReadJSON(header)
	return err == nil && node.Kind == document.Object
}

// isIBAN checks form and check digits (ISO 13616, ISO 7064 MOD 97-10).
func isIBAN(s string) bool {
	s = strings.ReplaceAll(s, " ", "")
	if !ibanForm().MatchString(s) {
		return false
	}
	remainder := 0
	for _, c := range s[4:] + s[:4] {
		if c >= 'A' {
			remainder = (remainder*100 + int(c-'A') + 10) % 97
		} else {
			remainder = (remainder*10 + int(c-'0')) % 97
		}
	}
	return remainder == 1
}

var ibanForm = lazy.Regexp(`^[A-Z]{2}[0-9]{2}[A-Z0-9]{11,30}$`)

// isGTIN checks length and check digit (GS1 General Specifications, 7.9).
func isGTIN(s string) bool {
	if len(s) != 8 && len(s) != 12 && len(s) != 13 && len(s) != 14 {
		return false
	}
	sum := 0
	for i := len(s) - 1; i >= 0; i-- {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
		weight := 1
		if (len(s)-1-i)%2 == 1 {
			weight = 3
		}
		sum += weight * int(s[i]-'0')
	}
	return sum%10 == 0
}

func quotedExpression(t *value.Template, scope value.Scope) (string, error) {
	text := t.Source
	for _, h := range t.Placeholders() {
		placeholder, err := value.Parse(h.Source)
		if err != nil {
			return "", err
		}
		filled, err := placeholder.Text(scope, value.Raw)
		if err != nil {
			return "", err
		}
		text = strings.Replace(text, h.Source, regexp.QuoteMeta(filled.Sent), 1)
	}
	return text, nil
}

// forms are the kinds that a text is recognised as, the surest first. Kinds that almost
// any text could be (hex, base64, hostname, language) are not guessed.
var forms = []string{"datetime", "date", "uuid", "jwt", "email", "uri", "ipv4"}

// Forms lists the kinds that texts are recognised as.
func Forms() []string { return slices.Clone(forms) }

// KindOf says what kind a single value is of, as `is` knows it: a number, a boolean, or
// the form of a text.
func KindOf(v *document.Node) string {
	switch {
	case isNumber(v) && isInteger(v.Text):
		return "integer"
	case isNumber(v):
		return "number"
	case kinds["boolean"].is(v, 0):
		return "boolean"
	case v.Kind == document.Null:
		return "null"
	case len(v.Text) < 7 || len(v.Text) > 4_096: // no form is shorter
		return "text"
	}
	if len(v.Text) > 10 && v.Text[10] == 'T' {
		if _, err := time.Parse(time.RFC3339, v.Text); err == nil {
			return "datetime" // as most are; the general way takes ten times as long
		}
	}
	for _, name := range forms {
		if couldBe(name, v.Text) && kinds[name].matches(v.Text) {
			return name
		}
	}
	return "text"
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// couldBe looks at a text before a form is tried: most texts are of none.
func couldBe(form, text string) bool {
	switch form {
	case "datetime":
		return len(text) > 10 && isDigit(text[0]) && text[4] == '-'
	case "date":
		return len(text) == 10 && isDigit(text[0]) && text[4] == '-'
	case "uuid":
		return len(text) == 36
	case "jwt":
		return strings.HasPrefix(text, "ey")
	case "email":
		return strings.Contains(text, "@")
	case "uri":
		return strings.Contains(text, "://") || strings.HasPrefix(text, "urn:")
	}
	return strings.Count(text, ".") == 3
}

// Merged gives the kinds that hold for all values of some kinds: integers among numbers
// are numbers, forms among texts are texts.
func Merged(of map[string]bool) []string {
	var out []string
	for _, name := range []string{"boolean", "integer", "number", "text"} {
		if of[name] && (name != "integer" || !of["number"]) {
			out = append(out, name)
		}
	}
	if of["text"] {
		return out
	}
	var some []string
	for _, name := range forms {
		if of[name] {
			some = append(some, name)
		}
	}
	if len(some) > 1 || len(some) == 1 && len(out) > 0 {
		some = []string{"text"}
	}
	return append(out, some...)
}

// SameMoment says whether two texts are the same moment, in whatever zones.
func SameMoment(a, b string) bool {
	if len(a) < 20 || len(b) < 20 || !isDigit(a[0]) || a[4] != '-' {
		return false
	}
	x, errX := time.Parse(time.RFC3339Nano, a)
	y, errY := time.Parse(time.RFC3339Nano, b)
	return errX == nil && errY == nil && x.Equal(y)
}
