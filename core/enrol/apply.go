package enrol

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/farfile"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/walk"
)

// The tries of the proving login, and the pause between two.
const (
	proofTries = 10
	proofEvery = time.Second
)

// stages records how far Apply has come, so that a failure is undone from there.
type stages struct {
	noted    bool     // the note is written
	told     bool     // the issuer knows the machine
	before   listener // what the server listened with just before it was told to read
	known    bool     // that is known
	reloaded bool     // the server was told to read its configuration, or may have been
}

// Apply writes the plan's files and reports each step to tell. On an error every file is restored. After a lost connection
// it reconnects to restore them; where that fails too, the next run restores them.
func (p *Plan) Apply(ctx context.Context, tell func(say string)) (err error) {
	if err := p.unchanged(ctx); err != nil {
		return err
	}
	if err := p.candidate(ctx); err != nil {
		return err
	}
	tell("the server accepts the new configuration")
	at := stages{reloaded: p.Begun != nil} // an earlier run may have had the server read what it wrote
	defer func() {
		if err != nil {
			err = p.back(context.WithoutCancel(ctx), at, err)
		}
	}()
	at.noted = true
	if err := p.begin(ctx); err != nil {
		return fmt.Errorf("the note of what is begun cannot be written: %w", err)
	}
	if !p.Out {
		if err := p.tellIssuer(ctx, &at); err != nil {
			return err
		}
		tell(p.Name + " knows the machine as " + p.Machine.Name)
	}
	if p.Out {
		return p.takeOut(ctx, &at, tell)
	}
	for _, f := range p.Files { // what the configuration names is there before it, and goes after it
		if !f.After.There {
			continue
		}
		if err := p.change(ctx, f, f.After); err != nil {
			return err
		}
	}
	if err := p.readAnew(ctx, &at); err != nil {
		return err
	}
	tell("written, and the server has read it")
	if err := p.prove(ctx); err != nil {
		return err
	}
	tell("a fresh login by a lease works")
	for _, f := range p.Files {
		if err := p.change(ctx, f, f.After); err != nil {
			tell(fmt.Sprintf("it holds, and %s could not be removed: %v", f.Path, err))
			return nil
		}
	}
	if err := p.finish(ctx); err != nil {
		tell("it holds, and what was kept of before could not be removed there: " + err.Error())
	}
	return nil
}

// takeOut removes the server's trust in the issuer: first the configuration, then, once the server has re-read it, the
// files that the old configuration names.
func (p *Plan) takeOut(ctx context.Context, at *stages, tell func(say string)) error {
	for _, f := range []*File{p.config, p.conf} {
		if err := p.change(ctx, f, f.After); err != nil {
			return err
		}
	}
	if err := p.readAnew(ctx, at); err != nil {
		return err
	}
	if err := p.prove(ctx); err != nil {
		return err
	}
	tell("a new login with the previous method works")
	// From here on it is done: what is left is of no use, and nothing is put back.
	if !p.hasRead(ctx, at.before, at.known) {
		p.emptyUnread(ctx)
		tell(p.unread())
		p.leave(ctx, tell)
		return nil
	}
	for _, f := range p.Files {
		if err := p.change(ctx, f, f.After); err != nil {
			tell(fmt.Sprintf("the server trusts %s no more, and %s could not be removed: %v; run this again to remove it", p.Name, f.Path, err))
			return nil
		}
	}
	p.leave(ctx, tell)
	if err := p.finish(ctx); err != nil {
		tell("what was kept of before could not be removed there: " + err.Error())
	}
	return nil
}

// unread explains why the revocation list stays on the machine.
func (p *Plan) unread() string {
	return fmt.Sprintf("it is not known whether the server still reads %s for logins that are under way, so that stays, empty: run this again once the server was restarted, to remove it", path.Join(p.folder, lease.RevokedFile))
}

// errStays means that the server may still read some files, so they stay on the machine.
var errStays = errors.New("the configuration is unchanged")

// emptyUnread empties a revocation list that enrolling created and that the server may still read: a server refuses every
// key if it cannot read its list, and none if the list is empty.
func (p *Plan) emptyUnread(ctx context.Context) {
	for _, f := range p.Files {
		if path.Base(f.Path) == lease.RevokedFile && f.Before.There && (p.Out || !f.base.There) {
			_ = p.change(ctx, f, farfile.Text(nil)) // it refuses what was stopped, until the next run
		}
	}
}

// leave removes the machine from the issuer's list.
func (p *Plan) leave(ctx context.Context, tell func(say string)) {
	if _, err := lease.Told(ctx, p.Leases, p.Issuer, lease.Leave{Name: p.Machine.Name}); err != nil {
		tell(p.Name + " knows it still: " + err.Error())
	}
}

// change replaces or removes one file and records the new state. The copy kept beside the file is of its first state.
func (p *Plan) change(ctx context.Context, f *File, after farfile.State) error {
	err := p.apply(ctx, farfile.Change{Path: f.Path, Before: f.Before, After: after, Mode: f.mode, Keep: true})
	if err == nil {
		f.Before = after
	}
	return err
}

// apply makes one change, reconnecting after a lost connection.
func (p *Plan) apply(ctx context.Context, c farfile.Change) error {
	err := farfile.Apply(ctx, p.account(), c, p.again(), fmt.Sprintf("meatus run %s -- cat %s", p.Way.Session, c.Path))
	if err != nil {
		return fmt.Errorf("%s: %w", c.Path, err)
	}
	return nil
}

// reach reconnects to the machine and has the plan continue over the new connection.
func (p *Plan) reach(ctx context.Context) (farfile.Account, error) {
	fresh, err := p.passage.Again(ctx)
	if err != nil {
		return nil, err
	}
	p.passage.Close()
	p.passage = fresh
	return p.account(), nil
}

// again is reach, tried until the plan's patience ends.
func (p *Plan) again() farfile.Again { return farfile.Patiently(p.reach, p.Patience) }

// readAnew checks the written configuration with the server's own test mode and reloads the server.
func (p *Plan) readAnew(ctx context.Context, at *stages) error {
	if err := p.check(ctx, p.Config); err != nil {
		return fmt.Errorf("the server's own check does not hold: %w", err)
	}
	at.before, at.known = p.listens(ctx) // now: what reads from here on reads what is written
	if err := p.reload(ctx); err != nil {
		var s *remote.Status
		at.reloaded = at.reloaded || !errors.As(err, &s) // otherwise it was not told
		return fmt.Errorf("the server could not reload its configuration: %w", err)
	}
	at.reloaded = true
	return nil
}

// tellIssuer registers the machine with the issuer, and takes the certificate signed for the machine's host key into the
// plan.
func (p *Plan) tellIssuer(ctx context.Context, at *stages) error {
	m := p.Machine
	m.HostKey, m.Stops = p.hostKey, p.About.Stops
	for _, line := range p.About.Signers {
		m.Signers = append(m.Signers, fingerprint(line))
	}
	answer, err := lease.Told(ctx, p.Leases, p.Issuer, lease.Enrol{Machine: m})
	if err != nil {
		return err
	}
	at.told, p.Known = true, len(answer) == 1 && answer[0].Known
	if p.Host {
		return p.takeHostCertificate(answer)
	}
	return nil
}

// candidate tests the new configuration under temporary names with the server's own test mode, before any file that the
// server reads is changed.
func (p *Plan) candidate(ctx context.Context) error {
	trial, conf := p.Config+".meatus-trial", p.conf.Path+".meatus-trial"
	text := p.config.After.Text
	if p.conf.After.There {
		text = append([]byte(includeLine(conf)), text...)
	}
	drop := func(ctx context.Context) error {
		return errors.Join(farfile.Discard(ctx, p.account(), trial), farfile.Discard(ctx, p.account(), conf))
	}
	if err := drop(ctx); err != nil {
		return err
	}
	defer func() {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), stepTime+p.Patience)
		defer cancel()
		if drop(ctx) != nil { // the line is lost
			if _, err := p.again()(ctx); err == nil {
				_ = drop(ctx) // the next run does it, too
			}
		}
	}()
	changes := []farfile.Change{{Path: trial, After: farfile.Text(text), Mode: 0o600}}
	if p.conf.After.There {
		changes = append(changes, farfile.Change{Path: conf, After: p.conf.After, Mode: 0o600})
	}
	for _, c := range changes {
		if err := farfile.Apply(ctx, p.account(), c, nil, "ls "+c.Path); err != nil {
			return fmt.Errorf("%s: %w", c.Path, err)
		}
	}
	if err := p.check(ctx, trial); err != nil {
		return fmt.Errorf("the server's own check does not hold, and nothing was changed: %w", err)
	}
	if p.Out {
		return nil
	}
	return p.holdsFor(ctx, trial)
}

// unchanged fails if a file differs from the one in the preview.
func (p *Plan) unchanged(ctx context.Context) error {
	for _, f := range p.Files {
		now, err := p.read(ctx, f.Path)
		if err != nil {
			return err
		}
		if !now.Same(f.Before) {
			return fmt.Errorf("%s was changed meanwhile: look again", f.Path)
		}
	}
	return nil
}

// takeHostCertificate checks the issuer's certificate for the machine's host key and sets it as the content of its file in
// the plan.
func (p *Plan) takeHostCertificate(answer []lease.Enrolled) error {
	if len(answer) != 1 {
		return fmt.Errorf("%s signed nothing", p.Name)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(answer[0].HostCertificate))
	cert, ok := key.(*ssh.Certificate)
	if err != nil || !ok || cert.CertType != ssh.HostCert || ssh.FingerprintSHA256(cert.Key) != fingerprint(p.hostKey) {
		return fmt.Errorf("what %s signed is no certificate for the machine's key", p.Name)
	}
	for i := range p.Files {
		if path.Base(p.Files[i].Path) == lease.HostCertFile {
			p.Files[i].After = farfile.Text([]byte(answer[0].HostCertificate + "\n"))
		}
	}
	return nil
}

// findProver chooses the login of the proof: the session's own login if the policy allows it a lease at the machine, or
// else another that the policy allows. It fails, before anything is written, where the policy allows none.
func (p *Plan) findProver(ctx context.Context) error {
	p.prover = p.Way.Target().User
	rights, err := lease.Told(ctx, p.Leases, p.Issuer, lease.Would{Machine: p.Machine, Login: p.prover})
	if err != nil {
		p.doubt = p.Name + " does not tell which logins its policy allows there: it is proven by one as " + p.prover
		return nil
	}
	best := func(wanted func(lease.Right) bool) bool {
		i := slices.IndexFunc(rights, func(r lease.Right) bool {
			return r.Now && !r.Denied && !strings.ContainsAny(r.Login, `*?[\\`) && wanted(r)
		})
		if i < 0 {
			return false
		}
		p.prover = rights[i].Login
		if rights[i].Agreed {
			p.doubt = "it is proven by a login as " + p.prover + ", to which a second person has to agree"
		}
		return true
	}
	if best(func(r lease.Right) bool { return r.Login == p.prover && !r.Agreed }) || best(func(r lease.Right) bool { return !r.Agreed && !r.Reason }) ||
		best(func(r lease.Right) bool { return r.Login == p.prover }) || best(func(r lease.Right) bool { return !r.Agreed }) || best(func(lease.Right) bool { return true }) {
		return nil
	}
	return fmt.Errorf("the policy of %s lets %s log in as nobody at %s now, so it could not be proven that leases work there, and nothing was written: have it say \"allow %s to %s as %s\" first",
		p.Name, p.About.Person, p.Machine.Name, p.About.Person, p.Machine.Name, p.prover)
}

// prove logs in anew: with a lease alone, or, where trust is removed, with the session's other keys.
func (p *Plan) prove(ctx context.Context) error {
	way := p.Way.AtEnd(func(h *route.Hop) {
		h.Alone = "proof of " + time.Now().Format(time.RFC3339Nano)
		if p.Out {
			h.Lease = nil
			return
		}
		h.Keys, h.Lease, h.User = nil, p.Lease, p.prover
	})
	var err error
	for try := range proofTries {
		if try > 0 && !pause(ctx, proofEvery) { // the server may not have read it yet, or not listen yet
			return ctx.Err()
		}
		var fresh *walk.Passage
		if fresh, err = p.Walker.Walk(ctx, way); err == nil {
			fresh.Close()
			return nil
		}
		var f *gate.Failure
		if errors.As(err, &f) && (f.Gate == gate.Identity || f.Gate == gate.Lease) { // time does not mend it
			break
		}
	}
	return fmt.Errorf("the test login failed: %w", err)
}

// back restores every file after the error why, for as long as the plan's patience, and returns why with the outcome.
func (p *Plan) back(ctx context.Context, at stages, why error) error {
	if !at.noted {
		return why
	}
	within, cancel := context.WithTimeout(ctx, p.Patience+stepTime)
	defer cancel()
	wrong := p.putBack(within, at)
	for wrong != nil && !errors.Is(wrong, errStays) && within.Err() == nil {
		if _, err := p.again()(within); err != nil {
			break
		}
		wrong = p.putBack(within, at)
	}
	if at.told && !p.Known {
		if _, err := lease.Told(ctx, p.Leases, p.Issuer, lease.Leave{Name: p.Machine.Name}); err != nil {
			wrong = errors.Join(wrong, err)
		}
	}
	if wrong != nil {
		return fmt.Errorf("%w; and it could not all be put back: %w; logins go on as before, and running this again brings it to an end", why, wrong)
	}
	return fmt.Errorf("%w; everything was restored", why)
}

// putBack restores every file: first those that the old configuration names, then the configuration, and after a reload the
// rest. It may be called again after a lost connection.
func (p *Plan) putBack(ctx context.Context, at stages) error {
	changed := false
	for _, f := range p.Files { // what a lost line left unknown
		now, err := p.read(ctx, f.Path)
		if err != nil {
			return err
		}
		f.Before = now
		changed = changed || !now.Same(f.base)
	}
	note, err := p.read(ctx, p.notePath())
	if err != nil {
		return err
	}
	if p.note = note; !note.There && !changed {
		return nil
	}
	configured, names := p.Files[len(p.Files)-2:], p.Files[:len(p.Files)-2]
	// What the configuration of before names comes back first, and the configuration itself from its end.
	for _, f := range names {
		if f.base.There {
			if err := p.change(ctx, f, f.base); err != nil {
				return err
			}
		}
	}
	for _, f := range slices.Backward(configured) {
		if err := p.change(ctx, f, f.base); err != nil {
			return err
		}
	}
	if at.reloaded {
		before, known := p.listens(ctx)
		if err := p.reload(ctx); err != nil {
			return fmt.Errorf("the server could not reload its configuration: %w", err)
		}
		if !p.hasRead(ctx, before, known) {
			p.emptyUnread(ctx)
			return fmt.Errorf("%w: %s", errStays, p.unread())
		}
	}
	for _, f := range names {
		if err := p.change(ctx, f, f.base); err != nil {
			return err
		}
	}
	return p.finish(ctx)
}
