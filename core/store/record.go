package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"meatus/core/record"
)

// Append writes an entry at the end of the record, with the store's time where it has none. When it returns the
// entry is kept.
func (s *Store) Append(ctx context.Context, d record.Done) error {
	return s.do(ctx, func(x *tx) error { return x.append(d) })
}

// alone has the record's end stay as it is until the transaction is over.
func (x *tx) alone() error {
	if x.s.kind.alone == "" {
		return nil
	}
	_, err := x.exec(x.s.kind.alone)
	return err
}

func (x *tx) append(d record.Done) error {
	if err := x.alone(); err != nil {
		return err
	}
	if d.At.IsZero() {
		var now int64
		if err := x.row("SELECT NOW").Scan(&now); err != nil {
			return err
		}
		d.At = moment(now)
	}
	var number int64
	var before string
	err := x.row("SELECT number, digest FROM entry ORDER BY number DESC LIMIT 1").Scan(&number, &before)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	body, err := json.Marshal(d)
	if err != nil {
		return err
	}
	number++
	_, err = x.exec("INSERT INTO entry (number, body, digest) VALUES (?, ?, ?)", number, string(body), record.Digest(before, number, string(body)))
	return err
}

// Entries are up to so many of the record, from a number on.
func (s *Store) Entries(ctx context.Context, from int64, most int) ([]record.Entry, error) {
	return all(ctx, s, func(r *sql.Rows) (e record.Entry, err error) {
		return e, r.Scan(&e.Number, &e.Body, &e.Digest)
	}, fmt.Sprintf("SELECT number, body, digest FROM entry WHERE number >= ? ORDER BY number LIMIT %d", most), from)
}

// LastEntries are up to so many of the end of the record, in order.
func (s *Store) LastEntries(ctx context.Context, most int) ([]record.Entry, error) {
	last, err := s.Length(ctx)
	if err != nil {
		return nil, err
	}
	return s.Entries(ctx, max(last-int64(most)+1, 1), most)
}

// Verify reads the whole record, as [record.Verify] does.
func (s *Store) Verify(ctx context.Context, kept record.Head) (record.Head, error) {
	return record.Verify(ctx, s.Entries, kept)
}

// Length is how many entries there are.
func (s *Store) Length(ctx context.Context) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM entry").Scan(&n)
	return n, err
}
