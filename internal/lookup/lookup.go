// Package lookup looks into the other side of a service: into databases by SQL, and
// into folders where files appear. It reads and never writes. What it finds is a list
// of rows. It knows nothing of sheets.
package lookup

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
	_ "github.com/jackc/pgx/v5/stdlib" // PostgreSQL
	mssql "github.com/microsoft/go-mssqldb"
	_ "modernc.org/sqlite" // SQLite, without cgo

	"testbench/internal/document"
)

// The kinds of databases.
const (
	Postgres  = "postgres"
	MySQL     = "mysql"
	SQLServer = "sql server"
	SQLite    = "sqlite"
)

// Kinds lists what can be looked into; mariadb is mysql by its own name.
var Kinds = []string{Postgres, MySQL, "mariadb", SQLServer, SQLite, Folder}

// Settings say where a database is. Address is a URL as postgres://host/name; for
// SQLite it is a file.
type Settings struct {
	Kind, Address, User, Password string
}

// Database is a database that may be asked. It is safe for use by several goroutines.
type Database struct {
	kind string
	file string // of SQLite
	db   *sql.DB
}

// Limits of what is taken from a database.
const (
	MostRows    = 10_000 // of a list
	mostCell    = 1 << 20
	connections = 8
)

// Open prepares a database; nothing is sent yet.
func Open(s Settings) (*Database, error) {
	if s.Kind == "mariadb" {
		s.Kind = MySQL
	}
	driver, source, err := s.source()
	if err != nil {
		return nil, err
	}
	db, err := sql.Open(driver, source)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(connections)
	db.SetConnMaxIdleTime(30 * time.Second)
	file := ""
	if s.Kind == SQLite {
		file = s.Address
	}
	return &Database{s.Kind, file, db}, nil
}

// source is the address as the driver wants it.
func (s Settings) source() (driver, source string, err error) {
	if s.Kind == SQLite {
		// A file that is not there must not be made.
		return "sqlite", "file:" + strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(s.Address) +
			"?mode=ro&_pragma=query_only(1)&_pragma=busy_timeout(5000)", nil
	}
	u, err := url.Parse(s.Address)
	expected := map[string]string{
		Postgres: "postgres://host/name", MySQL: "mysql://host/name",
		SQLServer: "sqlserver://host/name",
	}[s.Kind]
	if expected == "" {
		return "", "", fmt.Errorf("a database is of the kind %s, not %q", strings.Join(Kinds, ", "), s.Kind)
	}
	if err != nil || u.Scheme == "" || u.Host == "" && u.Query().Get("socket") == "" && u.Query().Get("host") == "" {
		return "", "", fmt.Errorf("the address is not an address of a database; write %s", expected)
	}
	user := s.User
	if user == "" && u.User != nil {
		user = u.User.Username()
	}
	if _, has := u.User.Password(); has {
		return "", "", errors.New("the address holds a password; write it as password: ${sealed.NAME}")
	}
	name := strings.TrimPrefix(u.Path, "/")
	switch s.Kind {
	case MySQL:
		c := mysql.NewConfig()
		c.User, c.Passwd, c.DBName, c.Net, c.Addr = user, s.Password, name, "tcp", u.Host
		c.Timeout = 10 * time.Second
		if socket := u.Query().Get("socket"); socket != "" {
			c.Net, c.Addr = "unix", socket
		} else if u.Port() == "" {
			c.Addr = net.JoinHostPort(u.Hostname(), "3306")
		}
		if u.Query().Get("tls") != "" {
			c.TLSConfig = u.Query().Get("tls")
		}
		return "mysql", c.FormatDSN(), nil
	case SQLServer:
		values := u.Query()
		if name != "" {
			values.Set("database", name)
		}
		values.Set("app name", "testbench")
		out := url.URL{
			Scheme: "sqlserver", User: url.UserPassword(user, s.Password), Host: u.Host,
			RawQuery: values.Encode(),
		}
		return "sqlserver", out.String(), nil
	}
	values := u.Query()
	if values.Get("connect_timeout") == "" {
		values.Set("connect_timeout", "10")
	}
	values.Set("application_name", "testbench")
	values.Set("default_transaction_read_only", "on")
	out := *u
	out.Scheme, out.User, out.RawQuery = "postgres", url.User(user), values.Encode()
	if s.Password != "" {
		out.User = url.UserPassword(user, s.Password)
	}
	return "pgx", out.String(), nil
}

// Close deletes the connections.
func (d *Database) Close() error { return d.db.Close() }

// UnreachedError says that a database did not answer, or that a folder cannot be opened.
type UnreachedError struct {
	What  string
	Cause error
}

func (e *UnreachedError) Error() string { return e.What + " cannot be reached: " + e.Cause.Error() }
func (e *UnreachedError) Unwrap() error { return e.Cause }

// unreached says which file it was, and that it is not there, where the driver says neither.
func (d *Database) unreached(err error) error {
	if d.file == "" {
		return &UnreachedError{"the database", err}
	}
	var notThere *fs.PathError
	if _, e := os.Stat(d.file); errors.As(e, &notThere) {
		err = notThere.Err
	}
	return &UnreachedError{"the database " + d.file, err}
}

// Query asks and goes through the rows, objects with the columns as members. The
// session reads only, as far as the database knows such: PostgreSQL, MySQL and SQLite
// do; on SQL Server everything is taken back at the end.
func (d *Database) Query(ctx context.Context, s *Statement,
	fill map[string]*document.Node,
) iter.Seq2[*document.Node, error] {
	return func(yield func(*document.Node, error) bool) {
		tx, err := d.db.BeginTx(ctx, &sql.TxOptions{ReadOnly: d.kind == Postgres || d.kind == MySQL})
		if err != nil {
			yield(nil, d.unreached(err))
			return
		}
		defer func() { _ = tx.Rollback() }()
		text, order := s.text(d.kind)
		values := make([]any, len(order))
		for i, n := range order {
			node, ok := fill[s.Names[n]]
			if !ok {
				yield(nil, fmt.Errorf("the parameter %s has no value", s.Names[n]))
				return
			}
			if values[i], err = parameter(node); err != nil {
				yield(nil, fmt.Errorf("the parameter %s: %w", s.Names[n], err))
				return
			}
		}
		rows, err := tx.QueryContext(ctx, text, values...)
		if err != nil {
			yield(nil, d.explain(err))
			return
		}
		defer func() { _ = rows.Close() }()
		columns, err := rows.ColumnTypes()
		if err != nil {
			yield(nil, err)
			return
		}
		cells := make([]any, len(columns))
		into := make([]any, len(columns))
		for i := range cells {
			into[i] = &cells[i]
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				yield(nil, err)
				return
			}
			row := document.NewObject()
			for i, c := range columns {
				node, err := cell(cells[i], c.DatabaseTypeName())
				if err != nil {
					yield(nil, fmt.Errorf("the column %s: %w", c.Name(), err))
					return
				}
				name := c.Name()
				if name == "" {
					name = fmt.Sprintf("column%d", i+1)
				}
				row.Set(name, node)
			}
			if !yield(row, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(nil, d.explain(err))
		}
	}
}

// List asks for all rows, as a list.
func (d *Database) List(ctx context.Context, s *Statement, fill map[string]*document.Node) (*document.Node, error) {
	list := document.NewList()
	for row, err := range d.Query(ctx, s, fill) {
		if err != nil {
			return nil, err
		}
		if len(list.Items()) == MostRows {
			return nil, fmt.Errorf("the query gives more than %d rows; add a condition or a limit to it", MostRows)
		}
		list.AppendItems(row)
	}
	return list, nil
}

// explain puts what a database says into words, with the place where it says one.
func (d *Database) explain(err error) error {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		text := "response from the database: " + pg.Message
		if pg.Code == "25006" {
			text = "a lookup only reads, and the query would write: " + pg.Message
		}
		if pg.Hint != "" {
			text += " (" + pg.Hint + ")"
		}
		return errors.New(text)
	}
	var my *mysql.MySQLError
	if errors.As(err, &my) {
		if my.Number == 1792 {
			return errors.New("a lookup only reads, and the query would write: " + my.Message)
		}
		return errors.New("response from the database: " + my.Message)
	}
	var ms mssql.Error
	if errors.As(err, &ms) {
		return fmt.Errorf("response from the database: %s (line %d)", ms.Message, ms.LineNo)
	}
	var network net.Error
	if errors.As(err, &network) || strings.Contains(err.Error(), "unable to open database file") {
		return d.unreached(err)
	}
	return fmt.Errorf("response from the database: %w", err)
}

// parameter is a value as it is bound. Untyped texts stay texts.
func parameter(n *document.Node) (any, error) {
	if v := n.Value(); v != nil {
		n = v
	}
	switch {
	case !n.IsScalar():
		return nil, fmt.Errorf("it is %s, and a parameter is a single value", n.Describe())
	case n.Kind == document.Null:
		return nil, nil
	case n.Kind == document.Boolean:
		return n.Text == "true", nil
	case n.Kind == document.Number:
		if whole, err := strconv.ParseInt(n.Text, 10, 64); err == nil {
			return whole, nil
		}
	}
	return n.Text, nil
}

// cell makes a node of what a driver gives: numbers keep their digits, days and times
// become ISO 8601, binary becomes Base64.
func cell(v any, kind string) (*document.Node, error) {
	kind, _, _ = strings.Cut(strings.ToUpper(kind), "(")
	kind = strings.TrimSpace(strings.TrimPrefix(kind, "UNSIGNED "))
	switch v := v.(type) {
	case nil:
		return &document.Node{Kind: document.Null}, nil
	case bool:
		return document.NewBoolean(v), nil
	case int64:
		return document.NewNumber(strconv.FormatInt(v, 10)), nil
	case uint64:
		return document.NewNumber(strconv.FormatUint(v, 10)), nil
	case float64:
		return number(strconv.FormatFloat(v, 'f', -1, 64)), nil
	case float32:
		return number(strconv.FormatFloat(float64(v), 'f', -1, 32)), nil
	case time.Time:
		return document.NewText(moment(v, kind)), nil
	case []byte:
		return bytesCell(v, kind)
	case string:
		return textCell(v, kind)
	}
	return textCell(fmt.Sprint(v), kind)
}

func number(text string) *document.Node {
	if document.IsNumber(text) {
		return document.NewNumber(text)
	}
	return document.NewText(text) // NaN and the infinite
}

func textCell(text, kind string) (*document.Node, error) {
	if len(text) > mostCell {
		return nil, fmt.Errorf("a cell has more than %d bytes", mostCell)
	}
	switch kind {
	case "NUMERIC", "DECIMAL", "MONEY", "SMALLMONEY", "INT", "INTEGER", "BIGINT", "SMALLINT", "TINYINT", "MEDIUMINT",
		"FLOAT", "DOUBLE", "YEAR":
		return number(text), nil
	case "JSON", "JSONB":
		return document.ReadJSON([]byte(text))
	case "DATETIME", "TIMESTAMP":
		return document.NewText(strings.Replace(text, " ", "T", 1)), nil
	}
	return document.NewText(text), nil
}

func bytesCell(data []byte, kind string) (*document.Node, error) {
	switch kind {
	case "BYTEA", "BLOB", "TINYBLOB", "MEDIUMBLOB", "LONGBLOB", "BINARY", "VARBINARY", "IMAGE", "BIT", "GEOMETRY":
		if len(data) > mostCell {
			return nil, fmt.Errorf("a cell has more than %d bytes", mostCell)
		}
		return document.NewText(base64.StdEncoding.EncodeToString(data)), nil
	case "UNIQUEIDENTIFIER":
		var id mssql.UniqueIdentifier
		if err := id.Scan(data); err != nil {
			return document.NewText(hex.EncodeToString(data)), nil
		}
		return document.NewText(strings.ToLower(id.String())), nil
	}
	return textCell(string(data), kind)
}

// moment writes a time as its type means it.
func moment(t time.Time, kind string) string {
	switch kind {
	case "DATE":
		return t.Format(time.DateOnly)
	case "TIME":
		return t.Format("15:04:05.999999999")
	case "TIMESTAMPTZ", "DATETIMEOFFSET":
		return t.Format(time.RFC3339Nano)
	}
	return t.Format("2006-01-02T15:04:05.999999999")
}
