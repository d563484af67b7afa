package issuer

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/record"
	"meatus/core/store"
)

// Emergency is a key for the time when the issuer is down: with a certificate for one login at some machines.
type Emergency struct {
	File       string // the private key; the certificate goes beside it as FILE-cert.pub
	Login      string
	Machines   []string
	Life       time.Duration // up to [lease.MaxEmergency]
	Passphrase []byte        // that seals the private key
}

// ErrEmergency is the class of what keeps an emergency key from being made as it is asked for.
var ErrEmergency = errors.New("no emergency key was made")

// Check tells whether the machines trust the issuer and the time is not too long.
func (e Emergency) Check(ctx context.Context, s *store.Leases) error {
	for _, name := range e.Machines {
		if _, err := s.Trusted(ctx, name, ""); err != nil {
			return fmt.Errorf("%w: %s: %w", ErrEmergency, name, err)
		}
	}
	if e.Life <= 0 || e.Life > lease.MaxEmergency {
		return fmt.Errorf("%w: it can be valid for %d days at most", ErrEmergency, lease.MaxEmergency/(24*time.Hour))
	}
	return nil
}

// Make makes the key, writes its lease to the store and the record, and the two files. By is who does it.
func (e Emergency) Make(ctx context.Context, s *store.Leases, keys *Keys, by string) (l store.Lease, err error) {
	if err := e.Check(ctx, s); err != nil {
		return l, err
	}
	if weak := keyfile.JudgePassphrase(e.Passphrase); weak != "" {
		return l, fmt.Errorf("%w: %s", ErrEmergency, weak)
	}
	signers, _, err := keys.Get()
	if err != nil {
		return l, err
	}
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		return l, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return l, err
	}
	if err := keyfile.Write(e.File, key, keyfile.Wrapping{Passphrase: e.Passphrase, Comment: "for emergencies"}); err != nil {
		return l, err
	}
	all := strings.Join(e.Machines, " ")
	l, err = s.Grant(ctx, store.Lease{Asking: rand.Text(), Person: "emergency", Machine: all, Login: e.Login, Key: ssh.FingerprintSHA256(signer.PublicKey()), Rule: "sealed way in"}, e.Life,
		record.Done{Issuer: "this host", Person: "emergency", By: by, Machine: all, Login: e.Login, Rule: "sealed way in", Reason: "prepared for the day on which the issuer is away"})
	if err != nil {
		return l, err
	}
	cert, err := lease.SignEmergency(signer.PublicKey(), uint64(l.Serial), e.Login, e.Machines, l.Granted, l.Ends, signers[0])
	if err != nil {
		return l, err
	}
	return l, os.WriteFile(e.File+"-cert.pub", ssh.MarshalAuthorizedKey(cert), 0o644)
}
