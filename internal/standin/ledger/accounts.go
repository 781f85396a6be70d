package ledger

import (
	"database/sql"
	"fmt"
	"os"

	_ "modernc.org/sqlite" // SQLite, without cgo
)

// Accounts are the ledger's intakes in a database of its own, for those who look into
// the other side. A nil one keeps nothing.
type Accounts struct{ db *sql.DB }

// OpenAccounts begins a database in a file, in place of what was there.
func OpenAccounts(file string) (*Accounts, error) {
	if file == "" {
		return nil, nil
	}
	for _, ending := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(file + ending); err != nil && !os.IsNotExist(err) {
			return nil, err
		}
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(5000)&_pragma=synchronous(off)")
	if err != nil {
		return nil, err
	}
	if _, err := db.Exec("create table intake (number text primary key, lot text not null, grade text not null, " +
		"kilos numeric not null, moisture numeric not null, total numeric not null)"); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("the books: %w", err)
	}
	return &Accounts{db}, nil
}

// enter writes an intake as it is now.
func (a *Accounts) enter(i *intake) {
	if a != nil {
		_, _ = a.db.Exec("insert or replace into intake values (?, ?, ?, ?, ?, ?)", i.Number, i.Lot, i.Grade,
			i.Kilos.String(), i.Moisture.String(), i.Total.String())
	}
}

// strike takes an intake out.
func (a *Accounts) strike(number string) {
	if a != nil {
		_, _ = a.db.Exec("delete from intake where number = ?", number)
	}
}

// Close closes the database.
func (a *Accounts) Close() {
	if a != nil {
		_ = a.db.Close()
	}
}
