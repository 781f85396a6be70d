//go:build peers

package main_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asUser makes a command run as a user of the system, where the tests run as root:
// PostgreSQL refuses root.
func asUser(user, name string, args ...string) (string, []string) {
	if os.Getuid() != 0 {
		return name, args
	}
	return "setpriv", append([]string{"--reuid", user, "--regid", user, "--clear-groups", "--", name}, args...)
}

func mustRun(t *testing.T, stdin, name string, args ...string) {
	t.Helper()
	c := exec.Command(name, args...)
	c.Stdin = strings.NewReader(stdin)
	output, err := c.CombinedOutput()
	require.NoError(t, err, "%s %v: %s; scripts/test installs it", name, args, output)
}

// openFolder is a folder that other users of the system may enter.
func openFolder(t *testing.T, user string) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "testbench-db-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	if os.Getuid() == 0 {
		mustRun(t, "", "chown", user, dir)
	}
	return dir
}

// tablesOf fills a database with what both are asked for.
const tablesOf = `create table intake (number varchar(10) primary key, lot varchar(10) not null, grade varchar(1), kilos numeric(10,2), booked_on date, booked_at timestamp, organic BOOL, note TEXT);
insert into intake values ('IN-1', 'L-2201', 'A', 120.50, '2026-11-23', '2026-11-23 08:30:00', true, 'it''s 5 o''clock; -- :lot');
insert into intake values ('IN-2', 'L-2202', 'B', 80.10, '2026-11-24', '2026-11-24 09:00:00', false, null);
insert into intake values ('IN-3', 'L-2203', 'A', 64, '2026-11-25', '2026-11-25 10:15:30', true, 'Heather & bell');
`

// lookupsOf are asked of each kind of database; the bench calls it books.
func lookupsOf(t *testing.T, p *place, broken string) {
	t.Helper()
	p.write("sheets/test.yaml", `sheet: books
rows:
  database: books
  sql: select number, lot, kilos from intake where grade = :grade or :grade = 'all' order by number
  fill:
    grade: A
  label: lot
  columns: [number, lot, kilos]
steps:
  - step: by number
    lookup: books
    sql: |
      select number, lot, grade, kilos, booked_on, booked_at, organic, note, ':lot' as quoted -- :comment
      from intake /* :comment */ where lot = :lot and kilos >= :least
    fill:
      lot: ${lot}
      least: 1
    keep:
      kilos: answer[0].kilos
    fields:
      answer: count 1
      answer[0].number: ${number}
      answer[0].kilos: ${row.kilos}
      answer[0].booked_on: is date
      answer[0].booked_at: starts with 2026-11-2
      answer[0].organic: one of 1 or true
      answer[0].quoted: ":lot"
    where:
      - answer[0].kilos > 60.0
  - step: none
    lookup: books
    sql: select number from intake where lot = :lot
    fill:
      lot: "x' or '1'='1"
    fields:
      answer: is empty
`)
	o := p.run("run", "sheets/test.yaml", "-out", "r.json")
	assert.Equal(t, 0, o.status, o.all())
	assert.Contains(t, o.stdout, "row 1 (lot L-2201)")
	assert.Contains(t, o.stdout, "row 2 (lot L-2203)")
	assert.Contains(t, o.stdout, "2 rows · 2 passed")
	step := func(rest string) string {
		return "sheet: s\nsteps:\n  - step: it\n    lookup: books\n    " + strings.ReplaceAll(rest, "\n", "\n    ") +
			"\n"
	}
	for _, c := range []struct {
		sheet  string
		status int
		says   string
	}{
		{step("sql: select lot from intake where note is null\nfields: {'answer[0].lot': L-2202, 'answer[*].lot': is unique}"), 0, "2 checks passed"},
		{step("sql: select note from intake where lot = :lot\nfill: {lot: L-2202}\nfields: {'answer[0].note': is null}"), 0, "1 check passed"},
		{step("sql: select sum(kilos) as total from intake\nfields: {'answer[0].total': 264.60}"), 0, "1 check passed"},
		{step("sql: select lot from intake\nfields: {answer: count 5}"), 1, `found: [{"lot":"L-2201"}`},
		{step("sql: delete from intake where lot = 'L-2201'"), 2, "a lookup only reads"},
		{step("sql: select lott from intake"), 2, "response from the database: "},
		{step("sql: select lot from intake where lot = :lot\nfill: {lot: [1, 2]}"), 2, "a parameter is a single value"},
		{
			step(`sql: select lot from intake where lot = 'L-9'
until: {answer: count 1}
every: 50 ms
within: 300 ms`),
			1, "not so within 300 ms",
		},
	} {
		o := p.sheet(c.sheet)
		assert.Equal(t, c.status, o.status, "%s: %s", c.sheet, o.all())
		assert.Contains(t, o.all(), c.says, c.sheet)
		assert.NotContains(t, o.all(), "reader's pass/word")
	}
	o = p.sheet(step("sql: select lot from intake where lot = 'L-2201'\nfields: {answer: count 1}"))
	assert.Equal(t, 0, o.status, "nothing was deleted: %s", o.all())
	// What goes wrong while rows are read is told, and is not an end without a word.
	o = p.sheet("sheet: s\nrows: {database: books, sql: \"" + broken + "\"}\nsteps:\n  - step: it\n    pause: 1 ms\n")
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "the database books: response from the database: ")
	o = p.sheet(`sheet: s
rows: {database: books, sql: select lot from intake, columns: [lott]}
steps:
  - step: it
    set: {x: '${lott}'}
`)
	assert.Equal(t, 2, o.status)
	assert.Contains(t, o.all(), "the query gives no column lott; there are: lot")
	// A false password, and nobody there.
	p.env = append(p.env, "TESTBENCH_SEALED_READER=false password")
	o = p.sheet(step("sql: select 1 as one"))
	assert.Equal(t, 3, o.status, o.all())
	assert.Contains(t, o.all(), "the database cannot be reached: ")
	p.write("bench.yaml", strings.NewReplacer("127.0.0.1:", "127.0.0.1:1").Replace(p.read("bench.yaml")))
	o = p.sheet(step("sql: select 1 as one"))
	assert.Contains(t, []int{2, 3}, o.status, o.all())
}

func TestPostgres(t *testing.T) {
	t.Parallel()
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	require.NoError(t, err)
	require.NotEmpty(t, found, "PostgreSQL is not installed; scripts/test does that")
	bin := filepath.Dir(found[len(found)-1])
	dir := openFolder(t, "postgres")
	name, args := asUser("postgres", filepath.Join(bin, "initdb"), "-D", filepath.Join(dir, "data"), "-A", "trust",
		"-U", "owner", "-E", "UTF8", "--no-sync")
	mustRun(t, "", name, args...)
	port := freePort(t)
	name, args = asUser("postgres", filepath.Join(bin, "postgres"), "-D", filepath.Join(dir, "data"), "-h", "127.0.0.1",
		"-p", port, "-k", dir, "-c", "fsync=off")
	serve(t, port, name, args...)
	// It listens a moment before it lets anybody in, and tells nobody when.
	for range 500 {
		if exec.Command(filepath.Join(bin, "pg_isready"), "-q", "-h", "127.0.0.1", "-p", port).Run() == nil {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	psql := func(sql string) {
		mustRun(t, sql, filepath.Join(bin, "psql"), "-q", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1", "-p", port, "-U",
			"owner", "-d", "postgres")
	}
	psql(tablesOf + "create role reader login password 'reader''s pass/word'; grant all on intake to reader;")
	hba := filepath.Join(dir, "data", "pg_hba.conf")
	require.NoError(t, os.WriteFile(hba,
		[]byte("host all owner 127.0.0.1/32 trust\nhost all reader 127.0.0.1/32 scram-sha-256\n"), 0o644))
	psql("select pg_reload_conf();")
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_READER=reader's pass/word")
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      books: 127.0.0.1:"+port+
		`
services: {}
databases:
  books:
    kind: postgres
    address: postgres://reader@${books}/postgres?sslmode=disable
    password: ${sealed.reader}
`)
	lookupsOf(t, p, "select 1/(3-number) from (values (1),(2),(3)) as n(number)")
}

func TestMariaDB(t *testing.T) {
	t.Parallel()
	dir := openFolder(t, "mysql")
	data := filepath.Join(dir, "data")
	name, args := asUser("mysql", program("mariadb-install-db"), "--no-defaults", "--datadir="+data,
		"--auth-root-authentication-method=normal", "--skip-test-db")
	mustRun(t, "", name, args...)
	port := freePort(t)
	name, args = asUser("mysql", program("mariadbd"), "--no-defaults", "--datadir="+data, "--bind-address=127.0.0.1",
		"--port="+port, "--socket="+filepath.Join(dir, "s.sock"), "--pid-file="+filepath.Join(dir, "pid"))
	serve(t, port, name, args...)
	mustRun(t, "create database books; use books; "+tablesOf+
		"create user reader@localhost identified by 'reader''s pass/word'; grant all on books.* to reader@localhost;",
		"mariadb", "--no-defaults", "-u", "root", "-S", filepath.Join(dir, "s.sock"))
	p := newPlace(t)
	p.env = append(p.env, "TESTBENCH_SEALED_READER=reader's pass/word")
	p.write("bench.yaml", "bench: t\nsites:\n  local:\n    set:\n      books: 127.0.0.1:"+port+
		`
services: {}
databases:
  books:
    kind: mariadb
    address: mysql://${books}/books
    user: reader
    password: ${sealed.reader}
`)
	lookupsOf(t, p, "select (select number from intake)")
}
