// Package record is the audit record of gateways and issuers: what an entry says, the chain of digests that ties each
// entry to the one before, and its verification (docs/formats.md). Where entries are kept is core/store's.
package record

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
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

// Digest returns that of an entry, in hexadecimal: SHA-256 of the one before, a new line, the number, a new line, and
// the body.
func Digest(before string, number int64, body string) string {
	sum := sha256.Sum256([]byte(before + "\n" + strconv.FormatInt(number, 10) + "\n" + body))
	return hex.EncodeToString(sum[:])
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

// Piece is how many entries are read at once.
const Piece = 1000

// Read returns up to so many entries of a record, in order, from a number on.
type Read func(ctx context.Context, from int64, most int) ([]Entry, error)

// Each calls for every entry of a record, in order, and ends at the first error.
func Each(ctx context.Context, read Read, do func(Entry) error) error {
	for from := int64(1); ; {
		list, err := read(ctx, from, Piece)
		if err != nil {
			return err
		}
		for _, e := range list {
			if err := do(e); err != nil {
				return err
			}
			from = e.Number + 1
		}
		if len(list) < Piece {
			return nil
		}
	}
}

// Verify reads a whole record, compares each entry with the one before, and with a head that was kept earlier where
// that is not zero. It returns the record's head, and fails with [Tampered].
func Verify(ctx context.Context, read Read, kept Head) (head Head, err error) {
	err = Each(ctx, read, func(e Entry) error {
		switch {
		case e.Number != head.Number+1:
			return &Tampered{head.Number + 1, "it is missing"}
		case e.Digest != Digest(head.Digest, e.Number, e.Body):
			return &Tampered{e.Number, "its digest is not that of its text behind the entry before: it, or the one before, was changed"}
		}
		head = Head{e.Number, e.Digest}
		if e.Number == kept.Number && e.Digest != kept.Digest {
			return &Tampered{e.Number, "the entry does not match the digest that was kept: it, or an earlier one, was changed"}
		}
		return nil
	})
	if err == nil && head.Number < kept.Number {
		err = &Tampered{head.Number + 1, fmt.Sprintf("the record ends here, and there were %d entries", kept.Number)}
	}
	return head, err
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
