package session

import (
	"testbench/internal/bench"
	"testbench/internal/document"
	"testbench/internal/exchange"
)

// Replay answers what steps ask from what was recorded before, so that nothing is sent. It belongs to one row that is
// run again, and is safe for use by several goroutines.
type Replay interface {
	// Answer gives what came of an exchange of a step: the one after so many others. The record is the caller's.
	Answer(step string, before int, request *exchange.Request) *exchange.Record
	// Found gives what a step found that looks into a database or a folder.
	Found(step string) (*document.Node, error)
	// Rows are those of a sheet whose rows come from a database.
	Rows() []*document.Node
	// UUID gives the next new identifier.
	UUID() string
	// Sealed is what is there in place of a secret, and false where secrets are opened as ever.
	Sealed() (string, bool)
	// Contracts are those that were read already, for all sessions that share them.
	Contracts() *bench.ContractCache
}
