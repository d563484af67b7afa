package issuer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/followed"
	"meatus/core/keyfile"
	"meatus/core/record"
	"meatus/core/service"
	"meatus/core/store"
)

// Keys are those that an issuer signs with: one for leases now, others that machines are to trust besides it, and one
// for machines' own keys. They are files, which are read again when they change, or held by an agent.
type Keys struct {
	Dir    string // with "signing.pem", "next.pem" where there is one, and "hosts.pem"
	Socket string // of an agent that holds the key for leases in place of the file, "" for none
	Print  string // which of the agent's keys it is, by its SHA-256 fingerprint

	mu     sync.Mutex
	files  *followed.Files
	looked time.Time
	wrong  error // why they cannot be used, as they were looked at last
	leases []ssh.Signer
	hosts  ssh.Signer
}

// The files of the keys in an issuer's folder.
const (
	SigningFile = "signing.pem"
	NextFile    = "next.pem"
	HostsFile   = "hosts.pem"
)

// Make makes the keys for leases and for hosts where there are none.
func (k *Keys) Make() error {
	for _, name := range []string{SigningFile, HostsFile} {
		path := filepath.Join(k.Dir, name)
		if name == SigningFile && k.Socket != "" {
			continue
		}
		if _, err := os.Lstat(path); err == nil || !errors.Is(err, fs.ErrNotExist) {
			if err != nil {
				return err
			}
			continue
		}
		key, err := keyfile.Make("Ed25519", 0)
		if err != nil {
			return err
		}
		if err := keyfile.Write(path, key, keyfile.Wrapping{Comment: "issuer " + strings.TrimSuffix(name, ".pem")}); err != nil {
			return err
		}
	}
	return nil
}

// Get are the keys that sign leases, the one that does now first, and the one that signs machines' keys, nil for none. It
// fails where somebody else can read or change a file by now, or where one cannot be used.
func (k *Keys) Get() (leases []ssh.Signer, hosts ssh.Signer, err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.files == nil {
		k.files = followed.New(k.paths()...)
	}
	if now := time.Now(); now.Sub(k.looked) >= followed.LookEvery || k.leases == nil {
		k.looked, k.wrong = now, k.judge()
	}
	if k.wrong != nil {
		return nil, nil, k.wrong
	}
	if !k.files.Changed() && k.leases != nil {
		return k.leases, k.hosts, nil
	}
	all, of, err := k.read()
	if taken := k.files.Take(); !taken && k.leases != nil {
		return k.leases, k.hosts, nil // they are being exchanged
	}
	if k.wrong = err; err != nil {
		return nil, nil, err
	}
	k.leases, k.hosts = all, of
	return k.leases, k.hosts, nil
}

func (k *Keys) paths() (all []string) {
	for _, name := range []string{SigningFile, NextFile, HostsFile} {
		all = append(all, filepath.Join(k.Dir, name))
	}
	return all
}

// judge returns how other accounts can read or change a key file, or nil if none can.
func (k *Keys) judge() error {
	for _, path := range k.paths() {
		if err := service.JudgeKey(path); err != nil {
			return fmt.Errorf("the signing key: %w", err)
		}
	}
	return nil
}

// read reads the keys.
func (k *Keys) read() (all []ssh.Signer, hosts ssh.Signer, err error) {
	if k.Socket != "" {
		s, err := k.ofAgent()
		if err != nil {
			return nil, nil, err
		}
		all = append(all, s)
	} else if all, err = appendFile(all, filepath.Join(k.Dir, SigningFile), false); err != nil {
		return nil, nil, err
	}
	if all, err = appendFile(all, filepath.Join(k.Dir, NextFile), true); err != nil {
		return nil, nil, err
	}
	of, err := appendFile(nil, filepath.Join(k.Dir, HostsFile), true)
	if err != nil || len(of) == 0 {
		return all, nil, err
	}
	return all, of[0], nil
}

// appendFile adds the signer of a file, which may be missing where that is allowed.
func appendFile(all []ssh.Signer, path string, missing bool) ([]ssh.Signer, error) {
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) && missing {
		return all, nil
	}
	file, err := keyfile.Read(path)
	if _, gone := os.Stat(path); err != nil && missing && errors.Is(gone, fs.ErrNotExist) {
		return all, nil // it has just taken the other's place
	}
	if err != nil {
		return nil, fmt.Errorf("the signing key %s: %w", path, err)
	}
	defer file.Forget()
	if fault, stopped := file.Blocked(); stopped {
		return nil, &keyfile.Blocked{Path: path, Fault: fault}
	}
	if file.Passphrase {
		return nil, fmt.Errorf("the signing key %s has a passphrase, and nobody is asked for it here: have an agent hold it", path)
	}
	s, err := file.Signer(nil)
	if err != nil {
		return nil, err
	}
	return append(all, s), nil
}

// agentTime is how long an agent may take to sign.
const agentTime = 10 * time.Second

// ofAgent is the agent's key, which is connected to for each signature.
func (k *Keys) ofAgent() (ssh.Signer, error) {
	var public ssh.PublicKey
	err := k.atAgent(func(a agent.ExtendedAgent) error {
		list, err := a.List()
		if err != nil {
			return err
		}
		for _, key := range list {
			if ssh.FingerprintSHA256(key) == k.Print {
				public, err = ssh.ParsePublicKey(key.Blob)
				return err
			}
		}
		return fmt.Errorf("the agent at %s does not hold the key %s", k.Socket, k.Print)
	})
	if err != nil {
		return nil, err
	}
	return &agentSigner{k, public}, nil
}

func (k *Keys) atAgent(do func(agent.ExtendedAgent) error) error {
	conn, err := net.DialTimeout("unix", k.Socket, agentTime)
	if err != nil {
		return fmt.Errorf("the agent with the signing key: %w", err)
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(agentTime))
	return do(agent.NewClient(conn))
}

type agentSigner struct {
	k      *Keys
	public ssh.PublicKey
}

func (s *agentSigner) PublicKey() ssh.PublicKey { return s.public }

func (s *agentSigner) Sign(_ io.Reader, data []byte) (sig *ssh.Signature, err error) {
	err = s.k.atAgent(func(a agent.ExtendedAgent) (err error) {
		var flags agent.SignatureFlags
		if s.public.Type() == ssh.KeyAlgoRSA {
			flags = agent.SignatureFlagRsaSha512
		}
		sig, err = a.SignWithFlags(s.public, data, flags)
		return err
	})
	return sig, err
}

// Wrong is why the keys cannot be used as they are now, nil where they can.
func (k *Keys) Wrong() error {
	_, _, err := k.Get()
	return err
}

// MakeNext makes the key that is to sign leases next. From then on machines are told to trust both.
func (k *Keys) MakeNext() error {
	if k.Socket != "" {
		return errors.New("an agent holds the signing key: put the next one into it, and name that")
	}
	path := filepath.Join(k.Dir, NextFile)
	if _, err := os.Lstat(path); err == nil {
		return fmt.Errorf("there is a next key already, %s: carry it to the machines, and have it sign", path)
	}
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		return err
	}
	return keyfile.Write(path, key, keyfile.Wrapping{Comment: "issuer next"})
}

// ErrNotTrusted says that machines do not trust the next key yet.
var ErrNotTrusted = errors.New("not every machine trusts the next key yet")

// Change has the next key sign. The one that did until now is put aside, and is told to machines no more. It fails with
// [ErrNotTrusted] and the machines that do not trust the next key, unless all the same is wished.
func (k *Keys) Change(ctx context.Context, s *store.Leases, allTheSame bool) (left []string, err error) {
	next, err := appendFile(nil, filepath.Join(k.Dir, NextFile), false)
	if err != nil {
		return nil, err
	}
	print := ssh.FingerprintSHA256(next[0].PublicKey())
	list, err := s.Trusts(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		if !slices.Contains(t.Signers, print) {
			left = append(left, t.Name)
		}
	}
	if len(left) > 0 && !allTheSame {
		return left, ErrNotTrusted
	}
	// The old key gets a second name before the new one replaces it by a rename, so that there is a key at every moment.
	old := filepath.Join(k.Dir, "signed-until-"+time.Now().UTC().Format("20060102T150405.000000")+".pem")
	for _, end := range []string{"", ".pub"} {
		if err := os.Link(filepath.Join(k.Dir, SigningFile+end), old+end); err != nil && end == "" {
			return left, err
		}
		if err := os.Rename(filepath.Join(k.Dir, NextFile+end), filepath.Join(k.Dir, SigningFile+end)); err != nil && end == "" {
			return left, fmt.Errorf("the next key could not be put in place, and the one before goes on to sign: %w", err)
		}
	}
	return left, s.Append(ctx, record.Done{What: "signer", Issuer: "this host", Why: "leases are signed by " + print + " from now on"})
}
