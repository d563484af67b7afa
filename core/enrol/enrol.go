package enrol

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Options are what is enrolled, and how.
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
}

// The usual places and commands.
const (
	usualConfig = "/etc/ssh/sshd_config"
	usualReload = `systemctl reload ssh 2>/dev/null || systemctl reload sshd 2>/dev/null || kill -HUP "$(cat /run/sshd.pid)"`
	sshd        = `"$(command -v sshd || echo /usr/sbin/sshd)"`
)

// Bounds.
const (
	maxFile    = 1 << 20          // of one file over there, bytes
	stepTime   = 30 * time.Second // for one command
	proofTries = 6
	proofEvery = time.Second

	reloadTries = 5
	reloadEvery = 500 * time.Millisecond
)

// File is one that is written over there.
type File struct {
	Path   string
	Text   string // as it will be, "" where it is removed
	Before string // as it is
	Was    bool   // it is there
	Binary bool   // it is not for reading
}

// Changes tells whether it will be another.
func (f File) Changes() bool { return f.Was != (f.Text != "") || f.Text != f.Before }

// Plan is what enrolling a machine writes. Close it.
type Plan struct {
	Options
	Files []File // in the order in which they are written
	About lease.About
	Known bool // the issuer knows the machine already
	Out   bool // it is taken out again

	passage *walk.Passage
	folder  string
	config  File // the server's configuration
	conf    File // ours
	hostKey string
}

// Look logs in to the machine and sees what would be written to have it trust the issuer, or with out to have it trust
// the issuer no more.
func Look(ctx context.Context, o Options, out bool) (*Plan, error) {
	if o.Config == "" {
		o.Config = usualConfig
	}
	if o.Reload == "" {
		o.Reload = usualReload
	}
	p := &Plan{Options: o, Out: out, folder: path.Dir(o.Config)}
	about, err := lease.Told[lease.About](ctx, o.Leases, o.Issuer, lease.Ask{About: true})
	if err != nil {
		return nil, err
	}
	if len(about) != 1 || len(about[0].Signers) == 0 {
		return nil, fmt.Errorf("%s does not say which keys it signs with", o.Name)
	}
	if p.About = about[0]; !p.About.Enrols {
		return nil, fmt.Errorf("%s may enrol no machine at %s: its policy has to say \"enrols %s\"", p.About.Person, o.Name, p.About.Person)
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

// Close ends what looking has begun.
func (p *Plan) Close() { p.passage.Close() }

func quoted(word string) string { return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'" }

// run runs a command over there, with the superuser's right where that is wished.
func (p *Plan) run(ctx context.Context, command string, input []byte) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	line := "sh -c " + quoted(command)
	if p.Super {
		line = "sudo -n " + line
	}
	out, err := remote.Output(ctx, p.passage, line, input, maxFile)
	return string(out), err
}

// read reads a file over there.
func (p *Plan) read(ctx context.Context, name string) (File, error) {
	f := File{Path: name}
	out, err := p.run(ctx, "if [ -e "+quoted(name)+" ]; then echo there; cat "+quoted(name)+"; else echo none; fi", nil)
	if err != nil {
		return f, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	first, rest, ok := strings.Cut(out, "\n")
	if !ok || first != "there" && first != "none" {
		return f, errors.New("what answers there is no POSIX shell")
	}
	f.Before, f.Was = rest, first == "there"
	return f, nil
}

var includes = regexp.MustCompile(`(?mi)^[ \t]*(Include[ \t]+(/[^\s*?\[]+)/\*\.conf|Match\b)`)

// look reads what is there, and composes what will be.
func (p *Plan) look(ctx context.Context) error {
	who, err := p.run(ctx, "id -u", nil)
	if err != nil {
		return fmt.Errorf("commands do not run there as they have to: %w", err)
	}
	if strings.TrimSpace(who) != "0" {
		return errors.New("the server's configuration is the superuser's: log in as root, or have it done by sudo")
	}
	if p.config, err = p.read(ctx, p.Config); err != nil {
		return err
	}
	if !p.config.Was {
		return fmt.Errorf("there is no %s; name the server's configuration", p.Config)
	}
	// Where the configuration includes a folder before anything that is for some alone, ours goes there.
	p.conf.Path = path.Join(p.folder, lease.ConfigFile)
	own := true
	if at := includes.FindStringSubmatch(p.config.Before); at != nil && at[2] != "" {
		p.conf.Path, own = path.Join(at[2], "10-"+lease.ConfigFile), false
	}
	if p.conf, err = p.read(ctx, p.conf.Path); err != nil {
		return err
	}
	include := "Include " + p.conf.Path + "\n"
	p.config.Text = p.config.Before
	if p.Out {
		p.config.Text = strings.Replace(p.config.Before, include, "", 1)
	} else {
		if own && !strings.Contains(p.config.Before, include) {
			p.config.Text = include + p.config.Before
		}
		if err := p.others(ctx); err != nil {
			return err
		}
		if p.Host {
			if p.hostKey, err = p.findHostKey(ctx); err != nil {
				return err
			}
		}
		p.conf.Text = lease.Directives(p.folder, p.Machine.Name, p.Host)
	}
	texts := []struct{ name, text string }{
		{lease.SignersFile, strings.Join(p.About.Signers, "\n") + "\n"},
		{lease.RevokedFile, string(p.About.Revoked)},
		{lease.HostCertFile, ""},
	}
	for _, t := range texts {
		f, err := p.read(ctx, path.Join(p.folder, t.name))
		if err != nil {
			return err
		}
		if f.Binary = t.name == lease.RevokedFile; !p.Out {
			f.Text = t.text
		}
		if t.name == lease.HostCertFile && !p.Host && !f.Was {
			continue
		}
		if t.name == lease.HostCertFile && p.Host && !p.Out {
			f.Text = "(the certificate that " + p.Name + " signs for " + fingerprint(p.hostKey) + ")\n"
		}
		p.Files = append(p.Files, f)
	}
	p.Files = append(p.Files, p.conf, p.config)
	return nil
}

// others finds what the server trusts already that ours would take the place of.
func (p *Plan) others(ctx context.Context) error {
	out, err := p.run(ctx, sshd+" -T -f "+quoted(p.Config), nil)
	if err != nil {
		return fmt.Errorf("the server's own check does not hold as it is: %w", err)
	}
	ours := map[string]string{
		"trustedusercakeys":           path.Join(p.folder, lease.SignersFile),
		"revokedkeys":                 path.Join(p.folder, lease.RevokedFile),
		"authorizedprincipalscommand": "/bin/echo %u@",
	}
	for line := range strings.Lines(out) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		own, watched := ours[strings.ToLower(name)]
		if watched && value != "none" && value != "" && !strings.HasPrefix(value, own) {
			return fmt.Errorf("the server has %s %s already, which would be lost: have whoever runs it put both together", name, sanitize.Line(value, 120))
		}
	}
	return nil
}

// findHostKey is the machine's public key, that of the kind Ed25519 where it has one.
func (p *Plan) findHostKey(ctx context.Context) (string, error) {
	out, err := p.run(ctx, sshd+" -T -f "+quoted(p.Config)+` | sed -n 's/^hostkey //p' | while read -r f; do cat "$f.pub" 2>/dev/null; done`, nil)
	if err != nil {
		return "", fmt.Errorf("the machine's own keys cannot be read: %w", err)
	}
	shown := p.passage.HostKey()
	var found string
	for line := range strings.Lines(out) {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			continue
		}
		if found == "" || key.Type() == ssh.KeyAlgoED25519 {
			found = key.Type() + " " + base64.StdEncoding.EncodeToString(key.Marshal())
		}
		if shown != nil && string(key.Marshal()) == string(shown.Marshal()) { // the one that was vouched for
			return key.Type() + " " + base64.StdEncoding.EncodeToString(key.Marshal()), nil
		}
	}
	if found == "" {
		return "", errors.New("the machine's public keys stand beside none of its keys: it cannot be given a certificate")
	}
	return "", errors.New("the machine has other keys than the one it showed: it is not given a certificate")
}

func fingerprint(line string) string {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// Preview says what is written, line by line: "+" for lines that come, "-" for those that go.
func (p *Plan) Preview() []string {
	var all []string
	for _, f := range p.Files {
		switch {
		case !f.Changes():
			all = append(all, "  "+f.Path+" stays as it is")
			continue
		case f.Text == "":
			all = append(all, "  "+f.Path+" goes")
		case f.Was:
			all = append(all, "  "+f.Path+" is changed")
		default:
			all = append(all, "  "+f.Path+" is new")
		}
		if f.Binary {
			if f.Text != "" {
				all = append(all, fmt.Sprintf("+ the revocation list, %d bytes", len(f.Text)))
			}
			continue
		}
		before, now := strings.Split(strings.TrimSuffix(f.Before, "\n"), "\n"), strings.Split(strings.TrimSuffix(f.Text, "\n"), "\n")
		for _, line := range before {
			if f.Before != "" && !slices.Contains(now, line) {
				all = append(all, "- "+sanitize.Line(line, 200))
			}
		}
		for _, line := range now {
			if f.Text != "" && !slices.Contains(before, line) {
				all = append(all, "+ "+sanitize.Line(line, 200))
			}
		}
	}
	return all
}

// write writes a file over there, by one rename, or removes it.
func (p *Plan) write(ctx context.Context, f File, text string) error {
	command := "rm -f " + quoted(f.Path)
	if text != "" {
		command = "umask 022 && if [ -e " + quoted(f.Path) + " ]; then cp -p " + quoted(f.Path) + " " + quoted(f.Path+".meatus-new") + "; fi && cat > " + quoted(f.Path+".meatus-new") + " && mv " + quoted(f.Path+".meatus-new") + " " + quoted(f.Path)
	}
	if _, err := p.run(ctx, command, []byte(text)); err != nil {
		return fmt.Errorf("%s cannot be written: %w", f.Path, err)
	}
	return nil
}

// candidate has the server check what its configuration will be, before anything that it reads is changed.
func (p *Plan) candidate(ctx context.Context) error {
	trial, conf := p.Config+".meatus-trial", p.conf.Path+".meatus-trial"
	text := p.config.Text
	if p.conf.Text != "" {
		text = "Include " + conf + "\n" + text
	}
	defer p.run(context.WithoutCancel(ctx), "rm -f "+quoted(trial)+" "+quoted(conf), nil)
	for name, text := range map[string]string{conf: p.conf.Text, trial: text} {
		if text == "" {
			continue
		}
		if _, err := p.run(ctx, "umask 077 && cat > "+quoted(name), []byte(text)); err != nil {
			return fmt.Errorf("%s cannot be written: %w", name, err)
		}
	}
	if _, err := p.run(ctx, sshd+" -t -f "+quoted(trial), nil); err != nil {
		return fmt.Errorf("the server's own check does not hold, and nothing was changed: %w", err)
	}
	return nil
}

// Apply does it, and says each step. Where it fails everything is put back.
func (p *Plan) Apply(ctx context.Context, tell func(say string)) (err error) {
	if err := p.unchanged(ctx); err != nil {
		return err
	}
	if err := p.candidate(ctx); err != nil {
		return err
	}
	tell("the server's own check of its configuration holds")
	told, reread := false, false
	var written []File
	defer func() {
		if err != nil {
			err = p.back(context.WithoutCancel(ctx), written, told, reread, err)
		}
	}()
	if !p.Out {
		m := p.Machine
		m.HostKey, m.Stops = p.hostKey, p.About.Stops
		for _, line := range p.About.Signers {
			m.Signers = append(m.Signers, fingerprint(line))
		}
		var answer []lease.Enrolled
		if answer, err = lease.Told[lease.Enrolled](ctx, p.Leases, p.Issuer, lease.Ask{Enrol: &m}); err != nil {
			return err
		}
		told, p.Known = true, len(answer) == 1 && answer[0].Known
		if p.Host {
			if err = p.takeHostCertificate(answer); err != nil {
				return err
			}
		}
		tell(p.Name + " knows the machine as " + m.Name)
	}
	files := p.Files
	if p.Out { // what names the others goes first
		files = slices.Clone(files)
		slices.Reverse(files)
	}
	for _, f := range files {
		if !f.Changes() {
			continue
		}
		written = append(written, f)
		if err = p.write(ctx, f, f.Text); err != nil {
			return err
		}
	}
	if _, err = p.run(ctx, sshd+" -t -f "+quoted(p.Config), nil); err != nil {
		return fmt.Errorf("the server's own check does not hold: %w", err)
	}
	if err = p.reload(ctx); err != nil {
		return fmt.Errorf("the server could not be told to read its configuration anew: %w", err)
	}
	reread = true
	tell("written, and the server has read it")
	if err = p.prove(ctx); err != nil {
		return err
	}
	if p.Out {
		tell("a fresh login by the way of before works")
		if _, err := lease.Told[lease.Enrolled](ctx, p.Leases, p.Issuer, lease.Ask{Leave: p.Machine.Name}); err != nil {
			tell(p.Name + " knows it still: " + err.Error())
		}
		return nil
	}
	tell("a fresh login by a lease works")
	return nil
}

// unchanged fails where the configuration is another than the one that was shown.
func (p *Plan) unchanged(ctx context.Context) error {
	for _, f := range []File{p.config, p.conf} {
		now, err := p.read(ctx, f.Path)
		if err != nil {
			return err
		}
		if now.Before != f.Before || now.Was != f.Was {
			return fmt.Errorf("%s was changed meanwhile: look again", f.Path)
		}
	}
	return nil
}

// takeHostCertificate puts the certificate that was signed in its place in the plan.
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
			p.Files[i].Text = answer[0].HostCertificate + "\n"
		}
	}
	return nil
}

// prove logs in anew: by a lease alone, or where the machine is taken out by what the session has besides.
func (p *Plan) prove(ctx context.Context) error {
	way := p.Way.AtEnd(func(h *route.Hop) {
		h.Alone = "proof of " + time.Now().Format(time.RFC3339Nano)
		if p.Out {
			h.Lease = nil
			return
		}
		h.Keys, h.Lease = nil, p.Lease
	})
	var err error
	for try := range proofTries {
		if try > 0 {
			select {
			case <-time.After(proofEvery): // the server may not have read it yet
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		var fresh *walk.Passage
		if fresh, err = p.Walker.Walk(ctx, way); err == nil {
			fresh.Close()
			return nil
		}
		var f *gate.Failure
		if errors.As(err, &f) && f.Gate != gate.Login && f.Gate != gate.Port {
			break
		}
	}
	return fmt.Errorf("the fresh login that was to prove it failed: %w", err)
}

// reload has the server read its configuration anew. One that has just been told to is without its process number for
// a moment, so it is tried again a few times.
func (p *Plan) reload(ctx context.Context) (err error) {
	for try := range reloadTries {
		if try > 0 {
			select {
			case <-time.After(reloadEvery):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		if _, err = p.run(ctx, p.Reload, nil); err == nil {
			return nil
		}
	}
	return err
}

// back puts everything back as it was, over the line that was there before. Where the server has read what was written it
// is to read that, too.
func (p *Plan) back(ctx context.Context, written []File, told, reread bool, why error) error {
	var wrong error
	for _, f := range slices.Backward(written) {
		before := ""
		if f.Was {
			before = f.Before
		}
		wrong = errors.Join(wrong, p.write(ctx, f, before))
	}
	if reread {
		if err := p.reload(ctx); err != nil {
			wrong = errors.Join(wrong, fmt.Errorf("the server could not be told to read its configuration anew: %w", err))
		}
	}
	if told && !p.Known {
		if _, err := lease.Told[lease.Enrolled](ctx, p.Leases, p.Issuer, lease.Ask{Leave: p.Machine.Name}); err != nil {
			wrong = errors.Join(wrong, err)
		}
	}
	if wrong != nil {
		return fmt.Errorf("%w; and it could not all be put back: %w; look at %s there before the server is started anew", why, wrong, p.Config)
	}
	if len(written) == 0 && !told {
		return why
	}
	return fmt.Errorf("%w; everything was put back as it was", why)
}

// Refresh carries an issuer's signing keys and what is stopped to a machine that trusts it already: files that its
// server reads at each login.
func Refresh(ctx context.Context, o Options) error {
	p, err := Look(ctx, o, false)
	if err != nil {
		return err
	}
	defer p.Close()
	if !p.conf.Was {
		return fmt.Errorf("%s does not trust %s: enrol it first", o.Machine.Name, o.Name)
	}
	m := o.Machine
	m.Stops = p.About.Stops
	for _, line := range p.About.Signers {
		m.Signers = append(m.Signers, fingerprint(line))
	}
	for _, f := range p.Files {
		if name := path.Base(f.Path); name != lease.SignersFile && name != lease.RevokedFile || !f.Changes() {
			continue
		}
		if err := p.write(ctx, f, f.Text); err != nil {
			return err
		}
	}
	_, err = lease.Told[lease.Enrolled](ctx, p.Leases, p.Issuer, lease.Ask{Carried: &m})
	return err
}
