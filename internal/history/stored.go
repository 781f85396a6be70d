package history

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	// SQLite, without cgo
)

// NotThereError says that there is no such run.
type NotThereError struct{ Number, Last int }

func (e *NotThereError) Error() string {
	if e.Last == 0 {
		return "there is no run in the history"
	}
	return fmt.Sprintf("there is no run %d in the history; the newest is %d", e.Number, e.Last)
}

// Stored is a run of the history.
type Stored struct {
	store *Store
	head  *Run
}

// Get reads a run. An interrupted one is summed up from the rows that are there.
func (s *Store) Get(number int) (*Stored, error) {
	var text string
	var ended bool
	err := s.db.QueryRow("select head, ended from run where number = ?", number).Scan(&text, &ended)
	if errors.Is(err, sql.ErrNoRows) {
		last, err := s.Last()
		if err != nil {
			return nil, err
		}
		return nil, &NotThereError{number, last}
	}
	if err != nil {
		return nil, err
	}
	head := &Run{}
	if err := json.Unmarshal([]byte(text), head); err != nil {
		return nil, fmt.Errorf("run %d: %w", number, err)
	}
	head.Number, head.Ended, head.Sheets = number, ended, []*Sheet{}
	rows, err := s.db.Query("select head from sheet where run = ? order by sheet", number)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		sheet := &Sheet{}
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(text), sheet); err != nil {
			return nil, fmt.Errorf("run %d: %w", number, err)
		}
		head.Sheets = append(head.Sheets, sheet)
	}
	stored := &Stored{store: s, head: head}
	if err := rows.Err(); err != nil || ended {
		return stored, err
	}
	if err := stored.Sum(head); err != nil {
		return nil, err
	}
	if len(head.Broken) == 0 {
		head.breakOff("the run was not run to its end")
	}
	head.Outcome = Worst(head.Outcome, "interrupted")
	return stored, nil
}

// Sum calculates anew what a run came to, from the rows that are there. What is judged
// of its sheets as a whole stays as it is.
func (s *Stored) Sum(head *Run) error {
	head.Counts, head.Outcome = Counts{}, ""
	for i, sheet := range head.Sheets {
		sheet.Counts, sheet.Outcome = Counts{}, ""
		for row, err := range s.Rows(i) {
			if err != nil {
				return err
			}
			sheet.Counts.Sheets = 1
			sheet.Counts.Add(row.Counts())
			sheet.Outcome = Worst(sheet.Outcome, row.Outcome)
		}
		for _, check := range sheet.Checks {
			sheet.Counts.Checks++
			if !check.Passed {
				sheet.Counts.ChecksFailed++
				sheet.Outcome = Worst(sheet.Outcome, "failed")
			}
		}
		if sheet.Outcome == "" {
			sheet.Outcome = notRun
		}
		head.Counts.Add(sheet.Counts)
		head.Outcome = Worst(head.Outcome, sheet.Outcome)
	}
	return nil
}

// Run is the run.
func (s *Stored) Run() *Run { return s.head }

// Rows goes through the rows of a sheet, out of the database.
func (s *Stored) Rows(sheet int) iter.Seq2[*Row, error] {
	return func(yield func(*Row, error) bool) {
		for text, err := range s.bodies(sheet) {
			var row *Row
			if err == nil {
				row, err = readRow(text)
			}
			if !yield(row, err) || err != nil {
				return
			}
		}
	}
}

// readRow reads a row as it is written.
func readRow(text []byte) (*Row, error) {
	row := &Row{}
	err := json.Unmarshal(text, row)
	if err == nil && slices.Contains(row.Steps, nil) {
		err = errors.New("a step of a row is null")
	}
	return row, err
}

// bodies goes through the rows of a sheet as they are written.
func (s *Stored) bodies(sheet int) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		rows, err := s.store.db.Query("select body from row where run = ? and sheet = ? order by part, turn, number",
			s.head.Number, sheet)
		if err != nil {
			yield(nil, err)
			return
		}
		defer func() { _ = rows.Close() }()
		for rows.Next() {
			text, err := scanBody(rows)
			if !yield(text, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(nil, err)
		}
	}
}

func scanBody(rows *sql.Rows) ([]byte, error) {
	var body sql.RawBytes
	if err := rows.Scan(&body); err != nil {
		return nil, err
	}
	return unpack(body)
}

// Done tells the rows of a sheet that need not be run again.
type Done struct {
	first, last bool
	turns       map[int][]uint64 // a bit for each number
}

// Has says whether a row is finished.
func (d *Done) Has(phase string, turn, number int) bool {
	switch {
	case d == nil:
		return false
	case phase == "first":
		return d.first
	case phase == "last":
		return d.last
	}
	bits := d.turns[turn]
	return number/64 < len(bits) && bits[number/64]&(1<<(number%64)) != 0
}

// Done lists the rows of a sheet that were finished. One that was interrupted was not.
func (s *Stored) Done(sheet int) (*Done, error) {
	rows, err := s.store.db.Query(
		"select part, turn, number from row where run = ? and sheet = ? and outcome <> 'interrupted'", s.head.Number,
		sheet)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	d := &Done{turns: map[int][]uint64{}}
	for rows.Next() {
		var part, turn, number int
		if err := rows.Scan(&part, &turn, &number); err != nil {
			return nil, err
		}
		switch part {
		case 0:
			d.first = true
		case 2:
			d.last = true
		default:
			bits := d.turns[turn]
			for number/64 >= len(bits) {
				bits = append(bits, 0)
			}
			bits[number/64] |= 1 << (number % 64)
			d.turns[turn] = bits
		}
	}
	return d, rows.Err()
}
