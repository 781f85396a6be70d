package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"testbench/internal/suggest"
)

var shells = []string{"bash", "zsh", "fish"}

func completionCommand() *command {
	return &command{
		name: "completion", group: "the program",
		purpose: "prints a script that lets a shell complete commands and options", usage: "bash|zsh|fish",
		examples: []string{
			"source <(testbench completion bash)",
			"testbench completion fish > ~/.config/fish/completions/testbench.fish",
		},
		run: func(_ context.Context, s *session, _ any, args []string) (int, error) {
			if len(args) != 1 {
				return 0, usagef("testbench completion bash", "for which shell? %s", strings.Join(shells, ", "))
			}
			words := s.words()
			switch args[0] {
			case "bash":
				s.tell.printf("%s", bashCompletion(words))
			case "zsh":
				s.tell.printf("%s", zshCompletion(words))
			case "fish":
				s.tell.printf("%s", fishCompletion(words))
			default:
				return 0, usagef(suggest.DidYouMean(args[0], shells), "there is no completion for %q; there are: %s",
					args[0], strings.Join(shells, ", "))
			}
			return ExitPassed, nil
		},
	}
}

// word is a command with its options, for completion.
type word struct {
	name, purpose string
	options       []string
}

func (s *session) words() []word {
	var words []word
	for _, c := range commands() {
		w := word{name: c.name, purpose: c.purpose}
		flags, _ := s.flags(c)
		flags.VisitAll(func(f *flag.Flag) { w.options = append(w.options, "-"+f.Name) })
		words = append(words, w)
	}
	return words
}

func bashCompletion(words []word) string {
	var names, cases []string
	for _, w := range words {
		names = append(names, w.name)
		cases = append(cases, fmt.Sprintf("    %s) options=%q ;;", w.name, strings.Join(w.options, " ")))
	}
	return fmt.Sprintf(`_testbench() {
  local word=${COMP_WORDS[COMP_CWORD]} options=
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W %q -- "$word"))
    return
  fi
  case ${COMP_WORDS[1]} in
%s
  esac
  if [[ $word == -* ]]; then
    COMPREPLY=($(compgen -W "$options" -- "$word"))
  else
    COMPREPLY=($(compgen -f -- "$word"))
  fi
}
complete -F _testbench testbench
`, strings.Join(names, " "), strings.Join(cases, "\n"))
}

func zshCompletion(words []word) string {
	var names, cases []string
	for _, w := range words {
		names = append(names, fmt.Sprintf("    '%s:%s'", w.name, strings.ReplaceAll(w.purpose, "'", "")))
		cases = append(cases, fmt.Sprintf("    %s) compadd -- %s ;;", w.name, strings.Join(w.options, " ")))
	}
	return fmt.Sprintf(`#compdef testbench
_testbench() {
  local -a commands
  commands=(
%s
  )
  if (( CURRENT == 2 )); then
    _describe 'command' commands
    return
  fi
  if [[ $words[CURRENT] != -* ]]; then
    _files
    return
  fi
  case $words[2] in
%s
  esac
}
compdef _testbench testbench
`, strings.Join(names, "\n"), strings.Join(cases, "\n"))
}

func fishCompletion(words []word) string {
	var out strings.Builder
	for _, w := range words {
		fmt.Fprintf(&out, "complete -c testbench -n __fish_use_subcommand -a %s -d '%s'\n", w.name,
			strings.ReplaceAll(w.purpose, "'", `\'`))
		for _, option := range w.options {
			fmt.Fprintf(&out, "complete -c testbench -n '__fish_seen_subcommand_from %s' -o %s\n", w.name,
				strings.TrimPrefix(option, "-"))
		}
	}
	return out.String()
}
