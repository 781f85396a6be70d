package formats

import (
	"fmt"
	"slices"
	"strings"

	"testbench/internal/contract"
	"testbench/internal/contract/odata"
	"testbench/internal/contract/openapi"
	"testbench/internal/contract/wadl"
	"testbench/internal/contract/wsdl"
	"testbench/internal/document"
	"testbench/internal/excerpt"
	"testbench/internal/jsonschema"
	"testbench/internal/xsd"
)

// Document is what a contract is read from.
type Document struct {
	Location string
	Data     []byte
	// JSON and XML are the roots of the trees, nil where it is not written so.
	JSON, XML *document.Node
}

// Format is a kind of contract: how it is known, and how it is read.
type Format struct {
	Is   func(d *Document) bool
	Read func(d *Document, fetch Fetch) (contract.Contract, error)
}

// All are the formats, in the order in which a document is asked for them.
var All = []Format{
	{isOpenAPI, func(d *Document, fetch Fetch) (contract.Contract, error) {
		c, err := openapi.Read(d.Location, d.Data, fetch)
		return described(c, err)
	}},
	{func(d *Document) bool {
		return d.JSON != nil && odata.IsJSON(d.JSON)
	}, func(d *Document, _ Fetch) (contract.Contract, error) {
		c, err := odata.ReadJSON(d.Location, d.JSON)
		return described(c, err)
	}},
	{func(d *Document) bool { return d.JSON != nil && d.JSON.Kind == document.Object }, readJSONSchema},
	{func(d *Document) bool {
		return d.XML != nil && wadl.Is(d.XML)
	}, func(d *Document, fetch Fetch) (contract.Contract, error) {
		c, err := wadl.Read(d.Location, d.XML, fetch)
		return described(c, err)
	}},
	{func(d *Document) bool {
		return d.XML != nil && odata.IsXML(d.XML)
	}, func(d *Document, _ Fetch) (contract.Contract, error) {
		c, err := odata.ReadXML(d.Location, d.XML)
		return described(c, err)
	}},
	{func(d *Document) bool {
		return d.XML != nil && d.XML.Name().Local == "schema"
	}, func(d *Document, fetch Fetch) (contract.Contract, error) {
		l := &xsd.Loader{Fetch: fetch}
		if err := l.Add(d.Location, d.XML, nil); err != nil {
			return nil, err
		}
		schema, err := l.Schema()
		return &contract.XMLSchema{Schema: schema}, err
	}},
	{func(d *Document) bool { return d.XML != nil }, func(d *Document, fetch Fetch) (contract.Contract, error) {
		c, err := wsdl.ReadTree(d.Location, d.XML, fetch)
		if err != nil {
			return nil, err
		}
		return c, nil
	}},
}

func described(d contract.Description, err error) (contract.Contract, error) {
	if err != nil {
		return nil, err
	}
	return contract.NewDescribed(d), nil
}

// Read reads a contract of one of the formats.
func Read(location string, data []byte, fetch Fetch) (contract.Contract, error) {
	return read(All, location, data, fetch)
}

func read(formats []Format, location string, data []byte, fetch Fetch) (contract.Contract, error) {
	d := &Document{Location: location, Data: data}
	// JSON may be written as YAML, which is told from a plain text only by reading it.
	format := document.Guess(data)
	var wrong error
	if format == document.JSON || format == document.Plain {
		root, err := jsonschema.ReadData(location, data)
		switch {
		case err != nil && format == document.JSON:
			wrong = err
		case err == nil && root.Kind == document.Object:
			d.JSON = root
		}
	}
	switch start := strings.TrimSpace(string(data[:min(len(data), mostStart)])); {
	case d.JSON != nil || wrong != nil:
	case format == document.Plain && start != "" && start[0] != '<':
		wrong = fmt.Errorf("%s is not a contract (%s): it begins with %s", location, known, excerpt.Quote(start))
	default:
		d.XML, wrong = xsd.ReadXML(location, data)
	}
	for _, f := range formats {
		if !f.Is(d) {
			continue
		}
		c, err := f.Read(d, fetch)
		if err != nil {
			return nil, err
		}
		return c, nil
	}
	return nil, wrong // every object and every element is taken by a format, if only to be refused
}

// known are the formats, for messages; mostStart is how much of a document that is none is shown, in bytes.
const (
	known     = "WSDL, XML Schema, OpenAPI, WADL, OData metadata or JSON Schema"
	mostStart = 60
)

func isOpenAPI(d *Document) bool {
	// The member that says it may be after others, on one line.
	return openapi.Is(d.Data) || d.JSON != nil && (d.JSON.Get("openapi") != nil || d.JSON.Get("swagger") != nil)
}

// keywords are those of which a schema has at least one.
var keywords = []string{
	"$schema", "$id", "$ref", "$defs", "definitions", "type", "properties", "items",
	"enum", "const", "allOf", "anyOf", "oneOf", "required", "not",
}

func readJSONSchema(d *Document, fetch Fetch) (contract.Contract, error) {
	if !slices.ContainsFunc(keywords, func(k string) bool { return d.JSON.Get(k) != nil }) {
		return nil, fmt.Errorf("%s is not a contract (%s): it is %s", d.Location, known, d.JSON.Describe())
	}
	docs := &jsonschema.Documents{Fetch: fetch}
	at := docs.Add(d.Location, d.JSON)
	s, err := jsonschema.NewSet(docs, jsonschema.Alone, jsonschema.Both).Open(at)
	if err != nil {
		return nil, err
	}
	return &contract.JSONSchema{Schema: s}, nil
}
