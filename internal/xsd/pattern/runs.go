package pattern

import "unicode/utf8"

// run is a set of characters, of which there are from min to max in a row; max -1: any number.
type run struct {
	ascii    [2]uint64 // a bit for each character of ASCII
	min, max int
}

func (r *run) holds(c byte) bool { return r.ascii[c>>6]&(1<<(c&63)) != 0 }

// runsOf gives an expression that is a row of sets, as most are, as runs. It gives none where one run could take
// what belongs to a later one: which of them it is only trying tells.
func runsOf(root regexNode) []run {
	parts, ok := root.(regexSeq)
	if !ok {
		parts = regexSeq{root}
	}
	var runs []run
	for _, part := range parts {
		r := run{min: 1, max: 1}
		if repeat, ok := part.(regexRepeat); ok {
			part, r.min, r.max = repeat.inner, repeat.min, repeat.max
		}
		set, ok := part.(regexSet)
		if !ok {
			return nil
		}
		for c := range byte(utf8.RuneSelf) {
			if charSet(set).holds(rune(c)) {
				r.ascii[c>>6] |= 1 << (c & 63)
			}
		}
		for i := len(runs) - 1; i >= 0; i-- {
			before := &runs[i]
			if before.min != before.max && before.ascii[0]&r.ascii[0]|before.ascii[1]&r.ascii[1] != 0 {
				return nil
			}
			if before.min > 0 { // what is before it is never next to this one
				break
			}
		}
		runs = append(runs, r)
	}
	return runs
}

// matchRuns says whether runs are what a value is made of. It is not known where a character that is not of ASCII
// decides.
func matchRuns(runs []run, value []byte) (matches, known bool) {
	i := 0
	for at := range runs {
		r, count := &runs[at], 0
		for i < len(value) && count != r.max && value[i] < utf8.RuneSelf && r.holds(value[i]) {
			i++
			count++
		}
		if count < r.min {
			return false, i == len(value) || value[i] < utf8.RuneSelf
		}
	}
	return i == len(value), i == len(value) || value[i] < utf8.RuneSelf
}
