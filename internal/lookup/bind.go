package lookup

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Statement is one SQL statement with parameters by name, as :name.
type Statement struct {
	Source string
	Names  []string // each once, in the order in which they first stand there
	// pieces are the text around the parameters; of[i] is the name after pieces[i].
	pieces []string
	of     []int
}

// SyntaxError says what is wrong with a statement; Offset is in bytes.
type SyntaxError struct {
	Message string
	Offset  int
}

func (e *SyntaxError) Error() string { return e.Message }

// Parse finds the parameters of a statement. What is in quotes and comments is
// left alone; more than one statement is refused.
func Parse(source string) (*Statement, error) {
	s := &Statement{Source: source}
	start, end := 0, -1 // end is where a semicolon stood
	for i := 0; i < len(source); {
		next, err := skipped(source, i)
		if err != nil {
			return nil, err
		}
		if next > i {
			i = next
			continue
		}
		c := source[i]
		switch {
		case c == ';' && end < 0:
			end = i
		case end >= 0 && c > ' ':
			return nil, &SyntaxError{"a second statement begins here; write one a step", i}
		case c == ':' && strings.HasPrefix(source[i:], "::"): // a cast
			i++
		case c == ':' && i+1 < len(source) && isLetter(source[i+1]):
			name := source[i+1:]
			for n := 0; n < len(name); n++ {
				if !isLetter(name[n]) && (name[n] < '0' || name[n] > '9') {
					name = name[:n]
				}
			}
			s.pieces = append(s.pieces, source[start:i])
			s.of = append(s.of, s.number(name))
			i += len(name)
			start = i + 1
		}
		i++
	}
	if end < 0 || end < start {
		end = len(source)
	}
	if strings.TrimSpace(source) == "" {
		return nil, &SyntaxError{"there is no statement", 0}
	}
	s.pieces = append(s.pieces, source[start:end])
	return s, nil
}

func (s *Statement) number(name string) int {
	for i, known := range s.Names {
		if known == name {
			return i
		}
	}
	s.Names = append(s.Names, name)
	return len(s.Names) - 1
}

func isLetter(c byte) bool { return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// skipped gives the place after a quoted text, name or comment that begins at i, or i
// where none does. Brackets are left alone: they are names in one dialect and indexes
// in another.
func skipped(source string, i int) (int, error) {
	rest := source[i:]
	after := func(opening int, closing, what string) (int, error) {
		at := strings.Index(rest[opening:], closing)
		if at < 0 {
			return 0, &SyntaxError{what + " is not closed", i}
		}
		return i + opening + at + len(closing), nil
	}
	switch {
	case strings.HasPrefix(rest, "--"):
		if at := strings.IndexByte(rest, '\n'); at >= 0 {
			return i + at, nil
		}
		return len(source), nil
	case strings.HasPrefix(rest, "/*"):
		return after(2, "*/", "a comment")
	case rest[0] == '\'' || rest[0] == '"' || rest[0] == '`':
		return after(1, rest[:1], "what is in quotes")
	case rest[0] == '$':
		// $tag$ text $tag$ of PostgreSQL.
		tag := 1
		for tag < len(rest) && (isLetter(rest[tag]) || rest[tag] >= utf8.RuneSelf) {
			tag++
		}
		if tag < len(rest) && rest[tag] == '$' {
			return after(tag+1, rest[:tag+1], "what is in "+rest[:tag+1])
		}
	}
	return i, nil
}

// text is the statement as a kind of database wants its parameters, and the number of
// the parameter for each place; where places have numbers, each parameter has one.
func (s *Statement) text(kind string) (string, []int) {
	var out strings.Builder
	var order []int
	for i, piece := range s.pieces {
		out.WriteString(piece)
		if i == len(s.of) {
			break
		}
		switch n := s.of[i]; kind {
		case MySQL:
			out.WriteByte('?')
			order = append(order, n)
		case SQLServer:
			fmt.Fprintf(&out, "@p%d", n+1)
		case SQLite:
			fmt.Fprintf(&out, "?%d", n+1)
		default:
			fmt.Fprintf(&out, "$%d", n+1)
		}
	}
	if kind != MySQL {
		for n := range s.Names {
			order = append(order, n)
		}
	}
	return out.String(), order
}
