package lab

import (
	"fmt"
	"hash/fnv"
	"strconv"
	"sync"

	"testbench/internal/document"
	"testbench/internal/standin/demo"
	"testbench/internal/xsd"
)

// labSchema is the lab's own schema: what it says of requests it also holds them to.
var labSchema = sync.OnceValue(func() *xsd.Schema {
	l := &xsd.Loader{}
	if err := l.AddText("lab.xsd", []byte(demo.LabXSD)); err != nil {
		panic(err) // it is embedded
	}
	schema, err := l.Schema()
	if err != nil {
		panic(err)
	}
	return schema
})

// registerAnalysis takes a certificate of analysis, if it is valid by the schema.
func registerAnalysis(payload *document.Node, prefixes map[string]string) (*document.Node, *Fault) {
	var first *xsd.Fault
	v := xsd.NewValidator(labSchema())
	v.Report = func(f xsd.Fault) {
		if first == nil {
			first = &f
		}
	}
	v.Tree(payload, nil, prefixes)
	if first != nil {
		return nil, &Fault{
			Sender: true, Text: "the analysis is not valid", field: first.Path,
			problem: first.Message,
		}
	}
	values, findings := 0, 0
	hash := fnv.New32a()
	for _, child := range payload.Children() {
		_, _ = hash.Write([]byte(child.OwnText()))
		switch child.Name().Local {
		case "value":
			values++
		case "finding", "residue":
			findings++
		}
	}
	answer := element("RegisterAnalysisResponse", element("number", fmt.Sprintf("AN-%06d", hash.Sum32()%1_000_000)),
		element("values", strconv.Itoa(values)), element("findings", strconv.Itoa(findings)))
	diastase := element("diastase", payload.Child("diastase").OwnText())
	if payload.Child("diastase").IsNil() {
		diastase = element("diastase")
		diastase.AppendAttributes(document.Attribute{
			Name:  document.Name{Prefix: "xmlns", Local: "xsi"},
			Value: document.SchemaInstance,
		},
			document.Attribute{
				Name:  document.Name{Space: document.SchemaInstance, Prefix: "xsi", Local: "nil"},
				Value: "true",
			})
	}
	answer.AppendItems(diastase)
	return answer, nil
}
