package document

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
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

// separator is the character that is most frequent in the first line, outside of
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
