// Package table reads rows with named columns: the inputs of sheets, out of CSV,
// JSON, lines of JSON, XML and spreadsheets, or out of a span of numbers or days. It
// knows nothing of sheets.
package table

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"testbench/internal/document"
	"testbench/internal/path"
)

// Table is rows with named columns.
type Table struct {
	Columns []string
	Rows    []*document.Node // objects; cells without a type are untyped texts
}

// Kinds are those that columns are to have: text, number or boolean.
type Kinds map[string]string

// Options say what of a file the rows are.
type Options struct {
	Kinds Kinds
	// Path leads to the list, or to the repeated element; the root where it is nil.
	Path *path.Path
	// Sheet is the sheet of a spreadsheet; the first where it is empty.
	Sheet string
	// Header is the row of a spreadsheet that names the columns, from 1; 0 is 1.
	Header int
}

// Endings are those of the files that can be read.
var Endings = []string{".csv", ".json", ".ndjson", ".jsonl", ".xml", ".xlsx"}

// whole reads a file as a whole.
func whole(ending string, data []byte, o Options) (*Table, error) {
	switch ending {
	case ".json":
		root, err := document.ReadJSON(data)
		if err != nil {
			return nil, err
		}
		return under(root, o)
	case ".xml":
		root, err := document.ReadXML(data, "")
		if err != nil {
			return nil, err
		}
		return under(root, o)
	case ".xlsx":
		return readSpreadsheet(data, o)
	}
	return nil, fmt.Errorf("rows are read from files that end with %s", strings.Join(Endings, ", "))
}

// under takes what a path leads to as the rows.
func under(root *document.Node, o Options) (*Table, error) {
	items := root.Items()
	switch {
	case o.Path != nil:
		found, err := o.Path.Find(path.Roots{Answer: root}, nil)
		if err != nil {
			return nil, err
		}
		items = nil
		for _, m := range found.Matches {
			switch {
			case m.Node == nil:
			case m.Node.Kind == document.List:
				items = append(items, m.Node.Items()...)
			default:
				items = append(items, m.Node)
			}
		}
		if len(items) == 0 {
			return nil, fmt.Errorf("path: %s leads to nothing there", o.Path.Source)
		}
	case root.Kind == document.Element:
		return nil, fmt.Errorf("say with path: which element is repeated, as path: %s", firstChild(root))
	case root.Kind != document.List:
		return nil, fmt.Errorf("it is %s, not a list; say with path: where the list is", root.Describe())
	}
	return Of(items, o.Kinds)
}

func firstChild(root *document.Node) string {
	if children := root.Children(); len(children) > 0 {
		return children[0].Name().Local
	}
	return "lot"
}

// Of makes a table of values: objects with their members as columns, elements with
// their attributes and children, and single values in a column called value.
func Of(items []*document.Node, kinds Kinds) (*Table, error) {
	t := &Table{}
	for i, item := range items {
		row, err := kinds.row(item)
		if err != nil {
			return nil, fmt.Errorf("row %d, %w", i+1, err)
		}
		t.addColumns(row)
		t.Rows = append(t.Rows, row)
	}
	for _, row := range t.Rows {
		complete(row, t.Columns)
	}
	return t, nil
}

// row makes a row of a value, with cells of the kinds that are wanted.
func (k Kinds) row(item *document.Node) (*document.Node, error) {
	row := rowOf(item)
	for i, m := range row.Members() {
		if kind := k[m.Key]; kind != "" && m.Value.IsScalar() && m.Value.Kind != document.Null {
			cell, err := cellOf(m.Value.Text, kind)
			if err != nil {
				return nil, fmt.Errorf("column %s: %w", m.Key, err)
			}
			row.Members()[i].Value = cell
		}
	}
	return row, nil
}

func (t *Table) addColumns(row *document.Node) {
	for i, m := range row.Members() {
		if i < len(t.Columns) && t.Columns[i] == m.Key {
			continue // as in most rows
		}
		if !slices.Contains(t.Columns, m.Key) {
			t.Columns = append(t.Columns, m.Key)
		}
	}
}

// complete puts null where a row has nothing, so that the name is known in it.
func complete(row *document.Node, columns []string) {
	for i, column := range columns {
		if i < len(row.Members()) && row.Members()[i].Key == column {
			continue
		}
		if row.Get(column) == nil {
			row.Set(column, &document.Node{Kind: document.Null})
		}
	}
}

func rowOf(item *document.Node) *document.Node {
	switch item.Kind {
	case document.Object:
		return item.Copy()
	case document.Element:
		row := document.NewFields()
		for _, a := range item.Attributes() {
			if !a.IsDeclaration() {
				row.Set(a.Name.Local, document.NewUntyped(a.Value))
			}
		}
		for _, child := range item.Children() {
			name := child.Name().Local
			cell := child
			if len(child.Children()) == 0 && len(child.Attributes()) == 0 {
				cell = document.NewUntyped(child.OwnText())
			}
			row.Append(name, cell)
		}
		return row.Object()
	}
	return document.NewObject().Set("value", item)
}

// Sample takes so many rows by chance, the same ones for the same seed. Offer it each
// row's number; it holds no more of them than are wanted.
type Sample struct {
	expected int
	seed     string
	taken    []ranked
}

type ranked struct {
	number int
	rank   uint64
}

// NewSample wants so many rows; the seed decides which.
func NewSample(expected int, seed string) *Sample { return &Sample{expected: expected, seed: seed} }

// Offer is told of the next row. The number is what Numbers gives back.
func (s *Sample) Offer(ordinal, number int) {
	rank := Hash(s.seed, ordinal)
	at, _ := slices.BinarySearchFunc(s.taken, rank, func(r ranked, rank uint64) int {
		return cmp.Compare(r.rank, rank)
	})
	if at == s.expected {
		return
	}
	s.taken = slices.Insert(s.taken, at, ranked{number, rank})
	s.taken = s.taken[:min(len(s.taken), s.expected)]
}

// Numbers are those of the rows that were taken, in order.
func (s *Sample) Numbers() []int {
	numbers := make([]int, len(s.taken))
	for i, one := range s.taken {
		numbers[i] = one.number
	}
	slices.Sort(numbers)
	return numbers
}

// Hash is the same number for the same words everywhere, and spread evenly.
func Hash(text string, number int) uint64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%s/%d", text, number)
	return mixed(h.Sum64())
}

// mixed spreads a hash over all its bits: neighbours differ in the last ones alone.
func mixed(h uint64) uint64 {
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}
