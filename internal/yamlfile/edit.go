package yamlfile

import (
	"errors"
	"strings"
)

// AppendItem puts an item at the end of the block list under a top-level key,
// and leaves every other byte as it is. The item is given without its dash and
// indentation. A list in flow style cannot be added to this way.
func AppendItem(source []byte, key, item string) ([]byte, error) {
	lines := strings.SplitAfter(string(source), "\n")
	start := -1
	for i, line := range lines {
		if strings.HasPrefix(line, key+":") {
			if rest := strings.TrimSpace(strings.TrimPrefix(line, key+":")); rest != "" && !strings.HasPrefix(rest, "#") {
				return nil, errors.New(key + " is not written as a list of lines with dashes; put the item in by hand")
			}
			start = i
			break
		}
	}
	if start < 0 {
		text := string(source)
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += "\n"
		}
		return []byte(text + key + ":\n" + indentItem(item, "  ")), nil
	}
	indent, last := "  ", start
	for i := start + 1; i < len(lines); i++ {
		text := strings.TrimRight(lines[i], "\r\n")
		trimmed := strings.TrimLeft(text, " ")
		depth := len(text) - len(trimmed)
		if trimmed == "" {
			continue
		}
		if strings.HasPrefix(trimmed, "#") {
			if last > start && depth > len(indent) {
				last = i // a comment inside the last item belongs to it
			}
			continue
		}
		if depth == 0 && !strings.HasPrefix(trimmed, "- ") && trimmed != "-" {
			break
		}
		if last == start {
			indent = text[:depth]
		}
		last = i
	}
	if !strings.HasSuffix(lines[last], "\n") {
		lines[last] += "\n"
	}
	var out strings.Builder
	for i, line := range lines {
		out.WriteString(line)
		if i == last {
			out.WriteString(indentItem(item, indent))
		}
	}
	return []byte(out.String()), nil
}

func indentItem(item, indent string) string {
	var out strings.Builder
	for i, line := range strings.Split(strings.TrimRight(item, "\n"), "\n") {
		lead := indent + "  "
		if i == 0 {
			lead = indent + "- "
		}
		if line == "" {
			lead = ""
		}
		out.WriteString(lead + line + "\n")
	}
	return out.String()
}

// ScalarText writes a text as a YAML scalar: plain where that reads back as the
// same text without misleading anyone, in double quotes otherwise.
func ScalarText(text string) string {
	if text == "" || strings.TrimSpace(text) != text || strings.ContainsAny(text[:1], "-?:,[]{}#&*!|>'\"%@`=<~") ||
		strings.Contains(text, ": ") || strings.Contains(text, " #") || strings.HasSuffix(text, ":") {
		if isPlainNumber(text) {
			return text
		}
		return Quote(text)
	}
	for _, r := range text {
		if r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff {
			return Quote(text)
		}
	}
	return text
}

func isPlainNumber(text string) bool {
	if len(text) < 2 || text[0] != '-' {
		return false
	}
	for _, c := range text[1:] {
		if (c < '0' || c > '9') && c != '.' {
			return false
		}
	}
	return true
}
