package remote

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"meatus/core/posix"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Mark is the line before a script's own output. Output of the account's start-up files precedes it.
const Mark = "=meatus=\n"

// Script is a script for a POSIX shell on the remote machine. It must print [Mark] before its output.
type Script struct {
	Text  string
	Args  []string // its $1, $2 and so on
	Input []byte
	Super bool  // by sudo, which asks for no password
	Limit int64 // of what it tells, in bytes
}

// Status is the error of a script that ended with an exit status other than 0, or by a signal.
type Status struct {
	Code   int
	Signal string // "" for none
	Says   string // on standard error, cleaned
}

func (s *Status) Error() string {
	if s.Signal != "" {
		return "the command was ended by signal " + sanitize.Line(s.Signal, 20)
	}
	return fmt.Sprintf("the command ended with status %d: %s", s.Code, s.Says)
}

// ErrNoShell means that the remote account has no POSIX shell.
var ErrNoShell = errors.New("the login shell there is no POSIX shell")

// ErrTooMuch means that a script's output exceeds its limit.
var ErrTooMuch = errors.New("its output is too long")

// RunScript runs a script and returns its output after [Mark]. It fails with a [Status], [ErrNoShell] or [ErrTooMuch];
// after any other error it is unknown whether the script ran to its end.
func RunScript(ctx context.Context, p *walk.Passage, s Script) ([]byte, error) {
	line := posix.Line(s.Text, s.Args...)
	if s.Super {
		line = "sudo -n " + line
	}
	o, err := Run(ctx, p, line, s.Input, s.Limit)
	if err == nil {
		err = o.Ending.Err
	}
	_, out, marked := bytes.Cut(o.Out, []byte(Mark))
	switch {
	case err != nil:
		return nil, err
	case o.Status != 0 || o.Signal != "":
		return nil, &Status{o.Status, o.Signal, sanitize.Line(string(o.Err), 300)}
	case !marked:
		return nil, ErrNoShell
	case o.Cut:
		return nil, ErrTooMuch
	}
	return out, nil
}
