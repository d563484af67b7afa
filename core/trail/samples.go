package trail

import (
	"fmt"
	"time"

	"meatus/core/meter"
)

const samplesTable = `
	create table if not exists samples (
		link text not null,                -- the way to it, hop by hop
		name text not null,                -- the session of its machine
		span integer not null,             -- of one sample, in seconds
		base integer not null,             -- milliseconds since 1970, UTC
		last integer not null,             -- of the last sample, likewise
		data blob not null                 -- 24 bytes each, see docs/workspace.md
	);
	create index if not exists samples_link on samples (link, span, last);
	create index if not exists samples_last on samples (span, last);`

// KeepSamples adds samples of links, and lets old ones go. All of it is written or
// nothing.
func (t *Trail) KeepSamples(rows []meter.Row) error {
	err := func() error {
		tx, err := t.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		insert, err := tx.Prepare("insert into samples (link, name, span, base, last, data) values (?, ?, ?, ?, ?, ?)")
		if err != nil {
			return err
		}
		defer insert.Close()
		now := time.Now()
		for _, r := range rows {
			if len(r.Samples) == 0 {
				continue
			}
			base := r.Samples[0].At.Truncate(time.Second)
			last := r.Samples[len(r.Samples)-1].At
			if _, err := insert.Exec(r.Key, line(r.Name), int64(r.Span/time.Second), base.UnixMilli(), last.UnixMilli(), meter.Encode(r.Samples, base)); err != nil {
				return err
			}
		}
		for span, kept := range meter.KeptFor() {
			if _, err := tx.Exec("delete from samples where span = ? and last < ?", int64(span/time.Second), now.Add(-kept).UnixMilli()); err != nil {
				return err
			}
		}
		return tx.Commit()
	}()
	if err != nil {
		return fmt.Errorf("writing what links carried to the trail: %w", err)
	}
	return nil
}

// Samples are what is kept of a link, the oldest first.
func (t *Trail) Samples(link string) ([]meter.Row, error) {
	rows, err := t.db.Query("select name, span, base, data from samples where link = ? order by span, last", link)
	if err != nil {
		return nil, fmt.Errorf("reading what links carried from the trail: %w", err)
	}
	defer rows.Close()
	var all []meter.Row
	for rows.Next() {
		r := meter.Row{Key: link}
		var span, base int64
		var data []byte
		if err := rows.Scan(&r.Name, &span, &base, &data); err != nil {
			return nil, fmt.Errorf("reading what links carried from the trail: %w", err)
		}
		r.Span = time.Duration(span) * time.Second
		r.Samples = meter.Decode(data, time.UnixMilli(base).UTC())
		all = append(all, r)
	}
	return all, rows.Err()
}

// Metered are the links that samples are kept of, the latest first.
func (t *Trail) Metered() ([]meter.Metered, error) {
	rows, err := t.db.Query("select link, name, max(last) from samples group by link order by 3 desc limit 1000")
	if err != nil {
		return nil, fmt.Errorf("reading what links carried from the trail: %w", err)
	}
	defer rows.Close()
	var all []meter.Metered
	for rows.Next() {
		var l meter.Metered
		var last int64
		if err := rows.Scan(&l.Key, &l.Name, &last); err != nil {
			return nil, fmt.Errorf("reading what links carried from the trail: %w", err)
		}
		l.Last = time.UnixMilli(last).UTC()
		all = append(all, l)
	}
	return all, rows.Err()
}
