package pattern

import "unicode/utf8"

// Sample gives a value that matches, of at least and at most the given number of
// characters (most -1: any) if there is such a one to be found simply.
func (p *Pattern) Sample(least, most int) (string, bool) {
	s := regexSampler{left: 10_000}
	s.write(p.root)
	for extra := 1; utf8.RuneCount(s.out) < least && extra <= 1<<12; extra *= 2 {
		s = regexSampler{extra: extra, left: 10_000}
		s.write(p.root)
	}
	// Repeat no more than needed.
	for s.extra > 1 && most >= 0 && utf8.RuneCount(s.out) > most {
		s = regexSampler{extra: s.extra - 1, left: 10_000}
		s.write(p.root)
	}
	length := utf8.RuneCount(s.out)
	return string(s.out), s.left > 0 && length >= least && (most < 0 || length <= most) && p.Match(string(s.out))
}

type regexSampler struct {
	out   []byte
	extra int // how often what may be repeated is repeated beyond its least
	turn  int // so that places alike get different characters
	left  int
}

func (s *regexSampler) write(n regexNode) {
	if s.left--; s.left < 0 {
		return
	}
	switch n := n.(type) {
	case regexSet:
		s.out = utf8.AppendRune(s.out, s.character(charSet(n)))
	case regexSeq:
		for _, part := range n {
			s.write(part)
		}
	case regexChoice:
		s.write(n[0])
	case regexRepeat:
		times := n.min
		if n.max < 0 {
			times += s.extra
		} else {
			times = min(n.max, times+s.extra)
		}
		for range times {
			if s.left < 0 {
				return
			}
			s.write(n.inner)
		}
	}
}

// character takes a pleasant one: a digit, a letter, else what there is.
func (s *regexSampler) character(set charSet) rune {
	s.turn++
	for _, liked := range []string{"ABCDEFGHJKLM", "abcdefghjklm", "123456789", "0", "-_./: "} {
		for i := range len(liked) {
			if r := rune(liked[(i+s.turn-1)%len(liked)]); set.holds(r) {
				return r
			}
		}
	}
	for i := 0; i < len(set); i += 2 {
		for r := max(set[i], 0x21); r <= set[i+1]; r++ {
			if utf8.ValidRune(r) {
				return r
			}
		}
	}
	if len(set) > 0 {
		return set[0]
	}
	return utf8.RuneError
}

func (c charSet) holds(r rune) bool {
	for i := 0; i < len(c); i += 2 {
		if r >= c[i] && r <= c[i+1] {
			return true
		}
	}
	return false
}
