// Package run runs sheets: scheduler.go has rows side by side, with repeat.go for which and
// recorder.go for their record; row.go is one row, in which steps run. It shows nothing; results
// go to an Observer.
package run

import (
	"testbench/internal/exchange"
	"testbench/internal/result"
)

// Observer is told how a run goes on. The calls come one after the other, and those of
// each row together; RowDone comes when the row is in the record.
type Observer interface {
	SheetStarted(*result.Sheet)
	RowStarted(*result.Sheet, *result.Row)
	StepDone(*result.Sheet, *result.Row, *result.Step)
	RowDone(*result.Sheet, *result.Row)
	SheetDone(*result.Sheet)
	// WouldSend is told of each request of a dry run; planned is nil where it
	// cannot be known beforehand, and then reason says why.
	WouldSend(row *result.Row, step *result.Step, planned *exchange.Request, reason string)
	// RecordLost is told, once, that rows are not recorded from here on.
	RecordLost(err error)
}

// NoObserver is told everything and says nothing.
type NoObserver struct{}

func (NoObserver) SheetStarted(*result.Sheet) {}

func (NoObserver) RowStarted(*result.Sheet, *result.Row) {}

func (NoObserver) StepDone(*result.Sheet, *result.Row, *result.Step) {}

func (NoObserver) RowDone(*result.Sheet, *result.Row) {}

func (NoObserver) SheetDone(*result.Sheet) {}

func (NoObserver) RecordLost(error) {}

func (NoObserver) WouldSend(*result.Row, *result.Step, *exchange.Request, string) {}
