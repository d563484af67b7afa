package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Anything is told to whoever watches where something changed and it is not known what.
const Anything = ""

// lookEvery is how often SQLite is looked at for changes by another program, and how long it is waited before a
// database that is gone is connected to again.
const lookEvery = 500 * time.Millisecond

// Watch tells what changes, by machines' names, or [Anything], until the context ends.
func (s *Store) Watch(ctx context.Context) <-chan string {
	c := make(chan string, 64)
	s.mu.Lock()
	s.watchers[c] = true
	s.mu.Unlock()
	context.AfterFunc(ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.watchers, c)
	})
	return c
}

// told tells whoever watches. Who does not listen is told that something changed.
func (s *Store) told(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.watchers {
		select {
		case c <- what:
			continue
		default:
		}
		select {
		case <-c: // there is room for one now
		default:
		}
		select {
		case c <- Anything:
		default:
		}
	}
}

// follow hears of changes by other programs.
func (s *Store) follow(ctx context.Context) {
	for ctx.Err() == nil {
		if s.kind.listen == "" {
			s.followSQLite(ctx)
		} else {
			s.followPostgres(ctx)
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

// followPostgres listens until the connection ends. What was missed meanwhile is told as [Anything].
func (s *Store) followPostgres(ctx context.Context) {
	conn, err := pgx.Connect(ctx, s.kind.listen)
	if err != nil {
		return
	}
	defer conn.Close(context.WithoutCancel(ctx))
	if _, err := conn.Exec(ctx, "LISTEN meatus"); err != nil {
		return
	}
	s.told(Anything)
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return
		}
		s.told(n.Payload)
	}
}

// followSQLite looks whether another connection has written.
func (s *Store) followSQLite(ctx context.Context) {
	before := int64(-1)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		var version int64
		if err := s.db.QueryRowContext(ctx, "PRAGMA data_version").Scan(&version); err != nil {
			return
		}
		if before >= 0 && version != before {
			s.told(Anything)
		}
		before = version
	}
}
