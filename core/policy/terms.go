package policy

import (
	"fmt"
	"meatus/core/rights"
	"meatus/core/words"
	"strings"
	"time"
)

// Terms are what a rule that allows a login says of it.
type Terms struct {
	Life     time.Duration // of a lease
	May      rights.Set
	Reason   bool     // it has to be given
	Source   bool     // a lease is for where the person is alone
	Ends     bool     // shells end with the lease
	AgreedBy []string // people and groups, one of whom has to agree; none where nobody has to
}

// How long a lease lasts.
const (
	DefaultLife = time.Minute
	minLife     = 10 * time.Second
	maxLife     = 24 * time.Hour
)

// Say says terms in a few words.
func (t Terms) Say() string {
	parts := []string{"for " + words.Span(t.Life), "may " + t.May.String()}
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

// readMay reads what a login may do.
func (t *Terms) readMay(words []string) error {
	for _, word := range words {
		right, ok := rights.Named(word)
		if !ok {
			return fmt.Errorf("%q is nothing that a login may do; there are %s", shown(word), strings.Join(rights.Words, ", "))
		}
		t.May |= right
	}
	if t.May&rights.Shell != 0 && t.May&rights.Files != 0 {
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
		return fmt.Errorf("%q is no time for a lease; write it like 60s, 10m or 8h, from %s to %s", shown(word), words.Span(minLife), words.Span(maxLife))
	}
	return nil
}
