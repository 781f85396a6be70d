package judge

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"testbench/internal/sheet"
)

// The pauses between askings grow by half each time, to the longest.
func TestPausesBetweenAskings(t *testing.T) {
	for _, c := range []struct {
		first, longest, before, want time.Duration
	}{
		{time.Second, time.Minute, 0, time.Second},
		{time.Second, time.Minute, 2 * time.Second, 3 * time.Second},
		{time.Second, time.Second, time.Second, time.Second},
		{time.Second, time.Minute, 50 * time.Second, time.Minute},
	} {
		assert.Equal(t, c.want, nextOfPauses(sheet.Pauses{First: c.first, Longest: c.longest}, c.before), "%v", c)
	}
}
