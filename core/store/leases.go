package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"meatus/core/record"
	"slices"
	"strings"
	"time"
)

// Leases is a store of what issuers share: leases, approvals, and the machines that trust an issuer.
type Leases struct{ *Store }

// OpenLeases opens a store as [Open] does.
func OpenLeases(ctx context.Context, where string) (*Leases, error) {
	s, err := Open(ctx, where)
	if err != nil {
		return nil, err
	}
	return &Leases{s}, nil
}

// Verify reads the whole record, as [record.Verify] does, and compares leases and approvals with it.
func (s *Leases) Verify(ctx context.Context, kept record.Head) (record.Head, error) {
	head, err := s.Store.Verify(ctx, kept)
	if err == nil {
		err = s.verify(ctx)
	}
	return head, err
}

// verify compares leases and approvals with the entries of the audit record written with them.
func (s *Leases) verify(ctx context.Context) error {
	granted, agreed := map[int64]record.Done{}, map[[4]string]int64{}
	err := record.Each(ctx, s.Entries, func(e record.Entry) error {
		var d record.Done
		if err := json.Unmarshal([]byte(e.Body), &d); err != nil {
			return &record.Tampered{Number: e.Number, Say: "it is no JSON object"}
		}
		switch d.What {
		case "granted":
			granted[d.Serial] = d
		case string(Agreed):
			agreed[[4]string{d.Person, d.Machine, d.Login, d.By}] = e.Number
		}
		return nil
	})
	if err != nil {
		return err
	}
	leases, err := all(ctx, s.Store, func(r *sql.Rows) (Lease, error) { return readLease(r) }, leaseColumns+"ORDER BY serial")
	if err != nil {
		return err
	}
	for _, l := range leases {
		d, ok := granted[l.Serial]
		if !ok || d.Person != l.Person || d.Machine != l.Machine || d.Login != l.Login || d.Agreed != l.AgreedBy || !l.Ends.Equal(d.At.Add(time.Duration(d.Seconds*float64(time.Second)))) {
			return &record.Tampered{Say: fmt.Sprintf("lease %d, of %s for %s at %s, is not what the record says was granted", l.Serial, l.Person, l.Login, l.Machine)}
		}
		if _, ok := agreed[[4]string{l.Person, l.Machine, l.Login, l.AgreedBy}]; l.AgreedBy != "" && !ok {
			return &record.Tampered{Say: fmt.Sprintf("lease %d counts as agreed to by %s, and the record has no such answer", l.Serial, l.AgreedBy)}
		}
	}
	askings, err := all(ctx, s.Store, func(r *sql.Rows) (Asking, error) { return readAsking(r) }, askingColumns+"WHERE state = 'agreed'")
	if err != nil {
		return err
	}
	for _, a := range askings {
		if _, ok := agreed[[4]string{a.Person, a.Machine, a.Login, a.Answerer}]; !ok {
			return &record.Tampered{Say: fmt.Sprintf("what %s asks for at %s counts as agreed to by %s, and the record has no such answer", a.Person, a.Machine, a.Answerer)}
		}
	}
	return nil
}

// Trusting is a machine that trusts an issuer's signing key.
type Trusting struct {
	Name     string
	Instance string // the id of the instance that it is, "" where that is not known
	Site     string
	Tags     []string
	Networks []string
	Plain    bool     // it takes logins by their names alone, and not by "LOGIN@NAME"
	HostKey  string   // the fingerprint of its own
	Hosts    []string // the names and addresses that its certificate is for
	Signers  []string // the fingerprints of the signing keys that it trusts
	Stops    int64    // the number of the last stop that was carried to it
	Enrolled time.Time
	By       string // the person who enrolled it

	Certificate HostCertificate // that is given with it, zero for none
}

// HostCertificate is a certificate of a machine's host key.
type HostCertificate struct {
	Serial uint64
	Ends   time.Time
}

// Errors that can be told apart.
var (
	ErrTwice    = errors.New("that was asked before, by another or with another key")
	ErrStopped  = errors.New("leases of this person, or for this login, are stopped")
	ErrTaken    = errors.New("another machine was enrolled under that name, or has a certificate for it")
	ErrAnswered = errors.New("it is answered already, or nobody waits for it any more")
)

// Trust makes a machine one that trusts an issuer, in place of what was known of it, and writes that to the record.
func (s *Leases) Trust(ctx context.Context, t Trusting, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		if err := x.free(t); err != nil {
			return err
		}
		if err := x.certify(t); err != nil {
			return err
		}
		plain := 0
		if t.Plain {
			plain = 1
		}
		_, err := x.exec(`INSERT INTO trusting (name, instance, site, tags, networks, plain, host_key, host_names, signers, stops, enrolled_at, enrolled_by)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, NOW, ?)
			ON CONFLICT (name) DO UPDATE SET instance = excluded.instance, site = excluded.site, tags = excluded.tags, networks = excluded.networks,
			plain = excluded.plain, host_key = excluded.host_key, host_names = excluded.host_names, signers = excluded.signers, stops = excluded.stops, enrolled_at = excluded.enrolled_at, enrolled_by = excluded.enrolled_by`,
			t.Name, t.Instance, t.Site, strings.Join(t.Tags, " "), strings.Join(t.Networks, " "), plain, t.HostKey, strings.Join(t.Hosts, " "), strings.Join(t.Signers, " "), t.Stops, t.By)
		if err != nil {
			return err
		}
		if err := x.change(t.Name); err != nil {
			return err
		}
		return x.append(d)
	})
}

// free fails with [ErrTaken] if a name belongs to another machine: one enrolled by another person with another key, or one
// with a certificate for the name.
func (x *tx) free(t Trusting) error {
	rows, err := x.QueryContext(x.ctx, x.s.kind.sql(trustingColumns))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		other, err := readTrusting(rows)
		if err != nil {
			return err
		}
		if other.Name == t.Name {
			if other.By != t.By && other.HostKey != "" && other.HostKey != t.HostKey {
				return fmt.Errorf("%w: %s, by %s", ErrTaken, t.Name, other.By)
			}
			continue
		}
		if slices.Contains(other.Hosts, t.Name) {
			return fmt.Errorf("%w: %s, which %s has", ErrTaken, t.Name, other.Name)
		}
		for _, name := range t.Hosts {
			if name == other.Name || slices.Contains(other.Hosts, name) {
				return fmt.Errorf("%w: %s, which %s has", ErrTaken, name, other.Name)
			}
		}
	}
	return rows.Err()
}

// certify records a machine's new certificate, and revokes those of its other keys.
func (x *tx) certify(t Trusting) error {
	if t.HostKey == "" || t.Certificate.Serial == 0 {
		return nil
	}
	if _, err := x.exec("UPDATE host_certificate SET revoked_at = NOW WHERE machine = ? AND key <> ? AND revoked_at = 0", t.Name, t.HostKey); err != nil {
		return err
	}
	_, err := x.exec("INSERT INTO host_certificate (serial, machine, key, ends_at) VALUES (?, ?, ?, ?)", int64(t.Certificate.Serial), t.Name, t.HostKey, t.Certificate.Ends.UnixMilli())
	return err
}

// Renew records a new certificate of a machine's host key, and writes an entry to the audit record.
func (s *Leases) Renew(ctx context.Context, t Trusting, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		if err := x.certify(t); err != nil {
			return err
		}
		return x.append(d)
	})
}

// RevokedHosts returns the serial numbers of revoked, unexpired host certificates in ascending order.
func (s *Leases) RevokedHosts(ctx context.Context) ([]uint64, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (serial uint64, err error) {
		var n int64
		err = r.Scan(&n)
		return uint64(n), err
	}, "SELECT serial FROM host_certificate WHERE revoked_at > 0 AND ends_at > NOW ORDER BY serial")
}

// Carried notes what a machine knows of an issuer now: the signing keys that it trusts, and the number of the last stop.
// It fails with [ErrUnknown].
func (s *Leases) Carried(ctx context.Context, name string, signers []string, stops int64) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE trusting SET signers = ?, stops = ? WHERE name = ?", strings.Join(signers, " "), stops, name)
		if err == nil && n == 0 {
			return ErrUnknown
		}
		return err
	})
}

// Distrust takes a machine out of those that trust an issuer. It fails with [ErrUnknown].
func (s *Leases) Distrust(ctx context.Context, name string, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		if _, err := x.exec("UPDATE host_certificate SET revoked_at = NOW WHERE machine = ? AND revoked_at = 0", name); err != nil {
			return err
		}
		n, err := x.exec("DELETE FROM trusting WHERE name = ?", name)
		if err == nil && n == 0 {
			return fmt.Errorf("%w: %s", ErrUnknown, name)
		}
		if err != nil {
			return err
		}
		return x.append(d)
	})
}

const trustingColumns = "SELECT name, instance, site, tags, networks, plain, host_key, host_names, signers, stops, enrolled_at, enrolled_by FROM trusting "

func readTrusting(r scanner) (t Trusting, err error) {
	var tags, networks, hosts, signers string
	var plain, enrolled int64
	err = r.Scan(&t.Name, &t.Instance, &t.Site, &tags, &networks, &plain, &t.HostKey, &hosts, &signers, &t.Stops, &enrolled, &t.By)
	t.Tags, t.Networks, t.Hosts, t.Signers = strings.Fields(tags), strings.Fields(networks), strings.Fields(hosts), strings.Fields(signers)
	t.Plain, t.Enrolled = plain != 0, moment(enrolled)
	return t, err
}

// Trusts are all machines that trust an issuer, by name.
func (s *Leases) Trusts(ctx context.Context) ([]Trusting, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (Trusting, error) { return readTrusting(r) }, trustingColumns+"ORDER BY name")
}

// Trusted is the machine of a name, or that is the instance of that id. It fails with [ErrUnknown].
func (s *Leases) Trusted(ctx context.Context, name, instance string) (Trusting, error) {
	t, err := readTrusting(s.db.QueryRowContext(ctx, s.kind.sql(trustingColumns+"WHERE name = ? OR instance = ? AND instance <> '' ORDER BY instance = ? DESC, name LIMIT 1"), name, instance, instance))
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrUnknown
	}
	return t, err
}

// Lease is a login that was given for a while.
type Lease struct {
	Serial   int64
	Asking   string // tells askings apart; whoever asks has made it up
	Person   string
	Machine  string
	Login    string
	Key      string // the fingerprint of the key that it is for
	Rule     string
	Reason   string
	AgreedBy string // "" where nobody had to
	Granted  time.Time
	Ends     time.Time
	Stopped  time.Time // zero where it was not
}

// Grant gives a lease for so long, and writes that to the record, both or neither. Asked again with the same key it is
// the same lease. It fails with [ErrTwice], with [ErrStopped], and where somebody has to have agreed and has not, with
// [ErrAnswered].
func (s *Leases) Grant(ctx context.Context, l Lease, life time.Duration, d record.Done) (Lease, error) {
	err := s.do(ctx, func(x *tx) error {
		if err := x.alone(); err != nil {
			return err
		}
		before, err := readLease(x.row(leaseColumns+"WHERE asking = ?", l.Asking))
		switch {
		case err == nil && before.Person == l.Person && before.Key == l.Key && before.Machine == l.Machine && before.Login == l.Login:
			l = before
			return nil
		case err == nil:
			return ErrTwice
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		var stopped int
		if err := x.row("SELECT count(*) FROM stop WHERE lifted_at = 0 AND (kind = 'person' AND name = ? OR kind = 'login' AND name = ?)", l.Person, l.Login).Scan(&stopped); err != nil {
			return err
		}
		if stopped > 0 {
			return ErrStopped
		}
		if l.AgreedBy != "" {
			n, err := x.exec("UPDATE asking SET state = 'granted' WHERE id = ? AND person = ? AND machine = ? AND login = ? AND reason = ? AND state = 'agreed' AND answerer = ? AND expires_at > NOW",
				l.Asking, l.Person, l.Machine, l.Login, l.Reason, l.AgreedBy)
			if err == nil && n == 0 {
				err = ErrAnswered
			}
			if err != nil {
				return err
			}
		}
		var granted int64
		if err := x.row("SELECT NOW").Scan(&granted); err != nil {
			return err
		}
		if err := x.row("SELECT coalesce(max(serial), 0) + 1 FROM lease").Scan(&l.Serial); err != nil {
			return err
		}
		l.Granted, l.Ends = moment(granted), moment(granted).Add(life)
		if _, err := x.exec("INSERT INTO lease (serial, asking, person, machine, login, key, rule, reason, agreed_by, granted_at, ends_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
			l.Serial, l.Asking, l.Person, l.Machine, l.Login, l.Key, l.Rule, l.Reason, l.AgreedBy, granted, l.Ends.UnixMilli()); err != nil {
			return err
		}
		d.What, d.At, d.Serial, d.Seconds, d.Agreed = "granted", l.Granted, l.Serial, life.Seconds(), l.AgreedBy
		return x.append(d)
	})
	return l, err
}

const leaseColumns = "SELECT serial, asking, person, machine, login, key, rule, reason, agreed_by, granted_at, ends_at, stopped_at FROM lease "

func readLease(r scanner) (l Lease, err error) {
	var granted, ends, stopped int64
	err = r.Scan(&l.Serial, &l.Asking, &l.Person, &l.Machine, &l.Login, &l.Key, &l.Rule, &l.Reason, &l.AgreedBy, &granted, &ends, &stopped)
	l.Granted, l.Ends, l.Stopped = moment(granted), moment(ends), moment(stopped)
	return l, err
}

// Leases are those that have not ended, of one person or of all, the newest first.
func (s *Leases) Leases(ctx context.Context, person string) ([]Lease, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (Lease, error) { return readLease(r) },
		leaseColumns+"WHERE ends_at > NOW AND stopped_at = 0 AND (person = ? OR ? = '') ORDER BY serial DESC", person, person)
}

// StopKind is what a stop is of.
type StopKind string

// The kinds.
const (
	StopPerson StopKind = "person" // every lease of a person, also new ones
	StopLogin  StopKind = "login"  // every lease for a login, also new ones
	StopLease  StopKind = "lease"  // one, by its serial
)

// Stop is an order that leases are to hold no more.
type Stop struct {
	Number int64
	Kind   StopKind
	Name   string
	At     time.Time
	Lifted time.Time // zero where it holds
}

// StopLeases has leases hold no more, and writes that to the record. It returns how many had not ended.
func (s *Leases) StopLeases(ctx context.Context, kind StopKind, name string, d record.Done) (n int64, err error) {
	err = s.do(ctx, func(x *tx) error {
		if err := x.alone(); err != nil {
			return err
		}
		column := map[StopKind]string{StopPerson: "person", StopLogin: "login", StopLease: "CAST(serial AS TEXT)"}[kind]
		if column == "" {
			return fmt.Errorf("leases of a person, for a login, or one by its serial are stopped, and nothing else")
		}
		if n, err = x.exec("UPDATE lease SET stopped_at = NOW WHERE ends_at > NOW AND stopped_at = 0 AND "+column+" = ?", name); err != nil {
			return err
		}
		if kind == StopLease && n == 0 {
			return fmt.Errorf("there is no lease %s that has not ended", name)
		}
		if _, err = x.exec("INSERT INTO stop (number, kind, name, stopped_at) SELECT coalesce(max(number), 0) + 1, ?, ?, NOW FROM stop", string(kind), name); err != nil {
			return err
		}
		if err := x.change(LeasesChanged); err != nil {
			return err
		}
		d.What = "stopped"
		return x.append(d)
	})
	return n, err
}

// LeasesChanged is told to whoever watches where leases were stopped, or an asking was answered or made.
const LeasesChanged = " leases"

// Lift has a person, or a login, have new leases again, and writes that to the record.
func (s *Leases) Lift(ctx context.Context, kind StopKind, name string, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE stop SET lifted_at = NOW WHERE kind = ? AND name = ? AND lifted_at = 0", string(kind), name)
		if err == nil && n == 0 {
			err = fmt.Errorf("leases of the %s %s are not stopped", kind, name)
		}
		if err != nil {
			return err
		}
		d.What = "lifted"
		return x.append(d)
	})
}

// Stops are all stops, in order.
func (s *Leases) Stops(ctx context.Context) ([]Stop, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (st Stop, err error) {
		var at, lifted int64
		err = r.Scan(&st.Number, &st.Kind, &st.Name, &at, &lifted)
		st.At, st.Lifted = moment(at), moment(lifted)
		return st, err
	}, "SELECT number, kind, name, stopped_at, lifted_at FROM stop ORDER BY number")
}

// Revoked are the serials of stopped leases that had not ended a day ago, in order, and the number of the last stop.
// Later than that a certificate is out of its time by every clock.
func (s *Leases) Revoked(ctx context.Context) (serials []uint64, last int64, err error) {
	// The latest revocation is read first, so that one in between may be in the list but counts as undelivered.
	if err = s.db.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM stop").Scan(&last); err != nil {
		return nil, 0, err
	}
	serials, err = all(ctx, s.Store, func(r *sql.Rows) (n uint64, err error) { return n, r.Scan(&n) },
		"SELECT serial FROM lease WHERE stopped_at > 0 AND ends_at > NOW - 86400000 ORDER BY serial")
	return serials, last, err
}

// Asking is a lease that waits for a second person.
type Asking struct {
	ID       string
	Person   string
	Machine  string
	Login    string
	Reason   string
	Rule     string
	From     string
	Asked    time.Time
	Expires  time.Time
	State    AskingState
	Answerer string // who agreed or declined, "" for nobody yet
}

// AskingState is what became of an asking.
type AskingState string

// The states.
const (
	Waiting   AskingState = "waiting"
	Agreed    AskingState = "agreed"
	Declined  AskingState = "declined"
	Granted   AskingState = "granted"
	Withdrawn AskingState = "withdrawn" // by whoever asked
)

// Ask has a lease wait for a second person for so long, and writes that to the record. Asked again it is the same
// asking. It fails with [ErrTwice].
func (s *Leases) Ask(ctx context.Context, a Asking, patience time.Duration, d record.Done) (Asking, error) {
	err := s.do(ctx, func(x *tx) error {
		if err := x.alone(); err != nil {
			return err
		}
		before, err := readAsking(x.row(askingColumns+"WHERE id = ?", a.ID))
		switch {
		case err == nil && before.Person == a.Person && before.Machine == a.Machine && before.Login == a.Login && before.Reason == a.Reason:
			a = before
			return nil
		case err == nil:
			return ErrTwice
		case !errors.Is(err, sql.ErrNoRows):
			return err
		}
		if _, err := x.exec("INSERT INTO asking (id, person, machine, login, reason, rule, origin, asked_at, expires_at, state) VALUES (?, ?, ?, ?, ?, ?, ?, NOW, NOW + ?, 'waiting')",
			a.ID, a.Person, a.Machine, a.Login, a.Reason, a.Rule, a.From, patience.Milliseconds()); err != nil {
			return err
		}
		if a, err = readAsking(x.row(askingColumns+"WHERE id = ?", a.ID)); err != nil {
			return err
		}
		if err := x.change(LeasesChanged); err != nil {
			return err
		}
		d.What = "asked"
		return x.append(d)
	})
	return a, err
}

const askingColumns = "SELECT id, person, machine, login, reason, rule, origin, asked_at, expires_at, state, answerer FROM asking "

func readAsking(r scanner) (a Asking, err error) {
	var asked, expires int64
	err = r.Scan(&a.ID, &a.Person, &a.Machine, &a.Login, &a.Reason, &a.Rule, &a.From, &asked, &expires, &a.State, &a.Answerer)
	a.Asked, a.Expires = moment(asked), moment(expires)
	return a, err
}

// Asking is one by its id, ok false where it is none, or its time is over and it is not granted.
func (s *Leases) Asking(ctx context.Context, id string) (a Asking, ok bool, err error) {
	a, err = readAsking(s.db.QueryRowContext(ctx, s.kind.sql(askingColumns+"WHERE id = ? AND (expires_at > NOW OR state = 'granted')"), id))
	if errors.Is(err, sql.ErrNoRows) {
		return a, false, nil
	}
	return a, err == nil, err
}

// Askings are those that wait for a second person, or were agreed to and not granted yet, the oldest first.
func (s *Leases) Askings(ctx context.Context) ([]Asking, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (Asking, error) { return readAsking(r) },
		askingColumns+"WHERE state IN ('waiting', 'agreed') AND expires_at > NOW ORDER BY asked_at, id")
}

// Answer answers an asking, and writes that to the record. Of several answers the first one holds; who agreed may take
// it back by declining, and who asked may withdraw, as long as nothing is granted. It fails with [ErrAnswered].
func (s *Leases) Answer(ctx context.Context, id string, to AskingState, who string, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		if err := x.alone(); err != nil {
			return err
		}
		from := "state = 'waiting'"
		values := []any{string(to), who, id}
		switch to {
		case Declined:
			from += " OR state = 'agreed' AND answerer = ?"
			values = append(values, who)
		case Withdrawn:
			from = "state IN ('waiting', 'agreed') AND person = ?"
			values = append(values, who)
		case Agreed:
			from += " AND person <> ?"
			values = append(values, who)
		default:
			return fmt.Errorf("%q answers nothing", to)
		}
		n, err := x.exec("UPDATE asking SET state = ?, answerer = ? WHERE id = ? AND expires_at > NOW AND ("+from+")", values...)
		if err == nil && n == 0 {
			err = ErrAnswered
		}
		if err != nil {
			return err
		}
		if err := x.change(LeasesChanged); err != nil {
			return err
		}
		d.What = string(to)
		return x.append(d)
	})
}

// AppendUsed writes to the record that a machine's log tells of a lease, once for each machine and serial.
func (s *Leases) AppendUsed(ctx context.Context, d record.Done) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE lease SET used_at = NOW WHERE serial = ? AND machine = ? AND used_at = 0", d.Serial, d.Machine)
		if err != nil || n == 0 {
			return err
		}
		return x.append(d)
	})
}
