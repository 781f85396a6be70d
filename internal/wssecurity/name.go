package wssecurity

import (
	"encoding/asn1"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"unicode/utf16"
)

// Names of certificates, as XML Signature writes them (1.1, 4.5.4.1): by RFC 2253, from what the certificate itself
// holds, for its order, its kinds of texts and its own attributes must come out as they are.

// attributeNames are those that RFC 2253, 2.3 lists; any other goes by its number.
var attributeNames = map[string]string{
	"2.5.4.3": "CN", "2.5.4.7": "L", "2.5.4.8": "ST", "2.5.4.10": "O", "2.5.4.11": "OU", "2.5.4.6": "C",
	"2.5.4.9": "STREET", "0.9.2342.19200300.100.1.25": "DC", "0.9.2342.19200300.100.1.1": "UID",
}

// attributeWords are further names that others write.
var attributeWords = map[string]string{
	"EMAILADDRESS": "1.2.840.113549.1.9.1", "E": "1.2.840.113549.1.9.1", "EMAIL": "1.2.840.113549.1.9.1",
	"SERIALNUMBER": "2.5.4.5", "S": "2.5.4.8", "T": "2.5.4.12", "TITLE": "2.5.4.12", "GIVENNAME": "2.5.4.42",
	"SURNAME": "2.5.4.4", "SN": "2.5.4.4", "DNQ": "2.5.4.46", "DNQUALIFIER": "2.5.4.46", "POSTALCODE": "2.5.4.17",
}

// attribute is one attribute of a name (RFC 5280, 4.1.2.4).
type attribute struct {
	Type  asn1.ObjectIdentifier
	Value asn1.RawValue
}

// attributeSET is a relative name; its own name tells encoding/asn1 that it is a set.
type attributeSET []attribute

// distinguishedName writes a name as RFC 2253 has it, the last part first.
func distinguishedName(raw []byte) (string, error) {
	var parts []attributeSET
	if _, err := asn1.Unmarshal(raw, &parts); err != nil {
		return "", fmt.Errorf("the name in the certificate cannot be read: %w", err)
	}
	var out []string
	for _, part := range slices.Backward(parts) {
		var of []string
		for _, a := range part {
			of = append(of, a.text())
		}
		out = append(out, strings.Join(of, "+"))
	}
	return strings.Join(out, ","), nil
}

func (a attribute) text() string {
	id := a.Type.String()
	text, isText := textOfASN1(a.Value)
	name, isListed := attributeNames[id]
	if !isListed || !isText {
		return id + "=#" + hex.EncodeToString(a.Value.FullBytes) // 2.4
	}
	return name + "=" + escapeName(text)
}

// escapeName escapes what means something in a name (RFC 2253, 2.4).
func escapeName(text string) string {
	var out strings.Builder
	for i, c := range text {
		isEnd := i == 0 || i == len(text)-1
		if strings.ContainsRune(`,+"\<>;=`, c) || c == ' ' && isEnd || c == '#' && i == 0 {
			out.WriteByte('\\')
		}
		out.WriteRune(c)
	}
	return out.String()
}

// textOfASN1 is the text of a string of any of the kinds that names have.
func textOfASN1(v asn1.RawValue) (string, bool) {
	switch v.Tag {
	case asn1.TagUTF8String, asn1.TagPrintableString, asn1.TagIA5String, asn1.TagNumericString:
		return string(v.Bytes), true
	case asn1.TagT61String: // as it is used: Latin-1
		runes := make([]rune, len(v.Bytes))
		for i, b := range v.Bytes {
			runes[i] = rune(b)
		}
		return string(runes), true
	case asn1.TagBMPString:
		units := make([]uint16, len(v.Bytes)/2)
		for i := range units {
			units[i] = uint16(v.Bytes[2*i])<<8 | uint16(v.Bytes[2*i+1])
		}
		return string(utf16.Decode(units)), true
	}
	return "", false
}

// sameName says whether a text is the name of a certificate: without regard to the order of its parts, to case and to
// blanks, which tools write differently.
func sameName(raw []byte, text string) bool {
	var parts []attributeSET
	if _, err := asn1.Unmarshal(raw, &parts); err != nil {
		return false
	}
	var own []string
	for _, part := range parts {
		for _, a := range part {
			value, _ := textOfASN1(a.Value)
			own = append(own, foldedAttribute(a.Type.String(), value))
		}
	}
	read := readName(text)
	slices.Sort(own)
	slices.Sort(read)
	return slices.Equal(own, read)
}

func foldedAttribute(id, value string) string {
	return id + "=" + strings.ToLower(strings.Join(strings.Fields(value), " "))
}

// readName reads the attributes of a name that somebody wrote (RFC 2253, 4 reads those of RFC 1779 too).
func readName(text string) []string {
	var out []string
	for _, part := range splitName(text) {
		name, value, _ := strings.Cut(part, "=")
		name = strings.TrimPrefix(strings.ToUpper(strings.TrimSpace(name)), "OID.")
		id := name
		for number, word := range attributeNames {
			if word == name {
				id = number
			}
		}
		if number := attributeWords[name]; number != "" && id == name {
			id = number
		}
		out = append(out, foldedAttribute(id, unescapeName(strings.TrimLeft(value, " "))))
	}
	return out
}

// splitName splits a name at its separators that are neither quoted nor escaped.
func splitName(text string) []string {
	var parts []string
	start, quoted := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case !quoted && (c == ',' || c == ';' || c == '+'):
			parts, start = append(parts, text[start:i]), i+1
		}
	}
	return append(parts, text[start:])
}

// unescapeName reads a value: hexadecimal digits of its encoding, or a text with its quotes and escapes undone.
func unescapeName(value string) string {
	if digits, isEncoded := strings.CutPrefix(strings.TrimSpace(value), "#"); isEncoded {
		var raw asn1.RawValue
		if data, err := hex.DecodeString(digits); err == nil {
			if _, err := asn1.Unmarshal(data, &raw); err == nil {
				text, _ := textOfASN1(raw)
				return text
			}
		}
	}
	var out []byte
	for i := 0; i < len(value); i++ {
		switch c := value[i]; {
		case c == '"':
		case c != '\\' || i+1 == len(value):
			out = append(out, c)
		default:
			if pair, err := hex.DecodeString(value[i+1 : min(i+3, len(value))]); err == nil && len(pair) == 1 {
				out = append(out, pair[0])
				i += 2
				continue
			}
			i++
			out = append(out, value[i])
		}
	}
	return string(out)
}
