package rule

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/cockroachdb/apd/v3"

	"testbench/internal/document"
	"testbench/internal/lazy"
	"testbench/internal/value"
)

// measure is something that can be put in order: a number, an instant, a time
// without zone, a duration (in seconds) or a size (in bytes).
type measure struct {
	kind   measureKind
	number *apd.Decimal // number, duration, size
	moment time.Time
}

type measureKind string

const (
	aNumber    measureKind = "a number"
	aDuration  measureKind = "a duration"
	aSize      measureKind = "a size"
	aDate      measureKind = "a date"
	zonedTime  measureKind = "a time with a zone"
	localTime  measureKind = "a time without a zone"
	timeOfDay  measureKind = "a time of day"
	zonedOfDay measureKind = "a time of day with a zone"
)

var (
	amountWithUnit = lazy.Regexp(`^(-?[0-9.eE+-]+) ?(ms|s|min|h|d|B|kB|MB|KiB|MiB)$`)
	isoDuration    = lazy.Regexp(`^(-)?P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$`)
	// unitScale gives seconds for durations and bytes for sizes.
	unitScale = map[string]string{
		"ms": "0.001", "s": "1", "min": "60", "h": "3600", "d": "86400",
		"B": "1", "kB": "1000", "MB": "1000000", "KiB": "1024", "MiB": "1048576",
	}
)

var exact = apd.BaseContext.WithPrecision(400)

// readMeasure reads a text that can be put in order.
func readMeasure(text string) (measure, error) {
	text = strings.TrimSpace(text)
	if d, ok := document.Decimal(text); ok {
		return measure{kind: aNumber, number: d}, nil
	}
	if len(text) > longestMeasure {
		return measure{}, notMeasure(text)
	}
	if m := amountWithUnit().FindStringSubmatch(text); m != nil {
		if amount, ok := document.Decimal(m[1]); ok {
			scale, _, _ := apd.NewFromString(unitScale[m[2]])
			product := new(apd.Decimal)
			if _, err := exact.Mul(product, amount, scale); err == nil {
				kind := aDuration
				if strings.HasSuffix(m[2], "B") {
					kind = aSize
				}
				return measure{kind: kind, number: product}, nil
			}
		}
	}
	if m := isoDuration().FindStringSubmatch(text); m != nil && text != "P" && text != "-P" &&
		!strings.HasSuffix(text, "T") {
		return readISODuration(m)
	}
	moment, layout, err := value.Moment(text)
	if err != nil {
		return measure{}, notMeasure(text)
	}
	zoned := strings.Contains(layout, "Z07:00")
	switch {
	case layout == "2006-01-02" || layout == "2006-01-02Z07:00":
		return measure{kind: aDate, moment: moment}, nil
	case strings.HasPrefix(layout, "15:") && zoned:
		return measure{kind: zonedOfDay, moment: moment}, nil
	case strings.HasPrefix(layout, "15:"):
		return measure{kind: timeOfDay, moment: moment}, nil
	case zoned:
		return measure{kind: zonedTime, moment: moment}, nil
	}
	return measure{kind: localTime, moment: moment}, nil
}

// longestMeasure is longer than any date or duration: a text beyond it is not tried as each of them.
const longestMeasure = 200

// notMeasure is the error for a text, which is quoted only where somebody reads it.
type notMeasure string

func (text notMeasure) Error() string {
	return fmt.Sprintf("%q is not a number, date, time, duration or size", string(text))
}

// readISODuration sums days to seconds; years and months have no fixed length
// and are not read.
func readISODuration(m []string) (measure, error) {
	total := new(apd.Decimal)
	for i, scale := range []int64{86400, 3600, 60, 1} {
		text := m[i+2]
		if text == "" {
			continue
		}
		amount, _, err := apd.NewFromString(text)
		if err != nil {
			return measure{}, err
		}
		product := new(apd.Decimal)
		if _, err := exact.Mul(product, amount, apd.New(scale, 0)); err != nil {
			return measure{}, err
		}
		if _, err := exact.Add(total, total, product); err != nil {
			return measure{}, err
		}
	}
	total.Negative = m[1] == "-" && !total.IsZero()
	return measure{kind: aDuration, number: total}, nil
}

// compare puts a before b (-1), beside it (0) or after it (1). What cannot be
// compared is an error that says so.
func compare(a, b measure) (int, error) {
	// A size without a unit is a number of bytes.
	if a.kind == aNumber && b.kind == aSize || a.kind == aSize && b.kind == aNumber {
		return a.number.Cmp(b.number), nil
	}
	if a.kind != b.kind {
		return 0, fmt.Errorf("%s cannot be compared with %s", a.kind, b.kind)
	}
	if a.number != nil {
		return a.number.Cmp(b.number), nil
	}
	return a.moment.Compare(b.moment), nil
}

// distance returns |a - b|, as a number or in seconds.
func distance(a, b measure) (*apd.Decimal, error) {
	if _, err := compare(a, b); err != nil {
		return nil, err
	}
	result := new(apd.Decimal)
	if a.number == nil {
		seconds := strconv.FormatFloat(a.moment.Sub(b.moment).Abs().Seconds(), 'f', 9, 64)
		result, _, err := apd.NewFromString(seconds)
		return result, err
	}
	if _, err := exact.Sub(result, a.number, b.number); err != nil {
		return nil, err
	}
	result.Negative = false
	return result, nil
}

// Duration reads a duration as rules write it: 800 ms, 5 s, 2 min, PT5S.
func Duration(text string) (time.Duration, error) {
	m, err := readMeasure(text)
	if err != nil {
		return 0, err
	}
	if m.kind != aDuration {
		return 0, fmt.Errorf("%q is not a duration", text)
	}
	seconds, err := m.number.Float64()
	return time.Duration(seconds * float64(time.Second)), err
}

// IsKind says whether a value is of a kind that `is` knows, such as integer.
func IsKind(kind string, v *document.Node) bool {
	word, digits, _ := strings.Cut(kind, " ")
	known, ok := kinds[word]
	if !ok {
		return false
	}
	v = v.Value()
	if known.is != nil {
		count, _ := strconv.Atoi(digits)
		return known.is(v, count)
	}
	return (v.Kind == document.Text || v.Kind == document.Untyped) && known.matches(v.Text)
}
