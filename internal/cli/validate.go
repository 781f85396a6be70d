package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"

	"testbench/internal/safefile"
	"testbench/internal/workbench"
)

type validateOptions struct {
	all, request      bool
	operation, status string
}

func validateCommand() *command {
	return &command{
		name: "validate", group: "checking",
		purpose: "checks a saved message, body or instance against its contract or schema",
		usage:   "SERVICE|FILE|ADDRESS MESSAGE",
		examples: []string{
			"testbench draft lab GradeLot | testbench validate lab -",
			"testbench draft lab GradeLot -answer | testbench validate contracts/lab.wsdl - -all",
			"testbench draft stores lot -answer | testbench validate stores/lot -",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &validateOptions{}
			f.BoolVar(&o.all, "all", false, "show all faults, not only the first 20")
			f.StringVar(&o.operation, "operation", "",
				"the `name` of the operation whose answer it is, where no body tells that; also as SERVICE/OPERATION")
			f.StringVar(&o.status, "status", "", "the `status` that the answer came with (default 200)")
			f.BoolVar(&o.request, "request", false, "it is the body of a request, and not of an answer")
			return o.run
		},
	}
}

func (o *validateOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) != 2 {
		return 0, usagef("testbench validate partner.wsdl message.xml",
			"validate what? A contract, and a message (- for the standard input)")
	}
	if args[0] == "-" && args[1] == "-" {
		return 0, usagef("", "the contract and the message cannot both come from the standard input")
	}
	source, operation := splitTarget(args[:1])
	if o.operation != "" {
		operation = o.operation
	}
	c, err := openContract(ctx, s, source)
	if err != nil {
		return 0, err
	}
	status, err := o.code()
	switch {
	case err != nil:
		return 0, err
	case !c.TellsOperation() && operation == "":
		return 0, usagef("testbench validate "+source+" "+args[1]+" -operation NAME",
			"of which operation is it? A body of REST does not say it")
	case c.TellsOperation() && (o.operation != "" || o.status != "" || o.request):
		return 0, usagef("leave them out",
			"-operation, -status and -request go with descriptions of REST; of %s the message tells what it is", source)
	case o.request && o.status != "":
		return 0, usagef("", "a request has no status: -request and -status exclude one another")
	}
	var in io.Reader = s.stdin
	name := "standard input"
	if args[1] != "-" {
		file, err := os.Open(args[1])
		if safefile.IsMissing(err) {
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
	var result *workbench.Validation
	if !c.TellsOperation() {
		result, err = c.ValidateFor(operation, status, in, most)
	} else {
		result, err = c.Validate(in, most)
	}
	if err != nil {
		return 0, fmt.Errorf("%s: %w", name, err)
	}
	return showValidation(s, name, result)
}

// code is the status of the answer, 0 for a request.
func (o *validateOptions) code() (int, error) {
	switch {
	case o.request:
		return 0, nil
	case o.status == "":
		return 200, nil
	}
	status, err := strconv.Atoi(o.status)
	if err != nil || status < 100 || status > 599 {
		return 0, usagef("-status 200", "-status %s is not a status", o.status)
	}
	return status, nil
}

// showValidation shows what came of it.
func showValidation(s *session, name string, result *workbench.Validation) (int, error) {
	status := ExitPassed
	if result.Total > 0 {
		status = ExitFailed
	}
	t := s.tell
	if s.common.json {
		return status, t.json(validationJSON(result))
	}
	for _, f := range result.Faults {
		place := fmt.Sprintf("%s:%d:%d: ", name, f.Line, f.Column)
		t.printf("%s%s\n", t.in(faint, t.visible(place)), t.visible(f.Text()))
	}
	for _, p := range result.Refused {
		t.note("%s", p)
	}
	if result.Total == 0 {
		t.printf("%s: %s\n", t.in(green, "valid"), t.visible(result.What))
		return status, nil
	}
	t.printf("%s: %s, %s\n", t.in(red, "not valid"), t.visible(result.What), count(result.Total, "fault"))
	if left := result.Total - len(result.Faults); left > 0 {
		t.note("%s more; -all shows them", count(left, "fault"))
	}
	return status, nil
}

func validationJSON(v *workbench.Validation) any {
	faults := []map[string]any{}
	for _, f := range v.Faults {
		faults = append(faults,
			map[string]any{"line": f.Line, "column": f.Column, "path": f.Path, "message": f.Message})
	}
	notes := []string{}
	for _, p := range v.Refused {
		notes = append(notes, p.String())
	}
	return map[string]any{
		"message": v.What, "valid": v.Total == 0, "faults": faults, "total": v.Total, "notes": notes,
	}
}
