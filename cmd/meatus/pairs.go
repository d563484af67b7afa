package main

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/estate"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/workspace"
)

func estatePairs(open opener) *cobra.Command {
	var f estateFlags
	c := f.of(&cobra.Command{
		Use:   "pairs [NAME]",
		Short: "key pairs: which have a file here, which instances are made with; with NAME what to ask around for it",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			all, w, err := readAnew(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			uses := estate.Uses(all, w.KeyOf)
			if len(args) == 1 {
				for _, u := range uses {
					if u.Name == args[0] {
						_, err := fmt.Fprintln(cmd.OutOrStdout(), u.Ask(usersOf(w, u)))
						return err
					}
				}
				return fmt.Errorf("there is no key pair %s", sanitize.Line(args[0], 60))
			}
			if f.asJSON {
				return printJSON(cmd.OutOrStdout(), append([]estate.Use{}, uses...))
			}
			t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, u := range uses {
				file := u.File
				if file == "" {
					file = "no file here"
				}
				fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\n", u.Name, file, u.Fingerprint, strings.Join(u.Instances, ", "), u.Source)
			}
			return t.Flush()
		},
	})
	c.AddCommand(sendPair(open))
	return c
}

// usersOf are who used a key pair by the trail, nobody where that cannot be read.
func usersOf(w *workspace.Workspace, u estate.Use) []string {
	t, err := trail.Open(w.Dir)
	if err != nil {
		return nil
	}
	defer t.Close()
	if u.Fingerprint == "" {
		return nil
	}
	return t.UsersOf(u.Fingerprint)
}

func sendPair(open opener) *cobra.Command {
	var source, name string
	var fd int
	c := &cobra.Command{
		Use:   "send FILE",
		Short: "make a key pair at an estate of a key file here: its public half is sent, nothing else",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			at, _, err := actingSource(w, source)
			if err != nil {
				return err
			}
			path := w.Planner().KeyPath(args[0])
			file, err := keyfile.Read(path)
			if err != nil {
				return err
			}
			defer file.Forget()
			public, err := publicOf(cmd, file, fd, args[0])
			if err != nil {
				return err
			}
			if name == "" {
				name = workspace.PairName(path)
			}
			if err := (&estate.Source{Dir: w.Dir, EstateSource: at}).SendKeyPair(cmd.Context(), name, keyfile.PublicLine(public, "")); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "key pair %s is at estate %s\n", name, at.Name)
			return err
		},
	}
	c.Flags().StringVar(&source, "source", "", "the estate, where there are several")
	c.Flags().StringVar(&name, "name", "", "what it is called there (else as the file)")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func estatePassword(open opener) *cobra.Command {
	var fd int
	var asJSON bool
	c := &cobra.Command{
		Use:   "password NAME",
		Short: "the first password of an instance that has one: fetched sealed, opened by its key pair's file here",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			_, w, err := readAnew(cmd, open, "", false)
			if err != nil {
				return err
			}
			m, why := estate.NewIndex(w.Estates).One(strings.Join(args, " "))
			if why != "" {
				return errors.New(why)
			}
			pair := m.Kept.Snapshot.KeyPairOf(m.Instance)
			path := w.KeyOf(pair)
			if path == "" {
				return fmt.Errorf("no file of its key pair %s is here, which alone opens it", sanitize.Line(pair.Name, 60))
			}
			at, _, err := actingSource(w, m.Kept.Source)
			if err != nil {
				return err
			}
			sealed, err := (&estate.Source{Dir: w.Dir, EstateSource: at}).SealedPassword(cmd.Context(), m.Instance.ID)
			if err != nil {
				return err
			}
			file, err := keyfile.Read(w.Planner().KeyPath(path))
			if err != nil {
				return err
			}
			defer file.Forget()
			var pass []byte
			if file.Passphrase {
				if pass, err = askSecret(cmd, fd, "Passphrase of "+sanitize.Path(path), false); err != nil {
					return err
				}
				defer clear(pass)
			}
			open, err := file.Unseal(sealed, pass)
			if err != nil {
				return err
			}
			defer clear(open)
			if asJSON {
				return printJSON(cmd.OutOrStdout(), map[string]string{"password": string(open)})
			}
			_, err = cmd.OutOrStdout().Write(append(open, '\n'))
			return err
		},
	}
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func estateUnused(open opener) *cobra.Command {
	var f estateFlags
	var days int
	c := f.of(&cobra.Command{
		Use:   "unused",
		Short: "what runs and was not used from here for days, the longest first",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if days < 0 {
				return &statusError{statusWrongUse, errors.New("--days: a number of days from 0 on")}
			}
			all, w, err := readAnew(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			t, err := trail.Open(w.Dir)
			if err != nil {
				return err
			}
			defer t.Close()
			list := estate.Idles(all, w.Book, t.Visits(), nil, time.Now().AddDate(0, 0, -days))
			if f.asJSON {
				return printJSON(cmd.OutOrStdout(), append([]estate.Idle{}, list...))
			}
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, i := range list {
				fmt.Fprintf(out, "%s\t%s\t%s\t%s\n", i.Name, usedWords(i), i.Session, i.Source)
			}
			return out.Flush()
		},
	})
	c.Flags().IntVar(&days, "days", 7, "for how many days")
	return c
}

// usedWords say when an instance was used last.
func usedWords(i estate.Idle) string {
	if i.Used.IsZero() {
		return "never used from here"
	}
	return "used " + i.Used.Local().Format("2 Jan 2006")
}

func estateSources(open opener) *cobra.Command {
	var f estateFlags
	return f.of(&cobra.Command{
		Use:   "sources",
		Short: "where instances are known from: how each is read, how often, when last and with how many requests",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			all, w, err := readAnew(cmd, open, f.source, f.kept)
			if err != nil {
				return err
			}
			type source struct {
				Name      string    `json:"name"`
				Kind      string    `json:"kind"`
				Every     string    `json:"every"`
				Read      time.Time `json:"read,omitzero"`
				Requests  int       `json:"requests"`
				Most      int       `json:"most_requests"`
				Instances int       `json:"instances"`
				Failed    string    `json:"failed"`
			}
			list := []source{}
			for _, k := range all {
				one := source{Name: k.Source, Read: k.Read, Requests: k.Requests, Most: estate.MostRequests, Instances: len(k.Snapshot.Instances), Failed: k.Failed}
				for _, e := range w.Book.Estates {
					if e.Name == k.Source {
						one.Kind, one.Every = e.Kind.V, e.Every.V.String()
					}
				}
				list = append(list, one)
			}
			if f.asJSON {
				return printJSON(cmd.OutOrStdout(), list)
			}
			t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for n, s := range list {
				how := "every " + s.Every
				if s.Every == "0s" {
					how = "when somebody asks"
				}
				fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%d of at most %d requests\t%d instances\t%s\n", s.Name, s.Kind, how, age(all[n]), s.Requests, s.Most, s.Instances, s.Failed)
			}
			return t.Flush()
		},
	})
}

// sure asks whether something is to be done, unless that is said already.
func sure(cmd *cobra.Command, what string, yes bool) error {
	if yes {
		return nil
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return &statusError{statusWrongUse, fmt.Errorf("there is nobody to ask whether to %s; pass --yes", what)}
	}
	defer tty.Close()
	answer, err := ask(cmd.Context(), tty, what+"? Type yes: ", true)
	if err != nil {
		return err
	}
	if answer != "yes" {
		return errors.New("nothing was done")
	}
	return nil
}
