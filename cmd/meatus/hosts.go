package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/bounded"
	"meatus/core/sanitize"
	"meatus/core/vouch"
)

func hostsCommand(open opener) *cobra.Command {
	var asJSON, asSSHFP bool
	c := &cobra.Command{
		Use:   "hosts",
		Short: "list the vouched host keys, their history among them",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open.workspace()
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
			return printHosts(cmd.OutOrStdout(), all, asJSON, asSSHFP)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of keys")
	c.Flags().BoolVar(&asSSHFP, "sshfp", false, "print SSHFP resource records (RFC 4255) of the hosts that have a name")
	c.AddCommand(expectCommand(open), trustCommand(open))
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
		encoder := json.NewEncoder(out)
		encoder.SetIndent("", "  ")
		return encoder.Encode(list)
	}
	for _, v := range all {
		until := ""
		if !v.Current() {
			end, why := v.End()
			until = "  until " + end.Format(time.DateOnly) + ": " + sanitize.Line(why, 80)
		}
		if _, err := fmt.Fprintf(out, "%s  %s  %s  %s %s%s\n", sanitize.Line(v.At().String(), 300), v.Algorithm, v.SHA256, v.When.Format(time.DateOnly), v.Source(), until); err != nil {
			return err
		}
	}
	return nil
}

func expectCommand(open opener) *cobra.Command {
	return &cobra.Command{
		Use:   "expect FILE",
		Short: "remember expected fingerprints, from SSHFP records or lines with a host and a fingerprint; - reads standard input",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
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
			text, err := bounded.Read(in, 8<<20)
			if err != nil {
				return &statusError{statusWrongUse, fmt.Errorf("the list of fingerprints cannot be read: %w", err)}
			}
			list, unread := vouch.ReadExpected(string(text), "", 0)
			for _, u := range unread {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+u)
			}
			if len(list) == 0 {
				return &statusError{statusWrongUse, errors.New("no fingerprint was found")}
			}
			n, err := w.Vouched.Expect(list, time.Now())
			if err == nil {
				fmt.Fprintf(cmd.OutOrStdout(), "%d read, %d of them new; a first visit compares them\n", len(list), n)
			}
			return err
		},
	}
}

func trustCommand(open opener) *cobra.Command {
	return &cobra.Command{
		Use:   "trust PATTERN FILE",
		Short: "trust the public key in FILE to sign the certificates of hosts like PATTERN",
		Args:  cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			line, err := os.ReadFile(args[1])
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			s, err := w.Vouched.Trust(args[0], string(line), time.Now())
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is trusted to sign for hosts like %s\n", s.SHA256, s.Pattern)
			return nil
		},
	}
}
