package routeline

import (
	"fmt"
	"io"
	"path"
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

// ReadCommand finds a command of the protocol's usual client in a pasted text,
// alone or among other lines, with a prompt before it or not. ok is false where
// there is none. What the command names (keys, machines to go through) is looked
// up in known, and stands as it was written where it is not there.
func ReadCommand(text string, known Known) (c Command, ok bool) {
	if len(text) > maxLine {
		return c, false
	}
	text = strings.NewReplacer("\\\r\n", " ", "\\\n", " ").Replace(text) // a line goes on behind a backslash
	for line := range strings.Lines(text) {
		line = strings.TrimLeft(strings.TrimSpace(line), "$#>% \t`")
		words, err := shlex.Split(strings.TrimRight(line, "`"))
		if err != nil || len(words) < 2 {
			continue
		}
		if words[0] == "sudo" {
			words = words[1:]
		}
		if name := path.Base(words[0]); name != "ssh" && name != "sftp" && name != "ssh.exe" {
			continue
		}
		if c, ok := readWords(words[1:], known); ok {
			return c, true
		}
	}
	return Command{}, false
}

// flags are what the client's single letters mean to us.
type flags struct {
	keys, jumps, forward, remote, dynamic []string
	user, port                            string
	agent                                 bool
	left                                  []string
}

// others are letters that say nothing about the way: with a word behind them, or
// alone.
const othersWithWord, othersAlone = "BbcEeFIkmOQSWwo", "46CfGgKMNnqsTtVvXxYya"

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
	return f, rest, len(rest) > 0
}

func readWords(words []string, known Known) (Command, bool) {
	f, rest, ok := readFlags(words)
	if !ok {
		return Command{}, false
	}
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
	if f.agent {
		line = append(line, "lend-agent")
	}
	if len(rest) > 1 {
		f.left = append(f.left, "the command "+strings.Join(rest[1:], " "))
	}
	for i, word := range line {
		line[i] = quoted(word)
	}
	for _, left := range f.left {
		c.Left = append(c.Left, sanitize.Line(left, 60))
	}
	c.Line = sanitize.Line(strings.Join(line, " "), maxLine)
	return c, c.Line != ""
}

// keyFor is a key as a line names it: by its file's name where it is known.
func keyFor(written string, known Known) string {
	name := path.Base(strings.ReplaceAll(written, `\`, "/"))
	if slices.Contains(known.Keys, name) || download(known, name) != "" || !strings.Contains(written, "/") {
		return name
	}
	return written
}

// hopFor is the session that reaches a machine to go through, else the machine
// itself as it was written.
func hopFor(written string, known Known) string {
	host := strings.TrimPrefix(written, scheme)
	host = host[strings.LastIndexByte(host, '@')+1:]
	if strings.Count(host, ":") == 1 {
		host, _, _ = strings.Cut(host, ":")
	}
	if name := known.Hosts[host]; name != "" {
		return name
	}
	return host
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
