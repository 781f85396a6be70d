package main_test

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var changingInReadme = append(changing[:len(changing):len(changing)], []struct {
	from *regexp.Regexp
	to   string
}{
	{regexp.MustCompile(`\d+(\.\d)? (ms|s)\b`), "TIME"},
	{regexp.MustCompile(`\d{4}-\d\d-\d\dT[\d:]+Z|\d\d:\d\d:\d\d|until [\d:]+`), "MOMENT"},
	{regexp.MustCompile(`"(exp|iat)": "\d+ \(MOMENT\)"`), `"$1": "MOMENT"`},
	{regexp.MustCompile(`"jti": "[^"]+"`), `"jti": "ID"`},
	{regexp.MustCompile(`\d+ characters`), "N characters"},
}...)

func normal(text string) string {
	for _, c := range changingInReadme {
		text = c.from.ReplaceAllString(text, c.to)
	}
	return text
}

// The README's examples are true: each command is run on the demo bench, one
// after the other, and prints what stands there.
func TestReadme(t *testing.T) {
	const file = "../../README.md"
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	p, server := newBench(t)
	base := regexp.MustCompile(regexp.QuoteMeta("http://" + server.Address))
	var out strings.Builder
	commands := 0
	inside, want := false, ""
	command := ""
	finish := func() {
		if command == "" {
			return
		}
		commands++
		o := p.run(strings.Fields(strings.TrimPrefix(command, "$ testbench "))...)
		got := base.ReplaceAllString(o.stdout+o.stderr, "http://127.0.0.1:8720")
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
	assert.Greater(t, commands, 10)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o644))
	}
	for _, picture := range regexp.MustCompile(`\((docs/screenshots/[^)]+)\)`).FindAllStringSubmatch(string(data), -1) {
		_, err := os.Stat("../../" + picture[1])
		assert.NoError(t, err)
	}
	for _, block := range regexp.MustCompile("(?s)```yaml\n(sheet: .*?)```").FindAllStringSubmatch(string(data), -1) {
		o := p.sheet(block[1])
		assert.Equal(t, 0, o.status, o.all())
	}
}
