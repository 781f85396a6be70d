package history

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"testbench/internal/safefile"
)

// Import takes a run in that was written elsewhere, and gives its number here. One that is here already is
// left as it is, and isNew is false; it is replaced where that is asked for, or where it was not at its end when it
// was written.
func (s *Store) Import(ctx context.Context, run Finished, replace bool) (number int, isNew bool, err error) {
	head := *run.Run()
	var hadEnded bool
	err = s.db.QueryRowContext(ctx, "select number, ended from run where id = ?", head.ID).Scan(&number, &hadEnded)
	isThere := err == nil
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return 0, false, err
	}
	isNew = !isThere || head.Ended && !hadEnded
	if !isNew && !replace {
		return number, false, nil
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, false, err
	}
	defer func() { _ = tx.Rollback() }()
	if isThere {
		if err := remove(tx, number); err != nil {
			return 0, false, err
		}
	}
	sheets := head.Sheets
	head.Sheets, head.Number = nil, 0
	text, err := json.Marshal(head)
	if err != nil {
		return 0, false, err
	}
	// The number of a replaced run stays its own.
	done, err := tx.ExecContext(ctx, "insert into run (number, id, ended, head) values (nullif(?, 0), ?, ?, ?)",
		number, head.ID, head.Ended, string(text))
	if err != nil {
		return 0, false, err
	}
	id, err := done.LastInsertId()
	if err != nil {
		return 0, false, err
	}
	w := &Writer{store: s, Number: int(id)}
	for i, sheet := range sheets {
		text, err := json.Marshal(sheet)
		if err != nil {
			return 0, false, err
		}
		if _, err := tx.ExecContext(ctx, "insert into sheet (run, sheet, head) values (?, ?, ?)", id, i,
			string(text)); err != nil {
			return 0, false, err
		}
		for row, err := range run.Rows(i) {
			if err != nil {
				return 0, false, err
			}
			if err := w.insertRow(ctx, tx, i, row); err != nil {
				return 0, false, err
			}
		}
	}
	return w.Number, isNew, tx.Commit()
}

// insertRow puts a row of a run that is taken in into the database.
func (w *Writer) insertRow(ctx context.Context, tx *sql.Tx, sheet int, row *Row) error {
	text, err := json.Marshal(row)
	if err != nil {
		return err
	}
	if len(text) > MostRow {
		return fmt.Errorf("%s is larger than %d MiB", row.Name(), MostRow>>20)
	}
	body, err := w.pack(text)
	if err != nil {
		return err
	}
	// What each machine of a shared run did before and after the rows is there several times.
	number := row.Number
	if row.Phase != "" {
		err := tx.QueryRowContext(ctx,
			"select count(*) from row where run = ? and sheet = ? and part = ?", w.Number, sheet,
			part(row.Phase)).Scan(&number)
		if err != nil {
			return err
		}
	}
	_, err = tx.ExecContext(ctx,
		"insert into row (run, sheet, part, turn, number, outcome, body) values (?, ?, ?, ?, ?, ?, ?)",
		w.Number, sheet, part(row.Phase), row.Iteration, number, row.Outcome, body)
	return err
}

// fileOf is the file of a run in a folder of runs.
func fileOf(dir, id string) string {
	return filepath.Join(dir, strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|.`, r) || r < ' ' {
			return '-'
		}
		return r
	}, id)+".json")
}

// Export writes a run into a folder, as a file with its own name. One that is there already is left as it is, and
// isNew is false, unless it was not at its end when it was written.
func Export(run Finished, dir string) (name string, isNew bool, err error) {
	name = fileOf(dir, run.Run().ID)
	if _, err := os.Stat(name); err == nil {
		there, err := OpenFile(name)
		if err != nil || there.Run().Ended || !run.Run().Ended {
			return name, false, err
		}
	}
	if err := safefile.CheckPlace(name); err != nil {
		return "", false, err
	}
	return name, true, safefile.Stream(name, 0o644, func(to io.Writer) error { return WriteJSON(to, run) })
}

// FilesOfRuns are the files that a name of runs to take in stands for: itself, or of a folder those in it
// that may be runs, in their order.
func FilesOfRuns(name string) ([]string, error) {
	info, err := os.Stat(name)
	if err != nil || !info.IsDir() {
		return []string{name}, err
	}
	entries, err := os.ReadDir(name)
	var files []string
	for _, entry := range entries {
		if slices.Contains([]string{".json", ".ndjson"}, filepath.Ext(entry.Name())) {
			files = append(files, filepath.Join(name, entry.Name()))
		}
	}
	return files, err
}
