package login

import (
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"testbench/internal/exchange"
)

// leastSkew is the difference of clocks from which it counts: the Date field
// tells whole seconds only, and an answer takes its time.
const leastSkew = 5 * time.Second

// clocks knows how far the clocks of servers are from the one here, as far as
// their answers tell it (RFC 9110, 6.6.1).
type clocks struct {
	mutex   sync.Mutex
	offsets map[string]time.Duration
}

// Skew is how far the clock of the server that sent an answer is ahead of the
// one here, 0 where it is not known or too little to count.
func Skew(record *exchange.Record) time.Duration {
	if record == nil || record.Answer == nil || record.Started.IsZero() {
		return 0
	}
	date, err := http.ParseTime(record.Answer.Header.Get("Date"))
	if err != nil {
		return 0
	}
	// The answer was begun at some time between the two.
	took := record.Phases.Total
	offset := date.Sub(record.Started.Add(took / 2)).Round(time.Second)
	if offset.Abs() <= leastSkew+took/2 {
		return 0
	}
	return offset
}

func (c *clocks) note(record *exchange.Record) time.Duration {
	if record.Answer == nil || record.Answer.Header.Get("Date") == "" {
		return 0 // it tells nothing of its clock
	}
	offset := Skew(record)
	host := strings.ToLower(record.Request.URL.Host)
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.offsets == nil {
		c.offsets = map[string]time.Duration{}
	}
	before := c.offsets[host]
	c.offsets[host] = offset
	return offset - before
}

func (c *clocks) offset(host string) time.Duration {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.offsets[strings.ToLower(host)]
}

// SkewInWords says which clock is ahead.
func SkewInWords(skew time.Duration) string {
	if skew < 0 {
		return fmt.Sprintf("the server's clock is %v slow", -skew)
	}
	return fmt.Sprintf("the server's clock is %v ahead of the one here", skew)
}
