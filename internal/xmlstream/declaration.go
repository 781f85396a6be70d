package xmlstream

import (
	"bytes"
	"strings"

	"testbench/internal/excerpt"
)

// declaration reads the XML declaration, if there is one (XML 1.0, production 23).
func (r *Reader) declaration() error {
	if err := r.wholeDeclaration(); err != nil {
		return err
	}
	b := r.buf[r.pos:r.end]
	if !bytes.HasPrefix(b, []byte("<?xml")) || len(b) < 6 || class[b[5]]&isBlank == 0 {
		return nil
	}
	r.start = r.base + int64(r.pos)
	end := bytes.Index(b, []byte("?>"))
	if end < 0 {
		return r.failf(0, "the XML declaration has no end")
	}
	d := declaration{reader: r, text: b[:end], at: 5}
	version, err := d.pseudo("version")
	if err != nil {
		return err
	}
	// A document of a later 1.x is read as 1.0 (fifth edition, 2.8).
	if digits, ok := strings.CutPrefix(version, "1."); !ok || digits == "" || strings.Trim(digits, "0123456789") != "" {
		return r.failf(0, "the XML declaration must say version 1.0, not %q", version)
	}
	encoding, err := d.pseudo("encoding")
	if err != nil {
		return err
	}
	if d.found && !isEncodingName(encoding) {
		return r.failf(0, "%q is not the name of an encoding", encoding)
	}
	if d.found && r.declaredMustMatch && r.encoding == "UTF-16" &&
		!strings.HasPrefix(strings.ToLower(encoding), "utf-16") && !strings.EqualFold(encoding, "iso-10646-ucs-2") {
		return r.failf(0, "it declares itself as %s, but is written as UTF-16", encoding)
	}
	standalone, err := d.pseudo("standalone")
	if err != nil {
		return err
	}
	if d.found && standalone != "yes" && standalone != "no" {
		return r.failf(0, "standalone can be yes or no, not %q", standalone)
	}
	if rest := blanks(d.text, d.at); rest < len(d.text) {
		return r.failf(rest,
			"%s is not allowed in the XML declaration: it has version, encoding and standalone, in this "+
				"order", excerpt.Quote(string(d.text[rest:])))
	}
	r.pos += end + 2
	return nil
}

type declaration struct {
	reader *Reader
	text   []byte
	at     int
	found  bool
}

// pseudo reads one part of the declaration, if it is there.
func (d *declaration) pseudo(name string) (string, error) {
	i := blanks(d.text, d.at)
	d.found = i > d.at && bytes.HasPrefix(d.text[i:], []byte(name))
	if !d.found {
		if name == "version" {
			return "", d.reader.failf(i, "the XML declaration must begin with version")
		}
		return "", nil
	}
	i = blanks(d.text, i+len(name))
	if i == len(d.text) || d.text[i] != '=' {
		return "", d.reader.failf(i, "%s in the XML declaration needs = and a value", name)
	}
	i = blanks(d.text, i+1)
	if i == len(d.text) || d.text[i] != '"' && d.text[i] != '\'' {
		return "", d.reader.failf(i, "the value of %s in the XML declaration must be in quotes", name)
	}
	value, _, closed := bytes.Cut(d.text[i+1:], d.text[i:i+1])
	if !closed {
		return "", d.reader.failf(i, "the value of %s in the XML declaration has no end", name)
	}
	d.at = i + 1 + len(value) + 1
	return string(value), nil
}

// isEncodingName checks production 81.
func isEncodingName(name string) bool {
	for i, c := range []byte(name) {
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
		if !letter && (i == 0 || (c < '0' || c > '9') && c != '.' && c != '_' && c != '-') {
			return false
		}
	}
	return name != ""
}
