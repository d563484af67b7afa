package policy

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Terms are what a rule that allows a login says of it.
type Terms struct {
	Life     time.Duration // of a lease
	May      May
	Reason   bool     // it has to be given
	Source   bool     // a lease is for where the person is alone
	Ends     bool     // shells end with the lease
	AgreedBy []string // people and groups, one of whom has to agree; none where nobody has to
}

// May is what a login may do, as bits.
type May uint8

// What a login may do.
const (
	Shell   May = 1 << iota // and commands, and files with them
	Files                   // the file-transfer channel alone
	Agent                   // have keys lent
	Tunnels                 // and further machines behind it
	Windows                 // have programs draw here
)

var mayWords = []string{"shell", "files", "agent", "tunnels", "windows"}

func (m May) String() string {
	var all []string
	for i, word := range mayWords {
		if m&(1<<i) != 0 {
			all = append(all, word)
		}
	}
	return strings.Join(all, " ")
}

// How long a lease lasts.
const (
	DefaultLife = time.Minute
	minLife     = 10 * time.Second
	maxLife     = 24 * time.Hour
)

// Say says terms in a few words.
func (t Terms) Say() string {
	parts := []string{"for " + Duration(t.Life), "may " + t.May.String()}
	if t.Source {
		parts = append(parts, "from where one is alone")
	}
	if t.Reason {
		parts = append(parts, "with a reason")
	}
	if len(t.AgreedBy) > 0 {
		parts = append(parts, "agreed by one of "+strings.Join(t.AgreedBy, ", "))
	}
	if t.Ends {
		parts = append(parts, "shells end with it")
	}
	return strings.Join(parts, ", ")
}

// Duration writes a time as policies have it: "90s", "5m", "8h".
func Duration(d time.Duration) string {
	for _, unit := range []struct {
		of   time.Duration
		word string
	}{{time.Hour, "h"}, {time.Minute, "m"}} {
		if d >= unit.of && d%unit.of == 0 {
			return fmt.Sprintf("%d%s", d/unit.of, unit.word)
		}
	}
	return fmt.Sprintf("%ds", d/time.Second)
}

// readMay reads what a login may do.
func (t *Terms) readMay(words []string) error {
	for _, word := range words {
		i := slices.Index(mayWords, word)
		if i < 0 {
			return fmt.Errorf("%q is nothing that a login may do; there are %s", shown(word), strings.Join(mayWords, ", "))
		}
		t.May |= 1 << i
	}
	if t.May&Shell != 0 && t.May&Files != 0 {
		return fmt.Errorf("a shell can move files whatever is said of them; write may shell, or may files")
	}
	return nil
}

// readWith reads what a lease comes with.
func (t *Terms) readWith(words []string) error {
	for _, word := range words {
		switch word {
		case "reason":
			t.Reason = true
		case "source":
			t.Source = true
		case "end":
			t.Ends = true
		default:
			return fmt.Errorf("a lease comes with reason, source or end, and not with %q", shown(word))
		}
	}
	return nil
}

// readLife reads how long a lease lasts.
func (t *Terms) readLife(word string) (err error) {
	t.Life, err = time.ParseDuration(word)
	if err != nil || t.Life < minLife || t.Life > maxLife || t.Life%time.Second != 0 {
		return fmt.Errorf("%q is no time for a lease; write it like 60s, 10m or 8h, from %s to %s", shown(word), Duration(minLife), Duration(maxLife))
	}
	return nil
}
