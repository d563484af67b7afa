package enrol

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/farfile"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Options say which machine is enrolled, at which issuer, and how.
type Options struct {
	Walker  *walk.Walker
	Leases  *lease.Client
	Way     route.Route  // to the machine, as it is logged in to now
	Lease   *route.Lease // that is to let somebody in
	Issuer  route.Route
	Name    string        // of the issuer, in the sessions file
	Machine lease.Machine // its name there, with its tags and the like
	Config  string        // the server's configuration, "" for the usual one
	Reload  string        // what has the server read it anew, "" for what is usual
	Super   bool          // by sudo, which asks for no password
	Host    bool          // have the machine's own key signed, too

	Patience time.Duration // for a lost line to come back; a minute where 0
}

// usualPatience limits reconnecting after a lost connection.
const usualPatience = time.Minute

// File is one file that the plan writes on the machine.
type File struct {
	Path   string
	Before farfile.State // as it is
	After  farfile.State // as it will be
	Binary bool          // it is not for reading

	base farfile.State // as it was before anything was begun
	mode fs.FileMode   // where it is new
}

// Changes reports whether the file's content will change.
func (f File) Changes() bool { return !f.Before.Same(f.After) }

// Plan is a previewed change of a machine's SSH server. Close it.
type Plan struct {
	Options
	Files []*File // in the order in which they are written
	About lease.About
	Known bool  // the issuer knows the machine already
	Out   bool  // it is taken out again
	Begun *Note // what an earlier run has begun and not brought to an end, nil for nothing

	passage *walk.Passage
	folder  string
	config  *File // the server's configuration
	conf    *File // ours
	note    farfile.State
	users   []string // about whom the server is asked one by one
	hostKey string
	prover  string // the login that proves it
	doubt   string // why that may not be proven
}

// Look logs in to the machine and plans the files that make its server trust the issuer or, with out, that remove the
// trust.
func Look(ctx context.Context, o Options, out bool) (*Plan, error) {
	if out {
		return open(ctx, o, removing)
	}
	return open(ctx, o, enrolling)
}

// open is [Look] for one kind of change (see note.go).
func open(ctx context.Context, o Options, what string) (*Plan, error) {
	if o.Config == "" {
		o.Config = usualConfig
	}
	if o.Reload == "" {
		o.Reload = usualReload
	}
	if o.Patience == 0 {
		o.Patience = usualPatience
	}
	p := &Plan{Options: o, Out: what == removing, folder: path.Dir(o.Config)}
	about, err := lease.Told(ctx, o.Leases, o.Issuer, lease.Introduce{})
	if err != nil {
		return nil, err
	}
	if len(about) != 1 || len(about[0].Signers) == 0 {
		return nil, fmt.Errorf("%s does not say which keys it signs with", o.Name)
	}
	if p.About = about[0]; !p.About.Enrols {
		return nil, fmt.Errorf("%s may enrol no machine at %s: its policy has to say \"enrols %s\"", p.About.Person, o.Name, p.About.Person)
	}
	if what == enrolling {
		if err := p.findProver(ctx); err != nil {
			return nil, err
		}
	}
	if p.passage, err = o.Walker.Walk(ctx, o.Way); err != nil {
		return nil, err
	}
	if err := p.look(ctx); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// Close ends the connection of [Look].
func (p *Plan) Close() { p.passage.Close() }

// look reads the machine's files and settings, and composes the plan.
func (p *Plan) look(ctx context.Context) error {
	who, err := p.run(ctx, WhoScript)
	if err != nil {
		return fmt.Errorf("commands do not run there as they have to: %w", err)
	}
	if strings.TrimSpace(who) != "0" {
		return errors.New("the server's configuration belongs to root: log in as root, or use --sudo")
	}
	p.config = &File{Path: p.Config, mode: 0o644}
	if p.config.Before, err = p.read(ctx, p.Config); err != nil {
		return err
	}
	if !p.config.Before.There {
		return fmt.Errorf("there is no %s; name the server's configuration", p.Config)
	}
	if err := p.findNote(ctx); err != nil {
		return err
	}
	if err := p.compose(ctx); err != nil {
		return err
	}
	for i := range p.Files {
		if p.Files[i].base, err = p.base(ctx, p.Files[i]); err != nil {
			return err
		}
	}
	return nil
}

// compose computes the new content of each file.
func (p *Plan) compose(ctx context.Context) (err error) {
	// Where the configuration includes a folder before anything that is for some alone, ours goes there.
	text := string(p.config.Before.Text)
	p.conf = &File{Path: path.Join(p.folder, lease.ConfigFile), mode: 0o644}
	own := true
	if folder := includedFolder(text); folder != "" {
		p.conf.Path, own = path.Join(folder, "10-"+lease.ConfigFile), false
	}
	if p.conf.Before, err = p.read(ctx, p.conf.Path); err != nil {
		return err
	}
	p.config.After = p.config.Before
	if p.Out {
		p.config.After = farfile.Text([]byte(withoutInclude(text, p.conf.Path)))
	} else {
		if own {
			p.config.After = farfile.Text([]byte(withInclude(text, p.conf.Path)))
		}
		if err := p.others(ctx); err != nil {
			return err
		}
		if p.Host {
			if p.hostKey, err = p.findHostKey(ctx); err != nil {
				return err
			}
		}
		p.conf.After = farfile.Text([]byte(lease.Directives(p.folder, p.Machine.Name, p.Host)))
	}
	for _, t := range []struct{ name, text string }{
		{lease.SignersFile, strings.Join(p.About.Signers, "\n") + "\n"},
		{lease.RevokedFile, string(p.About.Revoked)},
		{lease.HostCertFile, ""},
	} {
		f := &File{Path: path.Join(p.folder, t.name), Binary: t.name == lease.RevokedFile, mode: 0o644}
		if f.Before, err = p.read(ctx, f.Path); err != nil {
			return err
		}
		host := t.name == lease.HostCertFile
		switch {
		case host && !p.Host && !f.Before.There:
			continue
		case p.Out, host && !p.Host:
		case host:
			f.After = farfile.Text([]byte("(the certificate that " + p.Name + " signs for " + fingerprint(p.hostKey) + ")\n"))
		default:
			f.After = farfile.Text([]byte(t.text))
		}
		p.Files = append(p.Files, f)
	}
	p.Files = append(p.Files, p.conf, p.config)
	return nil
}

func fingerprint(line string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// Preview returns the changes line by line, "+" for added and "-" for removed lines.
func (p *Plan) Preview() []string {
	var all []string
	if p.Begun != nil {
		all = append(all, "  "+p.Begun.Say()+": this brings it to an end")
	}
	for _, f := range p.Files {
		switch {
		case !f.Changes():
			all = append(all, "  "+f.Path+" stays as it is")
			continue
		case !f.After.There:
			all = append(all, "  "+f.Path+" goes")
		case f.Before.There:
			all = append(all, "  "+f.Path+" is changed")
		default:
			all = append(all, "  "+f.Path+" is new")
		}
		if f.Binary {
			if f.After.There {
				all = append(all, fmt.Sprintf("+ the revocation list, %d bytes", len(f.After.Text)))
			}
			continue
		}
		before, now := lines(f.Before), lines(f.After)
		for _, line := range before {
			if !slices.Contains(now, line) {
				all = append(all, "- "+sanitize.Line(line, 200))
			}
		}
		for _, line := range now {
			if !slices.Contains(before, line) {
				all = append(all, "+ "+sanitize.Line(line, 200))
			}
		}
	}
	switch {
	case p.doubt != "":
		all = append(all, "  "+p.doubt)
	case p.prover != "" && p.prover != p.Way.Target().User:
		all = append(all, "  it is proven by a login as "+sanitize.Line(p.prover, 60)+", which the policy allows")
	}
	return all
}

// lines splits a file's text into lines; an empty or absent file has none.
func lines(s farfile.State) []string {
	if len(s.Text) == 0 {
		return nil
	}
	return strings.Split(strings.TrimSuffix(string(s.Text), "\n"), "\n")
}
