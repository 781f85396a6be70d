// Package schema holds what schemas of every language have in common for those
// that use them: the outline of a type, what is wrong with a value, and a
// sample. Which language a type is written in, its package knows.
package schema

import (
	"fmt"
	"strings"

	"testbench/internal/document"
)

// Type is what a description says of a value.
type Type interface {
	// Words says in a few words what the value is, with its facets.
	Words() string
	// Outline lists the fields, in the order of the schema, down to a depth (0: all).
	Outline(depth int) []Row
	// Fill gives the values of a request the types that the schema wants, and tells
	// what is wrong with them.
	Fill(v *document.Node) (*document.Node, []FillError)
	// Check holds a value of an answer against the schema.
	Check(v *document.Node) []Fault
	// Sample makes a valid value: the mandatory parts, or all.
	Sample(o SampleOptions) *Sample
}

// Row is one line of an outline: a field with what its schema says.
type Row struct {
	Depth    int    `json:"-"`
	Path     string `json:"path"`             // as fields and paths name it
	Name     string `json:"-"`                // with @ before an attribute
	Type     string `json:"type,omitempty"`   // in words, with facets; empty for what only holds others
	Occurs   string `json:"occurs,omitempty"` // "" for exactly once, else in words
	Required bool   `json:"required"`
	Choice   string `json:"one_of,omitempty"` // the names of which this is one
	// Only are the values of which it is one, or of which each of its elements is; nil for others.
	Only     []string `json:"-"`
	Nillable bool     `json:"nullable,omitempty"`
	Default  string   `json:"default,omitempty"`
	Fixed    string   `json:"fixed,omitempty"`
	Example  string   `json:"example,omitempty"`
	About    string   `json:"about,omitempty"`
	// Again says that the type was outlined above, where it holds itself.
	Again bool `json:"-"`
}

// FillError is something wrong with the fields of a request.
type FillError struct {
	Path    string // of the field, as a tester writes it
	Message string
}

func (s FillError) String() string {
	if s.Path == "" {
		return s.Message
	}
	return s.Path + " " + s.Message
}

// Fault is something wrong with a message or an instance. Line and Column are 0
// where the place is not known.
type Fault struct {
	Line, Column int
	Offset       int64
	Path         string // as paths of answers are written, without the root
	Message      string
}

// Text is the message with the path before it, unless it begins with that itself.
func (f Fault) Text() string {
	if f.Path == "" || strings.HasPrefix(f.Message, f.Path+" ") {
		return f.Message
	}
	return f.Path + ": " + f.Message
}

func (f Fault) String() string {
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Text())
}

// Unknown stands for a value that is not known yet: it is taken for any value.
var Unknown = &document.Node{Kind: document.Untyped}

// SampleOptions say how a sample is made.
type SampleOptions struct {
	// Optional asks for the parts that may be left out, too.
	Optional bool
	// MaxDepth bounds the nesting; 0 means 60.
	MaxDepth int
	// Encoded leaves out what belongs to the encoding of SOAP 1.1, section 5, and not to the values: id, href.
	Encoded bool
}

// MostParts is how many elements, members and items a sample has at most: a contract of a few lines
// can ask for any number.
const MostParts = 20_000

// Sample is a valid value that was made from a schema, the same each time.
type Sample struct {
	Root *document.Node
	// Remarks tell for a part what its schema says of it: whether it may be left
	// out, what values it takes.
	Remarks map[*document.Node]string
	// Cut tells where a type that holds itself was not followed further although it
	// is mandatory: there the sample is not valid, as no finite one could be.
	Cut []string
	// TooLarge says that the sample was cut at MostParts, and is not valid.
	TooLarge bool
	// Omitted is how many members were left out because they may be and are deep inside
	// others.
	Omitted int
}

// Below puts a name after a path.
func Below(path, name string) string {
	if path == "" || strings.HasPrefix(name, "[") {
		return path + name
	}
	return path + "." + name
}
