package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	_ "github.com/jackc/pgx/v5/stdlib" // PostgreSQL
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // SQLite

	"meatus/core/perm"
)

// Store is one, opened.
type Store struct {
	db     *sql.DB
	kind   kind
	cancel context.CancelFunc
	wg     sync.WaitGroup

	mu       sync.Mutex
	watchers map[chan string]bool
}

// kind is what differs between the databases.
type kind struct {
	driver  string
	dialect goose.Dialect
	now     string // milliseconds since 1970, by the database's clock
	alone   string // run first in a transaction in which the record's end must stay
	listen  string // what is connected to for notifications; "" where there are none
}

//go:embed migrations/*.sql
var migrations embed.FS

// openTime is how long opening may take.
const openTime = 20 * time.Second

// Open opens a store: "postgres://..." is a database there, anything else the path of a file of SQLite, which is
// made where there is none.
func Open(ctx context.Context, where string) (*Store, error) {
	s := &Store{watchers: map[chan string]bool{}}
	var err error
	if strings.HasPrefix(where, "postgres://") || strings.HasPrefix(where, "postgresql://") {
		err = s.openPostgres(where)
	} else {
		err = s.openSQLite(where)
	}
	if err != nil {
		return nil, fmt.Errorf("the store cannot be opened: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	if err := s.migrate(ctx); err != nil {
		s.db.Close()
		return nil, fmt.Errorf("the store cannot be used: %w", err)
	}
	watching, stop := context.WithCancel(context.Background())
	s.cancel = stop
	s.wg.Go(func() { s.follow(watching) })
	return s, nil
}

// maxConnections is how many connections to a database are open at once.
const maxConnections = 8

func (s *Store) openPostgres(where string) (err error) {
	if _, err := pgx.ParseConfig(where); err != nil {
		return errors.New("its address is not understood; write it like postgres://USER@HOST/DATABASE, the password in a file that PGPASSFILE names")
	}
	s.kind = kind{driver: "pgx", dialect: goose.DialectPostgres, listen: where,
		now:   "(extract(epoch from clock_timestamp())*1000)::bigint",
		alone: "SELECT pg_advisory_xact_lock(6284655)"}
	s.db, err = sql.Open(s.kind.driver, where)
	if err == nil {
		s.db.SetMaxOpenConns(maxConnections)
		s.db.SetConnMaxIdleTime(time.Minute)
	}
	return err
}

func (s *Store) openSQLite(path string) error {
	for _, part := range []string{filepath.Dir(path), path, path + "-wal", path + "-shm"} {
		if err := perm.Judge(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	f.Close()
	s.kind = kind{driver: "sqlite", dialect: goose.DialectSQLite3, now: "cast(unixepoch('subsec')*1000 as integer)"}
	settings := url.Values{"_pragma": {"busy_timeout(5000)", "journal_mode(WAL)", "synchronous(FULL)"}, "_txlock": {"immediate"}}
	s.db, err = sql.Open(s.kind.driver, "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+settings.Encode())
	if err == nil {
		s.db.SetMaxOpenConns(1)
	}
	return err
}

// migrate brings the tables to their present form. Two programs do not do so at once.
func (s *Store) migrate(ctx context.Context) error {
	if err := s.db.PingContext(ctx); err != nil {
		return err
	}
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	if s.kind.listen != "" {
		conn, err := s.db.Conn(ctx)
		if err != nil {
			return err
		}
		defer conn.Close()
		if _, err := conn.ExecContext(ctx, "SELECT pg_advisory_lock(6284656)"); err != nil {
			return err
		}
		defer conn.ExecContext(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock(6284656)")
	}
	p, err := goose.NewProvider(s.kind.dialect, s.db, files)
	if err != nil {
		return err
	}
	_, err = p.Up(ctx)
	return err
}

// Close closes the store.
func (s *Store) Close() error {
	s.cancel()
	s.wg.Wait()
	return s.db.Close()
}

// Ping reports whether the store is writable: on a full disk it still answers reads.
func (s *Store) Ping(ctx context.Context) error {
	return s.do(ctx, func(x *tx) error {
		_, err := x.exec("UPDATE probe SET at = NOW WHERE id = 1")
		return err
	})
}

// Now is the store's time.
func (s *Store) Now(ctx context.Context) (time.Time, error) {
	var at int64
	err := s.db.QueryRowContext(ctx, "SELECT "+s.kind.now).Scan(&at)
	return moment(at), err
}

// moment is a time of the store, which has 0 for none.
func moment(at int64) time.Time {
	if at == 0 {
		return time.Time{}
	}
	return time.UnixMilli(at).UTC()
}

// sql writes a statement as the database wants it: each ? is the next value, and NOW its time.
func (k kind) sql(statement string) string {
	statement = strings.ReplaceAll(statement, "NOW", k.now)
	if k.listen == "" {
		return statement
	}
	var b strings.Builder
	n := 0
	for _, c := range statement {
		if c == '?' {
			n++
			b.WriteString("$" + strconv.Itoa(n))
			continue
		}
		b.WriteRune(c)
	}
	return b.String()
}

// tx is a transaction.
type tx struct {
	*sql.Tx
	s       *Store
	ctx     context.Context
	changed []string
}

func (t *tx) exec(statement string, values ...any) (int64, error) {
	r, err := t.ExecContext(t.ctx, t.s.kind.sql(statement), values...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

func (t *tx) row(statement string, values ...any) *sql.Row {
	return t.QueryRowContext(t.ctx, t.s.kind.sql(statement), values...)
}

// change has whoever watches told of a change when it is made.
func (t *tx) change(what string) error {
	t.changed = append(t.changed, what)
	if t.s.kind.listen == "" {
		return nil
	}
	_, err := t.ExecContext(t.ctx, "SELECT pg_notify('meatus', $1)", what)
	return err
}

// do does something in one transaction, whole or not at all.
func (s *Store) do(ctx context.Context, what func(*tx) error) error {
	inner, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer inner.Rollback()
	t := &tx{Tx: inner, s: s, ctx: ctx}
	if err := what(t); err != nil {
		return err
	}
	if err := inner.Commit(); err != nil {
		return err
	}
	if s.kind.listen == "" {
		for _, c := range t.changed {
			s.told(c)
		}
	}
	return nil
}

// all reads rows.
func all[T any](ctx context.Context, s *Store, read func(*sql.Rows) (T, error), statement string, values ...any) ([]T, error) {
	rows, err := s.db.QueryContext(ctx, s.kind.sql(statement), values...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []T
	for rows.Next() {
		one, err := read(rows)
		if err != nil {
			return nil, err
		}
		list = append(list, one)
	}
	return list, rows.Err()
}
