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
	"meatus/core/lease"
	"meatus/core/remote"
	"meatus/core/sanitize"
)

// The scripts by which a machine's server is asked and told. What an account's start-up files print comes before the mark.
const (
	server = `s=$(command -v sshd || echo /usr/sbin/sshd)
echo =meatus=
`
	// WhoScript prints the account's number.
	WhoScript = `echo =meatus=; id -u`
	// CheckScript has the server check the configuration $1.
	CheckScript = server + `exec "$s" -t -f "$1"`
	// EffectiveScript prints what the server makes of the configuration $1, for a connection of the kind $2 where that is
	// given.
	EffectiveScript = server + `if [ -n "$2" ]; then exec "$s" -T -f "$1" -C "$2"; fi; exec "$s" -T -f "$1"`
	// HostKeysScript prints the machine's public keys, by the configuration $1.
	HostKeysScript = server + `"$s" -T -f "$1" | sed -n "s/^hostkey //p" | while read -r f; do cat "$f.pub" 2>/dev/null; done; true`
	// ExpandScript prints the files that a pattern means, one in a line.
	ExpandScript = `echo =meatus=; cd /etc/ssh 2>/dev/null; for f in $1; do [ -f "$f" ] && printf "%s\n" "$f"; done; true`
	// ReloadScript runs $1, which has the server read its configuration.
	ReloadScript = `echo =meatus=; eval "$1"`
	// ListenerScript prints what this login's server listens with: the process that accepted it and the numbers of its
	// listening sockets, which are others once it has read its configuration anew. Then it prints the processes of logins
	// that are under way, in a line. "unknown" is where a system does not tell.
	ListenerScript = `p=$$; l=
while [ -n "$p" ] && [ "$p" -gt 1 ]; do
c=
{ read -r c < "/proc/$p/comm"; } 2>/dev/null || break
case $c in sshd*) l=$p;; esac
p=$(sed -n "s/^PPid:[[:space:]]*//p" "/proc/$p/status" 2>/dev/null)
done
echo =meatus=
[ -n "$l" ] && [ -r "/proc/$l/net/tcp" ] || { echo unknown; exit 0; }
all=$(cat "/proc/$l/net/tcp" "/proc/$l/net/tcp6" 2>/dev/null | while read -r a b c st d e f g h inode rest; do [ "$st" = 0A ] && echo "$inode"; done)
own=
for f in /proc/"$l"/fd/*; do
i=$(readlink "$f" 2>/dev/null); i=${i#socket:[}; i=${i%]}
for a in $all; do [ "$i" = "$a" ] && own="$own $i"; done
done
echo "$l$own"
for d in /proc/[0-9]*; do
c=
{ read -r c < "$d/comm"; } 2>/dev/null
case $c in sshd*) ;; *) continue;; esac
case $(tr "\000" " " < "$d/cmdline" 2>/dev/null) in *\[net\]*|*\[preauth\]*|*\[accepted\]*) ;; *) continue;; esac
printf "%s " "${d#/proc/}"
done
echo`
)

// The usual places and commands.
const (
	usualConfig = "/etc/ssh/sshd_config"
	usualReload = `systemctl reload ssh 2>/dev/null || systemctl reload sshd 2>/dev/null || kill -HUP "$(cat /run/sshd.pid)"`
)

// Bounds.
const (
	stepTime = 30 * time.Second // for one command
	maxSaid  = 1 << 20          // by one command, bytes
)

// run runs a script over there, with the superuser's right where that is wished, and returns what it tells. It fails with
// a [remote.Status] where the script itself did.
func (p *Plan) run(ctx context.Context, script string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	out, err := remote.RunScript(ctx, p.passage, remote.Script{Text: script, Args: args, Super: p.Super, Limit: maxSaid})
	return string(out), err
}

// account reaches files there.
func (p *Plan) account() farfile.Commands {
	return farfile.Commands{Passage: p.passage, Super: p.Super}
}

// read reads a file over there.
func (p *Plan) read(ctx context.Context, name string) (farfile.State, error) {
	return p.account().Read(ctx, name)
}

// expand reads the files that a pattern of the configuration means.
func (p *Plan) expand(ctx context.Context) func(pattern string) ([]named, error) {
	return func(pattern string) (files []named, err error) {
		if !path.IsAbs(pattern) {
			pattern = path.Join("/etc/ssh", pattern)
		}
		out, err := p.run(ctx, ExpandScript, pattern)
		if err != nil {
			return nil, fmt.Errorf("the files that the configuration includes cannot be listed: %w", err)
		}
		for line := range strings.Lines(out) {
			name := strings.TrimSuffix(line, "\n")
			if name == p.conf.Path {
				continue
			}
			s, err := p.read(ctx, name)
			if err != nil {
				return nil, err
			}
			files = append(files, named{name, string(s.Text)})
		}
		return files, nil
	}
}

// check has the server check a configuration.
func (p *Plan) check(ctx context.Context, config string) error {
	_, err := p.run(ctx, CheckScript, config)
	return err
}

// effective is what the server makes of a configuration, by keyword, for a connection as a user where one is given.
func (p *Plan) effective(ctx context.Context, config, user string) (map[string]string, error) {
	of := ""
	if user != "" {
		of = "user=" + user + ",host=localhost,addr=127.0.0.1"
	}
	out, err := p.run(ctx, EffectiveScript, config, of)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for line := range strings.Lines(out) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), " ")
		all[strings.ToLower(name)] = value
	}
	return all, nil
}

// wanted is what the server has to make of our configuration.
func (p *Plan) wanted() map[string]string {
	return map[string]string{
		"trustedusercakeys":           path.Join(p.folder, lease.SignersFile),
		"revokedkeys":                 path.Join(p.folder, lease.RevokedFile),
		"authorizedprincipalscommand": "/bin/echo %u@",
	}
}

// others finds what the server trusts already that ours would take the place of, and what it has for some users alone.
func (p *Plan) others(ctx context.Context) error {
	all, err := p.effective(ctx, p.Config, "")
	if err != nil {
		return fmt.Errorf("the server's own check does not hold as it is: %w", err)
	}
	for name, own := range p.wanted() {
		if value := all[name]; value != "none" && value != "" && !strings.HasPrefix(value, own) {
			return fmt.Errorf("the server has %s %s already, which would be lost: have whoever runs it put both together", name, sanitize.Line(value, 120))
		}
	}
	users, err := guarded(p.Config, string(p.config.Before.Text), p.expand(ctx), false, 0)
	if err != nil {
		return err
	}
	users = append(users, p.Way.Target().User)
	slices.Sort(users)
	if p.users = slices.Compact(users); len(p.users) > maxAsked {
		p.users = p.users[:maxAsked]
	}
	return nil
}

// maxAsked is about how many users the server is asked one by one.
const maxAsked = 32

// holdsFor has the server say of each kind of user that it distinguishes whether our settings hold.
func (p *Plan) holdsFor(ctx context.Context, config string) error {
	for _, user := range p.users {
		all, err := p.effective(ctx, config, user)
		if err != nil {
			return fmt.Errorf("the server does not say what holds for %s: %w", sanitize.Line(user, 60), err)
		}
		for name, own := range p.wanted() {
			if !strings.HasPrefix(all[name], own) {
				return fmt.Errorf("for %s the server would have %s %s, so leases and their revocation would not hold: have whoever runs it put both together",
					sanitize.Line(user, 60), name, sanitize.Line(all[name], 120))
			}
		}
	}
	return nil
}

// findHostKey is the machine's public key, that of the kind Ed25519 where it has one.
func (p *Plan) findHostKey(ctx context.Context) (string, error) {
	out, err := p.run(ctx, HostKeysScript, p.Config)
	if err != nil {
		return "", fmt.Errorf("the machine's own keys cannot be read: %w", err)
	}
	shown := p.passage.HostKey()
	found := false
	for line := range strings.Lines(out) {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
		if err != nil {
			continue
		}
		found = true
		if shown != nil && string(key.Marshal()) == string(shown.Marshal()) { // the one that was vouched for
			return keyText(key), nil
		}
	}
	if !found {
		return "", errors.New("the machine's public keys stand beside none of its keys: it cannot be given a certificate")
	}
	return "", errors.New("the machine has other keys than the one it showed: it is not given a certificate")
}

// reload has the server read its configuration anew. One that has just been told to is without its process number for
// a moment, so it is tried again a few times.
func (p *Plan) reload(ctx context.Context) (err error) {
	for try := range reloadTries {
		if try > 0 && !pause(ctx, reloadEvery) {
			return ctx.Err()
		}
		if _, err = p.run(ctx, ReloadScript, p.Reload); err == nil {
			return nil
		}
		var s *remote.Status
		if !errors.As(err, &s) {
			return err // the line is lost: whether it was told is not known
		}
	}
	return err
}

const (
	reloadTries = 5
	reloadEvery = 500 * time.Millisecond
)

// pause waits, and tells whether there is time left.
func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}

// listener is what a server listens with, and which logins are under way.
type listener struct {
	with  string
	under []string
}

// listens asks what the server listens with. ok is false where the system does not tell.
func (p *Plan) listens(ctx context.Context) (l listener, ok bool) {
	out, err := p.run(ctx, ListenerScript)
	first, rest, _ := strings.Cut(out, "\n")
	if err != nil || first == "unknown" || first == "" {
		return l, false
	}
	return listener{first, strings.Fields(rest)}, true
}

// How long the server may take to read its configuration, and logins that began before to come to their end.
const (
	readTime    = 15 * time.Second
	loginsTime  = 20 * time.Second
	listenEvery = 200 * time.Millisecond
)

// hasRead waits until the server has read its configuration since it listened with what it did before, and until every
// login that began under the one of before has come to its end. It tells whether that is known.
func (p *Plan) hasRead(ctx context.Context, before listener, known bool) bool {
	if !known {
		return false
	}
	until := time.Now().Add(readTime)
	now, ok := p.listens(ctx)
	for ok && now.with == before.with && strings.Contains(now.with, " ") {
		if time.Now().After(until) || !pause(ctx, listenEvery) {
			return false
		}
		now, ok = p.listens(ctx)
	}
	under := now.under
	until = time.Now().Add(loginsTime)
	for ok {
		if under = slices.DeleteFunc(under, func(pid string) bool { return !slices.Contains(now.under, pid) }); len(under) == 0 {
			return true
		}
		if time.Now().After(until) || !pause(ctx, listenEvery) {
			return false
		}
		now, ok = p.listens(ctx)
	}
	return false
}
