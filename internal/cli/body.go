package cli

import (
	"crypto/rand"
	"fmt"
	"net/http"
	"strings"
	"unicode/utf8"

	"testbench/internal/document"
	"testbench/internal/lazy"
)

// What a terminal is shown of a body, unless it is asked for in full: so many lines, so
// many elements of a list, so many characters of a text.
const (
	mostLines    = 200
	mostElements = 12
	mostText     = 300
	mostLine     = 4000 // characters of a line that is laid out nowhere: of plain text, of what cannot be read
)

// bodyText lays a body out for reading, every line after a lead. A terminal is shown lists
// and texts shortened, and values in the colour of their kind.
func bodyText(s *session, format document.Format, node *document.Node, body []byte, lead string) string {
	t := s.tell
	if t.terminal && !s.full && node != nil {
		node = shortened(s, node)
	}
	text := t.visible(layOut(format, node, body))
	if t.terminal && !s.full {
		text = firstLines(s, text)
	}
	if strings.Contains(text, mark) {
		text = marks().ReplaceAllString(text, "${1}")
	}
	if t.colour && node != nil {
		switch {
		case format == document.XML || node.Kind == document.Element:
			text = colouredXML(t, text)
		case format == document.JSON || format == document.Form:
			text = colouredJSON(t, text)
		}
	}
	return lead + strings.ReplaceAll(strings.TrimRight(text, "\n"), "\n", "\n"+lead)
}

func firstLines(s *session, text string) string {
	lines := strings.SplitN(text, "\n", mostLines+1)
	for i, line := range lines[:min(len(lines), mostLines)] {
		if len(line) > mostLine {
			shown := s.masker.Show(line)
			if length := utf8.RuneCountInString(string(shown)); length > mostLine {
				lines[i] = string(shown.Cut(mostLine)) + fmt.Sprintf(" (%d characters; -full shows them)", length)
			}
		}
	}
	if len(lines) <= mostLines {
		return strings.Join(lines, "\n")
	}
	return strings.Join(lines[:mostLines],
		"\n") + fmt.Sprintf("\n… %d more lines; -full shows them, -save FILE writes all of it",
		1+strings.Count(lines[mostLines], "\n"))
}

// A remark that is in a tree for what is left out is marked on both sides, so that it
// can be freed of its quotation marks where the tree is laid out. Nobody who sends
// something knows the mark.
var (
	mark  = rand.Text()
	marks = lazy.Regexp(`"?` + mark + `(.*?)` + mark + `"?`)
)

// shortened leaves out what lists and texts have too much of, and says how much.
func shortened(s *session, n *document.Node) *document.Node {
	out := n.Copy()
	switch n.Kind {
	case document.Object:
		for i, m := range out.Members() {
			out.Members()[i].Value = shortened(s, m.Value)
		}
	case document.List:
		shown := min(len(n.Items()), mostElements)
		if len(n.Items()) == mostElements+1 {
			shown++ // the remark would take as much room
		}
		out.SetItems(out.Items()[:shown])
		for i, item := range out.Items() {
			out.Items()[i] = shortened(s, item)
		}
		if left := len(n.Items()) - shown; left > 0 {
			out.AppendItems(document.NewText(fmt.Sprintf("%s… %d more of %d%s", mark, left, len(n.Items()), mark)))
		}
	case document.Element:
		out.SetItems(shortenedElements(s, n.Items()))
	case document.Text, document.Untyped:
		if length := utf8.RuneCountInString(n.Text); length > mostText {
			shown := s.masker.Show(n.Text)
			if out.Text = string(shown); utf8.RuneCountInString(out.Text) > mostText {
				out.Text = string(shown.Cut(mostText-19)) + fmt.Sprintf(" (%d characters)", length)
			}
		}
	}
	return out
}

// shortenedElements keeps the first elements of a name.
func shortenedElements(s *session, items []*document.Node) []*document.Node {
	counts := map[document.Name]int{}
	for _, item := range items {
		if item.Kind == document.Element {
			counts[item.Name()]++
		}
	}
	seen := map[document.Name]int{}
	var out []*document.Node
	for _, item := range items {
		if item.Kind != document.Element {
			out = append(out, shortened(s, item))
			continue
		}
		seen[item.Name()]++
		switch n := seen[item.Name()]; {
		case n <= mostElements || counts[item.Name()] == mostElements+1:
			out = append(out, shortened(s, item))
		case n == mostElements+1:
			out = append(out, &document.Node{
				Kind: document.Comment,
				Text: fmt.Sprintf(" %d more of %d %s ", counts[item.Name()]-mostElements, counts[item.Name()],
					item.Name().Local),
			})
		}
	}
	return out
}

// The colours of values by their kind.
const (
	ofText   = "32"
	ofNumber = "36"
	ofWord   = "35" // true, false, null
	ofName   = "1"
)

var jsonToken = lazy.Regexp(`("(?:[^"\\]|\\.)*")(\s*:)?|\b(?:true|false|null)\b|-?\b\d[0-9.eE+-]*\b|….*`)

func colouredJSON(t *printer, text string) string {
	return jsonToken().ReplaceAllStringFunc(text, func(token string) string {
		switch {
		case strings.HasPrefix(token, "…"):
			return t.in(faint, token)
		case strings.HasSuffix(token, ":"):
			return t.in(ofName, strings.TrimSuffix(token, ":")) + ":"
		case token[0] == '"':
			return t.in(ofText, token)
		case token[0] == '-' || token[0] >= '0' && token[0] <= '9':
			return t.in(ofNumber, token)
		}
		return t.in(ofWord, token)
	})
}

var (
	xmlToken     = lazy.Regexp(`(?s)<!--.*?-->|<[^<>]*>|[^<>]+`)
	xmlAttribute = lazy.Regexp(`("[^"]*"|'[^']*')`)
)

func colouredXML(t *printer, text string) string {
	return xmlToken().ReplaceAllStringFunc(text, func(token string) string {
		switch {
		case strings.HasPrefix(token, "<!--"):
			return t.in(faint, token)
		case token[0] == '<':
			return xmlAttribute().ReplaceAllStringFunc(token, func(v string) string { return t.in(ofText, v) })
		case strings.TrimSpace(token) == "":
			return token
		case document.IsNumber(strings.TrimSpace(token)):
			return t.in(ofNumber, token)
		}
		return t.in(ofText, token)
	})
}

// describeBinary says what data is that is not text.
func describeBinary(body []byte) string {
	words := fmt.Sprintf("%s of binary data", size(len(body)))
	if kind := http.DetectContentType(body); kind != "application/octet-stream" && !strings.HasPrefix(kind, "text/") {
		words += ", " + kind
	}
	if inside := document.MediaWords(document.Media(body)); inside != "" {
		words += ", " + inside
	}
	return "(" + words + ")"
}
