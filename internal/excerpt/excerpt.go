// Package excerpt puts foreign text into messages: whole while the message is made, and
// shortened once it has been masked, for a secret that was cut is not found any more.
package excerpt

import (
	"strconv"
	"strings"
	"unicode/utf8"
)

// Most is how many bytes of a text a message takes up, and shown is how many characters
// of them people see. What is cut at Most is far beyond what they see.
const (
	Most  = 64 << 10
	shown = 80
)

// Quote gives a text in quotation marks, for a message.
func Quote(text string) string {
	if len(text) <= Most {
		return strconv.Quote(text)
	}
	return strconv.Quote(strings.ToValidUTF8(text[:Most], ""))
}

// Shorten shortens each quoted text of a masked message that is longer than people read.
func Shorten(message string) string {
	if len(message) <= shown {
		return message
	}
	var out strings.Builder
	for {
		from := strings.IndexByte(message, '"')
		if from < 0 {
			break
		}
		end := closing(message[from+1:])
		if end < 0 {
			break
		}
		out.WriteString(message[:from+1])
		inner := message[from+1 : from+1+end]
		message = message[from+1+end+1:]
		if utf8.RuneCountInString(inner) > shown {
			inner = start(inner) + "…"
		}
		out.WriteString(inner + `"`)
	}
	out.WriteString(message)
	return out.String()
}

// closing gives where the quotation mark stands that ends a quoted text, -1 for nowhere.
func closing(text string) int {
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case '"':
			return i
		}
	}
	return -1
}

// start is the beginning of a quoted text, with its last escape whole.
func start(quoted string) string {
	at := 0
	for n := 0; n < shown-20 && at < len(quoted); n++ {
		_, size := utf8.DecodeRuneInString(quoted[at:])
		if quoted[at] == '\\' {
			size = map[byte]int{'x': 4, 'u': 6, 'U': 10}[quoted[min(at+1, len(quoted)-1)]]
			size = max(size, 2)
		}
		at = min(at+size, len(quoted))
	}
	return quoted[:at]
}
