package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/contract/wsdl"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/workbench"
	"testbench/internal/xsd"
)

type draftOptions struct {
	as, only, soap, port string
	answer               bool
}

func draftCommand() *command {
	return &command{
		name: "draft", group: "building and asking", purpose: "writes the skeleton of a request, valid by its contract",
		usage: "SERVICE|FILE|ADDRESS OPERATION",
		examples: []string{
			"testbench draft lab GradeLot", "testbench draft lab GradeLot -as step",
			"testbench draft lab GradeLot -only required -soap 1.2",
		},
		prepare: func(f *flag.FlagSet) action {
			o := &draftOptions{}
			f.StringVar(&o.as, "as", "",
				"the `form`: step (for a sheet), xml (of SOAP with remarks) or json (of SOAP the fields); else what "+
					"the operation takes")
			f.StringVar(&o.only, "only", "", "`required` leaves out what may be left out")
			f.StringVar(&o.soap, "soap", "", "the `version` of SOAP: 1.1 or 1.2")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.BoolVar(&o.answer, "answer", false, "the answer in place of the request")
			return o.run
		},
	}
}

func (o *draftOptions) run(ctx context.Context, s *session, args []string) (int, error) {
	if len(args) == 0 || len(args) > 2 {
		return 0, usagef("testbench draft lab GradeLot, testbench draft partner.wsdl OPERATION",
			"draft what? A contract and an operation")
	}
	source, operation := splitTarget(args)
	if s.common.json {
		o.as = "json"
	}
	switch {
	case o.as != "" && o.as != "xml" && o.as != "step" && o.as != "json":
		return 0, usagef("xml, step and json are there", "-as %s is not a form of a draft", o.as)
	case o.only != "" && o.only != "required":
		return 0, usagef("-only required", "-only %s is unknown", o.only)
	}
	c, err := openContract(ctx, s, source)
	if err != nil {
		return 0, err
	}
	if !c.HasOperations() {
		if err := checkInForm(s, "of a schema"); err != nil {
			return 0, err
		}
	}
	if err := cmp.Or(isSOAPVersion(o.soap), onlyWSDL(c, source, o.soap, o.port)); err != nil {
		return 0, err
	}
	options := contract.DraftOptions{
		As: o.as, Required: o.only != "", Answer: o.answer,
		Target: source + "/" + operation,
	}
	made, err := draftBody(c, o, source, operation, options)
	var unknown *contract.UnknownFormError
	if errors.As(err, &unknown) {
		return 0, usagef("leave -as out", "%s", unknown)
	}
	if err != nil {
		return 0, err
	}
	tell := s.tell.note // beside the body, which may go into a pipe
	if made.Text == "" {
		tell = func(format string, args ...any) { s.tell.printf(format+"\n", args...) }
	}
	for _, line := range made.Lines {
		tell("%s", s.tell.visible(line))
	}
	s.tell.printf("%s", s.tell.visible(made.Text))
	switch {
	case made.TooLarge:
		s.tell.note("note: the draft is cut at %d parts and not valid: the contract asks for more", schema.MostParts)
	case len(made.Cut) > 0:
		s.tell.note("note: %s holds itself without end; there the draft is cut and not valid",
			strings.Join(made.Cut, ", "))
	}
	if made.Omitted > 0 {
		s.tell.note("note: %s that may be left out and are deep inside others are not in the draft",
			count(made.Omitted, "field"))
	}
	return ExitPassed, nil
}

// draftBody makes a draft of an operation, or of a schema alone.
func draftBody(c *workbench.Contract, o *draftOptions, source, name string,
	options contract.DraftOptions,
) (*contract.Draft, error) {
	if !c.HasOperations() && options.As == "step" {
		return nil, usagef("leave -as out", "%s is a schema alone, and a step calls an operation", source)
	}
	switch alone := c.Contract.(type) {
	case *contract.JSONSchema:
		if options.As == "xml" {
			return nil, usagef("leave -as out", "%s is a JSON Schema, and is drafted as JSON", source)
		}
		if err := onlyType(source, name); err != nil {
			return nil, err
		}
		sample := alone.Schema.Sample(schema.SampleOptions{Optional: !options.Required})
		return &contract.Draft{Text: contract.BodyText(sample.Root) + "\n"}, nil
	case *contract.XMLSchema:
		return draftElement(alone.Schema, options, name)
	}
	if name == "" {
		return nil, usagef("`testbench survey "+source+"` lists the operations", "draft which operation?")
	}
	op, err := c.Operation(name, workbench.Binding{Port: o.port, Version: soap.Version(o.soap)})
	if err != nil {
		return nil, err
	}
	return op.Draft(options)
}

// draftElement drafts an instance of a schema's element.
func draftElement(alone *xsd.Schema, options contract.DraftOptions, name string) (*contract.Draft, error) {
	for n, e := range alone.Elements {
		if n.Local == name || name == "" && len(alone.Elements) == 1 {
			return wsdl.DraftElement(alone, e, options), nil
		}
	}
	if name == "" {
		return nil, usagef("`testbench survey` lists the elements", "draft which element of the schema?")
	}
	return nil, noElement(alone, name)
}
