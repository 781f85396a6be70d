package document

import (
	"fmt"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// ReadHTML reads a page as what of it can be asked for: title, headings, text,
// links, tables (rows by the names of their heads) and forms with their fields.
func ReadHTML(text string) (*Node, error) {
	root, err := html.ParseWithOptions(strings.NewReader(text), html.ParseOptionEnableScripting(false))
	if err != nil {
		return nil, &Error{Format: string(HTML), Line: 1, Column: 1, Message: err.Error()}
	}
	p := &page{headings: NewList(), links: NewList(), tables: NewList(), forms: NewList()}
	p.walk(root, 0)
	page := NewObject().Set("title", NewUntyped(p.title)).Set("headings", p.headings)
	return page.Set("text", NewUntyped(words(root))).Set("links", p.links).Set("tables", p.tables).Set("forms",
		p.forms), nil
}

type page struct {
	title                          string
	headings, links, tables, forms *Node
}

func (p *page) walk(n *html.Node, depth int) {
	if depth > MaxDepth {
		return
	}
	if n.Type == html.ElementNode {
		switch n.DataAtom {
		case atom.Title:
			if p.title == "" {
				p.title = words(n)
			}
		case atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6:
			p.headings.AppendItems(NewUntyped(words(n)))
		case atom.A, atom.Link:
			if href, ok := attributeOf(n, "href"); ok {
				link := NewObject().Set("href", NewUntyped(href)).Set("text", NewUntyped(words(n)))
				if rel, ok := attributeOf(n, "rel"); ok {
					link.Set("rel", NewUntyped(rel))
				}
				p.links.AppendItems(link)
			}
		case atom.Table:
			p.tables.AppendItems(tableOf(n))
		case atom.Form:
			p.forms.AppendItems(formOf(n))
		}
	}
	for child := n.FirstChild; child != nil; child = child.NextSibling {
		p.walk(child, depth+1)
	}
}

func attributeOf(n *html.Node, name string) (string, bool) {
	for _, a := range n.Attr {
		if a.Key == name {
			return a.Val, true
		}
	}
	return "", false
}

// apart are elements whose text does not run on into that of their neighbours.
var apart = []atom.Atom{
	atom.P, atom.Div, atom.Li, atom.Table, atom.Form, atom.Textarea, atom.Select, atom.Td, atom.Th, atom.Tr, atom.Br,
	atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6, atom.Title, atom.Option,
}

// words is the text of a node, without what nobody reads, blanks put together.
func words(n *html.Node) string {
	var out strings.Builder
	var walk func(*html.Node, int)
	walk = func(n *html.Node, depth int) {
		switch {
		case depth > MaxDepth, n.Type == html.ElementNode &&
			(n.DataAtom == atom.Script || n.DataAtom == atom.Style || n.DataAtom == atom.Template):
			return
		case n.Type == html.TextNode:
			out.WriteString(n.Data)
		case n.Type == html.ElementNode && slices.Contains(apart, n.DataAtom):
			out.WriteByte(' ')
			defer out.WriteByte(' ')
		}
		for child := n.FirstChild; child != nil; child = child.NextSibling {
			walk(child, depth+1)
		}
	}
	walk(n, 0)
	return strings.Join(strings.Fields(out.String()), " ")
}

// tableOf reads the rows of a table: objects where the first row is of heads, else
// lists.
func tableOf(table *html.Node) *Node {
	var rows [][]*html.Node
	var walk func(*html.Node, int)
	walk = func(n *html.Node, depth int) {
		if depth > MaxDepth || n != table && n.Type == html.ElementNode && n.DataAtom == atom.Table {
			return // a table within has rows of its own
		}
		if n.Type == html.ElementNode && n.DataAtom == atom.Tr {
			var cells []*html.Node
			for child := n.FirstChild; child != nil; child = child.NextSibling {
				if child.Type == html.ElementNode && (child.DataAtom == atom.Td || child.DataAtom == atom.Th) {
					cells = append(cells, child)
				}
			}
			rows = append(rows, cells)
			return
		}
		for child := n.FirstChild; child != nil; child = child.NextSibling {
			walk(child, depth+1)
		}
	}
	walk(table, 0)
	list := NewList()
	var heads []string
	for i, cells := range rows {
		if i == 0 && len(cells) > 0 && !slices.ContainsFunc(cells, func(c *html.Node) bool {
			return c.DataAtom != atom.Th
		}) {
			for _, c := range cells {
				heads = append(heads, words(c))
			}
			continue
		}
		if heads == nil {
			row := NewList()
			for _, c := range cells {
				row.AppendItems(NewUntyped(words(c)))
			}
			list.AppendItems(row)
			continue
		}
		row := NewObject()
		for j, c := range cells {
			name := fmt.Sprintf("column %d", j+1)
			if j < len(heads) && heads[j] != "" {
				name = heads[j]
			}
			row.AppendMembers(Member{name, NewUntyped(words(c))})
		}
		list.AppendItems(row)
	}
	return list
}

// formOf reads where a form goes, and what its fields hold.
func formOf(form *html.Node) *Node {
	node := NewObject()
	for _, name := range []string{"name", "id", "action", "method"} {
		if v, ok := attributeOf(form, name); ok {
			node.Set(name, NewUntyped(v))
		}
	}
	fields := NewFields()
	var walk func(*html.Node, int)
	walk = func(n *html.Node, depth int) {
		if depth > MaxDepth {
			return
		}
		if name, ok := attributeOf(n, "name"); ok && n != form && n.Type == html.ElementNode {
			value, _ := attributeOf(n, "value")
			switch n.DataAtom {
			case atom.Textarea:
				value = words(n)
			case atom.Select:
				value = chosenOption(n)
			}
			switch n.DataAtom {
			case atom.Input, atom.Textarea, atom.Select, atom.Button:
				fields.Append(name, NewUntyped(value))
			}
		}
		for child := n.FirstChild; child != nil; child = child.NextSibling {
			walk(child, depth+1)
		}
	}
	walk(form, 0)
	return node.Set("fields", fields.Object())
}

// chosenOption is the value of the option that is selected, else of the first.
func chosenOption(n *html.Node) string {
	first, chosen, found := "", "", false
	for child := n.FirstChild; child != nil; child = child.NextSibling {
		if child.Type != html.ElementNode || child.DataAtom != atom.Option {
			continue
		}
		value, ok := attributeOf(child, "value")
		if !ok {
			value = words(child)
		}
		if _, selected := attributeOf(child, "selected"); selected {
			chosen, found = value, true
		}
		if first == "" {
			first = value
		}
	}
	if found {
		return chosen
	}
	return first
}
