package mapping

import (
	"maps"
	"slices"

	"testbench/internal/document"
	"testbench/internal/request"
	"testbench/internal/soap"
	"testbench/internal/value"
	"testbench/internal/yamlfile"
)

var addressedKeys = []Key[request.Addressed]{
	TemplateKey("reply to", "where the answer goes; on the same connection unless said",
		func(a *request.Addressed) **value.Template { return &a.ReplyTo }),
	TemplateKey("fault to", "where a fault goes", func(a *request.Addressed) **value.Template { return &a.FaultTo }),
	TemplateKey("relates to", "the message that it answers",
		func(a *request.Addressed) **value.Template { return &a.RelatesTo }),
	NewKey("version", "1.0, or 2004/08 for older services; 1.0 unless said",
		func(r *Reader, a *request.Addressed, n *yamlfile.Node) {
			a.Version = r.Choice(n, "version of WS-Addressing", slices.Sorted(maps.Keys(soap.AddressingVersions))...)
		}),
}

// Addressing reads whether WS-Addressing goes along, or a mapping of how.
func (r *Reader) Addressing(n *yamlfile.Node) (use string, how request.Addressed) {
	r.TakesOf(n, func() *document.Node { return EnumSchema("true", "false") })
	if n.Kind == yamlfile.Mapping {
		r.NotEmpty(n, "addressing")
		Read(r, "addressing", n, &how, addressedKeys)
		return "true", how
	}
	return r.Choice(n, "answer to yes or no (true or false)", "true", "false"), how
}
