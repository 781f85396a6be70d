package history

import (
	"bytes"
	"compress/zlib"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// Histogram takes the times of one step.
type Histogram struct {
	step             string
	all              spread
	own              *spread // without what rows were late by; nil where none was
	exchanges, tries int64
}

// NewHistogram begins to take the times of a step.
func NewHistogram(step string) *Histogram { return &Histogram{step: step} }

// Measure is what one step came to.
type Measure struct {
	Took      time.Duration // its last exchange
	Late      time.Duration // by how much it was begun late, where a rate says when it was due
	Exchanges int
	Tries     int // 0 for one
}

// Add adds what a step came to. Its time counts from when it was due.
func (w *Histogram) Add(m Measure) {
	if m.Late > 0 && w.own == nil {
		w.own = w.all.copy()
	}
	w.all.add(m.Took + m.Late)
	if w.own != nil {
		w.own.add(m.Took)
	}
	w.exchanges += int64(m.Exchanges)
	w.tries += int64(max(m.Tries, 1))
}

// Merge adds the times of another machine or run.
func (w *Histogram) Merge(t *Times) error {
	other, err := readSpread(t.Few, t.Spread)
	own := other
	if err == nil && t.Own != nil {
		own, err = readSpread(t.Own.Few, t.Own.Spread)
	}
	if err != nil {
		return fmt.Errorf("the times of %s: %w", t.Step, err)
	}
	if t.Own != nil && w.own == nil {
		w.own = w.all.copy()
	}
	if w.own != nil {
		w.own.merge(own)
	}
	w.all.merge(other)
	w.exchanges += t.Exchanges
	w.tries += t.Tries
	return nil
}

// Step is the step whose times are taken.
func (w *Histogram) Step() string { return w.step }

// Count is how many times were taken.
func (w *Histogram) Count() int64 { return w.all.count() }

// Percentile is the time below which so much of a hundred stays.
func (w *Histogram) Percentile(percent float64) time.Duration {
	return time.Duration(w.all.at(percent)) * time.Microsecond
}

// Times sums the times up; over is how long they were taken.
func (w *Histogram) Times(over time.Duration) *Times {
	at := func(percent float64) float64 { return float64(w.all.at(percent)) / 1000 }
	t := &Times{
		Step: w.step, Count: w.all.count(), P50: at(50), P90: at(90), P95: at(95), P99: at(99), Max: at(100),
		Exchanges: w.exchanges, Tries: w.tries,
	}
	if w.own != nil {
		at := func(percent float64) float64 { return float64(w.own.at(percent)) / 1000 }
		t.Own = &OwnTimes{P50: at(50), P95: at(95), Max: at(100)}
		t.Own.Few, t.Own.Spread = w.own.written()
	}
	if over > 0 {
		t.PerSecond = float64(t.Count) / over.Seconds()
	}
	t.Few, t.Spread = w.all.written()
	return t
}

// Percentiles gives a way to the time, in milliseconds, below which so much of a hundred
// stays. It fails for a histogram that is damaged.
func (t *Times) Percentiles() (func(percent float64) float64, error) {
	all, err := readSpread(t.Few, t.Spread)
	if err != nil {
		return nil, fmt.Errorf("the times of %s: %w", t.Step, err)
	}
	return func(percent float64) float64 { return float64(all.at(percent)) / 1000 }, nil
}

// mostFew is up to how many times are kept as they are: a histogram takes some 100 KB, however few there are.
const mostFew = 100

// spread is how times are spread, in microseconds: a few as they are, in order, many in a histogram.
type spread struct {
	few  []int64
	many *hdrhistogram.Histogram
}

func (s *spread) copy() *spread {
	if s.many != nil {
		return &spread{many: hdrhistogram.Import(s.many.Export())}
	}
	return &spread{few: slices.Clone(s.few)}
}

func (s *spread) add(took time.Duration) { s.put(int64(took / time.Microsecond)) }

func (s *spread) put(value int64) {
	value = min(max(value, 1), longest)
	if s.many == nil && len(s.few) == mostFew {
		s.unfold()
	}
	if s.many != nil {
		_ = s.many.RecordValue(value) // it is within the bounds
		return
	}
	at, _ := slices.BinarySearch(s.few, value)
	s.few = slices.Insert(s.few, at, value)
}

// unfold makes a histogram of a few.
func (s *spread) unfold() {
	s.many = hdrhistogram.New(1, longest, digits)
	for _, value := range s.few {
		_ = s.many.RecordValue(value)
	}
	s.few = nil
}

func (s *spread) merge(other *spread) {
	if other.many != nil {
		if s.many == nil {
			s.unfold()
		}
		s.many.Merge(other.many)
		return
	}
	for _, value := range other.few {
		s.put(value)
	}
}

func (s *spread) count() int64 {
	if s.many != nil {
		return s.many.TotalCount()
	}
	return int64(len(s.few))
}

// at is the value below which so much of a hundred stays, as a histogram has it too: the one whose rank is nearest.
func (s *spread) at(percent float64) int64 {
	switch {
	case s.many != nil && percent == 100:
		return s.many.Max()
	case s.many != nil:
		return s.many.ValueAtPercentile(percent)
	case len(s.few) == 0:
		return 0
	}
	rank := int(percent/100*float64(len(s.few)) + 0.5)
	return s.few[min(max(rank, 1), len(s.few))-1]
}

// written gives a few as they are, and many packed.
func (s *spread) written() (few []int64, packed []byte) {
	if s.many == nil {
		return s.few, nil
	}
	packed, _ = s.many.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
	return nil, packed
}

// readSpread reads what was written.
func readSpread(few []int64, packed []byte) (*spread, error) {
	s := &spread{}
	if len(packed) > 0 {
		if err := checkSpread(packed); err != nil {
			return nil, err
		}
		var err error
		s.many, err = hdrhistogram.Decode(packed)
		return s, err
	}
	for _, value := range few {
		s.put(value)
	}
	return s, nil
}

// mostSpread bounds a histogram unpacked; ours have some 30,000 counts of a few bytes.
const mostSpread = 1 << 20

// checkSpread looks at a histogram before it is unpacked: one that says it is of another
// kind could ask for any amount of memory (HdrHistogram V2: cookie, length, offset,
// digits, lowest, highest, ratio).
func checkSpread(spread []byte) error {
	packed, err := base64.StdEncoding.DecodeString(string(spread))
	if err != nil || len(packed) < 8 {
		return errors.New("the histogram is damaged")
	}
	reader, err := zlib.NewReader(bytes.NewReader(packed[8:]))
	if err != nil {
		return errors.New("the histogram is damaged")
	}
	data, err := io.ReadAll(io.LimitReader(reader, mostSpread+1))
	if err != nil || len(data) < 40 || len(data) > mostSpread {
		return errors.New("the histogram is damaged")
	}
	number := binary.BigEndian
	if length := number.Uint32(data[4:]); int(length) != len(data)-40 || number.Uint32(data[8:]) != 0 ||
		number.Uint32(data[12:]) != digits || number.Uint64(data[16:]) != 1 ||
		number.Uint64(data[24:]) != uint64(longest) {
		return errors.New("the histogram is of another kind")
	}
	return nil
}
