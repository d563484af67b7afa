package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/engine"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
)

func edit(open live.Opener) *command.Command {
	var super bool
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "edit SESSION:PATH...",
		Summary:  "edit remote files with a local editor",
		Examples: []string{"meatus edit tide-db:/srv/tide/README", "meatus edit quay:/etc/bay/landings.table --sudo"},
		Complete: command.Places,
		Files:    true,
		Details: `Copy each file to a private temporary file and open it in the editor of VISUAL or EDITOR. Each
save is uploaded at once, with the mode and owner of the original, and replaces it by one
rename. If someone else changed the original meanwhile, nothing is uploaded: the differing
lines are shown, and you choose. While the connection is down, saves wait. The temporary file
is deleted at the end, unless a save could not be uploaded.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			var at []cargo.Place
			for _, a := range args {
				p, err := cargo.ParsePlace(a, func(name string) bool { return w.Book.Session(name) != nil })
				if err != nil {
					return command.Fail(command.WrongUse, err)
				}
				p.Super = super
				at = append(at, p)
			}
			e, err := open.Engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			return editAll(cmd, e, at)
		},
	}
	c.Flags().BoolVar(&super, "sudo", false, "read and write as root on the machine, by sudo without a password")
	identities = prompt.YesIdentity(c)
	return c
}

// editAll edits files until the editor ends, and settles what their saves met.
func editAll(cmd *command.Call, e *live.Engine, at []cargo.Place) (err error) {
	ctx := cmd.Context()
	errs := cmd.ErrOrStderr()
	var all []*work.Editing
	defer func() {
		for _, one := range all {
			kept, cerr := one.Close()
			if kept != "" {
				fmt.Fprintln(errs, "meatus: what was not sent is kept in "+kept)
			}
			err = errors.Join(err, cerr)
		}
	}()
	var copies []string
	for _, p := range at {
		one, err := e.Tools().Edit(ctx, p, nil)
		if err != nil {
			return err
		}
		for _, left := range one.Left {
			fmt.Fprintln(errs, "meatus: "+left.Say())
		}
		all, copies = append(all, one), append(copies, one.Copy())
	}
	editor, err := work.Editor(copies...)
	if err != nil {
		return command.Fail(command.WrongUse, err)
	}
	follow, quit := context.WithCancel(ctx)
	defer quit()
	for _, one := range all {
		go one.Follow(follow)
	}
	if err := runEditor(editor); err != nil {
		fmt.Fprintln(errs, "meatus: the editor ended with "+err.Error())
	}
	quit()
	for _, one := range all {
		err = errors.Join(err, settleEdit(cmd, one))
	}
	return err
}

// runEditor runs the editor on the terminal.
func runEditor(c *exec.Cmd) error {
	c.Stdin, c.Stdout, c.Stderr = os.Stdin, os.Stdout, os.Stderr
	return c.Run()
}

// settleEdit sends the last save, and asks where another has changed the file.
func settleEdit(cmd *command.Call, e *work.Editing) error {
	ctx, errs := cmd.Context(), cmd.ErrOrStderr()
	err := e.Save(ctx)
	var met *cargo.Conflict
	for errors.As(err, &met) {
		fmt.Fprintln(errs, "meatus: "+sanitize.Line(met.Error(), 300))
		printDiff(errs, met)
		var answer string
		if answer, err = askEdit(ctx); err != nil {
			return fmt.Errorf("%w, and nobody to ask what to do about it", met)
		}
		switch answer {
		case "mine":
			err = e.Overwrite(ctx)
		case "theirs":
			kept, kerr := e.KeepHere()
			fmt.Fprintln(errs, "meatus: yours is kept in "+kept)
			return kerr
		default:
			err = met
		}
	}
	if err == nil && e.Sends() > 0 {
		fmt.Fprintf(errs, "%s: %s went back\n", cargo.Say(e.Place.String()), words.Count(e.Sends(), "save"))
	}
	return err
}

// askEdit asks whose text stays.
func askEdit(ctx context.Context) (string, error) {
	answer, err := prompt.Ask(ctx, "Type mine to replace theirs, which is kept aside, or theirs to leave it, and keep yours here: ", "there is nobody to ask")
	return strings.TrimSpace(answer), err
}

func printDiff(out io.Writer, c *cargo.Conflict) {
	for _, d := range cargo.Lines(c.Theirs, c.Mine) {
		mark := map[rune]string{'-': "theirs  ", '+': "yours   ", ' ': "        ", '…': "  …"}[d.Mark]
		fmt.Fprintln(out, mark+sanitize.Code(d.Text, 300))
	}
}

// watch has a tree follow a folder here until the command is ended.
func (m *mover) watch(cmd *command.Call, from, to cargo.Place) (int, error) {
	ctx := cmd.Context()
	trees, err := m.Tools().Between(ctx, from, to)
	if err != nil {
		return 0, err
	}
	defer trees.Close()
	here, ok := trees.From.(*ends.Here)
	if !ok || trees.Source != "" {
		return 0, command.Fail(command.WrongUse, errors.New("what is watched is a folder here"))
	}
	unlock, free, err := cargo.Lock(cargo.Dir(m.ws.Dir), cargo.Place{Session: to.Session, Path: trees.To.Root()})
	if err != nil || !free {
		return 0, errors.Join(err, fmt.Errorf("%s: %w", to, work.ErrBusy))
	}
	defer unlock()
	m.options.Tell = func(e cargo.Event) {
		if e.Err != nil || e.Say != "" {
			m.step(work.EventStep(e))
		}
	}
	mirror := cargo.Mirror{From: here, To: trees.To, Rules: m.f.rules, Options: m.options, Failed: func(err error) {
		fmt.Fprintln(m.errs, "meatus: "+err.Error())
	}}
	names := 0
	mirror.Each = func(p *cargo.Plan, r cargo.Report) {
		names += r.Done.Names
		switch {
		case m.f.asJSON:
			m.line(map[string]any{"event": "sent", "done": r.Done, "failed": r.Failed, "left": p.Sum().Problems})
		case !m.f.quiet:
			for path, items := range p.Folders() {
				for i := range items {
					fmt.Fprintln(m.out, items[i].Line(path))
				}
			}
		}
	}
	if m.terminal() {
		fmt.Fprintf(m.errs, "%s follows %s; ctrl+c ends it\n", to, from)
	}
	err = mirror.Run(ctx)
	if err == nil || ctx.Err() != nil {
		return names + 1, nil // ended as it is meant to be
	}
	return names, err
}
