package history

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
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
