package xlsx

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
)

// format is what numbers of a style are shown as.
type format uint8

const (
	plain   format = iota
	moment         // a day, a time of day, or both
	elapsed        // hours, minutes or seconds, of which there may be more than make a day
)

// readStyles finds the formats of the styles of cells (18.8.10, 18.8.30).
func (b *Book) readStyles(name string) error {
	var styles struct {
		Formats []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Cells []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := b.decode(name, &styles); err != nil {
		return err
	}
	known := map[int]format{45: moment, 46: elapsed, 47: moment}
	for id := 14; id <= 22; id++ {
		known[id] = moment
	}
	for _, one := range styles.Formats {
		known[one.ID] = formatOf(one.Code)
	}
	for _, cell := range styles.Cells {
		b.styles = append(b.styles, known[cell.Format])
	}
	return nil
}

// formatOf reads a format code: letters of days and times outside of quotes show a moment, such letters alone in
// brackets what has elapsed (18.8.31).
func formatOf(code string) format {
	code = strings.ToLower(code)
	for i := 0; i < len(code); i++ {
		switch c := code[i]; c {
		case '\\', '_', '*': // the next one is shown, or as wide
			i++
		case '"', '[':
			closing := byte('"')
			if c == '[' {
				closing = ']'
			}
			length := strings.IndexByte(code[i+1:], closing)
			if length < 0 {
				return plain
			}
			if inside := code[i+1 : i+1+length]; c == '[' && inside != "" && strings.Trim(inside, inside[:1]) == "" &&
				strings.Contains("hms", inside[:1]) {
				return elapsed
			}
			i += length + 1
		case 'y', 'm', 'd', 'h', 's':
			return moment
		}
	}
	return plain
}

// lastDay is 9999-12-31 as a serial number.
const lastDay = 2_958_465

// momentOf writes a serial number (18.17.4) as a day, a time stamp, a time of day, or hours, minutes and seconds.
func momentOf(text string, shows format, from1904 bool) (string, error) {
	serial, err := strconv.ParseFloat(text, 64)
	if err != nil || !(serial >= 0 && serial <= lastDay+1) {
		return "", fmt.Errorf("%s is not a day or a time", text)
	}
	seconds := int64(math.Round(serial * 24 * 60 * 60))
	if shows == elapsed {
		return fmt.Sprintf("%02d:%02d:%02d", seconds/3600, seconds/60%60, seconds%60), nil
	}
	// Before 1900-03-01 days are one less, for 1900 has a day too many there.
	begin := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	switch {
	case from1904:
		begin = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	case serial < 1:
	case serial < 60:
		begin = begin.AddDate(0, 0, 1)
	case serial < 61:
		return "", fmt.Errorf("%s is 29 February 1900, a day that there was not", text)
	}
	const day = 24 * 60 * 60
	at := begin.AddDate(0, 0, int(seconds/day)).Add(time.Duration(seconds%day) * time.Second)
	switch {
	case serial < 1 && seconds < day:
		return at.Format(time.TimeOnly), nil
	case seconds%day == 0:
		return at.Format(time.DateOnly), nil
	}
	return at.Format("2006-01-02T15:04:05"), nil
}
