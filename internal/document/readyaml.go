package document

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"testbench/internal/excerpt"
	"testbench/internal/lazy"
)

// YAML is a format of descriptions; nothing that is sent or received is read so.
const YAML Format = "YAML"

// mostYAML bounds the nodes that the aliases of a YAML document may stand for.
const mostYAML = 1_000_000

// ReadYAML reads YAML by its JSON schema's types as far as those are written the
// way JSON writes them (YAML 1.2.2, 10.2 and 10.3). Aliases are written out, within
// a bound. Nodes carry the line and column where they are. Errors are of type
// *Error.
func ReadYAML(data []byte) (*Node, error) {
	if !utf8.Valid(data) {
		return nil, &Error{Format: string(YAML), Line: 1, Column: 1, Message: "it is not UTF-8"}
	}
	var root yaml.Node
	if err := yaml.Load(data, &root); err != nil {
		if strings.Contains(err.Error(), "no documents in stream") {
			return &Node{Kind: Null}, nil
		}
		failure := &Error{Format: string(YAML), Line: 1, Column: 1, Message: err.Error()}
		var load *yaml.LoadError
		if errors.As(err, &load) {
			failure.Message = load.Message
			failure.Line, failure.Column = load.Mark.Line, load.Mark.Column
		}
		return nil, failure
	}
	if len(root.Content) == 0 {
		return &Node{Kind: Null}, nil
	}
	r := &yamlReader{}
	return r.node(root.Content[0], 0)
}

type yamlReader struct {
	count int
	open  []*yaml.Node // aliased nodes that are being written out
}

func yamlError(y *yaml.Node, format string, args ...any) error {
	return &Error{Format: string(YAML), Line: y.Line, Column: y.Column, Message: fmt.Sprintf(format, args...)}
}

func (r *yamlReader) node(y *yaml.Node, depth int) (*Node, error) {
	if r.count++; r.count > mostYAML {
		return nil, yamlError(y, "its aliases stand for more than %d values", mostYAML)
	}
	if depth > MaxDepth {
		return nil, yamlError(y, "it is nested deeper than %d", MaxDepth)
	}
	n := &Node{Line: int32(y.Line), Column: int32(y.Column)}
	switch y.Kind {
	case yaml.AliasNode:
		for _, open := range r.open {
			if open == y.Alias {
				return nil, yamlError(y, "the alias *%s is inside what it refers to", y.Value)
			}
		}
		r.open = append(r.open, y.Alias)
		defer func() { r.open = r.open[:len(r.open)-1] }()
		return r.node(y.Alias, depth+1)
	case yaml.MappingNode:
		n.Kind = Object
		return n, r.mapping(n, y, depth)
	case yaml.SequenceNode:
		n.Kind = List
		for _, item := range y.Content {
			value, err := r.node(item, depth+1)
			if err != nil {
				return nil, err
			}
			n.AppendItems(value)
		}
	default:
		n.Kind, n.Text = scalarYAML(y)
	}
	return n, nil
}

func (r *yamlReader) mapping(n *Node, y *yaml.Node, depth int) error {
	seen := make(map[string]bool, len(y.Content)/2)
	merged := false
	for i := 0; i+1 < len(y.Content); i += 2 {
		key := y.Content[i]
		if key.Kind == yaml.AliasNode {
			key = key.Alias
		}
		if key.Kind != yaml.ScalarNode {
			return yamlError(key, "a key must be a text")
		}
		value, err := r.node(y.Content[i+1], depth+1)
		if err != nil {
			return err
		}
		if key.Tag == "!!merge" || key.Value == "<<" && key.Style == 0 {
			merge(n, value)
			merged = true
			continue
		}
		if seen[key.Value] {
			return yamlError(key, "%s is here a second time", excerpt.Quote(key.Value))
		}
		seen[key.Value] = true
		if merged {
			n.Set(key.Value, value) // what is written is before what is merged
			continue
		}
		n.AppendMembers(Member{key.Value, value})
	}
	return nil
}

// merge takes in the members of another mapping, or of several, that are not
// there yet (the merge key of YAML 1.1, which documents still use).
func merge(n, from *Node) {
	for _, one := range append([]*Node{from}, from.Items()...) {
		for _, m := range one.Members() {
			if n.Get(m.Key) == nil {
				n.AppendMembers(m)
			}
		}
	}
}

var (
	yamlNumber  = lazy.Regexp(`^[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?$`)
	yamlInteger = lazy.Regexp(`^0(o[0-7]+|x[0-9a-fA-F]+)$`)
)

// scalarYAML gives a scalar the type of the core schema (YAML 1.2.2, 10.3.2).
func scalarYAML(y *yaml.Node) (Kind, string) {
	tag := ""
	if y.Style&yaml.TaggedStyle != 0 {
		tag = y.Tag
	}
	if tag == "!!binary" {
		if _, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(y.Value), "")); err == nil {
			return Text, strings.Join(strings.Fields(y.Value), "")
		}
	}
	if y.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle|yaml.LiteralStyle|yaml.FoldedStyle) != 0 ||
		tag == "!!str" {
		return Text, y.Value
	}
	switch y.Value {
	case "", "~", "null", "Null", "NULL":
		return Null, ""
	case "true", "True", "TRUE":
		return Boolean, "true"
	case "false", "False", "FALSE":
		return Boolean, "false"
	}
	switch {
	case IsNumber(y.Value):
		return Number, y.Value
	case yamlNumber().MatchString(y.Value):
		return Number, plainNumber(y.Value)
	case yamlInteger().MatchString(y.Value):
		var n uint64
		if _, err := fmt.Sscan(y.Value, &n); err == nil {
			return Number, fmt.Sprint(n)
		}
	}
	return Text, y.Value
}

// plainNumber writes a number as JSON does: +1.50 is 1.50, .5 is 0.5, 007 is 7.
func plainNumber(text string) string {
	sign := ""
	if text[0] == '-' {
		sign = "-"
	}
	text = strings.TrimLeft(text, "+-")
	digits, exponent := text, ""
	if at := strings.IndexAny(text, "eE"); at >= 0 {
		digits, exponent = text[:at], text[at:]
	}
	whole, fraction, dotted := strings.Cut(digits, ".")
	if whole = strings.TrimLeft(whole, "0"); whole == "" {
		whole = "0"
	}
	if dotted && fraction != "" {
		whole += "." + fraction
	}
	return sign + whole + exponent
}
