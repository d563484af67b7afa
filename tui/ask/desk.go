// Package ask puts the core's questions to a person: an unknown host, a
// passphrase, what a server wants to know. A question takes the lower part of
// the screen, one at a time, in the order they came.
//
// Answers typed without echo are shown as dots. A passphrase is kept where it can be wiped,
// and no longer than the answer takes; what a server asks for the protocol's library wants as
// a string.
package ask

import (
	"context"
	"meatus/core/step"
	"time"

	tea "charm.land/bubbletea/v2"
)

// Asked is a question for a person, as the program's message.
type Asked struct{ question *question }

// Withdrawn says that a question needs no answer any more.
type Withdrawn struct{ question *question }

// question is one question of the core and the place its answer goes.
type question struct {
	identity   *step.IdentityQuestion
	passphrase *step.PassphraseQuestion
	server     *step.ServerQuestions
	lend       *step.LendQuestion
	answer     chan answer
}

type answer struct {
	texts  []string // "" for what the secret is
	secret []byte   // a passphrase
	err    error
}

func (q *question) place() step.Place {
	switch {
	case q.identity != nil:
		return q.identity.Place
	case q.passphrase != nil:
		return q.passphrase.Place
	case q.lend != nil:
		return q.lend.Place
	}
	return q.server.Place
}

// Desk is the [step.Asker] of the interface: it turns questions into messages, which
// [Desk.Next] brings, and waits for the answers.
type Desk struct{ messages chan tea.Msg }

// NewDesk returns a desk without questions.
func NewDesk() *Desk { return &Desk{messages: make(chan tea.Msg)} }

// Next waits for the next question, or for one that needs no answer any more.
func (d *Desk) Next(ctx context.Context) tea.Cmd {
	return func() tea.Msg {
		select {
		case msg := <-d.messages:
			return msg
		case <-ctx.Done():
			return nil
		}
	}
}

func (d *Desk) put(ctx context.Context, q *question) (answer, error) {
	q.answer = make(chan answer, 1)
	select {
	case d.messages <- Asked{q}:
	case <-ctx.Done():
		return answer{}, ctx.Err()
	}
	select {
	case a := <-q.answer:
		return a, a.err
	case <-ctx.Done():
		go d.withdraw(q)
		return answer{}, ctx.Err()
	}
}

// withdrawTime is how long somebody is waited for who shows a question that needs no
// answer any more; after it the program has ended.
const withdrawTime = 10 * time.Second

func (d *Desk) withdraw(q *question) {
	select {
	case d.messages <- Withdrawn{q}:
	case <-time.After(withdrawTime):
	}
}

// Identity asks whether a host's key is the right one.
func (d *Desk) Identity(ctx context.Context, q step.IdentityQuestion) error {
	_, err := d.put(ctx, &question{identity: &q})
	return err
}

// Lend asks whether a far side may use a lent key once.
func (d *Desk) Lend(ctx context.Context, q step.LendQuestion) error {
	_, err := d.put(ctx, &question{lend: &q})
	return err
}

// Passphrase asks for the passphrase of a key file.
func (d *Desk) Passphrase(ctx context.Context, q step.PassphraseQuestion) ([]byte, error) {
	a, err := d.put(ctx, &question{passphrase: &q})
	return a.secret, err
}

// Answers asks what a server wants to know.
func (d *Desk) Answers(ctx context.Context, q step.ServerQuestions) ([]string, error) {
	a, err := d.put(ctx, &question{server: &q})
	return a.texts, err
}
