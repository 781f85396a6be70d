package document

import (
	"strings"
)

// ReadEvents reads an event stream (HTML Standard, 9.2.6) into a list of its events: event, data, id and retry,
// each where it is there. Data that is JSON is its tree, any other is text.
func ReadEvents(text string) (*Node, error) {
	var items []*Node
	var data []string
	event := NewObject()
	reader := newJSONReader(len(text)) // one for all: their values are counted together
	dispatch := func() error {
		if len(data) > 0 {
			joined := strings.Join(data, "\n")
			node := NewText(joined)
			if Guess([]byte(joined)) == JSON {
				tree, err := reader.document([]byte(joined))
				switch {
				case err == nil:
					node = tree
				case reader.arena.made > MaxNodes:
					return err
				}
			}
			items = push(items, event.Set("data", node))
		}
		event, data = NewObject(), nil
		if len(items) > MaxNodes/4 {
			return errTooMany
		}
		return nil
	}
	for line := range strings.SplitSeq(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text), "\n") {
		name, content, _ := strings.Cut(line, ":")
		content = strings.TrimPrefix(content, " ")
		switch {
		case line == "":
			if err := dispatch(); err != nil {
				return nil, err
			}
		case name == "data":
			data = append(data, content)
		case name == "event" || name == "id" || name == "retry":
			event.Set(name, NewUntyped(content))
		}
	}
	err := dispatch() // one that the end of the stream cut off is shown, too
	return NewList(items...), err
}
