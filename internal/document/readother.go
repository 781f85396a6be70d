package document

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"slices"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// ReadCSV reads comma-separated values (RFC 4180), also with semicolons, tabs or
// bars between. With a header row the rows are objects by its names, else lists.
// The parameter header of the media type says whether there is one; without it
// there is, unless the first row could not be one.
func ReadCSV(text, header string) (*Node, error) {
	reader := csv.NewReader(strings.NewReader(text))
	reader.Comma = separator(text)
	reader.FieldsPerRecord = -1
	reader.LazyQuotes = false
	var rows [][]string
	for {
		row, err := reader.Read()
		if err == io.EOF {
			break
		}
		var parse *csv.ParseError
		if errors.As(err, &parse) {
			return nil, &Error{Format: string(CSV), Line: parse.Line, Column: parse.Column, Message: parse.Err.Error()}
		}
		if err != nil {
			return nil, err
		}
		rows = append(rows, row)
	}
	list := NewList()
	if len(rows) == 0 {
		return list, nil
	}
	named := header == "present" || header != "absent" && isHeader(rows[0])
	for _, row := range rows[btoi(named):] {
		if !named {
			item := NewList()
			for _, cell := range row {
				item.AppendItems(NewUntyped(cell))
			}
			list.AppendItems(item)
			continue
		}
		item := NewObject()
		for i, cell := range row {
			name := fmt.Sprintf("column %d", i+1)
			if i < len(rows[0]) {
				name = strings.TrimSpace(rows[0][i])
			}
			item.AppendMembers(Member{name, NewUntyped(cell)})
		}
		list.AppendItems(item)
	}
	return list, nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// separator is the character that stands most often in the first line, outside of
// quotes.
func separator(text string) rune {
	line, _, _ := strings.Cut(text, "\n")
	best, most := ',', 0
	for _, candidate := range ",;\t|" {
		count, quoted := 0, false
		for _, c := range line {
			if c == '"' {
				quoted = !quoted
			} else if c == candidate && !quoted {
				count++
			}
		}
		if count > most {
			best, most = candidate, count
		}
	}
	return best
}

// isHeader says whether a row can be a header: names that differ, and no numbers.
func isHeader(row []string) bool {
	seen := map[string]bool{}
	for _, cell := range row {
		name := strings.TrimSpace(cell)
		if name == "" || seen[name] || IsNumber(name) {
			return false
		}
		seen[name] = true
	}
	return true
}

// ReadLines reads JSON values, one a line, or each behind a record separator (RFC
// 7464).
func ReadLines(data []byte) (*Node, error) {
	var items []*Node
	reader := newJSONReader(len(data))
	number, passed := 0, 0
	for whole := range bytes.Lines(data) {
		number++
		at := passed
		passed += len(whole)
		line := bytes.Trim(whole, " \t\r\n\x1e")
		if len(line) == 0 {
			continue
		}
		v, err := reader.document(line)
		var syntax *Error
		if errors.As(err, &syntax) {
			lead := bytes.Index(whole, line)
			syntax.Format, syntax.Line = string(Lines), number
			syntax.Column, syntax.Offset = syntax.Column+lead, syntax.Offset+at+lead
		}
		if err != nil {
			return nil, err
		}
		items = push(items, v)
	}
	return NewList(items...), nil
}

// mostParts bounds the parts of a multipart body, and their nesting.
const (
	mostParts   = 1_000
	mostNesting = 5
)

// ReadMultipart reads a multipart body (RFC 2046, 5.1) as a list of its parts: name,
// file, type, size, sha256, headers and content, which is read as its type says.
func ReadMultipart(contentType string, data []byte) (*Node, error) {
	return readMultipart(contentType, data, 0)
}

func readMultipart(contentType string, data []byte, depth int) (*Node, error) {
	_, parameters, err := mime.ParseMediaType(contentType)
	if err != nil || parameters["boundary"] == "" {
		return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: "its content type names no boundary"}
	}
	reader := multipart.NewReader(bufio.NewReader(bytes.NewReader(data)), parameters["boundary"])
	list := NewList()
	for {
		part, err := reader.NextRawPart()
		if err == io.EOF {
			return list, nil
		}
		if err != nil {
			return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: err.Error()}
		}
		if len(list.Items()) == mostParts {
			return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: fmt.Sprintf("it has more than %d parts", mostParts)}
		}
		content, err := io.ReadAll(part)
		if err != nil {
			return nil, &Error{Format: string(Multipart), Line: 1, Column: 1, Message: err.Error()}
		}
		list.AppendItems(partNode(part, content, depth))
	}
}

func partNode(part *multipart.Part, content []byte, depth int) *Node {
	switch strings.ToLower(part.Header.Get("Content-Transfer-Encoding")) {
	case "base64":
		if decoded, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(content)), "")); err == nil {
			content = decoded
		}
	case "quoted-printable":
		if decoded, err := io.ReadAll(quotedprintable.NewReader(bytes.NewReader(content))); err == nil {
			content = decoded
		}
	}
	sum := sha256.Sum256(content)
	mediaType := part.Header.Get("Content-Type")
	node := NewObject()
	if name := part.FormName(); name != "" {
		node.Set("name", NewUntyped(name))
	}
	if file := part.FileName(); file != "" {
		node.Set("file", NewUntyped(file))
	}
	node.Set("type", NewUntyped(mediaType)).Set("size", NewNumber(itoa(len(content)))).Set("sha256", NewUntyped(hex.EncodeToString(sum[:])))
	headers := NewFields()
	headers.Object().FoldCase = true
	names := make([]string, 0, len(part.Header))
	for name := range part.Header {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		for _, v := range part.Header[name] {
			headers.Append(name, NewUntyped(v))
		}
	}
	node.Set("headers", headers.Object())
	if mediaType == "" {
		mediaType = "text/plain" // RFC 2046, 5.1
	}
	format := FormatOf(mediaType, content)
	var inner *Node
	var err error
	switch {
	case format == Multipart && depth < mostNesting:
		inner, err = readMultipart(mediaType, content, depth+1)
	case format != Multipart:
		inner, err = ReadAs(format, mediaType, content)
	}
	if inner == nil || err != nil {
		inner = NewUntyped(strings.ToValidUTF8(string(content), "\ufffd"))
	}
	return node.Set("content", inner)
}

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
	return page.Set("text", NewUntyped(words(root))).Set("links", p.links).Set("tables", p.tables).Set("forms", p.forms), nil
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
var apart = []atom.Atom{atom.P, atom.Div, atom.Li, atom.Table, atom.Form, atom.Textarea, atom.Select, atom.Td, atom.Th, atom.Tr, atom.Br,
	atom.H1, atom.H2, atom.H3, atom.H4, atom.H5, atom.H6, atom.Title, atom.Option}

// words is the text of a node, without what nobody reads, blanks put together.
func words(n *html.Node) string {
	var out strings.Builder
	var walk func(*html.Node, int)
	walk = func(n *html.Node, depth int) {
		switch {
		case depth > MaxDepth, n.Type == html.ElementNode && (n.DataAtom == atom.Script || n.DataAtom == atom.Style || n.DataAtom == atom.Template):
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
		if i == 0 && len(cells) > 0 && !slices.ContainsFunc(cells, func(c *html.Node) bool { return c.DataAtom != atom.Th }) {
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
