package cli

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"testbench/internal/fields"
	"testbench/internal/rule"
	"testbench/internal/safefile"
)

type fieldsOptions struct {
	find, kind, as string
	tree           bool
}

func fieldsCommand() *command {
	return &command{
		name: "fields", group: "finding one's way in answers",
		purpose: "shows every field of an answer: its path, its kind, what is in it", usage: "SOURCE",
		examples: []string{
			"testbench call stores/search grade=A -save lots.json", "testbench fields lots.json",
			"testbench fields last -find keeper -as keep",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &fieldsOptions{}
			f.StringVar(&o.find, "find", "", "only fields with this `text` in their path or values")
			f.StringVar(&o.kind, "kind", "", "only fields of this `kind`: "+strings.Join(fieldKinds(), ", "))
			f.StringVar(&o.as, "as", "", "text to paste into a step: keep or fields (`what`)")
			f.BoolVar(&o.tree, "tree", false, "show them as a tree")
			return o.run
		},
	}
}

func fieldKinds() []string {
	return append([]string{"object", "list", "null", "text", "number", "integer", "boolean"}, rule.Forms()...)
}

func (o *fieldsOptions) run(_ context.Context, s *session, args []string) (int, error) {
	if len(args) != 1 {
		return 0, usagef("testbench fields FILE, testbench fields - (standard input), testbench fields last, "+
			"testbench fields 18.3", "the fields of what?")
	}
	if err := oneOf("kind", o.kind, fieldKinds()...); err != nil {
		return 0, err
	}
	if err := oneOf("as", o.as, "keep", "fields"); err != nil {
		return 0, err
	}
	from, mediaType, err := openSource(s, args[0])
	if err != nil {
		return 0, err
	}
	defer func() { _ = from.Close() }()
	g, _, err := fields.Read(from, mediaType)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", args[0], err)
	}
	var found []fields.Field
	for _, f := range g.Fields() {
		if (o.find == "" || f.Has(o.find)) && (o.kind == "" || f.Is(o.kind)) {
			found = append(found, f)
		}
	}
	switch {
	case s.common.json:
		if err := jsonList(s.tell, found); err != nil {
			return 0, err
		}
	case len(found) == 0:
		s.tell.note("no field is like that")
	case o.as == "keep":
		s.tell.printf("%s", s.tell.visible(fields.AsKeep(found)))
	case o.as == "fields":
		s.tell.printf("%s", s.tell.visible(fields.AsFields(found)))
	default:
		showFields(s.tell, found, o.tree)
	}
	if g.Full {
		s.tell.note("note: there are more fields than are told apart")
	}
	if len(found) == 0 {
		return ExitFailed, nil
	}
	return ExitPassed, nil
}

// standard is standard input or output wherever a file is named.
const standard = "-"

// mostStandard bounds what is read from there, in bytes, as files of the bench are bounded.
const mostStandard = 256 << 20

// readFile reads a file, or standard input.
func readFile(s *session, name string) ([]byte, error) {
	if name == standard {
		data, err := io.ReadAll(io.LimitReader(s.stdin, mostStandard+1))
		if len(data) > mostStandard {
			return nil, fmt.Errorf("what comes from standard input is larger than %d MiB", mostStandard>>20)
		}
		return data, err
	}
	data, err := os.ReadFile(name)
	if safefile.IsMissing(err) {
		try := ""
		if strings.ContainsAny(name, "{}<>[]\"=\n") {
			try = "a text goes into a file, or comes from standard input, which is -"
		}
		return nil, usagef(try, "there is no file %s", name)
	}
	return data, err
}

// canWrite says before anything is sent that a file could not be written after it.
func canWrite(option, name string) error {
	if name == "" || name == standard {
		return nil
	}
	if err := safefile.CheckPlace(name); err != nil {
		return fmt.Errorf("-%s: %w", option, err)
	}
	return nil
}

// openSource opens what is to be looked at: a file, standard input, or an exchange of the
// history. The media type is empty where nothing tells it.
func openSource(s *session, name string) (from io.ReadCloser, mediaType string, err error) {
	if name == standard {
		return io.NopCloser(s.stdin), "", nil
	}
	file, err := os.Open(name)
	if err == nil {
		info, err := file.Stat()
		if err == nil && info.IsDir() {
			err = fmt.Errorf("%s is a folder", name)
		}
		return file, mediaTypeOf(name), err
	}
	run, number, ok := exchangeName(name)
	if !ok {
		if safefile.IsMissing(err) {
			try := "a file, - for standard input, last, or an exchange of the history as 18.3"
			if strings.Count(name, "/") == 1 && !strings.Contains(name, ".") {
				try += "; an operation is called first: testbench call " + name
			}
			return nil, "", usagef(try, "there is no file %s", name)
		}
		return nil, "", err
	}
	e, err := recordedExchange(s, run, number)
	if err != nil {
		return nil, "", err
	}
	if e.Status == 0 {
		return nil, "", fmt.Errorf("no answer came in exchange %s: %s", name, e.Failure)
	}
	mediaType = cmp.Or(e.MediaType(), mediaType)
	return io.NopCloser(strings.NewReader(string(e.Body))), mediaType, nil
}

// mediaTypeOf tells files apart whose content could be something else.
func mediaTypeOf(name string) string {
	for ending, mediaType := range map[string]string{
		".csv": "text/csv", ".ndjson": "application/x-ndjson",
		".jsonl": "application/x-ndjson", ".html": "text/html", ".json": "application/json",
		".xml": "application/xml",
	} {
		if strings.HasSuffix(strings.ToLower(name), ending) {
			return mediaType
		}
	}
	return ""
}

// showFields shows fields in columns.
func showFields(t *printer, found []fields.Field, tree bool) {
	paths := make([]string, len(found))
	width, kinds := 4, 4
	for i, f := range found {
		paths[i] = f.Path
		if tree {
			paths[i] = strings.Repeat("  ", f.Depth) + f.Short()
		}
		width = max(width, len([]rune(paths[i])))
		kinds = max(kinds, len(f.Kind))
	}
	width, kinds = min(width, max(t.width*2/5, 30)), min(kinds, 24)
	narrow := t.width < width+kinds+33
	if !narrow {
		t.printf("%s  %s  %s  %s\n", t.in(faint, t.fit("path", width)), t.in(faint, t.fit("kind", kinds)),
			t.in(faint, "     in"), t.in(faint, "value"))
	}
	for i, f := range found {
		in := ""
		if f.Of > 1 || f.Count != f.Of {
			in = fmt.Sprintf("%d/%d", f.Count, f.Of)
		}
		if narrow {
			line := strings.Join(strings.Fields(f.Kind+" "+in+" "+t.oneLine(f.Span())), " ")
			t.printf("%s\n    %s\n", t.visible(paths[i]), strings.TrimRight(t.fit(line, max(t.width-4, 10)), " "))
			continue
		}
		path := t.visible(paths[i])
		if len([]rune(path)) > width {
			t.printf("%s\n", path) // a path that is cut could not be pasted
			path = ""
		}
		left := max(t.width-width-kinds-13, 20)
		t.printf("%s  %s  %7s  %s\n", t.fit(path, width), t.fit(f.Kind, kinds), in,
			strings.TrimRight(t.fit(f.Span(), left), " "))
	}
}

// oneOf says that an option takes one of some words.
func oneOf(option, given string, words ...string) error {
	for _, w := range words {
		if given == "" || given == w {
			return nil
		}
	}
	return usagef("there are: "+strings.Join(words, ", "), "-%s does not take %q", option, given)
}
