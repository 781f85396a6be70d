package history

import (
	"bytes"
	"compress/flate"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite" // SQLite, without cgo
	sqlite3 "modernc.org/sqlite/lib"
)

// version is that of the tables, in the database's user_version.
const version = 2

const tables = `
create table run (
  number integer primary key autoincrement, id text not null unique, ended integer not null, head text not null);
create table sheet (
  run integer not null, sheet integer not null, head text not null, primary key (run, sheet)) without rowid;
create table row (
  run integer not null, sheet integer not null, part integer not null, turn integer not null, number integer not null,
  outcome text not null, body blob not null, primary key (run, sheet, part, turn, number)) without rowid;
`

// sums holds what the steps of each sheet came to, made of the rows when it was first asked for.
const sums = `create table if not exists sum (
  run integer not null, sheet integer not null, body text not null, primary key (run, sheet)) without rowid;
`

// Store is the history of a bench: one database file, with a write-ahead log, which
// several programs may use at once.
type Store struct {
	// Note says what was done with a file that could not be used; empty for nothing.
	Note string
	db   *sql.DB
}

// Open opens the history in a file, and makes it where there is none. A file that is
// damaged is put aside under another name.
func Open(file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("there is no history here, and none can be begun: %w", err)
	}
	db, err := open(file)
	if err == nil {
		return &Store{db: db}, nil
	}
	var damage *sqlite.Error
	if errors.As(err, &damage) &&
		(damage.Code()&0xff == sqlite3.SQLITE_CANTOPEN || damage.Code()&0xff == sqlite3.SQLITE_READONLY) {
		return openForReading(file)
	}
	if !errors.As(err, &damage) || damage.Code() != sqlite3.SQLITE_NOTADB && damage.Code() != sqlite3.SQLITE_CORRUPT {
		return nil, fmt.Errorf("the history %s: %w", file, err)
	}
	aside := strings.TrimSuffix(file,
		filepath.Ext(file)) + "-damaged-" + time.Now().UTC().Format("20060102-150405.000") + filepath.Ext(file)
	for _, ending := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(file+ending, aside+ending); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, err
		}
	}
	if db, err = open(file); err != nil {
		return nil, fmt.Errorf("the history %s: %w", file, err)
	}
	return &Store{db: db, Note: fmt.Sprintf(
		"the history was damaged and cannot be read; it is put aside as %s, and a new one is begun", aside)}, nil
}

// openForReading opens a history in a folder that cannot be written to. What another
// program has in its log at that moment is not seen.
func openForReading(file string) (*Store, error) {
	if _, err := os.Stat(file); err != nil {
		return nil, fmt.Errorf("there is no history here, and none can be begun: %s cannot be written to",
			filepath.Dir(file))
	}
	db, err := sql.Open("sqlite", "file:"+escaped(file)+"?mode=ro&immutable=1")
	if err != nil {
		return nil, err
	}
	var found int
	err = db.QueryRow("pragma user_version").Scan(&found)
	if err == nil {
		err = checkVersion(file, found)
	}
	if err != nil {
		_ = db.Close()
		return nil, err
	}
	return &Store{db: db}, nil
}

func open(file string) (*sql.DB, error) {
	// In the write-ahead log a commit outlives the program; only a power cut can take
	// the last ones, and none in part.
	db, err := sql.Open("sqlite",
		"file:"+escaped(file)+"?_txlock=immediate&_pragma=busy_timeout(10000)&"+
			"_pragma=journal_mode(wal)&_pragma=synchronous(normal)")
	if err != nil {
		return nil, err
	}
	err = prepare(db, file)
	if err != nil {
		_ = db.Close()
		return nil, err
	}
	return db, nil
}

// escaped is a file name as it may be in a URI of SQLite.
func escaped(file string) string {
	return strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(filepath.ToSlash(file))
}

// checkVersion refuses a history that this version of the program does not read.
func checkVersion(file string, found int) error {
	switch {
	case found > version:
		return fmt.Errorf("%s was written by a newer version of the program", file)
	case found < version:
		return fmt.Errorf("%s was written by an older version of the program, which used other words; "+
			"move it away, and a new one is made", file)
	}
	return nil
}

func prepare(db *sql.DB, file string) error {
	var found int
	if err := db.QueryRow("pragma user_version").Scan(&found); err != nil {
		return err
	}
	if found != 0 {
		if err := checkVersion(file, found); err != nil {
			return err
		}
		_, err := db.Exec(sums)
		return err
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer func() { _ = tx.Rollback() }()
	// Another program may have been first.
	if err := tx.QueryRow("pragma user_version").Scan(&found); err != nil || found == version {
		return err
	}
	if _, err := tx.Exec(tables + sums + fmt.Sprintf("pragma user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}

// Close deletes the file.
func (s *Store) Close() error { return s.db.Close() }

// Begin begins a run and gives it its number.
func (s *Store) Begin(head *Run) (*Writer, error) {
	text, err := json.Marshal(head)
	if err != nil {
		return nil, err
	}
	done, err := s.db.Exec("insert into run (id, ended, head) values (?, 0, ?)", head.ID, string(text))
	if err != nil {
		return nil, err
	}
	number, err := done.LastInsertId()
	return &Writer{store: s, Number: int(number)}, err
}

// Resume goes on with a run.
func (s *Store) Resume(number int) (*Writer, error) {
	_, err := s.db.Exec("update run set ended = 0 where number = ?1; delete from sum where run = ?1", number)
	return &Writer{store: s, Number: number}, err
}

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

// newestFirst orders runs by when they were started: one that was carried in from elsewhere has a new number.
const newestFirst = " order by julianday(json_extract(head, '$.started')) desc, number desc "

// Last gives the number of the newest run; 0 where there is none.
func (s *Store) Last() (int, error) {
	var number int
	err := s.db.QueryRow("select number from run" + newestFirst + "limit 1").Scan(&number)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return number, err
}

// Recent lists the newest runs, the newest first, without their rows.
func (s *Store) Recent(most int) ([]*Run, error) { return s.RecentAt(most, nil) }

// RecentAt lists the newest runs at some sites, the newest first, without their rows; at all sites for none. A
// site that no run has is an UnknownError.
func (s *Store) RecentAt(most int, sites []string) ([]*Run, error) {
	numbers, err := numbersOf(s.db.Query("select number from run" + newestFirst))
	if err != nil {
		return nil, err
	}
	var runs []*Run
	var seen []string // the sites of the runs looked at
	for _, number := range numbers {
		if len(runs) == most && allKnown("site", sites, seen) == nil {
			break
		}
		stored, err := s.Get(number)
		var gone *NotThereError
		if errors.As(err, &gone) {
			continue
		}
		if err != nil {
			return nil, err
		}
		isAt := len(sites) == 0
		for _, sheet := range stored.head.Sheets {
			isAt = isAt || slices.Contains(sites, sheet.Site)
			if !slices.Contains(seen, sheet.Site) {
				seen = append(seen, sheet.Site)
			}
		}
		if isAt && len(runs) < most {
			runs = append(runs, stored.head)
		}
	}
	return runs, allKnown("site", sites, seen)
}

// RecentRuns lists the newest runs that had sheets, the newest first: not calls.
func (s *Store) RecentRuns(most int) ([]*Run, error) {
	runs, err := s.Recent(mostLookedAt)
	runs = slices.DeleteFunc(runs, func(r *Run) bool { return !r.HasSheets() })
	return runs[:min(len(runs), most)], err
}

// numbersOf reads the one column of a query.
func numbersOf(rows *sql.Rows, err error) ([]int, error) {
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	var numbers []int
	for rows.Next() {
		var number int
		if err := rows.Scan(&number); err != nil {
			return nil, err
		}
		numbers = append(numbers, number)
	}
	return numbers, rows.Err()
}

// Prune takes all runs away but the newest ones, and gives the numbers of those that are
// gone.
func (s *Store) Prune(keep int) ([]int, error) {
	tx, err := s.db.Begin()
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	gone, err := numbersOf(tx.Query("select number from run"+newestFirst+"limit -1 offset ?", keep))
	if err != nil {
		return nil, err
	}
	for _, number := range gone {
		if err := remove(tx, number); err != nil {
			return nil, err
		}
	}
	if err := tx.Commit(); err != nil || len(gone) == 0 {
		return gone, err
	}
	_, err = s.db.Exec("vacuum")
	return gone, err
}

func remove(tx *sql.Tx, run int) error {
	for _, table := range []string{"row where run", "sum where run", "sheet where run", "run where number"} {
		if _, err := tx.Exec("delete from "+table+" = ?", run); err != nil {
			return err
		}
	}
	return nil
}

// How much a history holds, in bytes, before its oldest runs make room for new ones; and
// how many of the newest stay however large they are.
const (
	MostBytes  = 1 << 30
	alwaysKept = 10
)

// Bound takes the oldest runs away where the history holds more than so many bytes, until
// a quarter of that is free, and gives the numbers of those that are gone.
func (s *Store) Bound(most int64) ([]int, error) {
	if size, err := used(s.db); err != nil || size <= most {
		return nil, err
	}
	tx, err := s.db.Begin()
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback() }()
	oldest, err := numbersOf(
		tx.Query("select number from run"+newestFirst+"limit -1 offset ?", alwaysKept))
	if err != nil {
		return nil, err
	}
	var gone []int
	for _, number := range slices.Backward(oldest) {
		size, err := used(tx)
		if err != nil {
			return nil, err
		}
		if size <= most/4*3 {
			break
		}
		if err := remove(tx, number); err != nil {
			return nil, err
		}
		gone = append(gone, number)
	}
	return gone, tx.Commit()
}

// used is how many bytes of the file hold something.
func used(db interface {
	QueryRow(query string, args ...any) *sql.Row
},
) (int64, error) {
	var size int64
	err := db.QueryRow("select (page_count - freelist_count) * page_size from pragma_page_count, " +
		"pragma_freelist_count, pragma_page_size").Scan(&size)
	return size, err
}

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
