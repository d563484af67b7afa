package farfile

import (
	"context"
	"errors"
)

// Sum is the digest of a state.
func Sum(s State) string { return s.sum() }

// Parse reads what ReadScript prints behind the mark.
func Parse(path string, out []byte) (State, error) { return parse(path, out) }

// lost is an account whose line is lost at a change, which was made or not.
type lost struct {
	Account
	made bool
}

func (l *lost) apply(ctx context.Context, c Change, name string) error {
	if l.made {
		if err := l.Account.apply(ctx, c, name); err != nil {
			return err
		}
	}
	return errors.New("cut")
}
func (*lost) settle(context.Context, string, string) (State, error) { return None, errors.New("cut") }

// Lose is an account whose line is lost at its next change.
func Lose(a Account, made bool) Account { return &lost{a, made} }
