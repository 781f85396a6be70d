package secret

import (
	"encoding/base32"
	"encoding/base64"
	"encoding/hex"
	"slices"
	"strings"
	"unicode/utf16"
)

// forms lists how a secret looks where its bytes are written in one of the alphabets that
// leave no letter as it was, and as the bytes themselves. What leaves letters as they were
// (percent, JSON, references) is decoded instead: see decoders.
func forms(secret string) []string {
	var all []string
	for _, text := range characterSets(secret) {
		pairs := hex.EncodeToString([]byte(text))
		colons := make([]string, len(text))
		for i := range text {
			colons[i] = pairs[2*i : 2*i+2]
		}
		all = append(all, text, pairs, strings.ToUpper(pairs), strings.Join(colons, ":"),
			strings.ToUpper(strings.Join(colons, ":")))
		for offset := range 3 {
			for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
				all = append(all, inside(text, offset, 6, encoding.EncodeToString))
			}
		}
		for offset := range 5 {
			letters := inside(text, offset, 5, base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString)
			all = append(all, letters, strings.ToLower(letters))
		}
	}
	// Its own letters at the end, and what fills them up, go with the whole.
	whole := []byte(secret)
	for _, encoding := range []*base64.Encoding{
		base64.StdEncoding, base64.URLEncoding, base64.RawStdEncoding,
		base64.RawURLEncoding,
	} {
		all = append(all, encoding.EncodeToString(whole))
	}
	all = append(all, base32.StdEncoding.EncodeToString(whole))
	slices.Sort(all)
	return slices.Compact(all)
}

// characterSets writes a text in those in use: UTF-8, UTF-16 in both orders, and Latin-1
// where that has all of its letters.
func characterSets(text string) []string {
	texts := []string{text}
	var little, big, latin []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		little, big = append(little, byte(unit), byte(unit>>8)), append(big, byte(unit>>8), byte(unit))
		if unit < 0x100 {
			latin = append(latin, byte(unit))
		}
	}
	texts = append(texts, string(little), string(big))
	if len(latin) == len(little)/2 && string(latin) != text {
		texts = append(texts, string(latin))
	}
	return texts
}

// inside gives what a text looks like in the middle of something that is encoded with a
// number of bits a letter. The same bytes look different by how many bytes come before
// them; the letters that depend on the text alone are given.
func inside(text string, offset, bits int, encode func([]byte) string) string {
	padded := append(make([]byte, offset), text...)
	return encode(padded)[(offset*8+bits-1)/bits : len(padded)*8/bits]
}
