// Package secrettest writes texts as services and tools write them, for tests that look for
// secrets. None of it is the Masker's own.
package secrettest

import (
	"bytes"
	"encoding/base32"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"html"
	"mime"
	"mime/quotedprintable"
	"net/url"
	"strings"
	"unicode/utf16"
)

// Encodings write a text in each way in use, most with a standard library's writer.
var Encodings = map[string]func(string) string{
	"JSON":              func(s string) string { quoted, _ := json.Marshal(s); return `{"a":` + string(quoted) + `}` },
	"JSON, solidus":     func(s string) string { return strings.ReplaceAll(quotedJSON(s), "/", `\/`) },
	"JSON, all letters": func(s string) string { return units(s, `\u%04x`) },
	"JSON, upper case":  func(s string) string { return units(s, `\u%04X`) },
	"JSON, some letters": func(s string) string {
		return quotedJSON(s[:1]) + units(s[1:2], `\u%04x`) + quotedJSON(s[2:])
	},
	"XML": func(s string) string {
		var out bytes.Buffer
		_ = xml.EscapeText(&out, []byte(s))
		return "<a>" + out.String() + "</a>"
	},
	"HTML": html.EscapeString,
	"named": strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;", "ü",
		"&uuml;", "ß", "&szlig;").Replace,
	"decimal":        func(s string) string { return each(s, "&#%d;") },
	"hex references": func(s string) string { return each(s, "&#x%x;") },
	"HEX references": func(s string) string { return each(s, "&#X%X;") },
	"query":          func(s string) string { return "a=1&b=" + url.QueryEscape(s) },
	"path":           func(s string) string { return "/a/" + url.PathEscape(s) },
	"all percent":    func(s string) string { return bytewise(s, "%%%02X") },
	"lower percent":  func(s string) string { return bytewise(s, "%%%02x") },
	"Base64":         func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"raw URL Base64": func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) },
	"Basic":          func(s string) string { return "Basic " + base64.StdEncoding.EncodeToString([]byte("clerk:"+s)) },
	"folded Base64": func(s string) string {
		return folded(base64.StdEncoding.EncodeToString([]byte(strings.Repeat("honey ",
			12) + s + strings.Repeat(" honey", 12))))
	},
	"Base64 of UTF-16": func(s string) string { return base64.StdEncoding.EncodeToString(utf16le(s)) },
	"Base32":           func(s string) string { return base32.StdEncoding.EncodeToString([]byte(s)) },
	"hex":              func(s string) string { return hex.EncodeToString([]byte(s)) },
	"HEX":              func(s string) string { return strings.ToUpper(hex.EncodeToString([]byte(s))) },
	"colons":           func(s string) string { return strings.TrimSuffix(bytewise(s, "%02x:"), ":") },
	"quoted-printable": func(s string) string {
		var out bytes.Buffer
		w := quotedprintable.NewWriter(&out)
		_, _ = w.Write([]byte(s))
		_ = w.Close()
		return out.String()
	},
	"Q words": func(s string) string { return "Subject: " + mime.QEncoding.Encode("utf-8", s) },
	"B words": func(s string) string { return "Subject: " + mime.BEncoding.Encode("UTF-8", s) },
}

func quotedJSON(s string) string {
	quoted, _ := json.Marshal(s)
	return string(quoted[1 : len(quoted)-1])
}

func units(s, format string) string {
	var out strings.Builder
	for _, unit := range utf16.Encode([]rune(s)) {
		fmt.Fprintf(&out, format, unit)
	}
	return out.String()
}

func each(s, format string) string {
	var out strings.Builder
	for _, r := range s {
		fmt.Fprintf(&out, format, r)
	}
	return out.String()
}

func bytewise(s, format string) string {
	var out strings.Builder
	for i := range len(s) {
		fmt.Fprintf(&out, format, s[i])
	}
	return out.String()
}

func folded(s string) string {
	var out strings.Builder
	for ; len(s) > 76; s = s[76:] {
		out.WriteString(s[:76] + "\r\n")
	}
	return out.String() + s
}

func utf16le(s string) []byte {
	var out []byte
	for _, unit := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, unit)
	}
	return out
}
