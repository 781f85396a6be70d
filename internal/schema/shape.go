package schema

// Shaped is a type that says what it takes in a form in which two schemas, of one
// language or of two, can be checked against each other.
type Shaped interface {
	Shape() *Shape
}

// Shape is what a schema says of a value. What it does not say is nil or empty, and
// allows everything.
type Shape struct {
	// ID is the same for the same part of a schema, so that one that holds itself is not
	// followed for ever; nil where that cannot be.
	ID any
	// Words say what the value is, for people.
	Words string
	// Kinds are the kinds of values: text, integer, number, boolean, object, list, null.
	Kinds []string
	// Formats name a type beyond its kind, from the narrowest to the widest: int, long,
	// integer, decimal.
	Formats []string
	// Only are the only values.
	Only []string
	// Variants are the names of what may be in place of the type.
	Variants []string

	Least, Most                 *Limit
	MinLength, MaxLength        *int // of characters, bytes, items
	TotalDigits, FractionDigits *int
	MultipleOf                  string
	Patterns                    []string
	Unique                      bool // no item twice

	// Rest is what else is said, as it is written; it can be told to be another, and not
	// whether it is narrower.
	Rest string

	Members Openness
	Ordered bool // fields follow one another as they are listed
	Fields  func() []ShapeField
	Items   func() *Shape
	// Choices are alternatives of which one holds.
	Choices func() []*Shape
}

// Limit is an end of a range.
type Limit struct {
	Text      string
	Exclusive bool
}

// Openness says what becomes of members that are not described.
type Openness uint8

// The ways.
const (
	Silent Openness = iota // nothing is said: they are taken
	Open                   // it is said that they are taken
	Closed                 // they are refused
)

// ShapeField is one field of an object or an element.
type ShapeField struct {
	Name       string // with @ before an attribute
	Required   bool
	Min, Max   int    // how often it occurs; Max -1 for without bound; both 0 where it occurs once at most
	Choice     string // the names of which this is one
	Default    string
	Deprecated bool
	Shape      func() *Shape
}

// OnlyOf are the values of which one of a type is, or of which each element of a list is; nil for others, and where
// the type does not tell.
func OnlyOf(t Type) []string {
	if telling, ok := t.(interface{ Only() []string }); ok {
		return telling.Only()
	}
	return nil
}
