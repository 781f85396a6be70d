package run

import (
	"iter"
	"slices"
	"sync"
	"time"

	"testbench/internal/document"
	"testbench/internal/exchange"
	"testbench/internal/history"
	"testbench/internal/result"
	"testbench/internal/secret"
)

// event is one thing that is told of a row.
type event struct {
	step    *result.Step
	would   bool // of a dry run
	request *exchange.Request
	reason  string
	lost    error // why rows are not recorded any more
}

// events are what is told of a row, in order; reading waits for the next.
type events struct {
	mutex sync.Mutex
	added *sync.Cond
	list  []event
	over  bool
}

func newEvents() *events {
	e := &events{}
	e.added = sync.NewCond(&e.mutex)
	return e
}

func (e *events) add(one event) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	e.list = append(e.list, one)
	e.added.Signal()
}

func (e *events) close() {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	e.over = true
	e.added.Signal()
}

// all goes through the events as they come.
func (e *events) all() iter.Seq[event] {
	return func(yield func(event) bool) {
		for {
			e.mutex.Lock()
			for len(e.list) == 0 && !e.over {
				e.added.Wait()
			}
			list := e.list
			e.list = nil
			e.mutex.Unlock()
			for _, one := range list {
				if !yield(one) {
					return
				}
			}
			if len(list) == 0 {
				return
			}
		}
	}
}

// recorder records finished rows, as many at once as have come meanwhile.
type recorder struct {
	record func([]history.Entry) error
	rows   chan finished
	ended  chan struct{}
}

type finished struct {
	row    *result.Row
	sheet  int
	brief  bool
	masker *secret.Masker
	events *events
}

// rowsAhead is how many rows may be finished and not yet entered and shown, so that rows
// go on while the recorder rests.
const rowsAhead = 1000

// mostLoad is how many bytes the finished rows of a sheet may hold until they are entered
// and shown; no more rows are begun meanwhile. An answer that was read is about
// treeSize times as large as its text.
const (
	mostLoad = 64 << 20
	treeSize = 10
)

// load counts what the finished rows of a sheet hold.
type load struct {
	mutex sync.Mutex
	less  *sync.Cond
	bytes int
}

func newLoad() *load {
	l := &load{}
	l.less = sync.NewCond(&l.mutex)
	return l
}

func (l *load) add(bytes int) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.bytes += bytes
	l.less.Signal()
}

// wait waits until there is room for another row.
func (l *load) wait() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	for l.bytes > mostLoad {
		l.less.Wait()
	}
}

// size is about how many bytes a row holds.
func size(r *result.Row) (bytes int) {
	for _, step := range r.Steps {
		if last := step.Last(); last != nil && last.Answer != nil && step.Reply != nil &&
			step.Reply.Format != document.Plain {
			bytes += treeSize * len(last.Answer.Body)
		}
		for _, record := range slices.Concat(step.Exchanges, step.Logins) {
			bytes += len(record.Request.Body)
			if record.Answer != nil {
				bytes += len(record.Answer.Body)
			}
		}
	}
	return bytes
}

// recorderPause is how long the recorder lets rows gather between two entries: an entry costs
// about as much for many rows as for one, and a row is told as finished so much later.
const recorderPause = 10 * time.Millisecond

func (c *recorder) run() {
	defer close(c.ended)
	var last time.Time
	for one := range c.rows {
		// A row that comes alone is entered at once; of many, the others come meanwhile,
		// and nobody is woken for each.
		time.Sleep(recorderPause - time.Since(last))
		some := []finished{one}
		for more := true; more && len(some) < cap(c.rows); {
			select {
			case next, ok := <-c.rows:
				if more = ok; ok {
					some = append(some, next)
				}
			default:
				more = false
			}
		}
		if c.record != nil {
			entries := make([]history.Entry, len(some))
			for i, f := range some {
				entries[i] = f.row.Entry(f.sheet, f.brief, f.masker)
			}
			if err := c.record(entries); err != nil {
				// Later rows are not tried: a record with a placeholder would look whole.
				c.record = nil
				one.events.add(event{lost: err})
			}
		}
		for _, f := range some {
			f.events.close()
		}
		last = time.Now()
	}
}

// pace says when the next row is to be begun.
type pace struct {
	mutex sync.Mutex
	every time.Duration
	next  time.Time
}

// due gives the moment of the next row. It hangs on the rate alone, not on how long
// the rows before took: what they make late counts for what comes after them.
func (p *pace) due() time.Time {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.next.IsZero() {
		p.next = time.Now()
	}
	due := p.next
	p.next = due.Add(p.every)
	return due
}
