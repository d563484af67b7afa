package step

import (
	"context"
	"encoding/base64"
	"fmt"

	"golang.org/x/crypto/ssh"

	"meatus/core/ring"
	"meatus/core/vouch"
)

// Asker is how the core asks a person for a decision. Each method may be called
// from any goroutine, blocks until there is an answer, and returns ctx's error
// when ctx ends first. An error means no: [ErrDeclined] that a person would not
// answer, a [Nobody] that there is no person to ask.
type Asker interface {
	// Identity asks whether the host's key is the right one.
	Identity(ctx context.Context, q IdentityQuestion) error
	// Passphrase asks for the passphrase of a key file.
	Passphrase(ctx context.Context, q PassphraseQuestion) ([]byte, error)
	// Answers asks what a server wants to know: a password, or the questions
	// of the keyboard-interactive method (RFC 4256), one answer for each.
	Answers(ctx context.Context, q ServerQuestions) ([]string, error)
	// Lend asks whether a far side may use a lent key once.
	Lend(ctx context.Context, q LendQuestion) error
}

// Place says for which session and at which hop something is asked.
type Place struct {
	Session string // whose route it is
	Hop     string // the hop's session name
	Index   int    // its place on the route, from 0
	Address string // host:port
	User    string
}

// IdentityQuestion asks to accept a host that is visited for the first time.
type IdentityQuestion struct {
	Place
	Hops      int // that the route has
	Key       ssh.PublicKey
	Algorithm string
	SHA256    string           // "SHA256:" and unpadded base64
	MD5       string           // sixteen pairs of hexadecimal digits
	Expected  []vouch.Expected // what somebody said the key has
	Elsewhere []vouch.Vouch    // other hosts, and ways, that this very key is vouched for
	Stood     []vouch.Vouch    // who else is vouched for at the address that this instance has now
	LeadsBack string           // the hop before it that has this key, "" where none has
	Covered   string           // the pattern of a vouched signing key that covers the host, which shows no certificate
}

// Words are what speaks against a yes, or is to be known before it; none for most.
func (q IdentityQuestion) Words() []string {
	var words []string
	if _, others := vouch.Agree(q.Expected, q.Key); len(others) > 0 {
		words = append(words, fmt.Sprintf("%s told another fingerprint of its %s key: whoever answers may not be %s", others[0].Source, others[0].Kind, q.Hop))
	}
	if q.LeadsBack != "" {
		words = append(words, fmt.Sprintf("this is the key of %s, a hop before it: the way leads back there, and not to %s", q.LeadsBack, q.Hop))
	}
	if q.Covered != "" {
		words = append(words, fmt.Sprintf("a signing key is vouched for hosts like %s, and this one shows a key without its certificate", q.Covered))
	}
	for _, v := range q.Stood[:min(len(q.Stood), 2)] {
		if v.Key != base64.StdEncoding.EncodeToString(q.Key.Marshal()) {
			words = append(words, fmt.Sprintf("at %s another machine stood: %s, vouched for since %s; this instance is visited for the first time", q.Address, v.At(), v.When.Local().Format("2 Jan 2006")))
		}
	}
	for i, v := range q.Elsewhere {
		if i == 3 {
			words = append(words, fmt.Sprintf("and for %d more", len(q.Elsewhere)-i))
			break
		}
		words = append(words, fmt.Sprintf("the same key is vouched for %s since %s", v.At(), v.When.Local().Format("2 Jan 2006")))
	}
	return words
}

// Agreement is what was expected and is the key, nil for none, or where something speaks against it; and where
// none of it is, what was expected of a key of this kind.
func (q IdentityQuestion) Agreement() (same *vouch.Expected, others []vouch.Expected) {
	same, others = vouch.Agree(q.Expected, q.Key)
	if q.LeadsBack != "" || q.Covered != "" {
		same = nil
	}
	return same, others
}

// PassphraseQuestion asks for the passphrase of a key.
type PassphraseQuestion struct {
	Place
	Path        string
	Fingerprint string // "" where only the passphrase tells
	Try         int    // from 1; above it, the last answer was wrong
}

// ServerQuestions are what a server asks. All text is the server's, cleaned.
type ServerQuestions struct {
	Place
	Password    bool // the password method: one question of ours
	Title       string
	Instruction string
	Questions   []Question
	Try         int
	After       string   // what the server accepted already, "" for nothing
	Banner      string   // what it said before the login, in lines
	Picture     []string // drawn as it is where there is room, none for most
}

// Question is one question of a server.
type Question struct {
	Text string
	Echo bool // the answer may be shown while it is typed
}

// LendQuestion asks whether a far side may use a lent key once.
type LendQuestion struct {
	Place
	Use ring.Use
}

// By is who asks: the far side's machine, or a program here.
func (q LendQuestion) By() string { return q.Place.By(q.Use) }

// By is who uses a key, or wants to.
func (p Place) By(u ring.Use) string {
	if u.From != "" {
		return u.From
	}
	return p.Hop
}

// ErrDeclined is the answer of a person who would not answer.
var ErrDeclined = fmt.Errorf("declined")

// Nobody is the answer where there is no person to ask. Remedy, which may be
// empty, says how the answer can be given instead.
type Nobody struct {
	Remedy string
}

func (n Nobody) Error() string { return "nobody can be asked" }
