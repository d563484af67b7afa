package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"meatus/core/words"
)

// Entry is one of the record.
type Entry struct {
	Number int64  `json:"number"` // from 1, without gaps
	Body   string `json:"body"`   // a JSON object, in the bytes that its digest is of
	Digest string `json:"digest"` // of the entry before, its number and its body
}

// Done is what an entry says. Which of its fields are set depends on what happened.
type Done struct {
	At      time.Time `json:"at"`
	What    string    `json:"what"` // "joined", "left", "opened", "closed", "refused", "enrolled", "revoked", "token"; of leases: "asked", "agreed", "declined", "withdrawn", "granted", "refused", "used", "stopped", "lifted", "trusts", "distrusted", "signer"
	Gateway string    `json:"gateway,omitempty"`
	Person  string    `json:"person,omitempty"`
	By      string    `json:"by,omitempty"` // what the person is known by
	From    string    `json:"from,omitempty"`
	Machine string    `json:"machine,omitempty"`
	To      string    `json:"to,omitempty"` // the further destination
	Stream  string    `json:"stream,omitempty"`
	Rule    string    `json:"rule,omitempty"`
	Why     string    `json:"why,omitempty"`
	In      int64     `json:"in,omitempty"`  // bytes from the machine
	Out     int64     `json:"out,omitempty"` // and to it
	Seconds float64   `json:"seconds,omitempty"`
	Issuer  string    `json:"issuer,omitempty"`
	Login   string    `json:"login,omitempty"`
	Serial  int64     `json:"serial,omitempty"` // of a lease
	Reason  string    `json:"reason,omitempty"`
	Agreed  string    `json:"agreed,omitempty"` // by whom
}

// digest is that of an entry, in hexadecimal: SHA-256 of the one before, a new line, the number, a new line, and
// the body.
func digest(before string, number int64, body string) string {
	sum := sha256.Sum256([]byte(before + "\n" + strconv.FormatInt(number, 10) + "\n" + body))
	return hex.EncodeToString(sum[:])
}

// Append writes an entry at the end of the record, with the store's time where it has none. When it returns the
// entry is kept.
func (s *Store) Append(ctx context.Context, d Done) error {
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

func (x *tx) append(d Done) error {
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
	_, err = x.exec("INSERT INTO entry (number, body, digest) VALUES (?, ?, ?)", number, string(body), digest(before, number, string(body)))
	return err
}

// Entries are up to so many of the record, from a number on.
func (s *Store) Entries(ctx context.Context, from int64, most int) ([]Entry, error) {
	return all(ctx, s, func(r *sql.Rows) (e Entry, err error) {
		return e, r.Scan(&e.Number, &e.Body, &e.Digest)
	}, fmt.Sprintf("SELECT number, body, digest FROM entry WHERE number >= ? ORDER BY number LIMIT %d", most), from)
}

// LastEntries are up to so many of the end of the record, in order.
func (s *Store) LastEntries(ctx context.Context, most int) ([]Entry, error) {
	last, err := s.Length(ctx)
	if err != nil {
		return nil, err
	}
	return s.Entries(ctx, max(last-int64(most)+1, 1), most)
}

// Tampered says that the record is not as it was written.
type Tampered struct {
	Number int64 // of the first entry that does not hold; 0 for what stands beside the record
	Say    string
}

func (t *Tampered) Error() string {
	if t.Number == 0 {
		return t.Say
	}
	return fmt.Sprintf("entry %d: %s", t.Number, t.Say)
}

// Head is the last entry's number and digest. Kept elsewhere it shows later that nothing before it was changed
// or cut off.
type Head struct {
	Number int64
	Digest string
}

// pieceOf is how many entries are read at once.
const pieceOf = 1000

// Verify reads the whole record and holds each entry against the one before, and against a head that was kept
// earlier, where it is not zero. It fails with [Tampered].
func (s *Store) Verify(ctx context.Context, kept Head) (Head, error) {
	var head Head
	for {
		list, err := s.Entries(ctx, head.Number+1, pieceOf)
		if err != nil {
			return head, err
		}
		for _, e := range list {
			switch {
			case e.Number != head.Number+1:
				return head, &Tampered{head.Number + 1, "it is missing"}
			case e.Digest != digest(head.Digest, e.Number, e.Body):
				return head, &Tampered{e.Number, "its digest is not that of its text behind the entry before: it, or the one before, was changed"}
			}
			head = Head{e.Number, e.Digest}
			if e.Number == kept.Number && e.Digest != kept.Digest {
				return head, &Tampered{e.Number, "it is another entry than the one whose digest was kept: it, or one before, was written anew"}
			}
		}
		if len(list) < pieceOf {
			break
		}
	}
	if err := s.verifyLeases(ctx); err != nil {
		return head, err
	}
	if head.Number < kept.Number {
		return head, &Tampered{head.Number + 1, fmt.Sprintf("the record ends here, and there were %d entries", kept.Number)}
	}
	return head, nil
}

// verifyLeases compares leases and approvals with the entries of the audit record written with them.
func (s *Store) verifyLeases(ctx context.Context) error {
	granted, agreed := map[int64]Done{}, map[[4]string]int64{}
	for from := int64(1); ; {
		list, err := s.Entries(ctx, from, pieceOf)
		if err != nil {
			return err
		}
		for _, e := range list {
			var d Done
			if err := json.Unmarshal([]byte(e.Body), &d); err != nil {
				return &Tampered{e.Number, "it is no JSON object"}
			}
			switch d.What {
			case "granted":
				granted[d.Serial] = d
			case string(Agreed):
				agreed[[4]string{d.Person, d.Machine, d.Login, d.By}] = e.Number
			}
			from = e.Number + 1
		}
		if len(list) < pieceOf {
			break
		}
	}
	leases, err := all(ctx, s, func(r *sql.Rows) (Lease, error) { return readLease(r) }, leaseColumns+"ORDER BY serial")
	if err != nil {
		return err
	}
	for _, l := range leases {
		d, ok := granted[l.Serial]
		if !ok || d.Person != l.Person || d.Machine != l.Machine || d.Login != l.Login || d.Agreed != l.AgreedBy || !l.Ends.Equal(d.At.Add(time.Duration(d.Seconds*float64(time.Second)))) {
			return &Tampered{0, fmt.Sprintf("lease %d, of %s for %s at %s, is not what the record says was granted", l.Serial, l.Person, l.Login, l.Machine)}
		}
		if _, ok := agreed[[4]string{l.Person, l.Machine, l.Login, l.AgreedBy}]; l.AgreedBy != "" && !ok {
			return &Tampered{0, fmt.Sprintf("lease %d counts as agreed to by %s, and the record has no such answer", l.Serial, l.AgreedBy)}
		}
	}
	askings, err := all(ctx, s, func(r *sql.Rows) (Asking, error) { return readAsking(r) }, askingColumns+"WHERE state = 'agreed'")
	if err != nil {
		return err
	}
	for _, a := range askings {
		if _, ok := agreed[[4]string{a.Person, a.Machine, a.Login, a.Answerer}]; !ok {
			return &Tampered{0, fmt.Sprintf("what %s asks for at %s counts as agreed to by %s, and the record has no such answer", a.Person, a.Machine, a.Answerer)}
		}
	}
	return nil
}

// Length is how many entries there are.
func (s *Store) Length(ctx context.Context) (n int64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT coalesce(max(number), 0) FROM entry").Scan(&n)
	return n, err
}

// Say says an entry in a line.
func (d Done) Say() string {
	who := d.Person
	if d.By != "" {
		who += " (" + d.By + ")"
	}
	to := d.Machine
	if d.To != "" {
		to = d.To + "." + d.Machine
	}
	if d.Issuer != "" || d.Login != "" || d.Serial > 0 {
		return d.sayLease(who)
	}
	switch d.What {
	case "opened":
		return fmt.Sprintf("%s from %s reached %s; %s", who, d.From, to, d.Rule)
	case "closed":
		why := ""
		if d.Why != "" {
			why = "; " + d.Why
		}
		return fmt.Sprintf("%s left %s after %s, %s from it and %s to it%s", d.Person, to, time.Duration(d.Seconds*float64(time.Second)).Round(time.Second), words.Bytes(float64(d.In)), words.Bytes(float64(d.Out)), why)
	case "refused":
		return fmt.Sprintf("%s from %s was refused %s; %s", who, d.From, to, d.Why)
	case "joined", "enrolled":
		return fmt.Sprintf("%s %s at %s from %s", d.Machine, d.What, d.Gateway, d.From)
	case "left":
		return fmt.Sprintf("%s left %s", d.Machine, d.Gateway)
	case "token":
		return "a token was made for " + d.Machine
	}
	return d.Machine + " was " + d.What
}

// sayLease says what happened to a lease in a line.
func (d Done) sayLease(who string) string {
	to := d.Login + " at " + d.Machine
	why := ""
	if d.Reason != "" {
		why = fmt.Sprintf(", reason: %q", d.Reason)
	}
	switch d.What {
	case "asked":
		return fmt.Sprintf("%s from %s asks for %s, and waits for a second person%s; %s", who, d.From, to, why, d.Rule)
	case "granted":
		agreed := ""
		if d.Agreed != "" {
			agreed = ", agreed by " + d.Agreed
		}
		return fmt.Sprintf("%s from %s may be %s for %s, lease %d%s%s; %s", who, d.From, to, time.Duration(d.Seconds*float64(time.Second)).Round(time.Second), d.Serial, agreed, why, d.Rule)
	case "agreed", "declined", "withdrawn":
		did := map[string]string{"agreed": "agreed to", "declined": "declined", "withdrawn": "withdrew"}[d.What]
		return fmt.Sprintf("%s %s it: %s as %s%s", d.By, did, d.Person, to, why)
	case "refused":
		return fmt.Sprintf("%s from %s may not be %s%s; %s", who, d.From, to, why, d.Why)
	case "used":
		return fmt.Sprintf("lease %d was used at %s: %s", d.Serial, d.Machine, d.Why)
	case "stopped", "lifted":
		return fmt.Sprintf("leases of %s were %s by %s", d.Why, d.What, d.By)
	case "trusts", "distrusted":
		return fmt.Sprintf("%s %s, by %s; %s", d.Machine, d.What, d.Person, d.Why)
	}
	return fmt.Sprintf("%s: %s %s", d.What, d.Why, d.Machine)
}
