package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"golang.org/x/term"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/secret"
	"testbench/internal/workbench"
)

// printer is the one way to say something to a person: everything goes through
// the masker, and nothing that came from outside reaches a terminal raw.
type printer struct {
	masker            *secret.Masker
	out, err          *secret.Writer
	log               *slog.Logger
	colour, errColour bool
	ascii             bool // no special signs
	width             int
	terminal          bool      // results go to a terminal
	isJSON            bool      // results are JSON, and so is what is wrong with the command
	isQuiet           bool      // notes are not shown
	errTerminal       io.Writer // for what moves; nil where no terminal is there
	bar               *bar
}

func newTeller(stdout, stderr io.Writer, masker *secret.Masker) *printer {
	t := &printer{
		masker: masker, out: secret.NewWriter(stdout, masker), err: secret.NewWriter(stderr, masker),
		width: 100,
	}
	dumb := os.Getenv("TERM") == "dumb" // it moves no cursor
	noColour := os.Getenv("NO_COLOR") != "" || dumb
	if f, ok := stdout.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		t.terminal, t.colour = true, !noColour
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 0 {
			t.width = width
		}
	}
	if f, ok := stderr.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if t.errColour = !noColour; !dumb {
			t.errTerminal = stderr
		}
	}
	return t
}

// failJSON tells an error as the event that ends the results.
func (t *printer) failJSON(err error) {
	fields := map[string]any{"event": "error", "message": t.message(err.Error())}
	var problems workbench.Problems
	if errors.As(err, &problems) {
		var mistakes []map[string]any
		for _, p := range problems {
			mistakes = append(mistakes, map[string]any{
				"file": p.File, "line": p.Line, "column": p.Column, "message": t.message(p.Message),
				"try": t.message(p.Try),
			})
		}
		fields["mistakes"], fields["message"] = mistakes, count(len(problems), "mistake")+"; nothing was sent"
	}
	if try := tryOf(err); try != "" {
		fields["try"] = t.message(try)
	}
	_ = t.jsonLine(fields)
}

// tryOf is what to try after an error; "" for nothing.
func tryOf(err error) string {
	var usage *usageError
	if errors.As(err, &usage) {
		return usage.try
	}
	return workbench.Try(err)
}

func (t *printer) plain() { t.colour, t.errColour, t.ascii, t.errTerminal = false, false, true, nil }

// close says whether the results could not all be written.
func (t *printer) close() error {
	err := t.out.Close()
	if err != nil {
		t.note("testbench: the results could not be written: %v", err)
	}
	_ = t.err.Close()
	return err
}

// sign gives a special sign, or its plain stand-in.
func (t *printer) sign(special, plain string) string {
	if t.ascii {
		return plain
	}
	return special
}

// printf writes a result.
func (t *printer) printf(format string, args ...any) {
	t.hideBar()
	_, _ = fmt.Fprintf(t.out, format, args...)
}

// note writes something that is not a result: progress, remarks, hints.
func (t *printer) note(format string, args ...any) {
	if t.isQuiet {
		return
	}
	t.hideBar()
	_, _ = fmt.Fprintf(t.err, format+"\n", args...)
}

// json writes one JSON document.
func (t *printer) json(v any) error {
	encoder := json.NewEncoder(t.out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	return encoder.Encode(v)
}

// jsonList writes a list as JSON; one without anything in it as an empty list, not as null.
func jsonList[T any](t *printer, list []T) error {
	if list == nil {
		list = []T{}
	}
	return t.json(list)
}

// jsonLine writes one JSON document on one line.
func (t *printer) jsonLine(v any) error {
	encoder := json.NewEncoder(t.out)
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

const (
	red   = "31"
	green = "32"
	faint = "2"
	bold  = "1"
)

func (t *printer) in(style, text string) string {
	if !t.colour || text == "" {
		return text
	}
	return "\x1b[" + style + "m" + text + "\x1b[0m"
}

// fail says what went wrong and what to try.
func (t *printer) fail(err error) {
	defer func(quiet bool) { t.isQuiet = quiet }(t.isQuiet)
	t.isQuiet = false
	if t.isJSON {
		t.failJSON(err)
	}
	style := func(code, text string) string {
		if !t.errColour {
			return text
		}
		return "\x1b[" + code + "m" + text + "\x1b[0m"
	}
	var problems workbench.Problems
	if errors.As(err, &problems) {
		for _, p := range problems {
			t.note("%s", t.message(p.String()))
		}
		t.note("%s", style(red, fmt.Sprintf("%s; nothing was sent", count(len(problems), "mistake"))))
		return
	}
	t.note("%s %s", style(red, "testbench:"), t.message(err.Error()))
	if try := tryOf(err); try != "" {
		t.note("  try: %s", t.message(try))
	}
}

// shown is a text as a terminal may show it: masked first, and with the control characters
// made harmless that a terminal obeys.
func (t *printer) shown(s string) secret.Text {
	text := t.masker.Show(s)
	if !strings.ContainsFunc(string(text), isControl) && utf8.ValidString(string(text)) {
		return text
	}
	return text.Map(func(s string) string {
		var out strings.Builder
		for _, r := range s {
			switch {
			case isControl(r):
				fmt.Fprintf(&out, `\x%02x`, r)
			default:
				out.WriteRune(r)
			}
		}
		return out.String()
	})
}

func (t *printer) visible(s string) string { return string(t.shown(s)) }

// message is a text that may quote much of what came, with that shortened.
func (t *printer) message(s string) string { return t.visible(string(t.masker.Message(s))) }

// oneLine is a text as it is within a line.
func (t *printer) oneLine(s string) string {
	return strings.NewReplacer("\n", " ", "\t", " ").Replace(t.visible(s))
}

func isControl(r rune) bool {
	return r != '\n' && r != '\t' &&
		(unicode.IsControl(r) || r == 0x2028 || r == 0x2029 || r >= 0x202A && r <= 0x202E || r >= 0x2066 && r <= 0x2069)
}

// count writes a number with its word: 1 row, 2 rows.
func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// milliseconds writes a time as tables show it.
func milliseconds(d time.Duration) string {
	switch ms := float64(d) / float64(time.Millisecond); {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 10_000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// size writes a number of bytes.
func size(n int) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1_000_000)
}

// fitItem fits the name of a step into a column. One that is done for each item keeps
// its end, which tells the items apart.
func (t *printer) fitItem(name string, width int) string {
	shown := t.shown(name)
	runes := []rune(shown)
	at := strings.LastIndex(string(shown), " (")
	if len(runes) <= width || at < 0 || !strings.Contains(string(shown[at:]), " of ") {
		return padded(shown, width)
	}
	end := []rune(shown[at:])
	if len(end) > width-4 {
		end = end[len(end)-(width-4):]
	}
	return padded(shown.Cut(width-len(end))+secret.Text(end), width)
}

// fit cuts or pads a text to a width in characters.
func (t *printer) fit(text string, width int) string {
	return padded(t.shown(text).Map(func(s string) string { return strings.ReplaceAll(s, "\n", " ") }), width)
}

func padded(text secret.Text, width int) string {
	return string(text.Cut(width)) + strings.Repeat(" ", max(width-utf8.RuneCountInString(string(text)), 0))
}

// wrap breaks a text at blanks so that it fits, with every line indented.
func (t *printer) wrap(text string, width, indent int) string {
	return folded(t.shown(text), width, indent)
}

func folded(text secret.Text, width, indent int) string {
	lead := strings.Repeat(" ", indent)
	var out strings.Builder
	for i, paragraph := range strings.Split(string(text), "\n") {
		if i > 0 {
			out.WriteString("\n")
		}
		column := 0
		// Three blanks stand between a subject and what is said of it; they stay.
		paragraph = strings.ReplaceAll(paragraph, "   ", " \x00\x00 ")
		for _, word := range strings.Fields(paragraph) {
			if word == "\x00\x00" {
				word = " "
			}
			length := utf8.RuneCountInString(word)
			switch {
			case column == 0:
				out.WriteString(lead)
				column = indent
			case column+1+length > width:
				out.WriteString("\n" + lead)
				column = indent
			default:
				out.WriteString(" ")
				column++
			}
			out.WriteString(word)
			column += length
		}
	}
	return out.String()
}

// layOut writes a body for reading: JSON and XML indented, text as it is,
// binary described.
func layOut(format document.Format, node *document.Node, body []byte) string {
	// Other formats are read into trees for paths only; people read them as they are.
	structured := format == document.JSON || format == document.XML || format == document.Form
	if node != nil && node.Kind != document.Untyped && structured {
		if node.Kind == document.Element {
			return document.WriteXML(node, document.Style{Indent: "  "})
		}
		return document.WriteJSON(node, document.Style{Indent: "  "})
	}
	if format == document.Plain && node != nil && node.Kind == document.Untyped && !mostlyControls(body) {
		return strings.ToValidUTF8(node.Text, "\ufffd") // decoded, from whatever character set
	}
	// Text in a character set of its own is shown with what UTF-8 has not; what only calls itself a text is none.
	isText := format == document.Plain || format == document.HTML || format == document.CSV
	if format == document.Binary || !utf8.Valid(body) && !isText || mostlyControls(body) {
		return describeBinary(body)
	}
	return strings.ToValidUTF8(string(body), "\ufffd")
}

// mostlyControls says whether data holds a zero byte, or one control character in ten, as no text does.
func mostlyControls(data []byte) bool {
	controls := 0
	for _, b := range data {
		switch {
		case b == 0:
			return true
		case b < ' ' && b != '\t' && b != '\n' && b != '\r':
			controls++
		}
	}
	return controls*10 > len(data)
}

// inOneLine cuts a value that would fill the terminal.
func (t *printer) inOneLine(text string) string { return strings.TrimRight(t.fit(text, 80), " ") }

// prompt writes without a line break.
func (t *printer) prompt(format string, args ...any) {
	_, _ = t.err.Unmasked([]byte(fmt.Sprintf(format, args...)))
}

func (t *printer) indented(text, lead string) string {
	lines := strings.Split(strings.TrimRight(t.visible(text), "\n"), "\n")
	return lead + strings.Join(lines, "\n"+lead)
}

func (t *printer) statusLine(a *exchange.Answer) string {
	return strings.TrimSpace(fmt.Sprintf("%s %d %s", a.Proto, a.Status, t.visible(a.Reason)))
}

// bare writes a text past the masker.
func (t *printer) bare(text string) { _, _ = t.out.Unmasked([]byte(text + "\n")) }
