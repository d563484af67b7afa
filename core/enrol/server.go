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

// The scripts that read and change a machine's SSH server. Each prints the mark before its output, after the output of
// start-up files.
const (
	server = `s=$(command -v sshd || echo /usr/sbin/sshd)
echo =meatus=
`
	// WhoScript prints the account's user number.
	WhoScript = `echo =meatus=; id -u`
	// CheckScript tests the configuration $1.
	CheckScript = server + `exec "$s" -t -f "$1"`
	// EffectiveScript prints the server's effective settings under the configuration $1, for connections matching $2 if
	// that is not empty.
	EffectiveScript = server + `if [ -n "$2" ]; then exec "$s" -T -f "$1" -C "$2"; fi; exec "$s" -T -f "$1"`
	// HostKeysScript prints the machine's public host keys, under the configuration $1.
	HostKeysScript = server + `"$s" -T -f "$1" | sed -n "s/^hostkey //p" | while read -r f; do cat "$f.pub" 2>/dev/null; done; true`
	// ExpandScript prints the files matching the pattern $1, one a line.
	ExpandScript = `echo =meatus=; cd /etc/ssh 2>/dev/null; for f in $1; do [ -f "$f" ] && printf "%s\n" "$f"; done; true`
	// ReloadScript runs $1, the command that makes the server re-read its configuration.
	ReloadScript = `echo =meatus=; eval "$1"`
	// ListenerScript prints a line with the process number of this login's server and the inode numbers of its listening
	// sockets, which are new after each reload, and a line with the process numbers of unfinished logins. It prints
	// "unknown" where the system does not show them.
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

// The defaults of [Options].
const (
	usualConfig = "/etc/ssh/sshd_config"
	usualReload = `systemctl reload ssh 2>/dev/null || systemctl reload sshd 2>/dev/null || kill -HUP "$(cat /run/sshd.pid)"`
)

// Limits of one command.
const (
	stepTime = 30 * time.Second // for one command
	maxSaid  = 1 << 20          // by one command, bytes
)

// run runs a script on the machine, as root if the plan says so, and returns its output. It fails with a [remote.Status] if
// the script itself failed.
func (p *Plan) run(ctx context.Context, script string, args ...string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	out, err := remote.RunScript(ctx, p.passage, remote.Script{Text: script, Args: args, Super: p.Super, Limit: maxSaid})
	return string(out), err
}

// account returns the access to the machine's files.
func (p *Plan) account() farfile.Commands {
	return farfile.Commands{Passage: p.passage, Super: p.Super}
}

// read reads a file of the machine.
func (p *Plan) read(ctx context.Context, name string) (farfile.State, error) {
	return p.account().Read(ctx, name)
}

// expand returns a function that reads the files matching an Include pattern.
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

// check tests a configuration with the server's own test mode (sshd -t).
func (p *Plan) check(ctx context.Context, config string) error {
	_, err := p.run(ctx, CheckScript, config)
	return err
}

// effective returns the server's effective settings by keyword (sshd -T), for connections of one user if user is not "".
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

// wanted returns the effective settings that our configuration must result in.
func (p *Plan) wanted() map[string]string {
	return map[string]string{
		"trustedusercakeys":           path.Join(p.folder, lease.SignersFile),
		"revokedkeys":                 path.Join(p.folder, lease.RevokedFile),
		"authorizedprincipalscommand": "/bin/echo %u@",
	}
}

// others fails if the server already has other values for our settings, and collects the users that its Match blocks name.
func (p *Plan) others(ctx context.Context) error {
	all, err := p.effective(ctx, p.Config, "")
	if err != nil {
		return fmt.Errorf("the server's own check does not hold as it is: %w", err)
	}
	for name, own := range p.wanted() {
		if value := all[name]; value != "none" && value != "" && !strings.HasPrefix(value, own) {
			return fmt.Errorf("the server has %s %s already, which would be lost: ask its administrator to combine them", name, sanitize.Line(value, 120))
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

// maxAsked limits the users whose effective settings are checked.
const maxAsked = 32

// holdsFor checks that our settings are effective for each user that the server distinguishes.
func (p *Plan) holdsFor(ctx context.Context, config string) error {
	for _, user := range p.users {
		all, err := p.effective(ctx, config, user)
		if err != nil {
			return fmt.Errorf("the server does not say what holds for %s: %w", sanitize.Line(user, 60), err)
		}
		for name, own := range p.wanted() {
			if !strings.HasPrefix(all[name], own) {
				return fmt.Errorf("for %s the server would have %s %s, so leases and their revocation would not hold: ask its administrator to combine them",
					sanitize.Line(user, 60), name, sanitize.Line(all[name], 120))
			}
		}
	}
	return nil
}

// findHostKey returns the machine's public host key that this connection verified.
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

// reload makes the server re-read its configuration. A server in the middle of a reload has no process number for a moment,
// so the command is tried several times.
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

// pause waits for d, and reports whether ctx is still open.
func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-time.After(d):
		return true
	case <-ctx.Done():
		return false
	}
}

// listener identifies a server's listening sockets and its unfinished logins.
type listener struct {
	with  string
	under []string
}

// listens reads the server's listening sockets and unfinished logins. ok is false where the system does not show them.
func (p *Plan) listens(ctx context.Context) (l listener, ok bool) {
	out, err := p.run(ctx, ListenerScript)
	first, rest, _ := strings.Cut(out, "\n")
	if err != nil || first == "unknown" || first == "" {
		return l, false
	}
	return listener{first, strings.Fields(rest)}, true
}

// How long a reload may take, how long older logins may take to finish, and the interval between checks.
const (
	readTime    = 15 * time.Second
	loginsTime  = 20 * time.Second
	listenEvery = 200 * time.Millisecond
)

// hasRead waits until the server listens with other sockets than before, so has re-read its configuration, and every login
// that began earlier has finished. It reports whether both are certain.
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
