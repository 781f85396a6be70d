package cli

import (
	"context"
	"flag"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/bench"
	"testbench/internal/lazy"
	"testbench/internal/reference"
	"testbench/internal/suggest"
	"testbench/internal/workbench"
	"testbench/internal/yamlfile"
)

// shellScripts ask the program what may be at a place: it knows the bench that the shell is in.
// What is not a word of the program is a file.
var shellScripts = map[string]string{
	"bash": `_testbench() {
  local IFS=$'\n'
  COMPREPLY=($(testbench completion words -- "${COMP_WORDS[@]:1:COMP_CWORD}" 2>/dev/null))
  [ ${#COMPREPLY[@]} -gt 0 ] || COMPREPLY=($(compgen -f -- "${COMP_WORDS[COMP_CWORD]}"))
}
complete -o filenames -F _testbench testbench
`,
	"zsh": `#compdef testbench
_testbench() {
  local -a found
  found=(${(f)"$(testbench completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
  if (( ${#found} )); then
    compadd -- "${found[@]}"
  else
    _files
  fi
}
compdef _testbench testbench
`,
	"fish": `function __testbench
  set -l words (commandline -opc) (commandline -ct)
  testbench completion words -- $words[2..-1] 2>/dev/null
end
complete -c testbench -a '(__testbench)'
`,
	"powershell": `Register-ArgumentCompleter -Native -CommandName testbench -ScriptBlock {
  param($word, $tree, $position)
  $words = @($tree.CommandElements | Select-Object -Skip 1 |
    Where-Object { $_.Extent.StartOffset -lt $position } | ForEach-Object { $_.ToString() })
  if ($word -eq '') { $words += '""' }
  testbench completion words '--' $words 2>$null | ForEach-Object {
    [System.Management.Automation.CompletionResult]::new($_, $_, 'ParameterValue', $_)
  }
}
`,
}

func completionCommand() *command {
	return &command{
		name: "completion", group: "the program",
		purpose: "prints a script that lets a shell complete commands, options and names of the bench",
		usage:   strings.Join(shellNames(), "|"),
		examples: []string{
			"source <(testbench completion bash)",
			"testbench completion fish > ~/.config/fish/completions/testbench.fish",
			"testbench completion powershell | Out-String | Invoke-Expression",
		},
		prepare: noOptions(runCompletion),
	}
}

func shellNames() []string { return slices.Sorted(maps.Keys(shellScripts)) }

func runCompletion(_ context.Context, s *session, args []string) (int, error) {
	if len(args) > 1 && args[0] == "words" {
		for _, word := range completions(s, args[1:]) {
			s.tell.printf("%s\n", word)
		}
		return ExitPassed, nil
	}
	if len(args) != 1 {
		return 0, usagef("testbench completion bash", "for which shell? %s", strings.Join(shellNames(), ", "))
	}
	script, ok := shellScripts[args[0]]
	if !ok {
		return 0, usagef(suggest.DidYouMean(args[0], shellNames()), "there is no completion for %q; there are: %s",
			args[0], strings.Join(shellNames(), ", "))
	}
	s.tell.printf("%s", script)
	return ExitPassed, nil
}

// completions are the words that may be in the place of the last one; none where files may.
func completions(s *session, words []string) []string {
	last := words[len(words)-1]
	if last == `""` { // PowerShell leaves an empty word out, and may pass this one as it is
		last = ""
	}
	all := commands()
	if len(words) == 1 {
		var names []string
		for _, c := range all {
			names = append(names, c.name)
		}
		return beginning(names, last)
	}
	at := slices.IndexFunc(all, func(c *command) bool { return c.name == words[0] })
	if at < 0 {
		return nil
	}
	c, before := all[at], words[1:len(words)-1]
	flags, _ := s.flags(c)
	if strings.HasPrefix(last, "-") {
		var names []string
		flags.VisitAll(func(f *flag.Flag) { names = append(names, "-"+f.Name) })
		return beginning(names, last)
	}
	var positional []string
	for i := 0; i < len(before); i++ {
		name := strings.TrimLeft(before[i], "-")
		f := flags.Lookup(name)
		switch {
		case f == nil || name == before[i]:
			positional = append(positional, before[i])
		case isSwitch(f):
		case i == len(before)-1:
			return beginning(valuesOf(s, f, positional), last)
		default:
			if i++; name == "bench" {
				s.common.bench = before[i]
			}
		}
	}
	return beginning(argumentsOf(s, c, positional), last)
}

// beginning are the words that begin with a text, each once.
func beginning(words []string, with string) []string {
	words = slices.DeleteFunc(slices.Clone(words), func(w string) bool { return !strings.HasPrefix(w, with) })
	slices.Sort(words)
	return slices.Compact(words)
}

func isSwitch(f *flag.Flag) bool {
	b, ok := f.Value.(interface{ IsBoolFlag() bool })
	return ok && b.IsBoolFlag()
}

// wordsInUsage finds the words that an option takes in the sentence that explains it.
var wordsInUsage = lazy.Regexp(`: ([\w.][\w. -]*(?:, [\w.][\w. -]*)*(?: or [\w.][\w. -]*)?)(?: \(.*| \+.*)?$`)

// valuesOf are the values of an option.
func valuesOf(s *session, f *flag.Flag, positional []string) []string {
	switch f.Name {
	case "site":
		return namesOf(s, func(b *workbench.Bench) []string { return b.Model().SiteNames() })
	case "login":
		return append(namesOf(s, func(b *workbench.Bench) []string { return b.Model().LoginNames() }), "none")
	case "step", "from":
		return stepsOf(positional)
	case "tag":
		return namesOf(s, (*workbench.Bench).Tags)
	}
	name, usage := flag.UnquoteUsage(f)
	if name == "file" || name == "folder" {
		return nil
	}
	m := wordsInUsage().FindStringSubmatch(usage)
	if m == nil {
		return nil
	}
	return strings.Split(strings.ReplaceAll(m[1], " or ", ", "), ", ")
}

// argumentsOf are the words that may be given beside the options, by the form that help shows.
func argumentsOf(s *session, c *command, positional []string) []string {
	forms := strings.FieldsFunc(c.usage, func(r rune) bool { return strings.ContainsRune("[]| ", r) })
	var words []string
	add := func(form string, names func() []string) {
		if slices.Contains(forms, form) {
			words = append(words, names()...)
		}
	}
	services := func() []string {
		return namesOf(s, func(b *workbench.Bench) []string { return b.Model().ServiceNames() })
	}
	if len(positional) > 0 {
		if slices.Contains(forms, "SHEET...") {
			return namesOf(s, sheetFiles)
		}
		add("STEP", func() []string { return stepsOf(positional) })
		add("OPERATION", func() []string {
			return namesOf(s, func(b *workbench.Bench) []string {
				if service := b.Model().Service(positional[0]); service != nil {
					return b.Model().OperationsIn(service)
				}
				return nil
			})
		})
		return words
	}
	for _, form := range []string{"SHEET", "SHEET..."} {
		add(form, func() []string { return namesOf(s, sheetFiles) })
	}
	add("SERVICE", services)
	add("SERVICE/OPERATION", func() []string { return namesOf(s, operations) })
	add("LOGIN", func() []string {
		return namesOf(s, func(b *workbench.Bench) []string { return b.Model().LoginNames() })
	})
	if c.name == "schema" {
		words = schemaNames()
	}
	add("TOPIC", func() []string { return append(reference.TopicNames(), "options", "keys") })
	add("COMMAND", func() []string {
		var names []string
		for _, c := range commands() {
			names = append(names, c.name)
		}
		return names
	})
	for _, form := range forms { // words that are written as they are
		if strings.ToLower(form) == form && !strings.ContainsAny(form, "=.,") {
			words = append(words, form)
		}
	}
	return words
}

// namesOf asks the bench; none where there is no bench, or it cannot be read.
func namesOf(s *session, names func(*workbench.Bench) []string) []string {
	b, err := s.open()
	if err != nil || b.Dir == "" {
		return nil
	}
	return names(b)
}

func sheetFiles(b *workbench.Bench) []string {
	files, _ := b.SheetFiles()
	for i, file := range files {
		files[i] = bench.DisplayName(file)
	}
	return files
}

func operations(b *workbench.Bench) []string {
	var names []string
	for _, service := range b.Model().Services {
		for _, operation := range b.Model().OperationsIn(service) {
			names = append(names, service.Name+"/"+operation)
		}
	}
	return names
}

// stepsOf are the steps of the sheets among some words.
func stepsOf(words []string) []string {
	var names []string
	for _, word := range words {
		if data, err := os.ReadFile(filepath.Clean(word)); err == nil && isSheetFile(word) {
			for _, key := range []string{"first", "steps", "finally", "last"} {
				names = append(names, stepNamesUnder(yamlfile.Read(word, data).Root, key)...)
			}
		}
	}
	return names
}
