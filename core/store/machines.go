package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Machines is a store of what gateways share: machines, their tokens, where each is joined, and what was moved.
type Machines struct{ *Store }

// OpenMachines opens a store as [Open] does.
func OpenMachines(ctx context.Context, where string) (*Machines, error) {
	s, err := Open(ctx, where)
	if err != nil {
		return nil, err
	}
	return &Machines{s}, nil
}

// Machine is one that may join.
type Machine struct {
	Name     string
	Key      string // the fingerprint of its own
	Tags     []string
	Instance string // the id of the instance that it is, "" where that is not known
	Enrolled time.Time
	Revoked  time.Time // zero where it was not
	Offers   []string  // further destinations, by name
	Gateway  string    // where it is joined, "" for nowhere
	Joined   time.Time // since when
	From     string    // the address it joined from
}

// Token lets one machine join once.
type Token struct {
	Machine  string
	Tags     []string
	Instance string
	Made     time.Time
	Expires  time.Time
	Used     time.Time // zero where it was not
}

// Errors that can be told apart.
var (
	ErrToken   = errors.New("the token is not valid: it was used already, has expired, or never was")
	ErrUnknown = errors.New("there is no such machine")
	ErrRevoked = errors.New("the machine was revoked")
	// ErrReplaced means that another machine has joined under the same name, by a new token.
	ErrReplaced = errors.New("another machine has taken this name, with a token of its own")
)

// aliveFor is how long after its last sign of life a gateway counts as there, in milliseconds.
const aliveFor = 6000

// NewToken makes a token and returns its text, which is kept nowhere.
func (s *Machines) NewToken(ctx context.Context, t Token, life time.Duration) (string, error) {
	text := rand.Text()
	return text, s.do(ctx, func(x *tx) error {
		_, err := x.exec("INSERT INTO token (digest, machine, tags, instance, made_at, expires_at) VALUES (?, ?, ?, ?, NOW, NOW + ?)",
			digestOf(text), t.Machine, strings.Join(t.Tags, " "), t.Instance, life.Milliseconds())
		return err
	})
}

// digestOf is what is kept of a token.
func digestOf(token string) string {
	sum := sha256.Sum256([]byte(strings.TrimSpace(token)))
	return hex.EncodeToString(sum[:])
}

// Tokens are those that were made in the last thirty days, the newest first.
func (s *Machines) Tokens(ctx context.Context) ([]Token, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (t Token, err error) {
		var tags string
		var made, expires, used int64
		err = r.Scan(&t.Machine, &tags, &t.Instance, &made, &expires, &used)
		t.Tags, t.Made, t.Expires, t.Used = strings.Fields(tags), moment(made), moment(expires), moment(used)
		return t, err
	}, "SELECT machine, tags, instance, made_at, expires_at, used_at FROM token WHERE made_at > NOW - 2592000000 ORDER BY made_at DESC, machine")
}

// Enrol makes a token's machine known by a key of its own, in place of one that it had before. It fails with
// [ErrToken].
func (s *Machines) Enrol(ctx context.Context, token, key string) (Machine, error) {
	var m Machine
	err := s.do(ctx, func(x *tx) error {
		used, err := x.exec("UPDATE token SET used_at = NOW WHERE digest = ? AND used_at = 0 AND expires_at > NOW", digestOf(token))
		if err != nil {
			return err
		}
		if used == 0 {
			return ErrToken
		}
		var tags string
		if err := x.row("SELECT machine, tags, instance FROM token WHERE digest = ?", digestOf(token)).Scan(&m.Name, &tags, &m.Instance); err != nil {
			return err
		}
		m.Key, m.Tags = key, strings.Fields(tags)
		if _, err := x.exec(`INSERT INTO machine (name, key, tags, instance, enrolled_at) VALUES (?, ?, ?, ?, NOW)
			ON CONFLICT (name) DO UPDATE SET key = excluded.key, tags = excluded.tags, instance = excluded.instance, enrolled_at = excluded.enrolled_at,
			revoked_at = 0, gateway = '', connection = ''`, m.Name, key, tags, m.Instance); err != nil {
			return err
		}
		return x.change(m.Name)
	})
	return m, err
}

// machineColumns are read by readMachine. A gateway that is gone has no machines.
const machineColumns = `SELECT m.name, m.key, m.tags, m.instance, m.enrolled_at, m.revoked_at, m.offers, m.joined_at, m.joined_from,
	CASE WHEN g.seen_at > NOW - 6000 THEN m.gateway ELSE '' END
	FROM machine m LEFT JOIN gateway g ON g.id = m.gateway `

type scanner interface{ Scan(...any) error }

func readMachine(r scanner) (m Machine, err error) {
	var tags, offers string
	var enrolled, revoked, joined int64
	err = r.Scan(&m.Name, &m.Key, &tags, &m.Instance, &enrolled, &revoked, &offers, &joined, &m.From, &m.Gateway)
	m.Tags, m.Offers, m.Enrolled, m.Revoked = strings.Fields(tags), strings.Fields(offers), moment(enrolled), moment(revoked)
	if m.Gateway != "" {
		m.Joined = moment(joined)
	}
	return m, err
}

// Machines are all, by name.
func (s *Machines) Machines(ctx context.Context) ([]Machine, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (Machine, error) { return readMachine(r) }, machineColumns+"ORDER BY m.name")
}

// MachineByKey is the machine that has a key. It fails with [ErrUnknown], or [ErrRevoked].
func (s *Machines) MachineByKey(ctx context.Context, key string) (Machine, error) {
	return s.machine(ctx, "WHERE m.key = ?", key)
}

// Machine is the machine of a name, or that is the instance of that id.
func (s *Machines) Machine(ctx context.Context, name string) (Machine, error) {
	return s.machine(ctx, "WHERE m.name = ? OR m.instance = ? AND m.instance <> '' ORDER BY m.name = ? DESC", name, name, name)
}

func (s *Machines) machine(ctx context.Context, where string, values ...any) (Machine, error) {
	m, err := readMachine(s.db.QueryRowContext(ctx, s.kind.sql(machineColumns+where), values...))
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return m, ErrUnknown
	case err == nil && !m.Revoked.IsZero():
		return m, ErrRevoked
	}
	return m, err
}

// Revoke has a machine join no more, until it has another token. It fails with [ErrUnknown].
func (s *Machines) Revoke(ctx context.Context, name string) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE machine SET revoked_at = NOW, gateway = '', connection = '' WHERE name = ?", name)
		if err == nil && n == 0 {
			return fmt.Errorf("%w: %s", ErrUnknown, name)
		}
		if err == nil {
			_, err = x.exec("UPDATE token SET expires_at = 0 WHERE machine = ? AND used_at = 0", name)
		}
		if err != nil {
			return err
		}
		return x.change(name)
	})
}

// Join is a machine's connection to a gateway.
type Join struct {
	Machine, Gateway string
	Key              string // by which the machine is known
	Connection       string // tells it from others of the same machine
	From             string // the address it comes from
	Offers           []string
}

// Arrive records that a machine is joined. It fails with [ErrRevoked] for a revoked machine, and with [ErrReplaced] if the
// machine of that name has another key by now.
func (s *Machines) Arrive(ctx context.Context, j Join) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE machine SET gateway = ?, connection = ?, joined_from = ?, offers = ?, joined_at = NOW WHERE name = ? AND revoked_at = 0 AND key = ?",
			j.Gateway, j.Connection, j.From, strings.Join(j.Offers, " "), j.Machine, j.Key)
		if err == nil && n == 0 {
			var revoked int64
			switch err := x.row("SELECT revoked_at FROM machine WHERE name = ?", j.Machine).Scan(&revoked); {
			case err != nil && !errors.Is(err, sql.ErrNoRows):
				return err
			case err == nil && revoked == 0:
				return ErrReplaced
			}
			return ErrRevoked
		}
		if err != nil {
			return err
		}
		return x.change(j.Machine)
	})
}

// Leave notes that a connection has ended. Where the machine has another one by now nothing changes.
func (s *Machines) Leave(ctx context.Context, j Join) error {
	return s.do(ctx, func(x *tx) error {
		n, err := x.exec("UPDATE machine SET gateway = '', connection = '' WHERE name = ? AND connection = ?", j.Machine, j.Connection)
		if err != nil || n == 0 {
			return err
		}
		return x.change(j.Machine)
	})
}

// Gateway is one that serves.
type Gateway struct {
	ID      string
	Address string // where other gateways reach it, "host:port"
	Key     string // the fingerprint of its own
}

// Beat notes that a gateway is there.
func (s *Machines) Beat(ctx context.Context, g Gateway) error {
	return s.do(ctx, func(x *tx) error {
		_, err := x.exec(`INSERT INTO gateway (id, address, key, seen_at) VALUES (?, ?, ?, NOW)
			ON CONFLICT (id) DO UPDATE SET address = excluded.address, key = excluded.key, seen_at = excluded.seen_at`, g.ID, g.Address, g.Key)
		return err
	})
}

// Depart notes that a gateway goes, and that nothing is joined there.
func (s *Machines) Depart(ctx context.Context, id string) error {
	return s.do(ctx, func(x *tx) error {
		if _, err := x.exec("UPDATE machine SET gateway = '', connection = '' WHERE gateway = ?", id); err != nil {
			return err
		}
		if _, err := x.exec("DELETE FROM gateway WHERE id = ?", id); err != nil {
			return err
		}
		return x.change(Anything)
	})
}

// Gateways are those that are there.
func (s *Machines) Gateways(ctx context.Context) ([]Gateway, error) {
	return all(ctx, s.Store, func(r *sql.Rows) (g Gateway, err error) {
		return g, r.Scan(&g.ID, &g.Address, &g.Key)
	}, fmt.Sprintf("SELECT id, address, key FROM gateway WHERE seen_at > NOW - %d ORDER BY id", aliveFor))
}

// Move adds to what somebody, or what goes to a machine, has moved today (UTC), in bytes, and returns the sum.
func (s *Machines) Move(ctx context.Context, who string, bytes int64) (sum int64, err error) {
	err = s.do(ctx, func(x *tx) error {
		var now int64
		if err := x.row("SELECT NOW").Scan(&now); err != nil {
			return err
		}
		return x.row(`INSERT INTO moved (who, day, bytes) VALUES (?, ?, ?)
			ON CONFLICT (who, day) DO UPDATE SET bytes = moved.bytes + excluded.bytes RETURNING bytes`, who, moment(now).Format(time.DateOnly), bytes).Scan(&sum)
	})
	return sum, err
}
