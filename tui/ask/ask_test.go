package ask

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"golang.org/x/crypto/ssh"

	"meatus/core/step"
	"meatus/core/vouch"
	"meatus/tui/placetest"
	"meatus/tui/theme"
)

// person answers the questions of a desk by keys.
type person struct {
	t    *testing.T
	desk *Desk
	*Model
}

func newPerson(t *testing.T) *person {
	m := New(theme.New(true))
	m.SetWidth(80)
	return &person{t, NewDesk(), m}
}

// asked puts a question, and returns what the answer is when it is there.
func (p *person) asked(put func(context.Context) error) <-chan error {
	p.t.Helper()
	done := make(chan error, 1)
	go func() { done <- put(p.t.Context()) }()
	p.Update(p.desk.Next(p.t.Context())())
	return done
}

func (p *person) types(text string) {
	for _, r := range text {
		p.Update(placetest.Key(string(r)))
	}
}

// sees is what shows, in lines that fit.
func (p *person) sees() string {
	p.t.Helper()
	var all []string
	for _, l := range p.View(20, "") {
		plain := ansi.Strip(l)
		if ansi.StringWidth(plain) > 80 {
			p.t.Errorf("%d columns: %q", ansi.StringWidth(plain), plain)
		}
		all = append(all, plain)
	}
	return strings.Join(all, "\n")
}

func identity(t *testing.T) step.IdentityQuestion {
	t.Helper()
	pub, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	return step.IdentityQuestion{Place: step.Place{Session: "tide-db", Hop: "tide-db", Address: "10.61.4.20:22"}, Hops: 2, Key: key,
		Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key), MD5: ssh.FingerprintLegacyMD5(key)}
}

func TestAFirstVisitSaysWhatSpeaksAgainstIt(t *testing.T) {
	p := newPerson(t)
	q := identity(t)
	q.LeadsBack, q.Covered = "quay", "*.reef.internal"
	for range 5 {
		q.Elsewhere = append(q.Elsewhere, vouch.Vouch{Host: "203.0.113.10", Port: 22, When: time.Date(2026, 10, 12, 9, 0, 0, 0, time.UTC)})
	}
	done := p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, q) })
	seen := strings.Join(strings.Fields(p.sees()), " ")
	for _, want := range []string{"this is the key of quay, a hop before it", "hosts like *.reef.internal", "vouched for 203.0.113.10:22 since 12 Oct 2026", "and for 2 more", "type yes:"} {
		if !strings.Contains(seen, want) {
			t.Errorf("%q does not show:\n%s", want, p.sees())
		}
	}
	p.types("y")
	p.Update(placetest.Key("enter"))
	if !p.Waiting() {
		t.Error("a y alone vouched for it")
	}
	p.Update(placetest.Key("ctrl+u"))
	p.types("yes")
	p.Update(placetest.Key("enter"))
	if err := <-done; err != nil || p.Waiting() {
		t.Errorf("answered yes: %v", err)
	}
}

// What a console told is one key press where it is the key, and an alarm where it is another of its kind.
func TestWhatIsExpectedIsOneKeyPressOrAnAlarm(t *testing.T) {
	p := newPerson(t)
	q, other := identity(t), identity(t)
	rsa := vouch.Expected{Print: other.SHA256, Kind: "RSA", Source: "the console of tide-db"}
	q.Expected = []vouch.Expected{rsa, {Print: q.SHA256, Kind: "ED25519", Source: "the console of tide-db"}}
	done := p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, q) })
	if see := p.sees(); !strings.Contains(see, "Enter trusts it") || strings.Contains(see, "differs") {
		t.Errorf("it says\n%s", see)
	}
	p.Update(placetest.Key("enter"))
	if err := <-done; err != nil {
		t.Error(err)
	}
	q.LeadsBack = "quay"
	done = p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, q) })
	p.Update(placetest.Key("enter"))
	if !p.Waiting() {
		t.Error("enter vouched for a way that leads back")
	}
	p.Update(placetest.Key("esc"))
	<-done

	q.LeadsBack, q.Expected = "", []vouch.Expected{rsa, {Print: other.SHA256, Kind: "ED25519", Source: "the console of tide-db"}}
	done = p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, q) })
	if see := strings.Join(strings.Fields(p.sees()), " "); !strings.Contains(see, "may not be tide-db") || !strings.Contains(see, "differs") || !strings.Contains(see, "last six characters") {
		t.Errorf("it says\n%s", see)
	}
	for _, typed := range []string{"", "yes", "abc"} {
		p.types(typed)
		p.Update(placetest.Key("enter"))
		if !p.Waiting() {
			t.Fatalf("%q vouched for another key than the expected", typed)
		}
	}
	p.types(q.SHA256[len(q.SHA256)-6:])
	p.Update(placetest.Key("enter"))
	if err := <-done; err != nil {
		t.Error(err)
	}
	q.Expected = []vouch.Expected{rsa} // it is about another key
	done = p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, q) })
	if see := p.sees(); strings.Contains(see, "differs") || !strings.Contains(see, "type yes:") {
		t.Errorf("it says\n%s", see)
	}
	p.types("yes")
	p.Update(placetest.Key("enter"))
	<-done
}

func TestQuestionsAreAnsweredInTheirOrder(t *testing.T) {
	p := newPerson(t)
	first := p.asked(func(ctx context.Context) error { return p.desk.Identity(ctx, identity(t)) })
	var pass []byte
	second := p.asked(func(ctx context.Context) (err error) {
		pass, err = p.desk.Passphrase(ctx, step.PassphraseQuestion{Place: step.Place{Hop: "quay"}, Path: "/keys/tide.pem", Try: 2})
		return err
	})
	var answers []string
	third := p.asked(func(ctx context.Context) (err error) {
		answers, err = p.desk.Answers(ctx, step.ServerQuestions{Place: step.Place{Hop: "lamp"}, Title: "the lamp", Questions: []step.Question{{Text: "Name:", Echo: true}, {Text: "PIN:"}}})
		return err
	})
	p.Update(placetest.Key("esc"))
	if err := <-first; !errors.Is(err, step.ErrDeclined) {
		t.Errorf("left with esc: %v", err)
	}
	if seen := p.sees(); !strings.Contains(seen, "does not open the key; try again") {
		t.Errorf("the second try shows\n%s", seen)
	}
	p.types("ebb and flow")
	if strings.Contains(p.sees(), "ebb") {
		t.Error("a passphrase shows")
	}
	p.Update(placetest.Key("enter"))
	if err := <-second; err != nil || string(pass) != "ebb and flow" {
		t.Errorf("passphrase %q, %v", pass, err)
	}
	p.Update(tea.PasteMsg{Content: "keeper"})
	p.Update(placetest.Key("tab"))
	p.types("1234")
	if seen := p.sees(); !strings.Contains(seen, "keeper") || strings.Contains(seen, "1234") {
		t.Errorf("it shows\n%s", seen)
	}
	p.Update(placetest.Key("enter"))
	if err := <-third; err != nil || len(answers) != 2 || answers[0] != "keeper" || answers[1] != "1234" || p.Waiting() {
		t.Errorf("answers %q, %v", answers, err)
	}
}

func TestAQuestionThatNeedsNoAnswerAnyMoreGoes(t *testing.T) {
	p := newPerson(t)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- p.desk.Identity(ctx, identity(t)) }()
	p.Update(p.desk.Next(t.Context())())
	cancel()
	if err := <-done; !errors.Is(err, context.Canceled) {
		t.Errorf("it ended with %v", err)
	}
	p.Update(p.desk.Next(t.Context())())
	if p.Waiting() || p.Session() != "" {
		t.Error("it still waits")
	}
}
