package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/book"
)

func exportCommand(open opener) *cobra.Command {
	var format string
	var effective bool
	c := &cobra.Command{
		Use:   "export",
		Short: "print all sessions as a list",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			return w.Book.Export(cmd.OutOrStdout(), format, effective)
		},
	}
	c.Flags().StringVar(&format, "format", "csv", "csv or json")
	c.Flags().BoolVar(&effective, "effective", false, "with the values that sessions inherit")
	return c
}

func importCommand(open opener) *cobra.Command {
	var format string
	var yes bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "take sessions from a list, after showing what that would do",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if format == "" {
				format = strings.TrimPrefix(strings.ToLower(filepath.Ext(args[0])), ".")
			}
			in := io.Reader(os.Stdin)
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return &statusError{statusWrongUse, err}
				}
				defer f.Close()
				in = f
			}
			rows, err := book.ReadRows(in, format)
			if err != nil {
				return &statusError{statusWrongUse, fmt.Errorf("%s: %w", args[0], err)}
			}
			im := w.Book.Compare(rows)
			showImport(cmd.OutOrStdout(), im)
			switch {
			case len(im.Mistakes) > 0:
				return &statusError{statusWrongUse, errors.New("nothing was imported; mend these rows first")}
			case len(im.Add)+len(im.Change) == 0:
				return nil
			case !yes:
				if yes, err = agreed(cmd); err != nil || !yes {
					return err
				}
			}
			_, err = im.Apply(w.SessionsPath())
			if err == nil {
				fmt.Fprintln(cmd.OutOrStdout(), "written to "+w.SessionsPath())
			}
			return err
		},
	}
	c.Flags().StringVar(&format, "format", "", "csv or json (else by the file's name)")
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return c
}

// agreed asks whether to go on, on the controlling terminal.
func agreed(cmd *cobra.Command) (bool, error) {
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return false, &statusError{statusWrongUse, errors.New("nothing was imported: there is nobody to ask; pass --yes")}
	}
	defer tty.Close()
	answer, err := ask(cmd.Context(), tty, "Do that? Type yes: ", true)
	if err == nil && answer != "yes" {
		fmt.Fprintln(cmd.OutOrStdout(), "nothing was imported")
	}
	return answer == "yes", err
}

// showImport tells what an import would do.
func showImport(out io.Writer, im book.Import) {
	for _, m := range im.Mistakes {
		fmt.Fprintln(out, "mistake  "+m)
	}
	for _, row := range im.Add {
		fmt.Fprintf(out, "add      %s  %s\n", row.Name, row.Values["host"])
	}
	for _, row := range im.Change {
		fmt.Fprintf(out, "change   %s  %s\n", row.Name, strings.Join(im.Was[row.Name], "; "))
	}
	fmt.Fprintf(out, "%d to add, %d to change, %d as they are, %d not in the list and left alone\n", len(im.Add), len(im.Change), len(im.Same), len(im.Alone))
}
