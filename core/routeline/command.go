package routeline

import (
	"fmt"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/google/shlex"
	"github.com/spf13/pflag"

	"meatus/core/sanitize"
)

// Command is an example command, as a console or a colleague gives one, read for
// what it says about the way. It is never run.
type Command struct {
	Line string   // the route line that says the same
	Left []string // what of it has no meaning in a route line
}

// ReadCommand finds a command of the protocol's usual client in a pasted text: alone, among other lines or within a line, with
// a prompt before it or not, with any line ends. ok is false where there is none. What the command names (keys, machines to go
// through) is looked up in known; a machine that is not known stands as USER@HOST, and a key by its file's name where its path
// is one of another system.
func ReadCommand(text string, known Known) (c Command, ok bool) {
	if len(text) > maxLine {
		return c, false
	}
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text)
	text = strings.ReplaceAll(text, "\\\n", " ") // a line goes on behind a backslash
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		for at := 0; at < len(line); {
			from := commandAt(line, at)
			if from < 0 {
				break
			}
			if c, ok := readLine(line[from:], from > 0, known); ok {
				return c, true
			}
			at = from + len("ssh")
		}
	}
	return Command{}, false
}

// commandWord is the client's name, by itself or at the end of a path.
var commandWord = regexp.MustCompile(`(?:^|[\s` + "`" + `"'>$#%(])((?:[^\s` + "`" + `"']*[/\\])?(?:ssh|sftp)(?:\.exe)?)(?:\s|$)`)

// commandAt is where the next command begins in a line, from an offset on; -1 for none.
func commandAt(line string, from int) int {
	m := commandWord.FindStringSubmatchIndex(line[from:])
	if m == nil {
		return -1
	}
	return from + m[2]
}

// readLine reads a command at the start of a text. Within a sentence only what is clearly one is taken: it names a login, or
// has flags.
func readLine(text string, within bool, known Known) (Command, bool) {
	if i := strings.IndexByte(text, '`'); i >= 0 { // the end of what a page shows as code
		text = text[:i]
	}
	text = windowsPath.ReplaceAllStringFunc(text, func(path string) string { return strings.ReplaceAll(path, `\`, `\\`) })
	words, err := shlex.Split(kept.ReplaceAllStringFunc(text, func(quoted string) string { return loneSlash.ReplaceAllString(quoted, `\\$1`) }))
	if err != nil || len(words) < 2 {
		return Command{}, false
	}
	f, rest, ok := readFlags(words[1:])
	if !ok || within && !strings.Contains(rest[0], "@") && f.user == "" && !strings.HasPrefix(words[1], "-") {
		return Command{}, false
	}
	return f.command(rest, known)
}

// kept is what stands between double quotes, and loneSlash a backslash in it that a shell leaves there: before anything but
// $, a backquote, a double quote or another backslash (POSIX, Shell Command Language, section 2.2.3).
var (
	kept      = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)
	loneSlash = regexp.MustCompile("\\\\([^$`\"\\\\])")
)

// windowsPath is a path of Windows outside quotes, whose backslashes a shell here would take away.
var windowsPath = regexp.MustCompile(`(?:^|[\s=])(?:[A-Za-z]:\\|\\\\|%[A-Za-z]+%\\|\.\\)[^\s"']+`)

// flags are what the client's single letters mean to us.
type flags struct {
	keys, jumps, forward, remote, dynamic []string
	user, port, keepalive                 string
	agent                                 bool
	settings                              []string // as they stand behind "set"
	left                                  []string
}

// others are letters that say nothing about the way: with a word behind them, or
// alone.
const othersWithWord, othersAlone = "BbcEeFIkmOQSWw", "46CfGgKMNnqsTtVvXxYya"

func readFlags(words []string) (f flags, rest []string, ok bool) {
	set := pflag.NewFlagSet("", pflag.ContinueOnError)
	set.SetOutput(io.Discard)
	set.SetInterspersed(false)
	list := func(at *[]string, letter string) { set.StringArrayVarP(at, "long-"+letter, letter, nil, "") }
	list(&f.keys, "i")
	list(&f.jumps, "J")
	list(&f.forward, "L")
	list(&f.remote, "R")
	list(&f.dynamic, "D")
	set.StringVarP(&f.user, "long-l", "l", "", "")
	set.StringVarP(&f.port, "long-p", "p", "", "")
	set.BoolVarP(&f.agent, "long-A", "A", false, "")
	var options []string
	list(&options, "o")
	unread := map[string]*[]string{}
	for _, letter := range othersWithWord {
		unread[string(letter)] = new([]string)
		list(unread[string(letter)], string(letter))
	}
	for _, letter := range othersAlone {
		set.BoolP("alone-"+string(letter), string(letter), false, "")
	}
	for { // letters may also stand behind the host
		if set.Parse(words) != nil {
			return f, nil, false
		}
		words = set.Args()
		if len(words) == 0 {
			break
		}
		rest = append(rest, words[0])
		words = words[1:]
		if len(rest) > 1 || len(words) == 0 || !strings.HasPrefix(words[0], "-") {
			rest = append(rest, words...)
			break
		}
	}
	for _, letter := range othersWithWord {
		for _, word := range *unread[string(letter)] {
			f.left = append(f.left, fmt.Sprintf("-%c %s", letter, word))
		}
	}
	for _, option := range options {
		f.option(option)
	}
	return f, rest, len(rest) > 0
}

// option reads an option of the client's configuration, as KEY=VALUE or "KEY VALUE".
func (f *flags) option(text string) {
	key, value, _ := strings.Cut(text, "=")
	if k, v, ok := strings.Cut(strings.TrimSpace(text), " "); ok && !strings.Contains(k, "=") {
		key, value = k, v
	}
	value = strings.Trim(strings.TrimSpace(value), `"`)
	yes := strings.EqualFold(value, "yes")
	switch key = strings.ToLower(strings.TrimSpace(key)); {
	case value == "":
		f.left = append(f.left, "-o "+text)
	case key == "user":
		f.user = value
	case key == "port":
		f.port = value
	case key == "identityfile":
		f.keys = append(f.keys, value)
	case key == "proxyjump":
		f.jumps = append(f.jumps, value)
	case key == "proxycommand" && f.proxyCommand(value):
	case key == "localforward":
		f.forward = append(f.forward, strings.Join(strings.Fields(value), ":"))
	case key == "remoteforward" && strings.Contains(value, " "):
		f.remote = append(f.remote, strings.Join(strings.Fields(value), ":"))
	case key == "dynamicforward":
		f.dynamic = append(f.dynamic, value)
	case key == "forwardagent" && yes:
		f.agent = true
	case key == "serveraliveinterval" && strings.Trim(value, "0123456789") == "":
		if f.keepalive = value + "s"; strings.Trim(value, "0") == "" {
			f.keepalive = "off"
		}
	case key == "setenv" && strings.HasPrefix(value, "TERM="):
		f.settings = append(f.settings, "term="+strings.TrimPrefix(value, "TERM="))
	case key == "setenv" && strings.Contains(value, "="):
		f.settings = append(f.settings, "env="+strings.Join(strings.Fields(value), ", "))
	case key == "forwardx11" && yes:
		f.settings = append(f.settings, "windows=on")
	case key == "stricthostkeychecking" || key == "userknownhostsfile":
		f.left = append(f.left, "-o "+text+" (host keys are always compared with the trusted ones)")
	default:
		f.left = append(f.left, "-o "+text)
	}
}

// proxyCommand reads the client itself as a proxy command: the machine that it logs in to is gone through. ok is false for
// another program.
func (f *flags) proxyCommand(text string) (ok bool) {
	words, err := shlex.Split(text)
	if err != nil || len(words) < 2 || !commandWord.MatchString(words[0]) {
		return false
	}
	inner, rest, ok := readFlags(words[1:])
	direct := slices.ContainsFunc(inner.left, func(l string) bool { return strings.HasPrefix(l, "-W ") })
	if !ok || !direct {
		return false
	}
	hop := rest[0]
	if inner.user != "" && !strings.Contains(hop, "@") {
		hop = inner.user + "@" + hop
	}
	if inner.port != "" {
		hop += ":" + inner.port
	}
	f.jumps = append(append(f.jumps, inner.jumps...), hop)
	for _, key := range inner.keys {
		f.left = append(f.left, "the bastion's key "+key)
	}
	return true
}

// command is the route line that says the same as flags and what stands behind them.
func (f flags) command(rest []string, known Known) (Command, bool) {
	var c Command
	target := strings.TrimSuffix(strings.TrimPrefix(rest[0], scheme), "/")
	if f.user != "" && !strings.Contains(target, "@") {
		target = f.user + "@" + target
	}
	if f.port != "" {
		host := target[strings.LastIndexByte(target, '@')+1:]
		if strings.Count(host, ":") > 1 && !strings.HasPrefix(host, "[") {
			target = strings.TrimSuffix(target, host) + "[" + host + "]"
		}
		target += ":" + f.port
	}
	line := []string{target}
	if len(f.jumps) > 0 {
		line = append(line, "via")
		for _, jump := range strings.Split(strings.Join(f.jumps, ","), ",") {
			line = append(line, hopFor(jump, known))
		}
	}
	if len(f.keys) > 0 {
		line = append(line, "with")
		for _, key := range f.keys {
			line = append(line, keyFor(key, known))
		}
	}
	for _, each := range []struct {
		kind string
		list []string
	}{{"bring", f.forward}, {"lend", f.remote}, {"roam", f.dynamic}} {
		for _, spec := range each.list {
			line = append(line, tunnelFor(each.kind, spec)...)
		}
	}
	if f.keepalive != "" {
		line = append(line, "every", f.keepalive)
	}
	if f.agent {
		line = append(line, "lend-agent")
	}
	if len(rest) > 1 {
		f.left = append(f.left, "the command "+strings.Join(rest[1:], " "))
	}
	for i, word := range line {
		line[i] = quoted(word)
	}
	if len(f.settings) > 0 {
		line = append(line, "set")
		for _, s := range f.settings {
			key, value, _ := strings.Cut(s, "=")
			line = append(line, key+"="+quoted(value))
		}
	}
	for _, left := range f.left {
		c.Left = append(c.Left, sanitize.Line(left, 120))
	}
	c.Line = sanitize.Line(strings.Join(line, " "), maxLine)
	return c, c.Line != ""
}

// keyFor is a key as a line names it: by its file's name where it is known, or its path is one of another system.
func keyFor(written string, known Known) string {
	name := path.Base(strings.ReplaceAll(written, `\`, "/"))
	if slices.Contains(known.Keys, name) || download(known, name) != "" || !strings.Contains(written, "/") {
		return name
	}
	return written
}

// hopFor is the session that reaches a machine to go through, else the machine itself: as USER@HOST, of which the line makes a
// session, or as it was written.
func hopFor(written string, known Known) string {
	whole := strings.TrimPrefix(written, scheme)
	host := whole[strings.LastIndexByte(whole, '@')+1:]
	if strings.Count(host, ":") == 1 {
		host, _, _ = strings.Cut(host, ":")
	}
	switch name := known.Hosts[host]; {
	case name != "":
		return name
	case slices.Contains(known.Sessions, host), !strings.Contains(whole, "@"):
		return host
	}
	return whole
}

// tunnelFor turns [ADDRESS:]PORT:HOST:PORT into the words of a tunnel.
func tunnelFor(kind, spec string) []string {
	if kind == "roam" {
		return []string{kind, spec}
	}
	var parts []string
	for rest := spec; rest != ""; { // brackets keep an address together
		end := strings.IndexByte(rest, ':')
		if closing := strings.IndexByte(rest, ']'); strings.HasPrefix(rest, "[") && closing > 0 {
			end = strings.IndexByte(rest[closing:], ':')
			if end >= 0 {
				end += closing
			}
		}
		if end < 0 {
			parts = append(parts, rest)
			break
		}
		parts, rest = append(parts, rest[:end]), rest[end+1:]
	}
	if len(parts) < 3 {
		return []string{kind, spec, "from", ""}
	}
	n := len(parts)
	return []string{kind, strings.Join(parts[:n-2], ":"), "from", parts[n-2] + ":" + parts[n-1]}
}
