package xpath

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"testbench/internal/xmlstream"
)

type tokenKind uint8

const (
	endToken tokenKind = iota
	signToken
	operatorToken
	nameToken     // a name, p:name, p:*
	functionToken // a name before (
	axisToken     // a name before ::
	numberToken
	textToken
)

type token struct {
	kind tokenKind
	text string
	at   int
}

func (t token) quoted() string {
	if t.kind == endToken {
		return "the end"
	}
	return strconv.Quote(t.text)
}

// scan splits an expression into tokens, telling operators from names by what
// is before them (section 3.7).
func scan(source string) ([]token, error) {
	s := scanner{text: source}
	for {
		for s.pos < len(source) && strings.IndexByte(" \t\r\n", source[s.pos]) >= 0 {
			s.pos++
		}
		s.start = s.pos
		if s.pos == len(source) {
			return append(s.tokens, token{kind: endToken, at: s.pos}), nil
		}
		if err := s.one(); err != nil {
			return nil, err
		}
	}
}

type scanner struct {
	text       string
	start, pos int
	tokens     []token
}

func (s *scanner) add(kind tokenKind, text string) {
	s.tokens = append(s.tokens, token{kind: kind, text: text, at: s.start})
}

// afterOperand says that an operator may follow here and a name may not.
func (s *scanner) afterOperand() bool {
	if len(s.tokens) == 0 {
		return false
	}
	last := s.tokens[len(s.tokens)-1]
	switch last.kind {
	case operatorToken, functionToken, axisToken:
		return false
	case signToken:
		return last.text == ")" || last.text == "]" || last.text == "." || last.text == ".." || last.text == "*"
	}
	return true
}

func (s *scanner) one() error {
	rest := s.text[s.pos:]
	for _, sign := range []string{"//", "!=", "<=", ">=", "..", "::"} {
		if strings.HasPrefix(rest, sign) {
			s.pos += 2
			if strings.ContainsAny(sign, "!<>") {
				s.add(operatorToken, sign)
			} else {
				s.add(signToken, sign)
			}
			return nil
		}
	}
	c := rest[0]
	switch {
	case c == '.' && len(rest) > 1 && isDigit(rest[1]), isDigit(c):
		end := 0
		for end < len(rest) && isDigit(rest[end]) {
			end++
		}
		if end < len(rest) && rest[end] == '.' {
			for end++; end < len(rest) && isDigit(rest[end]); end++ {
			}
		}
		s.pos += end
		s.add(numberToken, rest[:end])
		return nil
	case c == '"' || c == '\'':
		end := strings.IndexByte(rest[1:], c)
		if end < 0 {
			return &Error{Offset: s.pos, Message: "the text that begins with " + string(c) + " has no end"}
		}
		s.pos += end + 2
		s.add(textToken, rest[1:end+1])
		return nil
	case c == '*':
		s.pos++
		if s.afterOperand() {
			s.add(operatorToken, "*")
		} else {
			s.add(signToken, "*")
		}
		return nil
	case strings.IndexByte("+-=<>|", c) >= 0:
		s.pos++
		s.add(operatorToken, string(c))
		return nil
	case strings.IndexByte("()[].@,/$", c) >= 0:
		s.pos++
		s.add(signToken, string(c))
		return nil
	}
	return s.name()
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// ncName reads a name without colon.
func (s *scanner) ncName() string {
	start := s.pos
	for s.pos < len(s.text) {
		r, size := utf8.DecodeRuneInString(s.text[s.pos:])
		if r == ':' || !xmlstream.IsNameChar(r) || s.pos == start && !xmlstream.IsNameStart(r) ||
			r == utf8.RuneError && size == 1 {
			break
		}
		s.pos += size
	}
	return s.text[start:s.pos]
}

func (s *scanner) name() error {
	name := s.ncName()
	if name == "" {
		r, _ := utf8.DecodeRuneInString(s.text[s.pos:])
		return &Error{Offset: s.pos, Message: fmt.Sprintf("%q means nothing in XPath", r)}
	}
	if s.afterOperand() {
		if name == "and" || name == "or" || name == "div" || name == "mod" {
			s.add(operatorToken, name)
			return nil
		}
		return &Error{Offset: s.start, Message: fmt.Sprintf("%q found where an operator or the end is expected", name)}
	}
	if rest := s.text[s.pos:]; strings.HasPrefix(rest, ":") && !strings.HasPrefix(rest, "::") {
		s.pos++
		local := "*"
		if strings.HasPrefix(s.text[s.pos:], "*") {
			s.pos++
		} else if local = s.ncName(); local == "" {
			return &Error{Offset: s.start, Message: "a name is missing after " + name + ":"}
		}
		name += ":" + local
	}
	switch following := strings.TrimLeft(s.text[s.pos:], " \t\r\n"); {
	case strings.HasPrefix(following, "::"):
		s.pos = len(s.text) - len(following) + 2
		s.add(axisToken, name)
	case strings.HasPrefix(following, "("):
		s.add(functionToken, name)
	default:
		s.add(nameToken, name)
	}
	return nil
}
