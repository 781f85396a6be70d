package cli

import (
	"context"
	"flag"
	"strings"

	"testbench"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/schema"
	"testbench/internal/soap"
	"testbench/internal/yamlfile"
)

type draftOptions struct {
	as, only, soap, port string
	answer               bool
}

func draftCommand() *command {
	return &command{name: "draft", group: "building and asking", purpose: "writes the skeleton of a request, valid by its contract", usage: "SERVICE|FILE|ADDRESS OPERATION",
		examples: []string{"testbench draft lab GradeLot", "testbench draft lab GradeLot -as step", "testbench draft lab GradeLot -only required -soap 1.2"},
		options: func(f *flag.FlagSet) any {
			o := &draftOptions{}
			f.StringVar(&o.as, "as", "", "the `form`: step (for a sheet), xml (of SOAP with remarks) or json (of SOAP the fields); else what the operation takes")
			f.StringVar(&o.only, "only", "", "`required` leaves out what may be left out")
			f.StringVar(&o.soap, "soap", "", "the `version` of SOAP: 1.1 or 1.2")
			f.StringVar(&o.port, "port", "", "the `port` of the contract")
			f.BoolVar(&o.answer, "answer", false, "the answer in place of the request")
			return o
		},
		run: func(ctx context.Context, s *session, options any, args []string) (int, error) {
			return s.draft(ctx, options.(*draftOptions), args)
		}}
}

func (s *session) draft(ctx context.Context, o *draftOptions, args []string) (int, error) {
	if len(args) == 0 || len(args) > 2 {
		return 0, usagef("testbench draft lab GradeLot, testbench draft partner.wsdl OPERATION", "draft what? A contract and an operation")
	}
	source, operation := splitTarget(args)
	if s.common.json {
		o.as = "json"
	}
	switch {
	case o.as != "" && o.as != "xml" && o.as != "step" && o.as != "json":
		return 0, usagef("xml, step and json are there", "-as %s is no form of a draft", o.as)
	case o.only != "" && o.only != "required":
		return 0, usagef("-only required", "-only %s is unknown", o.only)
	}
	if err := isSOAPVersion(o.soap); err != nil {
		return 0, err
	}
	c, err := s.contract(ctx, source)
	if err != nil {
		return 0, err
	}
	if err := onlyWSDL(c, source, o.soap, o.port); err != nil {
		return 0, err
	}
	if c.Description != nil {
		return s.draftDescribed(source, c, o, operation)
	}
	if c.JSON != nil {
		sample := c.JSON.Sample(schema.SampleOptions{Optional: o.only == ""})
		s.tell.printf("%s\n", s.tell.visible(bodyText(sample.Root)))
		return ExitHeld, nil
	}
	if c.WSDL == nil {
		return s.draftElement(c, o, operation)
	}
	if operation == "" {
		return 0, usagef("`testbench survey "+source+"` lists the operations", "draft which operation?")
	}
	port, op, err := c.Operation(operation, o.port, "")
	if err != nil {
		return 0, err
	}
	d, err := c.WSDL.Draft(port.Binding, op, wsdl.DraftOptions{Version: soap.Version(o.soap), Required: o.only != "", Answer: o.answer})
	if err != nil {
		return 0, err
	}
	switch o.as {
	case "", "xml":
		s.tell.printf("%s", s.tell.visible(d.XML()))
	case "json":
		s.tell.printf("%s\n", s.tell.visible(document.WriteJSON(d.Fields(), document.Style{Indent: "  "})))
	default:
		s.tell.printf("%s", s.tell.visible(d.Step(source+"/"+op.Name, yamlfile.ScalarText)))
	}
	if d.TooLarge {
		s.tell.note("note: the draft is cut at %d parts and not valid: the contract asks for more", schema.MostParts)
	} else if len(d.Cut) > 0 {
		s.tell.note("note: %s holds itself without end; there the draft is cut and not valid", strings.Join(d.Cut, ", "))
	}
	return ExitHeld, nil
}

// draftElement drafts an instance of a schema's element.
func (s *session) draftElement(c *testbench.Contract, o *draftOptions, name string) (int, error) {
	for n, e := range c.Schema.Elements {
		if n.Local != name && (name != "" || len(c.Schema.Elements) > 1) {
			continue
		}
		d := wsdl.DraftElement(c.Schema, e, o.only != "")
		if o.as == "json" {
			s.tell.printf("%s\n", s.tell.visible(document.WriteJSON(d.Fields(), document.Style{Indent: "  "})))
		} else {
			s.tell.printf("%s", s.tell.visible(d.XML()))
		}
		return ExitHeld, nil
	}
	if name == "" {
		return 0, usagef("`testbench survey` lists the elements", "draft which element of the schema?")
	}
	return 0, noElement(c, name)
}
