package enrol

import (
	"context"
	"encoding/base64"
	"fmt"
	"path"
	"slices"
	"time"

	"meatus/core/farfile"
	"meatus/core/lease"

	"golang.org/x/crypto/ssh"
)

// Refresh updates the issuer's signing keys and the revocation list on an enrolled machine. Its server reads both at each
// login, so no reload is needed.
func Refresh(ctx context.Context, o Options) error {
	p, err := open(ctx, o, carrying)
	if err != nil {
		return err
	}
	defer p.Close()
	if !p.conf.Before.There {
		return fmt.Errorf("%s does not trust %s: enrol it first (meatus lease enrol)", o.Machine.Name, o.Name)
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
	if _, err = lease.Told(ctx, p.Leases, p.Issuer, lease.Carried{Machine: m}); err != nil {
		return err
	}
	return p.renew(ctx)
}

// renew replaces the certificate of the machine's host key when half of its lifetime has passed, or when another CA key
// signed it.
func (p *Plan) renew(ctx context.Context) error {
	i := slices.IndexFunc(p.Files, func(f *File) bool { return path.Base(f.Path) == lease.HostCertFile })
	if i < 0 || !p.Files[i].Before.There {
		return nil
	}
	f := p.Files[i]
	key, _, _, _, err := ssh.ParseAuthorizedKey(f.Before.Text)
	cert, ok := key.(*ssh.Certificate)
	if err != nil || !ok {
		return fmt.Errorf("%s holds no certificate: enrol the machine again with --host-certificate", f.Path)
	}
	from, until := time.Unix(int64(cert.ValidAfter), 0), time.Unix(int64(cert.ValidBefore), 0)
	if time.Until(until) > until.Sub(from)/2 && keyText(cert.SignatureKey) == p.About.Hosts {
		return nil
	}
	if p.hostKey, err = p.findHostKey(ctx); err != nil {
		return err
	}
	answer, err := lease.Told(ctx, p.Leases, p.Issuer, lease.Renew{Machine: lease.Machine{Name: p.Machine.Name, HostKey: p.hostKey}})
	if err != nil {
		return fmt.Errorf("the machine's own certificate could not be renewed: %w", err)
	}
	if err := p.takeHostCertificate(answer); err != nil {
		return err
	}
	if err := p.apply(ctx, farfile.Change{Path: f.Path, Before: f.Before, After: f.After, Mode: f.mode}); err != nil {
		return err
	}
	return p.reload(ctx)
}

// keyText returns a public key in the format of an authorized_keys line.
func keyText(key ssh.PublicKey) string {
	return key.Type() + " " + base64.StdEncoding.EncodeToString(key.Marshal())
}
