// Package host has the commands for host keys.
package host

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/bounded"
	"meatus/core/sanitize"
	"meatus/core/vouch"
)

// Command is "meatus hosts".
func Command(open live.Opener) *command.Command {
	var asSSHFP bool
	c := &command.Command{
		Use:      "hosts",
		Summary:  "list trusted host keys and their history",
		Examples: []string{"meatus hosts", "meatus hosts --sshfp"},
		JSON:     "print an array of keys",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			hosts, err := w.Vouched.Hosts()
			if err != nil {
				return err
			}
			all := []vouch.Vouch{}
			for _, h := range hosts {
				all = append(all, h.Keys...)
			}
			return printHosts(cmd.OutOrStdout(), all, cmd.JSON, asSSHFP)
		},
	}
	c.Flags().BoolVar(&asSSHFP, "sshfp", false, "print SSHFP resource records (RFC 4255) of hosts with a name")
	c.Commands = []*command.Command{expect(open), trust(open)}
	return c
}

func printHosts(out io.Writer, all []vouch.Vouch, asJSON, asSSHFP bool) error {
	switch {
	case asSSHFP:
		_, err := io.WriteString(out, vouch.SSHFP(all))
		return err
	case asJSON:
		type key struct {
			Host      string    `json:"host"`
			Port      int       `json:"port"`
			Way       string    `json:"way,omitempty"`
			Algorithm string    `json:"algorithm"`
			SHA256    string    `json:"sha256"`
			When      time.Time `json:"when,omitzero"`
			By        string    `json:"by,omitempty"` // nobody where the host announced it
			How       string    `json:"how,omitempty"`
			Address   string    `json:"address"`
			Until     string    `json:"until,omitempty"`
			Ended     string    `json:"ended,omitempty"`
		}
		list := []key{}
		for _, v := range all {
			k := key{v.Host, v.Port, v.Way, v.Algorithm, v.SHA256, v.When, v.By, v.How, v.Address, "", v.Ended}
			if v.How == vouch.Announced {
				k.By = ""
			}
			if !v.Current() {
				end, why := v.End()
				k.Until, k.Ended = end.Format(time.RFC3339), why
			}
			list = append(list, k)
		}
		return command.JSON(out, list)
	}
	table := &command.Table{}
	for _, v := range all {
		until := ""
		if !v.Current() {
			end, why := v.End()
			until = "until " + end.Format(time.DateOnly) + ": " + sanitize.Line(why, 80)
		}
		table.Row(sanitize.Line(v.At().String(), 300), v.Algorithm, v.SHA256, v.When.Format(time.DateOnly)+" "+v.Source(), until)
	}
	_, err := io.WriteString(out, table.String())
	return err
}

func expect(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "import FILE",
		Summary:  "import expected host key fingerprints from a file",
		Examples: []string{"meatus hosts import fingerprints.txt"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			in, err := cmd.Open(args[0])
			if err != nil {
				return err
			}
			defer in.Close()
			text, err := bounded.Read(in, 8<<20)
			if err != nil {
				return command.Fail(command.WrongUse, fmt.Errorf("the list of fingerprints cannot be read: %w", err))
			}
			list, unread := vouch.ReadExpected(string(text), "", 0)
			for _, u := range unread {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+u)
			}
			if len(list) == 0 {
				return command.Fail(command.WrongUse, errors.New("no fingerprint was found"))
			}
			n, err := w.Vouched.Expect(list, time.Now())
			if err == nil {
				fmt.Fprintf(cmd.OutOrStdout(), "%d read, %d of them new; first connections are compared with them\n", len(list), n)
			}
			return err
		},
	}
}

func trust(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "trust-ca PATTERN FILE",
		Summary:  "trust a certificate authority (CA) for host certificates",
		Examples: []string{"meatus hosts trust-ca '*.reef.example' hosts-signer.pub"},
		Args:     cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			line, err := os.ReadFile(args[1])
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			s, err := w.Vouched.Trust(args[0], string(line), time.Now())
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is trusted to sign for hosts like %s\n", s.SHA256, s.Pattern)
			return nil
		},
	}
}
