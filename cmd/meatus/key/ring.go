package key

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/keyfile"
	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/core/secret"
	"meatus/core/workspace"
)

// ringOptions are the flags of "meatus ring".
type ringOptions struct {
	stay         time.Duration
	confirm      bool
	hosts        []string
	passphraseFD int
}

// Ring is "meatus ring".
func Ring(open live.Opener) *command.Command {
	o := ringOptions{passphraseFD: -1}
	c := &command.Command{
		Use:      "ring [KEY...] [-- CMD...]",
		Summary:  "run an SSH agent for other programs",
		Examples: []string{"meatus ring keys/gauge.pem -- make deploy", "eval \"$(meatus ring keys/gauge.pem &)\""},
		Status:   "the status of the command",
		Passes:   true,
		JSON:     "print the keys and each use as lines of JSON on standard error",
		Complete: command.Keys,
		Details: `Unlock keys into memory and serve them to other programs of this account over a socket that
only this account can reach. With CMD, run it with SSH_AUTH_SOCK set, and end with it.
Without CMD, print the line that sets SSH_AUTH_SOCK and run until interrupted. Each use is
printed on standard error and written to the audit log. Keys are removed when their time is
over, when the screen locks and when the program ends.`,
		Run: func(cmd *command.Call, args []string) error {
			var program []string
			if at := cmd.ArgsLenAtDash(); at >= 0 {
				args, program = args[:at], args[at:]
			}
			return o.run(cmd, open, args, program)
		},
	}
	c.Flags().DurationVar(&o.stay, "stay", 0, "remove the keys after this time, as 1h; 0: when the program ends")
	c.Flags().BoolVar(&o.confirm, "confirm", false, "confirm each use on the terminal")
	c.Flags().StringSliceVar(&o.hosts, "host", nil, "allow the keys for these hosts only, by pattern (repeatable)")
	c.Flags().IntVar(&o.passphraseFD, "passphrase-fd", -1, "read the passphrases from this file descriptor, one a line")
	c.Value("host", "HOSTS", nil)
	return c
}

func (o ringOptions) run(cmd *command.Call, open live.Opener, keys, program []string) error {
	w, err := open.Workspace()
	if err != nil {
		return err
	}
	e, err := open.Engine(cmd, w, nil, engine.Options{}, func(e event.Event) {
		switch e := e.(type) {
		case remote.Lent:
			o.tell(cmd, "used", e.Key, &e)
		case remote.NotTaken:
			o.tellNotTaken(cmd, e)
		}
	})
	if err != nil {
		return err
	}
	defer e.Close()
	if err := o.hold(cmd, w, e, keys); err != nil {
		return err
	}
	socket, err := e.ShareRing()
	if err != nil {
		return err
	}
	if len(program) == 0 {
		fmt.Fprintf(cmd.OutOrStdout(), "SSH_AUTH_SOCK=%s; export SSH_AUTH_SOCK\n", socket.Path)
		<-cmd.Context().Done()
		return nil
	}
	run := exec.CommandContext(cmd.Context(), program[0], program[1:]...)
	run.Env = append(secret.Environ(), "SSH_AUTH_SOCK="+socket.Path)
	run.Stdin, run.Stdout, run.Stderr = os.Stdin, cmd.OutOrStdout(), cmd.ErrOrStderr()
	err = run.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() > 0 {
		return command.Ended(exit.ExitCode(), nil)
	}
	return err
}

// hold puts the keys into the ring. What was read of passphrases is wiped after.
func (o ringOptions) hold(cmd *command.Call, w *workspace.Workspace, e *live.Engine, keys []string) error {
	var given [][]byte // passphrases by file descriptor
	if o.passphraseFD >= 0 {
		text, err := prompt.FromFD(o.passphraseFD)
		defer clear(text)
		if err != nil {
			return err
		}
		given = bytes.Split(text, []byte("\n"))
	}
	for _, name := range keys {
		var pass []byte
		file, err := readAbs(name)
		if err != nil {
			return err
		}
		if file.Passphrase {
			if len(given) > 0 {
				pass, given = given[0], given[1:]
			} else if pass, err = prompt.Secret(cmd, -1, "Passphrase of "+file.Path, false); err != nil {
				return err
			}
		}
		if err := o.holdOne(cmd, w, e, file, pass); err != nil {
			return err
		}
	}
	return nil
}

// holdOne puts one key into the ring, on its terms and those of the command.
func (o ringOptions) holdOne(cmd *command.Call, w *workspace.Workspace, e *live.Engine, file *keyfile.File, pass []byte) error {
	defer clear(pass)
	defer file.Forget()
	terms := w.Planner().TermsOf(file.Path)
	terms.Confirm = terms.Confirm || o.confirm
	if o.stay > 0 {
		terms.Stay = o.stay
	}
	if len(o.hosts) > 0 {
		terms.Said, terms.Hosts = o.hosts, w.Planner().Hosts(o.hosts)
	}
	entry, err := e.Keys.Hold(file, pass, terms)
	if errors.Is(err, keyfile.ErrPassphrase) {
		return fmt.Errorf("%s: that is not its passphrase", file.Path)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", file.Path, err)
	}
	o.tell(cmd, "holds", entry, nil)
	return nil
}

// tellNotTaken says what a program wanted held that was not taken.
func (o ringOptions) tellNotTaken(cmd *command.Call, e remote.NotTaken) {
	if !cmd.JSON {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+e.Say())
		return
	}
	command.Line(cmd.ErrOrStderr(), map[string]any{"event": "not-taken", "by": e.From, "what": e.What, "refused": e.Why.Error()})
}

// tell says that a key is held, or was used or refused.
func (o ringOptions) tell(cmd *command.Call, what string, e ring.Entry, use *remote.Lent) {
	out := cmd.ErrOrStderr()
	if cmd.JSON {
		line := map[string]any{"event": what, "key": e.String(), "sha256": e.SHA256}
		if use == nil {
			line["stay"], line["confirm"], line["hosts"] = e.Stay(), e.Confirm, e.Said
		} else {
			line["by"], line["for"], line["use"] = use.By(), strings.TrimPrefix(use.For(), "for "), use.Count
			if use.Refuse != nil {
				line["refused"] = use.Refuse.Error()
			}
		}
		command.Line(out, line)
		return
	}
	switch {
	case use == nil:
		say := []string{e.String(), e.SHA256, "stays " + e.Stay()}
		if e.Confirm {
			say = append(say, "asks before each use")
		}
		if len(e.Said) > 0 {
			say = append(say, "for "+strings.Join(e.Said, ", "))
		}
		fmt.Fprintln(out, "holds "+strings.Join(say, ", "))
	case use.Refuse != nil:
		fmt.Fprintf(out, "meatus: %s was refused %s %s: %v\n", use.By(), e, use.For(), use.Refuse)
	default:
		fmt.Fprintf(out, "meatus: %s used %s %s\n", use.By(), e, use.For())
	}
}
