package policy

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// Expectations are what a policy is to allow and what not: a text that stands beside it, under the same name with
// ".expect" behind it. A line says one thing:
//
//	expect WHO may [NOT] LOGIN at MACHINE [tag:NAME...] [when fri 03:00] [from ADDRESS]
//	expect WHO may [NOT] reach MACHINE ...
//
// WHO is a person, a group, for everybody in it, or everyone. Without a time, what may be is allowed at some time, and
// what may NOT be at none.
type Expectations struct {
	File string
	all  []expectation
}

type expectation struct {
	who    string
	not    bool
	q      Question
	line   int
	text   string
	always bool // no time is named
}

const expectForm = "expect WHO may [NOT] LOGIN at MACHINE [tag:NAME...] [when fri 03:00] [from ADDRESS]"

// ReadExpectations reads those beside a policy, none where there is no such file. It fails with [Mistakes].
func ReadExpectations(policy string) (*Expectations, error) {
	file := policy + ".expect"
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return &Expectations{File: filepath.Base(file)}, nil
	}
	if err == nil && info.Size() > maxText {
		err = fmt.Errorf("%s is longer than %d bytes", file, maxText)
	}
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	return ParseExpectations(filepath.Base(file), text)
}

// ParseExpectations reads expectations from memory. It fails with [Mistakes].
func ParseExpectations(file string, text []byte) (*Expectations, error) {
	e := &Expectations{File: file}
	var mistakes Mistakes
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, maxText)
	for n := 1; lines.Scan(); n++ {
		if m, ok := strange(file, n, lines.Text()); ok {
			mistakes = append(mistakes, m)
		}
		line, _, _ := strings.Cut(lines.Text(), "#")
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		one, err := expected(words)
		if err != nil {
			mistakes = append(mistakes, Mistake{File: file, Line: n, Say: err.Error()})
			continue
		}
		one.line, one.text = n, strings.Join(words, " ")
		e.all = append(e.all, one)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(mistakes) > 0 {
		return nil, mistakes
	}
	return e, nil
}

func expected(words []string) (e expectation, err error) {
	wrong := fmt.Errorf("it is not understood; write it like: %s", expectForm)
	if len(words) < 5 || words[0] != "expect" || words[2] != "may" {
		return e, wrong
	}
	e.who, e.always = words[1], true
	words = words[3:]
	if e.not = words[0] == "NOT"; e.not {
		words = words[1:]
	}
	switch {
	case len(words) >= 2 && words[0] == "reach":
		e.q.Machine.Name, words = words[1], words[2:]
	case len(words) >= 3 && words[1] == "at":
		e.q.Login, e.q.Machine.Name, words = words[0], words[2], words[3:]
	default:
		return e, wrong
	}
	for len(words) > 0 {
		kind, name, colon := strings.Cut(words[0], ":")
		switch {
		case words[0] == "when" && len(words) >= 3:
			day := slices.Index(dayNames, words[1])
			minute, err := minutes(words[2])
			if day < 0 || err != nil {
				return e, fmt.Errorf("%q is no day with an hour; write it like when fri 03:00", shown(words[1]+" "+words[2]))
			}
			e.always, e.q.At = false, aSunday.AddDate(0, 0, day).Add(time.Duration(minute)*time.Minute)
			words = words[3:]
		case words[0] == "from" && len(words) >= 2:
			if e.q.From, err = netip.ParseAddr(words[1]); err != nil {
				return e, fmt.Errorf("%q is no address", shown(words[1]))
			}
			words = words[2:]
		case colon && slices.Contains(kinds, kind):
			m := &e.q.Machine
			switch kind {
			case "tag":
				m.Tags = append(m.Tags, name)
			case "network":
				m.Networks = append(m.Networks, name)
			case "site":
				m.Site = name
			case "instance":
				m.Instance = name
			}
			words = words[1:]
		default:
			return e, wrong
		}
	}
	return e, nil
}

// Len is how many there are.
func (e *Expectations) Len() int { return len(e.all) }

// Judge holds a policy against expectations. Known are machines of which more is known than a line says, by name; it
// may be nil. It fails with [Mistakes], one for each line that does not hold.
func (e *Expectations) Judge(p *Policy, known func(name string) (Machine, bool)) error {
	var mistakes Mistakes
	for _, one := range e.all {
		q := one.q
		if known != nil {
			if m, ok := known(q.Machine.Name); ok {
				m.Tags = append(slices.Clip(m.Tags), q.Machine.Tags...)
				m.Networks = append(slices.Clip(m.Networks), q.Machine.Networks...)
				q.Machine = m
			}
		}
		if one.who != everyone && p.people[one.who] == nil && p.groups[one.who] == nil {
			mistakes = append(mistakes, Mistake{File: e.File, Line: one.line, Say: fmt.Sprintf("%s knows nobody called %q", p.File, shown(one.who))})
			continue
		}
		who := p.whoever([]string{one.who})
		slices.Sort(who)
		for _, person := range who {
			at := q
			if !one.always {
				at.At = p.local(q.At)
			}
			d := p.Decide(person, at)
			allowed := d.Allowed
			if one.always {
				allowed, _ = p.ever(person, at)
			}
			if allowed != one.not {
				continue
			}
			s := p.Standing(person, q.Machine, q.Login)
			mistakes = append(mistakes, Mistake{File: e.File, Line: one.line, Say: fmt.Sprintf("%s: it does not hold, since %s", one.text, s.Say())})
			break
		}
	}
	if len(mistakes) > 0 {
		return mistakes
	}
	return nil
}

// local is a time of the week as the policy's last zone has it.
func (p *Policy) local(at time.Time) time.Time {
	zone := p.zone
	if zone == nil {
		zone = time.UTC
	}
	return time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), 0, 0, zone)
}
