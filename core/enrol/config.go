package enrol

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"meatus/core/sanitize"
)

// directive is one line of a server's configuration (sshd_config(5)).
type directive struct {
	keyword string // in lower case
	args    []string
	line    int
}

// directives parses a configuration, without blank lines and comments.
func directives(text string) (all []directive) {
	n := 0
	for line := range strings.Lines(text) {
		n++
		if d := parseDirective(line); d.keyword != "" {
			d.line = n
			all = append(all, d)
		}
	}
	return all
}

// parseDirective parses one line: a keyword, blanks or one "=", and arguments, optionally in double quotes.
func parseDirective(line string) (d directive) {
	rest := strings.TrimSpace(line)
	if rest == "" || rest[0] == '#' {
		return d
	}
	end := strings.IndexAny(rest, " \t=\"")
	if end < 0 {
		end = len(rest)
	}
	d.keyword = strings.ToLower(rest[:end])
	rest = strings.TrimLeft(rest[end:], " \t")
	rest = strings.TrimLeft(strings.TrimPrefix(rest, "="), " \t")
	for rest != "" && rest[0] != '#' {
		var word string
		if rest[0] == '"' {
			word, rest, _ = strings.Cut(rest[1:], `"`)
		} else if end := strings.IndexAny(rest, " \t"); end >= 0 {
			word, rest = rest[:end], rest[end:]
		} else {
			word, rest = rest, ""
		}
		d.args = append(d.args, word)
		rest = strings.TrimLeft(rest, " \t")
	}
	return d
}

// includedFolder returns the folder whose "*.conf" a configuration includes before its first Match block, or "".
func includedFolder(text string) string {
	for _, d := range directives(text) {
		switch d.keyword {
		case "match":
			return ""
		case "include":
			for _, pattern := range d.args {
				if folder, ok := strings.CutSuffix(pattern, "/*.conf"); ok && path.IsAbs(folder) && !strings.ContainsAny(folder, "*?[") {
					return folder
				}
			}
		}
	}
	return ""
}

// includeLine returns the line that includes our file.
func includeLine(conf string) string { return "Include " + conf + "\n" }

// withInclude returns the configuration with our include line first.
func withInclude(text, conf string) string {
	for line := range strings.Lines(text) {
		if line == includeLine(conf) {
			return text
		}
	}
	return includeLine(conf) + text
}

// withoutInclude returns the configuration without our include line, otherwise unchanged to the byte. A comment with the
// same text stays.
func withoutInclude(text, conf string) string {
	at := 0
	for line := range strings.Lines(text) {
		if line == includeLine(conf) {
			return text[:at] + text[at+len(line):]
		}
		at += len(line)
	}
	return text
}

// ours is the configuration that enrolling writes.
var ours = []string{"trustedusercakeys", "revokedkeys", "authorizedprincipalscommand", "authorizedprincipalscommanduser", "authorizedprincipalsfile"}

// guarded fails on a setting of ours inside a Match block, which takes precedence over the global section, with its file
// and line. It returns the users named by Match blocks, for a check of each with the server.
func guarded(name, text string, read func(pattern string) ([]named, error), conditional bool, depth int) (users []string, err error) {
	if depth > maxIncludes {
		return nil, fmt.Errorf("%s includes files that include each other", name)
	}
	for _, d := range directives(text) {
		switch {
		case d.keyword == "match":
			conditional = true
			users = append(users, matchedUsers(d.args)...)
		case d.keyword == "include":
			for _, pattern := range d.args {
				files, err := read(pattern)
				if err != nil {
					return nil, err
				}
				for _, f := range files {
					more, err := guarded(f.name, f.text, read, conditional, depth+1)
					if err != nil {
						return nil, err
					}
					users = append(users, more...)
				}
			}
		case conditional && slices.Contains(ours, d.keyword):
			return nil, fmt.Errorf("%s:%d sets %s for some logins alone (in a Match block), where leases and their revocation would not hold: ask its administrator to remove it, or to combine them",
				sanitize.Line(name, 200), d.line, sanitize.Line(d.keyword, 60))
		}
	}
	return users, nil
}

// maxIncludes is the depth to which a server follows Include.
const maxIncludes = 16

// named is a configuration file with its path.
type named struct{ name, text string }

// matchedUsers returns the users that a Match line names without wildcards.
func matchedUsers(args []string) (users []string) {
	for i := 0; i < len(args); i++ {
		criterion, list, ok := strings.Cut(args[i], "=")
		if !strings.EqualFold(criterion, "user") {
			continue
		}
		if !ok && i+1 < len(args) {
			i++
			list = args[i]
		}
		for user := range strings.SplitSeq(list, ",") {
			if user != "" && !strings.ContainsAny(user, "*?!") {
				users = append(users, user)
			}
		}
	}
	return users
}
