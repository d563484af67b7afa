package command

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
)

// The exit statuses besides a remote command's own.
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

// statuses are told in every help.
const statuses = "0 done, 1 failed, 2 wrong use, 3 blocked, 4 the workspace cannot be read, 130 interrupted"

// Error ends the program with a status. Without an error nothing more is printed.
type Error struct {
	Status int
	Err    error
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

// Shut ends the program as blocked, unless the error has a status already.
func Shut(err error) error {
	var known *Error
	if errors.As(err, &known) {
		return err
	}
	return Fail(Blocked, err)
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
