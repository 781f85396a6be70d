package yamlfile

import (
	"bytes"
	"errors"
	"strings"
)

// AppendItem puts an item at the end of the block list under a top-level key,
// and leaves every other byte as it is. The item is given without its dash and
// indentation. A list in flow style cannot be added to this way.
func AppendItem(source []byte, key, item string) ([]byte, error) {
	lines, newline := strings.SplitAfter(string(source), "\n"), lineEnd(source)
	start := -1
	for i, line := range lines {
		if strings.HasPrefix(line, key+":") {
			if rest := strings.TrimSpace(strings.TrimPrefix(line, key+":")); rest != "" &&
				!strings.HasPrefix(rest, "#") {
				return nil, errors.New(key + " is not written as a list of lines with dashes; write the item yourself")
			}
			start = i
			break
		}
	}
	if start < 0 {
		text := string(source)
		if text != "" && !strings.HasSuffix(text, "\n") {
			text += newline
		}
		return []byte(text + ended(key+":\n"+indentItem(item, "  "), newline)), nil
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
		lines[last] += newline
	}
	var out strings.Builder
	for i, line := range lines {
		out.WriteString(line)
		if i == last {
			out.WriteString(ended(indentItem(item, indent), newline))
		}
	}
	return []byte(out.String()), nil
}

// lineEnd is how the lines of a file end: as its first one does.
func lineEnd(source []byte) string {
	if first, _, found := bytes.Cut(source, []byte("\n")); found && bytes.HasSuffix(first, []byte("\r")) {
		return "\r\n"
	}
	return "\n"
}

// ended is a text whose lines end as those around it.
func ended(text, newline string) string { return strings.ReplaceAll(text, "\n", newline) }

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

// InsertEntry puts an entry (key: value, in block style, without indentation) at
// the end of the mapping that is under the keys of a path, and leaves every
// other byte as it is. What is missing of the path is made. A mapping in braces
// cannot be added to this way, nor one whose key is there already.
func InsertEntry(source []byte, path []string, entry string) ([]byte, error) {
	key, _, _ := strings.Cut(entry, ":")
	e := newEditor(source)
	at, indent := -1, ""
	for i, name := range path {
		line, found := e.find(name, at, indent)
		if !found {
			// The rest of the path is made along with the entry.
			for j := len(path) - 1; j >= i; j-- {
				entry = path[j] + ":\n" + indentBlock(entry, "  ")
			}
			return e.insert(e.end(at, indent), e.inner(at, indent), entry), nil
		}
		rest := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(e.lines[line]), ScalarText(name)+":"))
		if rest != "" && !strings.HasPrefix(rest, "#") {
			return nil, errors.New(strings.Join(path[:i+1],
				".") + " is not written as lines below its key; write the entry yourself")
		}
		at, indent = line, leadOf(e.lines[line])
	}
	if _, found := e.find(strings.Trim(key, `"`), at, indent); found {
		return nil, errors.New(strings.Join(append(path, key), ".") + " is there already")
	}
	return e.insert(e.end(at, indent), e.inner(at, indent), entry), nil
}

// InsertInto puts entries (in block style, without indentation) at the end of the mapping
// under a key of a mapping that was read of the same source, and leaves every other byte
// as it is. The key is made where it is missing. What is in braces cannot be added to.
func InsertInto(source []byte, mapping *Node, key, entries string) ([]byte, error) {
	e := newEditor(source)
	notInLines := errors.New(key + " is not written as lines below its key; write the entries yourself")
	at, column := mapping, 0
	for _, entry := range mapping.Entries {
		column = entry.Key.Column
		if entry.Key.Text != key {
			continue
		}
		if at = entry.Value; at.Kind != Mapping || at.Line <= entry.Key.Line {
			return nil, notInLines
		}
	}
	if at.IsShared {
		return nil, errors.New(key +
			" is in a value with an anchor, which is used in other places too; write the entries yourself")
	}
	if at == mapping {
		entries = key + ":\n" + indentBlock(entries, "  ")
	} else if len(at.Entries) > 0 {
		column = at.Entries[0].Key.Column
	}
	// Before a mapping in lines of its own stand only blanks and dashes: its column counts
	// bytes as well.
	if line := e.lines[at.Line-1]; len(at.Entries) == 0 || at.Column > len(line) || line[at.Column-1] == '{' {
		return nil, notInLines
	}
	last := at.Line - 1
	for i := at.Line; i < len(e.lines); i++ {
		if strings.TrimSpace(e.lines[i]) == "" {
			continue
		}
		if len(leadOf(e.lines[i])) < column-1 {
			break
		}
		last = i
	}
	return e.insert(last, strings.Repeat(" ", column-1), entries), nil
}

// editor knows the lines of a file; a mapping is told by the line of its key (-1
// for the whole file) and that line's indentation.
type editor struct {
	lines   []string
	newline string
}

func newEditor(source []byte) *editor {
	return &editor{strings.SplitAfter(string(source), "\n"), lineEnd(source)}
}

func leadOf(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " "))] }

func isEmptyLine(line string) bool {
	trimmed := strings.TrimSpace(line)
	return trimmed == "" || strings.HasPrefix(trimmed, "#")
}

// inside says whether a line belongs to the mapping below a key.
func (e *editor) inside(i, at int, indent string) bool {
	return at < 0 || len(leadOf(e.lines[i])) > len(indent)
}

// inner is the indentation of the mapping's own entries.
func (e *editor) inner(at int, indent string) string {
	for i := at + 1; i < len(e.lines); i++ {
		if isEmptyLine(e.lines[i]) {
			continue
		}
		if !e.inside(i, at, indent) {
			break
		}
		return leadOf(e.lines[i])
	}
	if at < 0 {
		return ""
	}
	return indent + "  "
}

// find looks for a key of the mapping itself.
func (e *editor) find(name string, at int, indent string) (int, bool) {
	inner := e.inner(at, indent)
	for i := at + 1; i < len(e.lines); i++ {
		if isEmptyLine(e.lines[i]) {
			continue
		}
		if !e.inside(i, at, indent) {
			break
		}
		text := strings.TrimSpace(e.lines[i])
		if leadOf(e.lines[i]) == inner &&
			(strings.HasPrefix(text, name+":") || strings.HasPrefix(text, Quote(name)+":") ||
				strings.HasPrefix(text, "'"+name+"':")) {
			return i, true
		}
	}
	return 0, false
}

// end is the last line that belongs to the mapping.
func (e *editor) end(at int, indent string) int {
	last := at
	for i := at + 1; i < len(e.lines); i++ {
		if strings.TrimSpace(e.lines[i]) == "" {
			continue
		}
		if !e.inside(i, at, indent) {
			if strings.HasPrefix(strings.TrimSpace(e.lines[i]), "#") {
				continue
			}
			break
		}
		last = i
	}
	return last
}

func (e *editor) insert(after int, indent, entry string) []byte {
	if after >= 0 && !strings.HasSuffix(e.lines[after], "\n") {
		e.lines[after] += e.newline
	}
	var out strings.Builder
	entry = ended(indentBlock(entry, indent), e.newline)
	if after < 0 {
		out.WriteString(entry)
	}
	for i, line := range e.lines {
		out.WriteString(line)
		if i == after {
			out.WriteString(entry)
		}
	}
	return []byte(out.String())
}

func indentBlock(text, indent string) string {
	var out strings.Builder
	for line := range strings.SplitSeq(strings.TrimRight(text, "\n"), "\n") {
		if line != "" {
			out.WriteString(indent)
		}
		out.WriteString(line + "\n")
	}
	return out.String()
}
