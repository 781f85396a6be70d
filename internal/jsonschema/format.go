package jsonschema

import (
	"encoding/base64"
	"errors"
	"math/big"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"time"

	"testbench/internal/document"
	"testbench/internal/lazy"

	"golang.org/x/net/idna"
)

// format is what a text or a number has to be like (2020-12 Validation, 7).
type format struct {
	name   string
	text   func(string) error
	number func(*document.Node) error
	// tells says that its errors are words for people.
	tells bool
}

// why is what an error adds to a message.
func (f *format) why(err error) string {
	if !f.tells {
		return ""
	}
	return ": " + err.Error()
}

// formatOf is the format of a name; nil for one that says nothing to check.
func formatOf(name string) *format {
	text, known := textFormats[name]
	switch {
	case known:
		return &format{name: name, text: text}
	case name == "int32":
		return &format{name: name, number: within(31), tells: true}
	case name == "int64":
		return &format{name: name, number: within(63), tells: true}
	case name == "byte": // OpenAPI 3.0.3, 4.4.1
		return &format{name: name, text: isBase64, tells: true}
	case formatSamples[name] != "":
		return &format{name: name} // it is known, so that it is said and sampled, and not judged
	}
	return nil
}

var errFormat = errors.New("it is not of the format")

// matching makes a format of a regular expression.
func matching(expression string) func(string) error {
	compiled := lazy.Regexp("^(?:" + expression + ")$")
	return func(text string) error {
		if compiled().MatchString(text) {
			return nil
		}
		return errFormat
	}
}

// Parts of the expressions of formats.
const (
	pointerForm  = `(/([^~/]|~[01])*)*`
	durationForm = `P(\d+W|(\d+Y(\d+M(\d+D)?)?|\d+M(\d+D)?|\d+D)(T(\d+H(\d+M(\d+S)?)?|\d+M(\d+S)?|\d+S))?|` +
		`T(\d+H(\d+M(\d+S)?)?|\d+M(\d+S)?|\d+S))`
	labelForm = `[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?`
	atomForm  = "[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+"
)

var (
	isHost     = matching(labelForm + `(\.` + labelForm + `)*\.?`)
	isMailbox  = matching(`(` + atomForm + `(\.` + atomForm + `)*|"[^"\\]*")`)
	isDuration = matching(durationForm)
)

// textFormats judge texts.
var textFormats = map[string]func(string) error{
	"date": isDate, "time": isTime, "date-time": isDateTime, "duration": isDuration, "period": isPeriod,
	"email": isEmail, "idn-email": isEmailOfAll, "hostname": isHostname, "idn-hostname": isHostnameOfAll,
	"ipv4": isIPv4, "ipv6": isIPv6,
	"uri": isURI, "iri": isURI, "uri-reference": isReference, "iri-reference": isReference,
	"uri-template": matching(`([^{}"<>\\^` + "`" + `|\s]|\{[^{}]+\})*`), // RFC 6570, 2
	"uuid":         matching(`[0-9A-Fa-f]{8}-([0-9A-Fa-f]{4}-){3}[0-9A-Fa-f]{12}`),
	"json-pointer": matching(pointerForm), // RFC 6901, 3
	// draft-bhutton-relative-json-pointer-00, 3
	"relative-json-pointer": matching(`(0|[1-9]\d*)(#|` + pointerForm + `)`),
	"regex":                 func(text string) error { _, err := compilePattern(text); return err },
	"semver": matching(`(0|[1-9]\d*)\.(0|[1-9]\d*)\.(0|[1-9]\d*)` +
		`(-(0|[1-9]\d*|\d*[A-Za-z-][0-9A-Za-z-]*)(\.(0|[1-9]\d*|\d*[A-Za-z-][0-9A-Za-z-]*))*)?` +
		`(\+[0-9A-Za-z-]+(\.[0-9A-Za-z-]+)*)?`),
}

func isDate(text string) error {
	_, err := time.Parse(time.DateOnly, text)
	return err
}

var timeForm = lazy.Regexp(`^(\d\d):(\d\d):(\d\d)(\.\d+)?([Zz]|([+-])(\d\d):(\d\d))$`)

// isTime is full-time of RFC 3339, 5.6; a leap second is at the end of a day of UTC (5.7).
func isTime(text string) error {
	m := timeForm().FindStringSubmatch(text)
	if m == nil {
		return errFormat
	}
	part := func(i int) int {
		n, _ := strconv.Atoi(m[i])
		return n
	}
	hours, minutes, seconds, offset := part(1), part(2), part(3), part(7)*60+part(8)
	if m[6] == "+" {
		offset = -offset
	}
	const day = 24 * 60
	inUTC := (hours*60 + minutes + offset + day) % day
	if hours > 23 || minutes > 59 || seconds > 60 || part(7) > 23 || part(8) > 59 || seconds == 60 && inUTC != day-1 {
		return errFormat
	}
	return nil
}

func isDateTime(text string) error {
	if len(text) < len("2026-11-23T08:00:00Z") || text[10]|0x20 != 't' {
		return errFormat
	}
	return errors.Join(isDate(text[:10]), isTime(text[11:]))
}

// isPeriod is period of RFC 3339, appendix A.
func isPeriod(text string) error {
	begin, end, ok := strings.Cut(text, "/")
	switch {
	case !ok:
		return errFormat
	case strings.HasPrefix(begin, "P"):
		return errors.Join(isDuration(begin), isDateTime(end))
	case strings.HasPrefix(end, "P"):
		return errors.Join(isDateTime(begin), isDuration(end))
	}
	return errors.Join(isDateTime(begin), isDateTime(end))
}

func isHostname(text string) error {
	if len(strings.TrimSuffix(text, ".")) > 253 { // RFC 1123, 2.1
		return errFormat
	}
	return isHost(text)
}

// isHostnameOfAll is a host name in the letters of all languages (RFC 5890, 2.3.2.3).
func isHostnameOfAll(text string) error {
	if strings.ContainsAny(text, "\u0640\u07fa\u302e\u302f\u3031\u3032\u3033\u3034\u3035\u303b") { // RFC 5892, 2.6
		return errFormat
	}
	_, err := idna.New(idna.ValidateForRegistration(), idna.MapForLookup()).ToASCII(text)
	return err
}

// isEmailOfAll is an address in the letters of all languages (RFC 6531, 3.3).
func isEmailOfAll(text string) error {
	at := strings.LastIndexByte(text, '@')
	if at <= 0 || strings.ContainsAny(text[:at], " ()<>[]:;,\\\"@") && text[0] != '"' {
		return errFormat
	}
	return isHostnameOfAll(text[at+1:])
}

// isEmail is Mailbox of RFC 5321, 4.1.2.
func isEmail(text string) error {
	at := strings.LastIndexByte(text, '@')
	if at < 0 || at > 64 || len(text) > 254 {
		return errFormat
	}
	domain := text[at+1:]
	if literal, ok := strings.CutPrefix(domain, "["); ok && strings.HasSuffix(literal, "]") {
		literal = strings.TrimSuffix(literal, "]")
		if six, ok := strings.CutPrefix(literal, "IPv6:"); ok {
			return errors.Join(isMailbox(text[:at]), isIPv6(six))
		}
		return errors.Join(isMailbox(text[:at]), isIPv4(literal))
	}
	return errors.Join(isMailbox(text[:at]), isHostname(domain))
}

func isIPv4(text string) error {
	if address, err := netip.ParseAddr(text); err != nil || !address.Is4() {
		return errFormat
	}
	return nil
}

func isIPv6(text string) error {
	if address, err := netip.ParseAddr(text); err != nil || !address.Is6() || address.Zone() != "" {
		return errFormat
	}
	return nil
}

func isURI(text string) error {
	u, err := readURL(text)
	if err == nil && !u.IsAbs() {
		err = errFormat
	}
	return err
}

func isReference(text string) error {
	_, err := readURL(text)
	return err
}

// readURL reads a reference (RFC 3986, 4.1), or the same with the letters of all languages (RFC 3987).
func readURL(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || strings.ContainsAny(text, "\\ <>^`{|}\"") {
		return nil, errFormat
	}
	if host := u.Hostname(); strings.Contains(host, ":") && (!strings.Contains(u.Host, "[") || isIPv6(host) != nil) {
		return nil, errFormat
	}
	return u, nil
}

func isBase64(text string) error {
	if _, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(text), "")); err != nil {
		return errors.New("it is not Base64")
	}
	return nil
}

// within holds numbers to a number of bits beside the sign.
func within(bits uint) func(*document.Node) error {
	limit := new(big.Int).Lsh(big.NewInt(1), bits)
	return func(n *document.Node) error {
		r, ok := rational(n)
		if !ok || !r.IsInt() {
			return errors.New("it is not a whole number")
		}
		if n := r.Num(); n.CmpAbs(limit) > 0 || n.CmpAbs(limit) == 0 && n.Sign() > 0 {
			return errors.New("it is too large")
		}
		return nil
	}
}
