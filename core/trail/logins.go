package trail

import (
	"fmt"
	"slices"
	"time"

	"meatus/core/route"
)

const loginsTable = `
	create table if not exists sightings (
		host    text not null,
		port    integer not null,
		key     text not null,             -- SHA-256 fingerprint
		address text not null,
		first   integer not null,          -- milliseconds since 1970, UTC
		last    integer not null,
		primary key (host, port, key, address)
	);
	create table if not exists logins (
		host    text not null,
		port    integer not null,
		user    text not null,
		session text not null,
		key     text not null,
		version text not null,
		at      integer not null,          -- milliseconds since 1970, UTC
		primary key (host, port, user)
	);`

// NoteLogin remembers how a login got in.
func (t *Trail) NoteLogin(host string, port int, user string, l route.Login) error {
	_, err := t.db.Exec(`insert into logins (host, port, user, session, key, version, at) values (?, ?, ?, ?, ?, ?, ?)
		on conflict do update set session = excluded.session, key = excluded.key, version = excluded.version, at = excluded.at`,
		line(host), port, line(user), line(l.Session), line(l.Key), line(l.Version), l.When.UnixMilli())
	if err != nil {
		return fmt.Errorf("writing the trail: %w", err)
	}
	t.mu.Lock()
	t.logins = nil
	t.mu.Unlock()
	return nil
}

// key of a login in memory.
type loginAt struct {
	host string
	port int
	user string
}

// Last tells how a login last got in, and whether it ever did.
func (t *Trail) Last(host string, port int, user string) (route.Login, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	l, ok := t.loginsLocked()[loginAt{host, port, user}]
	return l, ok
}

// Opened are the logins that a key, by its fingerprint, last got in with:
// "keeper@10.61.4.31", the latest first.
func (t *Trail) Opened(key string) []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	type login struct {
		at   string
		when time.Time
	}
	var all []login
	for at, l := range t.loginsLocked() {
		if l.Key == key {
			all = append(all, login{at.user + "@" + at.host, l.When})
		}
	}
	slices.SortFunc(all, func(a, b login) int { return b.when.Compare(a.when) })
	var names []string
	for _, l := range all {
		names = append(names, l.at)
	}
	return names
}

// UsersOf are who used a key, by its fingerprint, by what is written: the accounts here, then the logins it
// got in with.
func (t *Trail) UsersOf(key string) []string {
	var names []string
	rows, err := t.db.Query("select distinct who from entries where session in (select session from logins where key = ?) and kind in (?, ?) order by who", key, Shell, Walk)
	if err == nil { // what cannot be read is not known
		defer rows.Close()
		for rows.Next() {
			var who string
			if rows.Scan(&who) == nil {
				names = append(names, who)
			}
		}
	}
	return append(names, t.Opened(key)...)
}

// Visits tells when each session was last logged in to.
func (t *Trail) Visits() map[string]time.Time {
	t.mu.Lock()
	defer t.mu.Unlock()
	visits := map[string]time.Time{}
	for _, l := range t.loginsLocked() {
		if l.When.After(visits[l.Session]) {
			visits[l.Session] = l.When
		}
	}
	return visits
}

// loginsLocked are all logins, read where they were written to since. What
// cannot be read is not known.
func (t *Trail) loginsLocked() map[loginAt]route.Login {
	if t.logins != nil {
		return t.logins
	}
	t.logins = map[loginAt]route.Login{}
	rows, err := t.db.Query("select host, port, user, session, key, version, at from logins")
	if err != nil {
		return t.logins
	}
	defer rows.Close()
	for rows.Next() {
		var at loginAt
		var l route.Login
		var when int64
		if rows.Scan(&at.host, &at.port, &at.user, &l.Session, &l.Key, &l.Version, &when) == nil {
			l.When = time.UnixMilli(when).UTC()
			t.logins[at] = l
		}
	}
	return t.logins
}

// Sighting is where a host's key was seen.
type Sighting struct {
	Key, Address string
	First, Last  time.Time
}

// NoteSighting remembers that a host's key was seen at an address.
func (t *Trail) NoteSighting(host string, port int, key, address string, when time.Time) error {
	_, err := t.db.Exec(`insert into sightings (host, port, key, address, first, last) values (?, ?, ?, ?, ?, ?)
		on conflict do update set last = excluded.last`, line(host), port, line(key), line(address), when.UnixMilli(), when.UnixMilli())
	if err != nil {
		return fmt.Errorf("writing the trail: %w", err)
	}
	return nil
}

// SightedAt lists the hosts whose keys were seen at an address, the latest first,
// as "HOST:PORT until DAY".
func (t *Trail) SightedAt(address string) []string {
	rows, err := t.db.Query("select host, port, max(last) from sightings where address = ? group by host, port order by 3 desc limit 5", address)
	if err != nil {
		return nil
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var host string
		var port, last int64
		if rows.Scan(&host, &port, &last) == nil {
			all = append(all, fmt.Sprintf("%s:%d until %s", host, port, time.UnixMilli(last).Local().Format("2 Jan 2006 15:04")))
		}
	}
	return all
}

// Sightings lists where a host's keys were seen, the latest first.
func (t *Trail) Sightings(host string, port int) ([]Sighting, error) {
	rows, err := t.db.Query("select key, address, first, last from sightings where host = ? and port = ? order by last desc limit 200", host, port)
	if err != nil {
		return nil, fmt.Errorf("reading the trail: %w", err)
	}
	defer rows.Close()
	var all []Sighting
	for rows.Next() {
		var s Sighting
		var first, last int64
		if err := rows.Scan(&s.Key, &s.Address, &first, &last); err != nil {
			return nil, fmt.Errorf("reading the trail: %w", err)
		}
		s.First, s.Last = time.UnixMilli(first).UTC(), time.UnixMilli(last).UTC()
		all = append(all, s)
	}
	return all, rows.Err()
}
