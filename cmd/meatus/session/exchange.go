package session

import (
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/book"
	"meatus/core/sanitize"
	"meatus/core/words"
)

func exportAll(open live.Opener) *command.Command {
	var format string
	var effective bool
	c := &command.Command{
		Use:      "export",
		Summary:  "print all sessions as CSV or JSON",
		Examples: []string{"meatus export > sessions.csv", "meatus export --format json --effective"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if n := len(w.Book.Fleets) + len(w.Book.Estates); n > 0 && !effective {
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %s and %s are no sessions, and are not in the list: copy their tables from %s, or list what fleets make with --effective\n",
					words.Count(len(w.Book.Estates), "estate"), words.Count(len(w.Book.Fleets), "fleet"), w.SessionsPath())
			}
			return w.Book.Export(cmd.OutOrStdout(), format, effective)
		},
	}
	c.Flags().StringVar(&format, "format", "csv", "csv or json")
	c.Flags().BoolVar(&effective, "effective", false, "include inherited values")
	c.Value("format", "FORMAT", command.Words("csv", "json"))
	return c
}

func importFile(open live.Opener) *command.Command {
	var format string
	var yes, acting bool
	c := &command.Command{
		Use:      "import FILE",
		Summary:  "import sessions from CSV or JSON, after a preview",
		Examples: []string{"meatus import sessions.csv", "meatus import sessions.json --yes"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if format == "" {
				format = strings.TrimPrefix(strings.ToLower(filepath.Ext(args[0])), ".")
			}
			in, err := cmd.Open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			rows, err := book.ReadRows(in, format)
			if err != nil {
				return command.Fail(command.WrongUse, fmt.Errorf("%s: %w", args[0], err))
			}
			im, err := w.Book.Compare(rows).Try(w.SessionsPath())
			if err != nil {
				return err
			}
			showImport(cmd.OutOrStdout(), im)
			if len(im.Mistakes) > 0 {
				return command.Fail(command.WrongUse, errors.New("nothing was imported; mend that first"))
			}
			if im, err = agreedImport(cmd, im, yes, acting); err != nil || len(im.Add)+len(im.Change) == 0 {
				return err
			}
			_, err = im.Apply(w.SessionsPath())
			if err == nil {
				fmt.Fprintln(cmd.OutOrStdout(), "written to "+w.SessionsPath())
			}
			return err
		},
	}
	c.Flags().StringVar(&format, "format", "", "csv or json (default: by the file's name)")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask, and leave out values that run commands, lend keys or open ports")
	c.Flags().BoolVar(&acting, "acting", false, "with --yes: also import values that run commands, lend keys or open ports")
	c.Value("format", "FORMAT", command.Words("csv", "json"))
	return c
}

// agreedImport is what of an import a person agrees to: first all but what acts, lends or
// listens, then that by itself.
func agreedImport(cmd *command.Call, im book.Import, yes, acting bool) (book.Import, error) {
	if len(im.Add)+len(im.Change) == 0 {
		return im, nil
	}
	tame, acts := im.Tame(), im.Acts()
	if yes {
		if len(acts) > 0 && !acting {
			fmt.Fprintf(cmd.ErrOrStderr(), "left out: %s that act, lend or listen; pass --acting to take them, too\n", words.Count(len(acts), "value"))
			return tame, nil
		}
		return im, nil
	}
	all, err := agreed(cmd, "Do that? Type yes: ")
	if err != nil || !all {
		return book.Import{}, err
	}
	if len(acts) > 0 {
		these, err := agreed(cmd, fmt.Sprintf("Take %s that act, lend or listen, too? Type yes, or n to leave them out: ", words.Count(len(acts), "value")))
		if err != nil {
			return book.Import{}, err
		}
		if !these {
			return tame, nil
		}
	}
	return im, nil
}

// agreed asks for a yes on the controlling terminal.
func agreed(cmd *command.Call, question string) (bool, error) {
	answer, err := prompt.Ask(cmd.Context(), question, "nothing was imported: there is nobody to ask; pass --yes")
	if err == nil && answer != "yes" {
		fmt.Fprintln(cmd.OutOrStdout(), "not imported")
	}
	return answer == "yes", err
}

// shownValue is how much of a value is shown, in characters.
const shownValue = 300

// showImport tells what an import would do: every value, cleaned, and what acts, lends or
// listens once more by itself.
func showImport(out io.Writer, im book.Import) {
	for _, m := range im.Mistakes {
		fmt.Fprintln(out, "mistake  "+m)
	}
	for _, row := range im.Add {
		fmt.Fprintf(out, "add      %s\n", row.Name)
		for _, key := range book.Fields {
			if value := row.Values[key]; value != "" {
				fmt.Fprintf(out, "           %-9s %s\n", key, sanitize.Line(value, shownValue))
			}
		}
	}
	for _, row := range im.Change {
		fmt.Fprintf(out, "change   %s\n", row.Name)
		for _, was := range im.Was[row.Name] {
			fmt.Fprintf(out, "           %s\n", sanitize.Line(was, 2*shownValue))
		}
	}
	if acts := im.Acts(); len(acts) > 0 {
		fmt.Fprintln(out, "These act, lend, listen or lead elsewhere:")
		for _, a := range acts {
			fmt.Fprintf(out, "  !  %s  %s = %s  %s\n", a.Session, a.Key, sanitize.Line(a.Value, shownValue), a.Why)
		}
	}
	fmt.Fprintf(out, "%d to add, %d to change, %d as they are, %d not in the list and left alone\n", len(im.Add), len(im.Change), len(im.Same), len(im.Alone))
}
