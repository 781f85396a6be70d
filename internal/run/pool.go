package run

import (
	"sync"
)

// pool does rows side by side, by goroutines that stay: their stacks have grown already. Where one row is at work at a
// time, it is done by who begins it.
type pool struct {
	size, workers int
	rows          chan func()
	group         sync.WaitGroup
}

func newPool(size int) *pool { return &pool{size: size, rows: make(chan func())} }

// begin begins a row, and waits for a goroutine that is free where as many as may be are at work.
func (p *pool) begin(row func()) {
	if p.size == 1 {
		row()
		return
	}
	select {
	case p.rows <- row:
		return
	default:
	}
	if p.workers == p.size {
		p.rows <- row
		return
	}
	p.workers++
	p.group.Go(func() {
		for ok := true; ok; row, ok = <-p.rows {
			row()
		}
	})
}

// wait ends the pool when all rows are done.
func (p *pool) wait() {
	close(p.rows)
	p.group.Wait()
}
