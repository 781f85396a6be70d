package datatype

import (
	"fmt"
	"strconv"
	"strings"

	"testbench/internal/excerpt"
)

// moment is a value of a type of date or time: dateTime with those parts left
// at a reference that the type does not have (Part 2, 3.2.7 to 3.2.14).
type moment struct {
	year                     int64
	month, day, hour, minute int
	second                   int
	fraction                 string // of the second, without zeros at its end
	zoned                    bool
	zone                     int // minutes east of UTC
}

// Which parts a type has, in their order.
var momentForms = map[Primitive]struct{ name, parts, example string }{
	DateTime:   {"a date with time", "Y-M-DTh:m:s", "2026-05-04T08:30:00"},
	Time:       {"a time", "h:m:s", "08:30:00"},
	Date:       {"a date", "Y-M-D", "2026-05-04"},
	GYearMonth: {"a year with month", "Y-M", "2026-05"},
	GYear:      {"a year", "Y", "2026"},
	GMonthDay:  {"a month with day", "--M-D", "--05-04"},
	GDay:       {"a day of the month", "---D", "---04"},
	GMonth:     {"a month", "--M", "--05"},
}

// IsMoment says whether a text is a value of a type of date or time.
func IsMoment(p Primitive, text []byte) bool {
	if isUsualMoment(p, text) {
		return true
	}
	_, err := parseMoment(p, string(text))
	return err == nil
}

// isUsualMoment says that a text is a date, or a date with time to the second, of the years 0001 to 9999, on the
// first 28 days of a month, in UTC or without a zone. Of others it says nothing.
func isUsualMoment(p Primitive, text []byte) bool {
	form := "0000-00-00"
	switch p {
	case Date:
	case DateTime:
		form = "0000-00-00T00:00:00"
	default:
		return false
	}
	if len(text) == len(form)+1 && text[len(form)] == 'Z' {
		text = text[:len(form)]
	}
	if len(text) != len(form) {
		return false
	}
	for i, c := range text {
		if isDigit := c >= '0' && c <= '9'; isDigit != (form[i] == '0') || !isDigit && c != form[i] {
			return false
		}
	}
	two := func(at int) int { return int(text[at]-'0')*10 + int(text[at+1]-'0') }
	month, day := two(5), two(8)
	return two(0)+two(2) > 0 && month >= 1 && month <= 12 && day >= 1 && day <= 28 &&
		(p == Date || two(11) < 24 && two(14) < 60 && two(17) < 60)
}

// IsDuration says whether a text is a duration.
func IsDuration(text []byte) bool {
	_, ok := scanDuration(string(text))
	return ok
}

func parseMoment(p Primitive, text string) (moment, error) {
	form := momentForms[p]
	bad := func(why string) (moment, error) {
		if why != "" {
			why = ": " + why
		}
		return moment{}, fmt.Errorf("%s is not %s like %s%s", excerpt.Quote(text), form.name, form.example, why)
	}
	m := moment{year: 2000, month: 1, day: 1}
	rest := text
	two := func() (int, bool) {
		if len(rest) < 2 || rest[0] < '0' || rest[0] > '9' || rest[1] < '0' || rest[1] > '9' {
			return 0, false
		}
		n := int(rest[0]-'0')*10 + int(rest[1]-'0')
		rest = rest[2:]
		return n, true
	}
	for i := range len(form.parts) {
		ok := true
		switch part := form.parts[i]; part {
		case 'Y':
			m.year, rest, ok = parseYear(rest)
			if ok && m.year == 0 {
				return bad("there is no year 0000")
			}
		case 'M':
			m.month, ok = two()
		case 'D':
			m.day, ok = two()
		case 'h':
			m.hour, ok = two()
		case 'm':
			m.minute, ok = two()
		case 's':
			m.second, ok = two()
			if fraction, found := strings.CutPrefix(rest, "."); ok && found {
				end := 0
				for end < len(fraction) && fraction[end] >= '0' && fraction[end] <= '9' {
					end++
				}
				ok = end > 0
				m.fraction, rest = strings.TrimRight(fraction[:end], "0"), fraction[end:]
			}
		default:
			ok = rest != "" && rest[0] == part
			if ok {
				rest = rest[1:]
			}
		}
		if !ok {
			return bad("")
		}
	}
	if !m.parseZone(rest) {
		return bad("")
	}
	if why := m.impossible(p); why != "" {
		return bad(why)
	}
	if m.hour == 24 {
		m.hour = 0
		m.addMinutes(24 * 60)
	}
	return m, nil
}

func parseYear(text string) (year int64, rest string, ok bool) {
	digits := strings.TrimPrefix(text, "-")
	end := 0
	for end < len(digits) && digits[end] >= '0' && digits[end] <= '9' {
		end++
	}
	// More than four digits must not begin with zero; so many that no machine
	// can count them are no years for us.
	if end < 4 || end > 4 && digits[0] == '0' || end > 15 {
		return 0, "", false
	}
	year, _ = strconv.ParseInt(digits[:end], 10, 64)
	if digits != text {
		year = -year
	}
	return year, digits[end:], true
}

func (m *moment) parseZone(text string) bool {
	switch {
	case text == "":
		return true
	case text == "Z":
		m.zoned = true
		return true
	case len(text) != 6 || text[0] != '+' && text[0] != '-' || text[3] != ':' || !IsDigits(text[1:3]) ||
		!IsDigits(text[4:]):
		return false
	}
	hours, _ := strconv.Atoi(text[1:3])
	minutes, _ := strconv.Atoi(text[4:])
	m.zoned, m.zone = true, 60*hours+minutes
	if text[0] == '-' {
		m.zone = -m.zone
	}
	return minutes < 60 && (hours < 14 || hours == 14 && minutes == 0)
}

// impossible says why the parts make no moment, or "".
func (m *moment) impossible(p Primitive) string {
	switch {
	case m.month < 1 || m.month > 12:
		return fmt.Sprintf("there is no month %02d", m.month)
	case m.hour > 24 || m.hour == 24 && (m.minute > 0 || m.second > 0 || m.fraction != ""):
		return "the hour goes to 23, or to 24:00:00"
	case m.minute > 59:
		return "minutes go to 59"
	case m.second > 59:
		return "seconds go to 59"
	}
	year := m.year
	if p == GMonthDay {
		year = 2000 // a 29th of February exists
	}
	if days := daysIn(year, m.month); p != GDay && (m.day < 1 || m.day > days) {
		return fmt.Sprintf("that month has %d days", days)
	} else if m.day < 1 || m.day > 31 {
		return "a month has up to 31 days"
	}
	return ""
}

// leap counts years as astronomers do, for there is no year 0 (Part 2, 3.2.7.1).
func leap(year int64) bool {
	if year < 0 {
		year++
	}
	return year%4 == 0 && (year%100 != 0 || year%400 == 0)
}

func daysIn(year int64, month int) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if leap(year) {
			return 29
		}
		return 28
	}
	return 31
}

// addMinutes moves the moment (Part 2, appendix E, for what time zones need).
func (m *moment) addMinutes(minutes int) {
	total := m.hour*60 + m.minute + minutes
	days := 0
	for total < 0 {
		total += 24 * 60
		days--
	}
	days += total / (24 * 60)
	total %= 24 * 60
	m.hour, m.minute = total/60, total%60
	for ; days > 0; days-- {
		if m.day++; m.day > daysIn(m.year, m.month) {
			m.day = 1
			m.addMonth(1)
		}
	}
	for ; days < 0; days++ {
		if m.day--; m.day < 1 {
			m.addMonth(-1)
			m.day = daysIn(m.year, m.month)
		}
	}
}

func (m *moment) addMonth(by int) {
	m.month += by
	step := int64(0)
	switch {
	case m.month > 12:
		m.month, step = 1, 1
	case m.month < 1:
		m.month, step = 12, -1
	}
	if m.year += step; m.year == 0 {
		m.year += step
	}
}

// inUTC gives the moment without its zone.
func (m moment) inUTC(zone int) moment {
	m.addMinutes(-zone)
	m.zone = 0
	return m
}

func (m moment) key() string {
	u := m
	if m.zoned {
		u = m.inUTC(m.zone)
	}
	return fmt.Sprintf("%d-%d-%d %d:%d:%d.%s %v", u.year, u.month, u.day, u.hour, u.minute, u.second, u.fraction,
		u.zoned)
}

// compare orders moments (Part 2, 3.2.7.4): one with and one without a zone only
// where no zone could change the order.
func (m moment) compare(other moment) (int, bool) {
	if m.zoned == other.zoned {
		return m.inUTC(m.zone).order(other.inUTC(other.zone)), true
	}
	if !m.zoned {
		order, ok := other.compare(m)
		return -order, ok
	}
	const widest = 14 * 60
	u := m.inUTC(m.zone)
	switch {
	case u.order(other.inUTC(widest)) < 0:
		return -1, true
	case u.order(other.inUTC(-widest)) > 0:
		return 1, true
	}
	return 0, false
}

func (m moment) order(other moment) int {
	for _, pair := range [][2]int64{
		{m.year, other.year},
		{int64(m.month), int64(other.month)},
		{int64(m.day), int64(other.day)},
		{int64(m.hour), int64(other.hour)},
		{int64(m.minute), int64(other.minute)},
		{int64(m.second), int64(other.second)},
	} {
		switch {
		case pair[0] < pair[1]:
			return -1
		case pair[0] > pair[1]:
			return 1
		}
	}
	return strings.Compare(m.fraction, other.fraction)
}

// duration is a length of time: months and seconds, which cannot be turned into
// one another (Part 2, 3.2.6).
type duration struct {
	months  int64
	seconds decimal // with the sign of the whole
}

func parseDuration(text string) (duration, error) {
	parts, ok := scanDuration(text)
	if !ok {
		return duration{}, fmt.Errorf("%s is not a duration like P1DT2H30M", excerpt.Quote(text))
	}
	d := duration{months: parts.months}
	d.seconds, _ = parseDecimal(strconv.FormatInt(parts.seconds, 10) + "." + parts.fraction)
	if parts.negative {
		d.months = -d.months
		d.seconds.negative = d.seconds.whole != "" || d.seconds.fraction != ""
	}
	return d, nil
}

// durationParts are what a duration is written with; the fraction is that of the seconds.
type durationParts struct {
	negative        bool
	months, seconds int64
	fraction        string
}

// scanDuration reads a duration; false where it is none.
func scanDuration(text string) (d durationParts, ok bool) {
	rest, negative := strings.CutPrefix(text, "-")
	rest, ok = strings.CutPrefix(rest, "P")
	if !ok || rest == "" {
		return d, false
	}
	d.negative = negative
	units := "YMD"
	for rest != "" {
		if rest[0] == 'T' && units != "HMS" && units != "MS" && units != "S" {
			if rest, units = rest[1:], "HMS"; rest == "" {
				return d, false
			}
		}
		end := 0
		for end < len(rest) && rest[end] >= '0' && rest[end] <= '9' {
			end++
		}
		if end == 0 || end > 15 || end == len(rest) {
			return d, false
		}
		n, _ := strconv.ParseInt(rest[:end], 10, 64)
		unit := rest[end]
		rest = rest[end+1:]
		if unit == '.' {
			if end = strings.IndexByte(rest, 'S'); end < 1 || !IsDigits(rest[:end]) {
				return d, false
			}
			d.fraction = strings.TrimRight(rest[:end], "0")
			unit, rest = 'S', rest[end+1:]
		}
		at := strings.IndexByte(units, unit)
		timed := strings.HasSuffix(units, "S")
		if at < 0 {
			return d, false
		}
		switch {
		case unit == 'Y':
			d.months += 12 * n
		case unit == 'M' && !timed:
			d.months += n
		case unit == 'D':
			d.seconds += 86400 * n
		case unit == 'H':
			d.seconds += 3600 * n
		case unit == 'M':
			d.seconds += 60 * n
		default:
			d.seconds += n
		}
		units = units[at+1:]
		if units == "" && rest != "" && (timed || rest[0] != 'T') {
			return d, false
		}
	}
	return d, true
}

func (d duration) key() string { return strconv.FormatInt(d.months, 10) + " " + d.seconds.String() }

// compare orders durations where all four reference dates agree (Part 2, 3.2.6.2).
func (d duration) compare(other duration) (int, bool) {
	if d.key() == other.key() {
		return 0, true
	}
	result, first := 0, true
	for _, start := range []moment{
		{year: 1696, month: 9},
		{year: 1697, month: 2},
		{year: 1903, month: 3},
		{year: 1903, month: 7},
	} {
		order := d.after(start).compare(other.after(start))
		if !first && order != result {
			return 0, false
		}
		result, first = order, false
	}
	return result, true
}

// after gives the seconds between the reference date and the date that the
// duration leads to from there.
func (d duration) after(start moment) decimal {
	month := int64(start.month-1) + d.months
	year := start.year + month/12
	if month %= 12; month < 0 {
		month += 12
		year--
	}
	days := dayNumber(year, int(month)+1) - dayNumber(start.year, start.month)
	whole, _ := strconv.ParseInt("0"+d.seconds.whole, 10, 64)
	fraction := d.seconds.fraction
	if d.seconds.negative {
		whole = -whole
		if fraction != "" {
			// -1.25 is -2 and 0.75.
			whole--
			fraction = complement(fraction)
		}
	}
	total := days*86400 + whole
	if total < 0 && fraction != "" {
		total++
		fraction = complement(fraction)
		if total == 0 {
			sum, _ := parseDecimal("-0." + fraction)
			return sum
		}
	}
	sum, _ := parseDecimal(strconv.FormatInt(total, 10) + "." + fraction)
	return sum
}

// complement gives the digits of 1 - 0.digits.
func complement(digits string) string {
	out := []byte(digits)
	for i := range out {
		out[i] = '9' - out[i] + '0'
	}
	for i := len(out) - 1; i >= 0; i-- {
		if out[i]++; out[i] <= '9' {
			break
		}
		out[i] = '0'
	}
	return strings.TrimRight(string(out), "0")
}

// dayNumber counts the days from a fixed day to the first of a month; years
// are those of the proleptic calendar with a year 0.
func dayNumber(year int64, month int) int64 {
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	if year < 0 {
		era = (year - 399) / 400
	}
	ofEra := year - era*400
	ofYear := int64((153*(month-3) + 2) / 5)
	return era*146097 + ofEra*365 + ofEra/4 - ofEra/100 + ofYear
}
