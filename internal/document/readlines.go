package document

import (
	"bytes"
	"errors"
)

// ReadLines reads JSON values, one a line, or each after a record separator (RFC
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
