package line

import (
	"encoding/json"
	"errors"
	"io"
)

// Message is what is asked first over a stream. docs/gateway.md has its text on the wire.
type Message interface{ wire() wire }

// Reach asks to be led to a machine.
type Reach struct {
	Machine string // of a gateway: which one; "" to the machine itself
	To      string // a further destination by its name, "" for the machine's SSH server
	Port    int    // that the session names
	Person  string // of a machine and of another gateway: who is led there
	Key     string // of another gateway: the fingerprint by which the machine is known
}

// Leave asks a machine to join elsewhere: this gateway ends.
type Leave struct{}

// List asks a gateway what machines there are; a [Listed] for each follows.
type List struct{}

// Entries asks for so many of the last entries of the audit record; an [Entry] for each follows.
type Entries struct{ Most int }

// OfIssuer asks an issuer something, as package lease has it.
type OfIssuer struct{ Of json.RawMessage }

// wire is a message's text. The fields of one kind alone are set.
type wire struct {
	Machine string          `json:"machine,omitempty"`
	To      string          `json:"to,omitempty"`
	Port    int             `json:"port,omitempty"`
	Person  string          `json:"person,omitempty"`
	Key     string          `json:"key,omitempty"`
	Leave   bool            `json:"leave,omitempty"`
	List    bool            `json:"list,omitempty"`
	Entries int             `json:"entries,omitempty"`
	Of      json.RawMessage `json:"of,omitempty"`
}

func (m Reach) wire() wire {
	return wire{Machine: m.Machine, To: m.To, Port: m.Port, Person: m.Person, Key: m.Key}
}
func (Leave) wire() wire      { return wire{Leave: true} }
func (List) wire() wire       { return wire{List: true} }
func (m Entries) wire() wire  { return wire{Entries: m.Most} }
func (m OfIssuer) wire() wire { return wire{Of: m.Of} }

// Errors of messages.
var (
	ErrSeveral = errors.New("it asks several things at once")
	ErrNothing = errors.New("it asks nothing")
)

// maxName is how long the name of a machine may be, in bytes.
const maxName = 255

// HearMessage reads what is asked over a stream, and nothing behind it. It fails with [ErrSeveral] and [ErrNothing], and as
// [Hear] does.
func HearMessage(r io.Reader) (Message, error) {
	var w wire
	if err := Hear(r, &w); err != nil {
		return nil, err
	}
	reach := Reach{w.Machine, w.To, w.Port, w.Person, w.Key}
	var all []Message
	if reach != (Reach{}) {
		all = append(all, reach)
	}
	if w.Leave {
		all = append(all, Leave{})
	}
	if w.List {
		all = append(all, List{})
	}
	if w.Entries > 0 {
		all = append(all, Entries{w.Entries})
	}
	if len(w.Of) > 0 {
		all = append(all, OfIssuer{w.Of})
	}
	switch {
	case len(all) > 1:
		return nil, ErrSeveral
	case len(all) == 0:
		return nil, ErrNothing
	case len(w.Machine) > maxName:
		return nil, ErrTooLong
	}
	return all[0], nil
}
