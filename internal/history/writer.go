package history

import (
	"bytes"
	"compress/flate"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	// SQLite, without cgo
)

// Writer writes a run under way. It is used by one goroutine.
type Writer struct {
	Number int
	store  *Store
	packed bytes.Buffer
	packer *flate.Writer
	insert *sql.Stmt
}

// Entry is a finished row on its way into the history.
type Entry struct {
	Sheet     int
	Phase     string
	Iteration int
	Row       int
	// Outcome is that of the row; Body its form in JSON, masked.
	Outcome string
	Body    []byte
}

func part(phase string) int {
	switch phase {
	case "first":
		return 0
	case "last":
		return 2
	}
	return 1
}

// Add writes rows, all or none of them. When it returns, they are there whatever
// becomes of the program.
func (w *Writer) Add(entries []Entry) error {
	tx, err := w.store.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	if w.insert == nil {
		w.insert, err = w.store.db.Prepare("insert or replace into row " +
			"(run, sheet, part, turn, number, outcome, body) values (?, ?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
	}
	insert := tx.Stmt(w.insert)
	for _, e := range entries {
		body, err := w.pack(e.Body)
		if err != nil {
			return err
		}
		if _, err := insert.Exec(w.Number, e.Sheet, part(e.Phase), e.Iteration, e.Row, e.Outcome, body); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// MostRow is how many bytes a row of the history may have: what is packed unfolds to a thousand
// times its size.
const MostRow = 64 << 20

// Bodies are packed where that is worth it; the first byte tells.
const (
	plain       = 0
	deflated    = 1
	worthToPack = 600
)

func (w *Writer) pack(text []byte) ([]byte, error) {
	if len(text) < worthToPack {
		return append([]byte{plain}, text...), nil
	}
	w.packed.Reset()
	w.packed.WriteByte(deflated)
	if w.packer == nil {
		var err error
		if w.packer, err = flate.NewWriter(nil, flate.BestSpeed); err != nil {
			return nil, err
		}
	}
	w.packer.Reset(&w.packed)
	if _, err := w.packer.Write(text); err != nil {
		return nil, err
	}
	err := w.packer.Close()
	return bytes.Clone(w.packed.Bytes()), err
}

func unpack(body []byte) ([]byte, error) {
	if len(body) == 0 {
		return nil, errors.New("a row of the history is empty")
	}
	if body[0] == plain {
		return body[1:], nil
	}
	text, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(body[1:])), MostRow+1))
	if err == nil && len(text) > MostRow {
		err = fmt.Errorf("a row of the history is larger than %d MiB, and none is written so", MostRow>>20)
	}
	return text, err
}

// Head writes what is known of the run, and of its sheets as far as they are begun.
func (w *Writer) Head(head *Run) error {
	tx, err := w.store.db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	for i, sheet := range head.Sheets {
		text, err := json.Marshal(sheet)
		if err != nil {
			return err
		}
		if _, err := tx.Exec("insert or replace into sheet (run, sheet, head) values (?, ?, ?)", w.Number, i,
			string(text)); err != nil {
			return err
		}
	}
	bare := *head
	bare.Sheets, bare.Number = nil, 0
	text, err := json.Marshal(bare)
	if err != nil {
		return err
	}
	if _, err := tx.Exec("update run set head = ?, ended = ? where number = ?", string(text), head.Ended,
		w.Number); err != nil {
		return err
	}
	return tx.Commit()
}
