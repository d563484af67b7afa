package estate

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/estate"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/workspace"
)

func pairs(open live.Opener) *command.Command {
	var f estateFlags
	c := f.of(&command.Command{
		Use:      "pairs [NAME]",
		Summary:  "list key pairs, their key files here and their instances",
		Examples: []string{"meatus estate pairs", "meatus estate pairs sounding"},
		Args:     cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
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
			table := &command.Table{}
			for _, u := range uses {
				file := u.File
				if file == "" {
					file = "no file here"
				}
				table.Row(u.Name, file, u.Fingerprint, strings.Join(u.Instances, ", "), u.Source)
			}
			return cmd.AnswerTable(append([]estate.Use{}, uses...), table)
		},
	})
	c.Commands = []*command.Command{sendPair(open)}
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

func sendPair(open live.Opener) *command.Command {
	var source, name string
	var fd int
	c := &command.Command{
		Use:      "upload FILE",
		Summary:  "upload a public key to a cloud as key pair",
		Examples: []string{"meatus estate pairs upload keys/gauge.pem --name gauges"},
		Complete: command.First(1, command.Keys, nil),
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
			public, err := prompt.PublicKey(cmd, file, fd, args[0])
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
	c.Flags().StringVar(&source, "source", "", "the estate, if there are several")
	c.Flags().StringVar(&name, "name", "", "what it is called there (else as the file)")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	c.Value("source", "NAME", nil)
	return c
}

func password(open live.Opener) *command.Command {
	var fd int
	c := &command.Command{
		Use:      "password NAME",
		Summary:  "fetch an instance's first password and decrypt it",
		Examples: []string{"meatus estate password survey-web"},
		JSON:     "print JSON",
		Complete: command.Instances,
		Args:     cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
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
			return prompt.Decrypted(cmd, file, fd, path, sealed)
		},
	}
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func unusedInstances(open live.Opener) *command.Command {
	var f estateFlags
	var days int
	c := f.of(&command.Command{
		Use:      "unused",
		Summary:  "list running instances that nobody here used for days",
		Examples: []string{"meatus estate unused --days 30"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			if days < 0 {
				return command.Fail(command.WrongUse, errors.New("--days: a number of days from 0 on"))
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
			out := &command.Table{}
			for _, i := range list {
				out.Row(i.Name, usedWords(i), i.Session, i.Source)
			}
			return cmd.AnswerTable(append([]estate.Idle{}, list...), out)
		},
	})
	c.Flags().IntVar(&days, "days", 7, "not used for this many days")
	return c
}

// usedWords say when an instance was used last.
func usedWords(i estate.Idle) string {
	if i.Used.IsZero() {
		return "never used from here"
	}
	return "used " + i.Used.Local().Format("2 Jan 2006")
}

func sources(open live.Opener) *command.Command {
	var f estateFlags
	return f.of(&command.Command{
		Use:      "sources",
		Summary:  "list the clouds and files that instances are read from",
		Examples: []string{"meatus estate sources --json"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
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
			t := &command.Table{}
			for n, s := range list {
				how := "every " + s.Every
				if s.Every == "0s" {
					how = "when somebody asks"
				}
				t.Row(s.Name, s.Kind, how, age(all[n]), fmt.Sprintf("%d of at most %d requests", s.Requests, s.Most), fmt.Sprintf("%d instances", s.Instances), s.Failed)
			}
			return cmd.AnswerTable(list, t)
		},
	})
}
