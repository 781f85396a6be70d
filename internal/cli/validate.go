package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"os"

	"testbench"
)

type validateOptions struct{ all bool }

func validateCommand() *command {
	return &command{name: "validate", group: "checking", purpose: "holds a saved message or instance against a WSDL or XML Schema", usage: "SERVICE|FILE|ADDRESS MESSAGE", fetches: true,
		examples: []string{"testbench draft lab GradeLot | testbench validate lab -", "testbench draft lab GradeLot -answer | testbench validate contracts/lab.wsdl - -all"},
		options: func(f *flag.FlagSet) any {
			o := &validateOptions{}
			f.BoolVar(&o.all, "all", false, "show all faults, not only the first 20")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.validate(ctx, options.(*validateOptions), args)
		}}
}

func (s *session) validate(ctx context.Context, o *validateOptions, args []string) (int, error) {
	if len(args) != 2 {
		return 0, usagef("", "validate what? A contract, and a message (- for the standard input)")
	}
	if args[0] == "-" && args[1] == "-" {
		return 0, usagef("", "the contract and the message cannot both come from the standard input")
	}
	c, err := s.contract(ctx, args[0])
	if err != nil {
		return 0, err
	}
	var in io.Reader = s.stdin
	name := "standard input"
	if args[1] != "-" {
		file, err := os.Open(args[1])
		if errors.Is(err, fs.ErrNotExist) {
			return 0, fmt.Errorf("there is no file %s", args[1])
		}
		if err != nil {
			return 0, err
		}
		defer file.Close()
		in, name = file, args[1]
	}
	most := 20
	if o.all {
		most = 0
	}
	result, err := c.Validate(in, most)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	status := ExitHeld
	if result.Total > 0 {
		status = ExitFellShort
	}
	t := s.tell
	if s.common.json {
		return status, t.json(validationJSON(result))
	}
	for _, f := range result.Faults {
		place := fmt.Sprintf("%s:%d:%d: ", name, f.Line, f.Column)
		t.printf("%s%s\n", t.in(faint, visible(place)), visible(f.Text()))
	}
	if result.Total == 0 {
		t.printf("%s: %s\n", t.in(green, "valid"), visible(result.What))
		return status, nil
	}
	t.printf("%s: %s, %s\n", t.in(red, "not valid"), visible(result.What), count(result.Total, "fault"))
	if left := result.Total - len(result.Faults); left > 0 {
		t.note("%s more; -all shows them", count(left, "fault"))
	}
	return status, nil
}

func validationJSON(v *testbench.Validation) any {
	faults := []map[string]any{}
	for _, f := range v.Faults {
		faults = append(faults, map[string]any{"line": f.Line, "column": f.Column, "path": f.Path, "message": f.Message})
	}
	return map[string]any{"message": v.What, "valid": v.Total == 0, "faults": faults, "total": v.Total}
}
