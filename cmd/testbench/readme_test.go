package main_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"testbench/internal/reference"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var changingInReadme = append(changing[:len(changing):len(changing)], []struct {
	from *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`\d+(\.\d+)? (ms|s)\b`), "TIME"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT[\d:]+Z|\d\d:\d\d:\d\d|until [\d:]+`), "MOMENT"},
	{regexp.MustCompile(`run (\d+) of \d{4}-\d\d-\d\d`), "run $1 of DAY"},
	{regexp.MustCompile(`"(exp|iat)": "\d+ \(MOMENT\)"`), `"$1": "MOMENT"`},
	{regexp.MustCompile(`"jti": "[^"]+"`), `"jti": "ID"`},
	{regexp.MustCompile(`\d+ characters`), "N characters"},
	{regexp.MustCompile(`(exp|iat|jti)  +.*`), "$1 CHANGES"},
	{regexp.MustCompile(`key-[A-Z0-9]{52}`), "KEY"},
	{regexp.MustCompile(`2\d{3}-\d\d-\d\d  GradeLot +good .*`), "ISSUED AND UNTIL"},
	{regexp.MustCompile(`<lab:serial>\d+`), "<lab:serial>SERIAL"},
	{regexp.MustCompile(`Timestamp=\d+`), "Timestamp=STAMP"},
	{regexp.MustCompile(`Signature=[\w%]+`), "Signature=SIGNATURE"},
}...)

func normal(text string) string {
	for _, c := range changingInReadme {
		text = c.from.ReplaceAllString(text, c.to)
	}
	return text
}

// The README's examples are true: each command is run on the demo bench, one
// after the other, and prints what is there.
func TestReadme(t *testing.T) {
	slow(t)
	t.Parallel()
	guides, err := filepath.Glob("../../docs/guide/*.md")
	require.NoError(t, err)
	require.Len(t, guides, 7)
	for _, file := range append(guides, "../../README.md") {
		t.Run(filepath.Base(file), func(t *testing.T) { examplesHold(t, file) })
	}
}

func examplesHold(t *testing.T, file string) {
	t.Helper()
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	p, server := newBench(t)
	base := regexp.MustCompile(regexp.QuoteMeta(server.Address))
	var out strings.Builder
	commands := 0
	inside, want := false, ""
	command := ""
	finish := func() {
		if command == "" {
			return
		}
		commands++
		here := strings.ReplaceAll(command, "127.0.0.1:8720", server.Address)
		args := strings.Fields(strings.TrimPrefix(here, "$ testbench "))
		for i, arg := range args {
			args[i] = strings.Trim(arg, `'"`) // as the shell does
		}
		o := p.run(args...)
		stdout, stderr := o.stdout, o.stderr
		if line, rest, ok := strings.Cut(stderr, "\n"); ok && strings.HasPrefix(line, "HTTP/") {
			stdout, stderr = line+"\n"+stdout, rest // as a terminal shows it
		}
		got := base.ReplaceAllString(stdout+stderr, "127.0.0.1:8720")
		if o.status != 0 {
			got += fmt.Sprintf("(exit status %d)\n", o.status)
		}
		if *update {
			out.WriteString(got)
		} else {
			out.WriteString(want)
			assert.Equal(t, normal(want), normal(got), command)
		}
		command, want = "", ""
	}
	for _, line := range strings.SplitAfter(string(data), "\n") {
		switch {
		case strings.HasPrefix(line, "```console"):
			inside = true
		case inside && strings.HasPrefix(line, "```"):
			finish()
			inside = false
		case inside && strings.HasPrefix(line, "$ "):
			finish()
			command = strings.TrimSpace(line)
		case inside:
			want += line
			continue
		}
		out.WriteString(line)
	}
	assert.Greater(t, commands, 1)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o644))
	}
	for _, picture := range regexp.MustCompile(`\((?:docs|\.\.)/(screenshots/[^)]+)\)`).FindAllStringSubmatch(
		string(data), -1) {
		_, err := os.Stat("../../docs/" + picture[1])
		assert.NoError(t, err)
	}
	for _, block := range regexp.MustCompile("(?s)```yaml\n(sheet: .*?)```").FindAllStringSubmatch(string(data), -1) {
		o := p.sheet(block[1])
		assert.Equal(t, 0, o.status, o.all())
	}
}

var (
	linkInText    = regexp.MustCompile(`\]\(([^)\s]+)\)`)
	headingInText = regexp.MustCompile(`(?m)^#+ (.+)$`)
	codeInText    = regexp.MustCompile("(?s)```.*?```|`[^`\n]*`")
	noneOfAnchor  = regexp.MustCompile(`[^a-z0-9 _-]`)
)

// anchorsOf are the headings of a document, as links name them.
func anchorsOf(text string) []string {
	var anchors []string
	for _, m := range headingInText.FindAllStringSubmatch(text, -1) {
		anchors = append(anchors, strings.ReplaceAll(noneOfAnchor.ReplaceAllString(strings.ToLower(m[1]), ""), " ", "-"))
	}
	return anchors
}

// Every link of the documents leads to a file that is there, and to a heading in it. Every picture
// is linked from the README.
func TestLinks(t *testing.T) {
	t.Parallel()
	var documents []string
	for _, pattern := range []string{"../../*.md", "../../docs/*.md", "../../docs/guide/*.md"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		documents = append(documents, found...)
	}
	links := 0
	for _, file := range documents {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		for _, m := range linkInText.FindAllStringSubmatch(codeInText.ReplaceAllString(string(data), ""), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			links++
			target, anchor, _ := strings.Cut(m[1], "#")
			name := file
			if target != "" {
				name = filepath.Join(filepath.Dir(file), target)
			}
			text, err := os.ReadFile(name)
			if info, notThere := os.Stat(name); notThere == nil && info.IsDir() {
				continue
			}
			if assert.NoError(t, err, "%s: %s", file, m[1]) && anchor != "" {
				assert.Contains(t, anchorsOf(string(text)), anchor, "%s: %s", file, m[1])
			}
		}
	}
	assert.Greater(t, links, 20)
	readme, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	pictures, err := filepath.Glob("../../docs/screenshots/*.png")
	require.NoError(t, err)
	assert.Less(t, len(pictures), 20)
	for _, picture := range pictures {
		assert.Contains(t, string(readme), "docs/screenshots/"+filepath.Base(picture))
	}
}

// The reference and the manual pages are what the program itself says.
func TestReference(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	manual := map[string]*strings.Builder{
		"1": manualPage("testbench", "1", "builds, sends and checks requests against SOAP, REST and ERP endpoints"),
		"5": manualPage("testbench", "5", "bench.yaml, sheets, and the words in them"),
	}
	pages := map[string]*strings.Builder{}
	page := func(name, title string) *strings.Builder {
		if pages[name] == nil {
			pages[name] = &strings.Builder{}
			pages[name].WriteString("# " + title + "\n")
		}
		return pages[name]
	}
	overview := p.run("help").stdout
	commands := regexp.MustCompile(`(?m)^  ([a-z]+) `).FindAllStringSubmatch(overview, -1)
	manualSection(manual["1"], "COMMANDS", overview)
	out := page("commands", "Commands")
	for _, m := range append(commands, []string{"", "options"}) {
		o := p.run("help", m[1])
		require.Equal(t, 0, o.status, o.all())
		out.WriteString("\n## " + m[1] + "\n```text\n" + strings.TrimSpace(o.stdout) + "\n```\n")
		manualSection(manual["1"], strings.ToUpper(m[1]), o.stdout)
	}
	ofFiles := map[string]string{"bench": "bench.yaml", "logins": "Logins of bench.yaml", "sheets": "Sheets"}
	for _, topic := range reference.Topics() {
		if title := ofFiles[topic.Name]; title != "" {
			out = page(topic.Name, title)
			out.WriteString(topic.About + "\n\n| key | what it is | what it holds | else | example |\n| --- | --- | --- | --- | --- |\n")
		} else {
			out = page("words", "Words")
			out.WriteString("\n## " + topic.Name + "\n" + topic.About + "\n\n| | | |\n| --- | --- | --- |\n")
		}
		for _, e := range topic.Entries {
			cells := []string{"`" + e.Form + "`", e.About}
			if ofFiles[topic.Name] != "" {
				cells = append(cells, e.Type, e.Default)
			}
			example := ""
			if e.Example != "" {
				example = "`" + e.Example + "`"
			}
			for _, cell := range append(cells, example) {
				out.WriteString("| " + strings.ReplaceAll(cell, "|", "\\|") + " ")
			}
			out.WriteString("|\n")
		}
		manualSection(manual["5"], strings.ToUpper(topic.Name), p.run("help", topic.Name).stdout)
	}
	files := map[string]string{
		"../../docs/man/testbench.1": manual["1"].String(), "../../docs/man/testbench.5": manual["5"].String(),
	}
	for name, text := range pages {
		files["../../docs/reference/"+name+".md"] = text.String()
	}
	for file, text := range files {
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		}
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(data), text, "go test ./cmd/testbench -run TestReference -update writes it anew")
	}
}

// manualPage begins a page of the manual, in the macros of man(7).
func manualPage(name, section, about string) *strings.Builder {
	var page strings.Builder
	fmt.Fprintf(&page, ".TH %s %s\n.SH NAME\n%s \\- %s\n", strings.ToUpper(name), section, name, about)
	return &page
}

// manualSection adds a text as it is.
func manualSection(page *strings.Builder, title, text string) {
	page.WriteString(".SH " + title + "\n.nf\n")
	for line := range strings.Lines(strings.TrimSpace(text)) {
		line = strings.NewReplacer(`\`, `\e`, "-", `\-`, "·", `\(md`, "…", "...").Replace(strings.TrimRight(line, "\n"))
		if strings.HasPrefix(line, ".") || strings.HasPrefix(line, "'") {
			line = `\&` + line
		}
		page.WriteString(line + "\n")
	}
	page.WriteString(".fi\n")
}
