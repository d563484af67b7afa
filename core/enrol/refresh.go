package enrol

import (
	"context"
	"fmt"
	"path"

	"meatus/core/farfile"
	"meatus/core/lease"
)

// Refresh carries an issuer's signing keys and what is stopped to a machine that trusts it already: files that its
// server reads at each login.
func Refresh(ctx context.Context, o Options) error {
	p, err := open(ctx, o, carrying)
	if err != nil {
		return err
	}
	defer p.Close()
	if !p.conf.Before.There {
		return fmt.Errorf("%s does not trust %s: enrol it first", o.Machine.Name, o.Name)
	}
	m := o.Machine
	m.Stops = p.About.Stops
	for _, line := range p.About.Signers {
		m.Signers = append(m.Signers, fingerprint(line))
	}
	for _, f := range p.Files {
		if name := path.Base(f.Path); name != lease.SignersFile && name != lease.RevokedFile {
			continue
		}
		if p.Begun != nil && f.base.There { // so that bringing that to an end revokes nothing less
			c := farfile.Change{Path: farfile.Kept(f.Path), Before: f.base, After: f.After, Mode: f.mode}
			if kept, err := p.read(ctx, c.Path); err != nil {
				return err
			} else if kept.There {
				if err := p.apply(ctx, c); err != nil {
					return err
				}
			}
		}
		if err := p.apply(ctx, farfile.Change{Path: f.Path, Before: f.Before, After: f.After, Mode: f.mode}); err != nil {
			return err
		}
	}
	_, err = lease.Told[lease.Enrolled](ctx, p.Leases, p.Issuer, lease.Ask{Carried: &m})
	return err
}
