package document

// readings are what data can be read as, whatever its media type says.
var readings = []struct {
	word, mediaType string
	format          Format
}{
	{"json", "application/json", JSON}, {"xml", "application/xml", XML}, {"csv", "text/csv", CSV},
	{"lines", "application/x-ndjson", Lines}, {"form", "application/x-www-form-urlencoded", Form},
	{"html", "text/html", HTML}, {"text", "text/plain", Plain},
}

// Readings are the words for what data can be read as.
func Readings() (words []string) {
	for _, one := range readings {
		words = append(words, one.word)
	}
	return words
}

// ReadingType is a media type of data that is read as the word says, one of Readings. It is empty for another word.
func ReadingType(word string) string {
	for _, one := range readings {
		if one.word == word {
			return one.mediaType
		}
	}
	return ""
}

// Reading is the word of Readings for the format, empty where it has none.
func (f Format) Reading() string {
	for _, one := range readings {
		if one.format == f {
			return one.word
		}
	}
	return ""
}
