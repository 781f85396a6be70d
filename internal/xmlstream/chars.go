package xmlstream

import "unicode/utf8"

// Classes of bytes, one table so that the inner loops look at one byte once.
const (
	inName  = 1 << iota // an ASCII character that may be in a name
	starts  = inName << 1
	inText  = starts << 1  // ASCII that character data holds as it is
	inValue = inText << 1  // ASCII that an attribute value holds as it is
	isBlank = inValue << 1 // S (XML 1.0, production 3)
)

var class = func() (table [256]uint8) {
	for c := range 128 {
		b := byte(c)
		letter := b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z'
		if letter || b == '_' || b == ':' {
			table[c] |= starts | inName
		}
		if b >= '0' && b <= '9' || b == '-' || b == '.' {
			table[c] |= inName
		}
		if b >= 0x20 && b != '<' && b != '&' && b != ']' || b == '\t' || b == '\n' {
			table[c] |= inText
		}
		if b >= 0x20 && b != '<' && b != '&' && b != '"' && b != '\'' {
			table[c] |= inValue
		}
		if b == ' ' || b == '\t' || b == '\n' || b == '\r' {
			table[c] |= isBlank
		}
	}
	return table
}()

// IsChar says whether XML can carry the character (XML 1.0, production 2).
func IsChar(r rune) bool {
	return r >= 0x20 && r <= 0xD7FF || r == '\t' || r == '\n' || r == '\r' || r >= 0xE000 && r <= 0xFFFD ||
		r >= 0x10000 && r <= utf8.MaxRune
}

// IsNameStart says whether a name may begin with the character (XML 1.0, fifth
// edition, production 4); the colon counts as one.
func IsNameStart(r rune) bool {
	if r < 0x80 {
		return r >= 0 && class[r]&starts != 0
	}
	return r >= 0xC0 && r <= 0x2FF && r != 0xD7 && r != 0xF7 ||
		r >= 0x370 && r <= 0x1FFF && r != 0x37E ||
		r == 0x200C || r == 0x200D || r >= 0x2070 && r <= 0x218F || r >= 0x2C00 && r <= 0x2FEF ||
		r >= 0x3001 && r <= 0xD7FF || r >= 0xF900 && r <= 0xFDCF || r >= 0xFDF0 && r <= 0xFFFD ||
		r >= 0x10000 && r <= 0xEFFFF
}

// IsNameChar says whether the character may be in a name (production 4a).
func IsNameChar(r rune) bool {
	if r < 0x80 {
		return r >= 0 && class[r]&inName != 0
	}
	return IsNameStart(r) || r == 0xB7 || r >= 0x300 && r <= 0x36F || r == 0x203F || r == 0x2040
}

// IsName says whether s is a Name (production 5).
func IsName(s string) bool {
	for i, r := range s {
		if i == 0 && !IsNameStart(r) || !IsNameChar(r) || r == utf8.RuneError && !isReplacement(s[i:]) {
			return false
		}
	}
	return s != ""
}

func isReplacement(s string) bool {
	_, size := utf8.DecodeRuneInString(s)
	return size == 3
}

// IsNCName says whether s is a name without a colon (Namespaces in XML 1.0, production 4).
func IsNCName(s string) bool {
	for i := range len(s) {
		if s[i] == ':' {
			return false
		}
	}
	return IsName(s)
}

// IsBlank says whether the text is nothing but blanks as XML knows them.
func IsBlank[T string | []byte](text T) bool {
	for i := range len(text) {
		if class[text[i]]&isBlank == 0 {
			return false
		}
	}
	return true
}
