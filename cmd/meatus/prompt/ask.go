// Package prompt asks on the controlling terminal, so that input and output stay the command's own.
package prompt

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"

	"meatus/core/sanitize"
	"meatus/core/step"
	"meatus/core/vouch"
)

// Asker answers what a connection asks. Without a terminal it refuses.
type Asker struct {
	Identities *Identities // to accept unasked
	Taken      atomic.Bool // the terminal is the far side's: what is typed there is for no question

	mu sync.Mutex // one question at a time
}

// open opens the controlling terminal, or says that nobody is there.
func (a *Asker) open(remedy string) (*os.File, error) {
	if a.Taken.Load() {
		return nil, step.Nobody{Remedy: "the terminal is the far side's; open it in the full screen, where a question can be gone to"}
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return nil, step.Nobody{Remedy: remedy}
	}
	return tty, nil
}

func (a *Asker) Identity(ctx context.Context, q step.IdentityQuestion) error {
	if a.Identities.accepts(q) {
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	tty, err := a.open("compare the fingerprint, then pass --yes-identity " + q.Hop + "=" + q.SHA256)
	if err != nil {
		return err
	}
	defer tty.Close()
	fmt.Fprintf(tty, "%s (%s): first connection. Its host key is\n  %s\n  %s\n  MD5:%s\n", q.Hop, q.Address, q.Algorithm, q.SHA256, q.MD5)
	for _, word := range q.Words() {
		fmt.Fprintf(tty, "  NOTE: %s\n", word)
	}
	same, others := q.Agreement()
	for _, e := range q.Expected {
		if m, ok := vouch.Compare(e.Print, q.Key); ok && (e.Kind == "" || e.Kind == vouch.KindOf(q.Key)) {
			fmt.Fprintf(tty, "  %s was expected, from %s: %s\n", e.Print, e.Source, map[bool]string{true: "the same", false: "ANOTHER"}[m.Same])
		}
	}
	prompt, want := "Compare the fingerprint with the machine's console. To trust it, type yes, or paste the fingerprint you expect: ", "yes"
	switch {
	case same != nil:
		prompt, want = "It is the one announced by "+same.Source+". Enter trusts it, anything else does not: ", ""
	case len(others) > 0:
		prompt, want = "It is NOT the expected one. If you know the reason, type the last six characters of its SHA256 fingerprint: ", q.SHA256[max(len(q.SHA256)-6, 0):]
	}
	answer, err := Line(ctx, tty, prompt, true)
	if err != nil {
		return err
	}
	if m, ok := vouch.Compare(answer, q.Key); answer == want || same != nil && answer == "yes" || ok && m.Same {
		return nil
	} else if ok {
		fmt.Fprintln(tty, "That is another fingerprint.")
	}
	return step.ErrDeclined
}

func (a *Asker) Lend(ctx context.Context, q step.LendQuestion) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	tty, err := a.open("run it on a terminal, where the use can be agreed to")
	if err != nil {
		return err
	}
	defer tty.Close()
	answer, err := Line(ctx, tty, fmt.Sprintf("%s wants to use %s %s. Let it? Type yes: ", q.By(), q.Use.Key, q.Use.For()), true)
	if err == nil && answer != "yes" {
		err = step.ErrDeclined
	}
	return err
}

func (a *Asker) Passphrase(ctx context.Context, q step.PassphraseQuestion) ([]byte, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if pass, given, err := a.Identities.passphrase(q.Try); given {
		if err != nil {
			err = step.Nobody{Remedy: err.Error() + "; see which key it is for: " + sanitize.Path(q.Path)}
		}
		return pass, err
	}
	tty, err := a.open("run it on a terminal, where the passphrase can be typed, or give it by --passphrase-fd")
	if err != nil {
		return nil, err
	}
	defer tty.Close()
	if q.Try > 1 {
		fmt.Fprintln(tty, "That passphrase does not open the key.")
	}
	answer, err := Bytes(ctx, tty, fmt.Sprintf("Passphrase of %s: ", q.Path), false)
	if err == nil && len(answer) == 0 {
		err = step.ErrDeclined
	}
	return answer, err
}

func (a *Asker) Answers(ctx context.Context, q step.ServerQuestions) ([]string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	tty, err := a.open("run it on a terminal, where the answer can be typed")
	if err != nil {
		return nil, err
	}
	defer tty.Close()
	if q.Try > 1 {
		fmt.Fprintln(tty, "That was not accepted.")
	}
	if q.After != "" {
		fmt.Fprintf(tty, "%s was accepted; one more step is wanted.\n", q.After)
	}
	for line := range strings.Lines(q.Banner) {
		fmt.Fprintf(tty, "%s says: %s\n", q.Hop, strings.TrimRight(line, "\n"))
	}
	for _, text := range []string{q.Title, q.Instruction} {
		if text != "" {
			fmt.Fprintf(tty, "%s says: %s\n", q.Hop, text)
		}
	}
	for _, line := range q.Picture {
		fmt.Fprintln(tty, line)
	}
	var answers []string
	for _, question := range q.Questions {
		prompt := fmt.Sprintf("%s asks: %s ", q.Hop, question.Text)
		if q.Password {
			prompt = fmt.Sprintf("Password of %s at %s: ", q.User, q.Hop)
		}
		answer, err := Line(ctx, tty, prompt, question.Echo)
		if err != nil {
			return nil, err
		}
		answers = append(answers, answer)
	}
	return answers, nil
}
