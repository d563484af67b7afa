// Package trail is the journal of what was done: by whom, when, how long it took
// and why it failed.
//
// It promises that an entry is on disk when [Trail.Add] returns, also where the
// program is killed the next moment; that it holds no secret, since nothing that
// is typed is ever given to it; and that it keeps the last [MaxEntries] and no
// more. Where the database cannot be opened, Open says so and the program works
// without it.
//
// An entry costs one small write, some tens of microseconds to a millisecond.
package trail

import (
	"context"
	"database/sql"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	_ "modernc.org/sqlite" // the database

	"meatus/core/atomicfile"
	"meatus/core/perm"
	"meatus/core/route"
	"meatus/core/sanitize"
)

// FileName is where the trail is kept in a workspace.
const FileName = "state/trail.db"

// MaxEntries is how many entries are kept. The oldest go first.
const MaxEntries = 100_000

// trimEvery is how many entries are added between looks at their number.
const trimEvery = 500

// Kind is what an entry is about.
type Kind string

// The kinds of entries.
const (
	Check    Kind = "check"    // a session's machine was looked at
	Walk     Kind = "walk"     // a route was walked, or not to its end
	Question Kind = "question" // a person was asked, and answered or not
	Vouch    Kind = "vouch"    // a host's key was accepted or replaced
	Mend     Kind = "mend"     // a key file was mended
	Lend     Kind = "lend"     // a far side used a lent key, or was refused
	Carry    Kind = "carry"    // a key went into a list of keys, or out of one
	Sweep    Kind = "sweep"    // an account was looked through for what was left there
	Tunnel   Kind = "tunnel"   // a listener was opened or closed, its way lost or there again
	Edit     Kind = "edit"     // the sessions were edited
	Shell    Kind = "shell"    // a shell or command began
	End      Kind = "end"      // a shell, command or link ended
	Link     Kind = "link"     // a link came up
	Cargo    Kind = "cargo"    // files were moved, or taken back
	Estate   Kind = "estate"   // an instance changed, or an estate could not be read
	Record   Kind = "record"   // of the record of a gateway, which is read and not kept here
	Window   Kind = "window"   // a program at a far side drew here, or was turned away
)

// Entry is one line of the trail. Times are UTC, to the millisecond.
type Entry struct {
	ID      int64         `json:"id"`
	At      time.Time     `json:"at"`
	Who     string        `json:"who"` // the account here
	Kind    Kind          `json:"kind"`
	Session string        `json:"session,omitempty"`
	Hop     string        `json:"hop,omitempty"`
	Say     string        `json:"say"`               // what was done, one line
	Took    time.Duration `json:"took_ns,omitempty"` // 0 where it took no time
	Failed  string        `json:"failed,omitempty"`  // why, "" where it did not
	// Event names what happened, for programs, and Fields tells the same as Say in
	// parts; docs/workspace.md lists both. Both are empty where a person did it here.
	Event  string         `json:"event,omitempty"`
	Fields map[string]any `json:"fields,omitempty"`
}

// Trail is an open journal. It is safe to use from many goroutines.
type Trail struct {
	db    *sql.DB
	who   string
	added atomic.Int64

	mu     sync.Mutex
	logins map[loginAt]route.Login // read, or nil
}

// Open opens the trail in a workspace's folder, making it where there is none.
func Open(dir string) (*Trail, error) {
	path := filepath.Join(dir, FileName)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("the trail cannot be kept: %w", err)
	}
	for _, part := range []string{filepath.Dir(path), path, path + "-wal", path + "-shm"} {
		if err := perm.Judge(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("the trail cannot be kept: %w", err)
		}
	}
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600); err != nil {
		return nil, fmt.Errorf("the trail cannot be kept: %w", err)
	} else {
		f.Close()
	}
	// Two programs cannot turn the log on at once.
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return nil, fmt.Errorf("the trail cannot be kept: %w", err)
	}
	defer unlock()
	// A write-ahead log survives the end of the program as it is.
	settings := url.Values{"_pragma": {"busy_timeout(5000)", "journal_mode(WAL)", "synchronous(NORMAL)"}}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+"?"+settings.Encode())
	if err != nil {
		return nil, fmt.Errorf("the trail cannot be kept: %w", err)
	}
	db.SetMaxOpenConns(1)
	_, err = db.Exec(`
		create table if not exists entries (
			id      integer primary key,
			at      integer not null,          -- milliseconds since 1970, UTC
			who     text not null,
			kind    text not null,
			session text not null,
			hop     text not null,
			say     text not null,
			took    integer not null,          -- nanoseconds
			failed  text not null,
			event   text not null default '',  -- what happened, one word
			fields  text not null default ''   -- the same in parts, a JSON object
		);
		create index if not exists entries_at on entries (at);` + loginsTable + samplesTable)
	if err == nil {
		err = migrate(db)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("the trail %s cannot be used: %w; move it away and a new one is begun", path, err)
	}
	return &Trail{db: db, who: account()}, nil
}

// Close closes the trail.
func (t *Trail) Close() error { return t.db.Close() }

// Add writes an entry. At and Who are filled in where they are missing; text is
// cleaned and cut to a line.
func (t *Trail) Add(e Entry) error {
	if e.At.IsZero() {
		e.At = time.Now()
	}
	if e.Who == "" {
		e.Who = t.who
	}
	fields := ""
	if len(e.Fields) > 0 {
		text, err := json.Marshal(e.Fields)
		if err != nil {
			return fmt.Errorf("writing the trail: %w", err)
		}
		fields = string(text)
	}
	_, err := t.db.Exec("insert into entries (at, who, kind, session, hop, say, took, failed, event, fields) values (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		e.At.UnixMilli(), line(e.Who), string(e.Kind), line(e.Session), line(e.Hop), line(e.Say), int64(e.Took), line(e.Failed), line(e.Event), fields)
	if err != nil {
		return fmt.Errorf("writing the trail: %w", err)
	}
	return t.trim()
}

func line(s string) string { return sanitize.Line(s, 500) }

// trim takes the oldest entries away where there are too many.
func (t *Trail) trim() error {
	if t.added.Add(1)%trimEvery != 1 {
		return nil
	}
	_, err := t.db.Exec("delete from entries where id <= (select max(id) from entries) - ?", MaxEntries)
	return err
}

// Filter says which entries are wanted. The zero Filter wants all.
type Filter struct {
	Text    string // in session, hop, kind, say or failed
	Session string
	Failed  bool      // only those that failed
	Since   time.Time // not before
	Limit   int       // at most so many, the newest; 0 for no limit
}

// Choose are those of some entries, the newest first, that the filter wants.
func (f Filter) Choose(entries []Entry) []Entry {
	text := strings.ToLower(f.Text)
	entries = slices.DeleteFunc(entries, func(e Entry) bool {
		all := strings.ToLower(strings.Join([]string{e.Who, e.Session, e.Hop, string(e.Kind), e.Say, e.Failed}, "\n"))
		return f.Failed && e.Failed == "" || f.Session != "" && e.Session != f.Session || e.At.Before(f.Since) || !strings.Contains(all, text)
	})
	if f.Limit > 0 {
		entries = entries[:min(len(entries), f.Limit)]
	}
	return entries
}

// Read returns the entries a filter wants, the newest first.
func (t *Trail) Read(ctx context.Context, f Filter) ([]Entry, error) {
	query, args := "select id, at, who, kind, session, hop, say, took, failed, event, fields from entries where 1 = 1", []any{}
	want := func(condition string, arg ...any) {
		query += " and " + condition
		args = append(args, arg...)
	}
	if f.Text != "" {
		like := "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(f.Text) + "%"
		want(`(session like ? escape '\' or hop like ? escape '\' or kind like ? escape '\' or say like ? escape '\' or failed like ? escape '\')`, like, like, like, like, like)
	}
	if f.Session != "" {
		want("session = ?", f.Session)
	}
	if f.Failed {
		want("failed <> ''")
	}
	if !f.Since.IsZero() {
		want("at >= ?", f.Since.UnixMilli())
	}
	query += " order by id desc"
	if f.Limit > 0 {
		query += " limit " + strconv.Itoa(f.Limit)
	}
	rows, err := t.db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("reading the trail: %w", err)
	}
	defer rows.Close()
	var entries []Entry
	for rows.Next() {
		var e Entry
		var at, took int64
		var fields string
		if err := rows.Scan(&e.ID, &at, &e.Who, &e.Kind, &e.Session, &e.Hop, &e.Say, &took, &e.Failed, &e.Event, &fields); err != nil {
			return nil, fmt.Errorf("reading the trail: %w", err)
		}
		if fields != "" && json.Unmarshal([]byte(fields), &e.Fields) != nil {
			e.Fields = nil // written by somebody else: what it says in words is left
		}
		e.At, e.Took = time.UnixMilli(at).UTC(), time.Duration(took)
		entries = append(entries, e)
	}
	return entries, rows.Err()
}

// WriteJSON writes entries as JSON lines, one object a line.
func WriteJSON(w io.Writer, entries []Entry) error {
	encoder := json.NewEncoder(w)
	encoder.SetEscapeHTML(false)
	for _, e := range entries {
		if err := encoder.Encode(e); err != nil {
			return err
		}
	}
	return nil
}

// WriteCSV writes entries as comma-separated values (RFC 4180), with a header.
func WriteCSV(w io.Writer, entries []Entry) error {
	out := csv.NewWriter(w)
	out.Write([]string{"id", "at", "who", "kind", "session", "hop", "say", "took_ms", "failed", "event", "fields"})
	for _, e := range entries {
		fields := ""
		if len(e.Fields) > 0 {
			text, err := json.Marshal(e.Fields)
			if err != nil {
				return err
			}
			fields = string(text)
		}
		out.Write([]string{
			strconv.FormatInt(e.ID, 10), e.At.Format("2006-01-02T15:04:05.000Z07:00"), e.Who, string(e.Kind), e.Session, e.Hop, e.Say,
			strconv.FormatInt(e.Took.Milliseconds(), 10), e.Failed, e.Event, fields,
		})
	}
	out.Flush()
	return out.Error()
}

func account() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return fmt.Sprint("uid ", os.Getuid())
}
