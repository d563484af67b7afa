package command

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
)

// The exit statuses besides those of programs that are run.
const (
	Done        = 0
	Failed      = 1
	WrongUse    = 2
	Blocked     = 3 // a gate is shut, or what was asked does not hold
	Workspace   = 4 // the workspace cannot be read
	Some        = 5 // files: some are not there
	Nothing     = 6 // files: none is there
	Interrupted = 130
)

// ownOffset is added to the statuses of a command that passes on the exit status of a program, where the command itself fails:
// no program's own status is taken for them, since a signal's is at most 128+64.
const ownOffset = 250

// statuses are told in every help, and passing in that of a command that passes on the exit status of a program.
const (
	statuses = "0 done, 1 failed, 2 wrong use, 3 blocked, 4 the workspace cannot be read, 130 interrupted"
	passing  = "251 failed, 252 wrong use, 253 blocked, 254 the workspace cannot be read, 130 interrupted"
)

// Statuses lists all exit statuses, for "meatus help exit-status".
const Statuses = `# Exit status

| status | meaning |
|---|---|
| 0 | done |
| 1 | failed |
| 2 | wrong use: an unknown name, a wrong flag or value, or a question that nobody could be asked |
| 3 | blocked: a gate is blocked, or a check found that something is not allowed or not as expected |
| 4 | the workspace cannot be read |
| 5 | file transfers: some files were not copied; check-files: the folders differ |
| 6 | file transfers: no file was copied; check-files: they cannot be compared |
| 130 | interrupted, by ^C or a signal |

run, each and ring end with the status of the command that they run, or 128 plus the number of the
signal that ended it. Their own failures are 250 more than the others': 251 failed, 252 wrong use,
253 blocked, 254 the workspace cannot be read.
`

// Error ends the program with a status. Without an error nothing more is printed.
type Error struct {
	Status int
	Err    error
	Theirs bool // it is the status of a program that was run
}

func (e *Error) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

func (e *Error) Unwrap() error { return e.Err }

// Fail ends the program with a status and an error.
func Fail(status int, err error) error { return &Error{Status: status, Err: err} }

// Exit ends the program with a status, and prints nothing.
func Exit(status int) error { return &Error{Status: status} }

// Ended ends the program with the status of a program that was run, and with an error, which may be nil.
func Ended(status int, err error) error { return &Error{Status: status, Err: err, Theirs: true} }

// Shut ends the program as blocked, unless the error has a status already.
func Shut(err error) error {
	var known *Error
	if errors.As(err, &known) {
		return err
	}
	return Fail(Blocked, err)
}

// StatusOf is the exit status of a command that ended with an error.
func StatusOf(c *cobra.Command, err error) int {
	var with *Error
	status := Status(err)
	if c == nil || c.Annotations[passes] == "" || status == Done || status == Interrupted || errors.As(err, &with) && with.Theirs {
		return status
	}
	return ownOffset + status
}

// Status is the exit status for an error.
func Status(err error) int {
	var with *Error
	var shut *gate.Failure
	var problem book.Problem
	switch {
	case err == nil:
		return Done
	case errors.As(err, &with):
		return with.Status
	case errors.Is(err, route.ErrNoSession):
		return WrongUse
	case errors.As(err, &shut), errors.As(err, &problem):
		return Blocked
	}
	return Failed
}

// wrongUse has mistakes in flags and arguments end with their own status.
func wrongUse(c *cobra.Command) {
	c.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return Fail(WrongUse, fmt.Errorf("%w; see %s --help", err, cmd.CommandPath()))
	})
	if args := c.Args; args != nil {
		c.Args = func(cmd *cobra.Command, given []string) error {
			if err := args(cmd, given); err != nil {
				return Fail(WrongUse, fmt.Errorf("%w; see %s --help", err, cmd.CommandPath()))
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		wrongUse(sub)
	}
}

// onlyCommands is run for a command that only has commands below it.
func onlyCommands(c *cobra.Command, args []string) error {
	if len(args) == 0 {
		return c.Help()
	}
	return Fail(WrongUse, fmt.Errorf("there is no %q in %s; see %s --help", args[0], c.CommandPath(), c.CommandPath()))
}
