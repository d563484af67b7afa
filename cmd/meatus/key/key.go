// Package key has the commands for key files, and for the agent that holds keys.
package key

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/engine"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

// Command is "meatus key".
func Command(open live.Opener) *command.Command {
	return &command.Command{
		Use:     "key",
		Summary: "list, create, check, convert and install SSH keys",
		Details: `Passphrases are asked for on the controlling terminal, or read from a file descriptor named
with --passphrase-fd, up to the end of a line; never from an argument.`,
		Examples: []string{"meatus key list", "meatus key show keys/tide.pem"},
		Commands: []*command.Command{show(), list(open), find(open), mend(), makeKey(), convert(), public(), split(),
			move(open, "adopt", "move a key file into keys/ with safe permissions", "meatus key adopt ~/Downloads/tide.pem"),
			move(open, "rename", "rename a key file and update its sessions", "meatus key rename keys/tide.pem tide-old.pem"),
			move(open, "retire", "move a key file aside and list its sessions", "meatus key retire keys/tide-old.pem"),
			decryptPassword(), bind(open), install(open), rotate(open), sweep(open)},
	}
}

// keySheet is a key's sheet as JSON.
type keySheet struct {
	Path        string          `json:"path"`
	Container   string          `json:"container,omitempty"`
	Kind        string          `json:"kind,omitempty"`
	Bits        int             `json:"bits,omitempty"`
	Strength    string          `json:"strength"`
	Mode        string          `json:"mode,omitempty"`
	Owner       string          `json:"owner,omitempty"`
	Passphrase  bool            `json:"passphrase"`
	Derivation  string          `json:"derivation,omitempty"`
	Comment     string          `json:"comment,omitempty"`
	Prints      []keyfile.Print `json:"fingerprints,omitempty"`
	Faults      []string        `json:"faults,omitempty"`
	Repairs     []string        `json:"repairs,omitempty"`
	Certificate string          `json:"certificate,omitempty"`
	States      []string        `json:"states,omitempty"`
	Uses        []string        `json:"sessions,omitempty"`
	Error       string          `json:"error,omitempty"`
}

func sheetOf(file *keyfile.File, err error) keySheet {
	s := keySheet{
		Path: file.Path, Container: string(file.Container), Kind: file.Kind, Bits: file.Bits, Owner: file.Owner, Passphrase: file.Passphrase,
		Derivation: file.Derivation.String(), Comment: file.Comment, Prints: file.Prints(nil), Repairs: file.Repairs,
	}
	judged, _ := file.Strength()
	s.Strength = judged.String()
	if file.Mode != 0 {
		s.Mode = fmt.Sprintf("%04o", file.Mode.Perm())
	}
	for _, f := range file.Faults {
		s.Faults = append(s.Faults, f.Say)
	}
	if cert, err := keyfile.ReadCertificate(file.Path); err == nil && cert != nil {
		s.Certificate = cert.Said()
	}
	if err != nil {
		s.Error = err.Error()
	}
	return s
}

// table is the sheet for a person.
func (s keySheet) table() *command.Table {
	t := &command.Table{}
	line := func(word, value string) {
		if value != "" {
			t.Row(word, value)
		}
	}
	line("file", sanitize.Path(s.Path))
	line("container", s.Container)
	if s.Kind != "" {
		line("kind", fmt.Sprintf("%s, %d bits, %s", s.Kind, s.Bits, s.Strength))
	}
	line("mode", strings.TrimSpace(s.Mode+" "+s.Owner))
	passphrase := "none"
	if s.Passphrase {
		passphrase = s.Derivation
	}
	line("passphrase", passphrase)
	line("comment", s.Comment)
	for _, p := range s.Prints {
		t.Row(p.Name, p.Value)
		t.Row("", "  over "+p.Over)
	}
	line("certificate", s.Certificate)
	for _, f := range append(s.Faults, s.Repairs...) {
		line("note", f)
	}
	line("error", s.Error)
	return t
}

func show() *command.Command {
	c := &command.Command{
		Use:      "show PATH",
		Summary:  "show what a key file tells without its passphrase",
		Examples: []string{"meatus key show keys/tide.pem", "meatus key show keys/tide.pem --json"},
		JSON:     "print an object",
		Complete: command.First(1, command.Keys, nil),
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			file, err := keyfile.Read(args[0])
			s := sheetOf(file, err)
			if err := cmd.AnswerTable(s, s.table()); err != nil {
				return err
			}
			if _, stopped := file.Blocked(); stopped || err != nil {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	}
	return c
}

func list(open live.Opener) *command.Command {
	c := &command.Command{
		Use:      "list",
		Summary:  "list all known keys and their problems",
		Examples: []string{"meatus key list", "meatus key list --json"},
		JSON:     "print an array of sheets",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			all, table := []keySheet{}, &command.Table{}
			for _, k := range w.Keys() {
				file, err := keyfile.Read(k.Path)
				s := sheetOf(file, err)
				s.States, s.Uses = k.States(), k.Uses
				all = append(all, s)
				table.Row(strings.Join(s.States, " "), strings.TrimSpace(fmt.Sprintf("%s %d", s.Kind, s.Bits)), workspace.Short(s.Path), strings.Join(s.Uses, ", "))
			}
			return cmd.AnswerTable(all, table)
		},
	}
	return c
}

func find(open live.Opener) *command.Command {
	var at string
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "find [FINGERPRINT|PUBLICKEY|NAME]",
		Summary:  "find the key file of a fingerprint or machine",
		Examples: []string{"meatus key find SHA256:BZkpR3lwFLwnIcfr9zNnDfwO1uUYgGQmnD1tjVCJqYw", "meatus key find --at gauge-1"},
		Status:   "3 if no key matches",
		JSON:     "print JSON",
		Run: func(cmd *command.Call, args []string) error {
			if (len(args) == 0) == (at == "") {
				return command.Fail(command.WrongUse, errors.New("name what the key is to fit, or with --at a session whose machine is asked"))
			}
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if at != "" {
				return findAt(cmd, open, w, at, identities)
			}
			found := workspace.WhichKey(w.Keys(), strings.Join(args, " "))
			text, keys := "", []map[string]string{}
			for _, f := range found {
				text += fmt.Sprintf("%s  by %s\n", f.Key.Path, f.By)
				keys = append(keys, map[string]string{"path": f.Key.Path, "by": f.By})
			}
			if err := cmd.Answer(map[string]any{"keys": keys}, text); err != nil {
				return err
			}
			if len(found) == 0 {
				return command.Fail(command.Blocked, errors.New("no key here fits; ask the creator of the key pair for the file they downloaded then, it cannot be downloaded again"))
			}
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "ask a session's machine which keys it accepts; nothing is signed")
	c.Value("at", "SESSION", command.Sessions)
	identities = prompt.YesIdentity(c)
	return c
}

// findAt asks a session's machine which keys it would take.
func findAt(cmd *command.Call, open live.Opener, w *workspace.Workspace, session string, identities *prompt.Identities) error {
	r, err := w.Planner().Plan(session)
	if err != nil {
		return err
	}
	e, err := open.Engine(cmd, w, identities, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.AskKeys{Tools: e.Tools(), Route: r}
	if err := e.Do(cmd, job, func(work.Step) {}); err != nil {
		return err
	}
	taken := job.Taken
	found, text, keys := false, "", []map[string]string{}
	for _, t := range taken {
		word := "not asked"
		if t.Takes {
			word, found = "taken", true
		} else if t.Asked {
			word = "refused"
		}
		text += fmt.Sprintf("%-9s  %s  %s\n", word, t.SHA256, t.Name)
		keys = append(keys, map[string]string{"answer": word, "sha256": t.SHA256, "name": t.Name})
	}
	if err := cmd.Answer(map[string]any{"session": session, "login": r.Target().User, "keys": keys}, text); err != nil {
		return err
	}
	if !found {
		return command.Fail(command.Blocked, fmt.Errorf("%s accepts none of the keys for user %s; ask its administrator for the key pair", session, r.Target().User))
	}
	return nil
}

func mend() *command.Command {
	return &command.Command{
		Use:      "mend PATH",
		Summary:  "fix permissions and paste damage of key files",
		Examples: []string{"meatus key mend keys/tide.pem"},
		Complete: command.First(1, command.Keys, nil),
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			if info, err := os.Stat(args[0]); err == nil && info.IsDir() {
				changed, err := keyfile.MendFolder(args[0])
				text := strings.Join(changed, "\n")
				if text != "" {
					text += "\n"
				}
				return errors.Join(cmd.Answer(map[string]any{"mended": changed}, text), err)
			}
			a, err := keyfile.Mend(args[0])
			if err != nil {
				return err
			}
			repairs, err := keyfile.Mended(args[0])
			text := fmt.Sprintf("%s has mode %04o\n", sanitize.Path(args[0]), a.Mode.Perm())
			for _, r := range repairs {
				text += "put right: " + r + "\n"
			}
			return errors.Join(cmd.Answer(map[string]any{"path": args[0], "mode": fmt.Sprintf("%04o", a.Mode.Perm()), "repaired": repairs}, text), err)
		},
	}
}

func makeKey() *command.Command {
	var kind, container, comment string
	var bits, fd int
	var none bool
	c := &command.Command{
		Use:      "make PATH",
		Summary:  "create a key pair",
		Examples: []string{"meatus key make keys/tide-2.pem", "meatus key make keys/tide-2.pem --no-passphrase"},
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			form, err := containerNamed(container)
			if err != nil {
				return err
			}
			var pass []byte
			if !none {
				if pass, err = prompt.Secret(cmd, fd, "Passphrase for "+args[0], true); err != nil {
					return err
				}
				defer clear(pass)
				if weak := keyfile.JudgePassphrase(pass); weak != "" {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: a weak passphrase: "+weak)
				}
				if len(pass) == 0 {
					return command.Fail(command.WrongUse, errors.New("nothing was made: pass --no-passphrase to make a key without one, knowingly"))
				}
			}
			key, err := keyfile.Make(kind, bits)
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			if err := keyfile.Write(args[0], key, keyfile.Wrapping{Container: form, Passphrase: pass, Comment: comment}); err != nil {
				return err
			}
			file, err := keyfile.Read(args[0])
			sheet := sheetOf(file, err)
			return errors.Join(cmd.AnswerTable(sheet, sheet.table()), err)
		},
	}
	c.Flags().StringVar(&kind, "kind", "Ed25519", "Ed25519, ECDSA or RSA")
	c.Flags().IntVar(&bits, "bits", 0, "256, 384 or 521 for ECDSA; 3072 or 4096 for RSA")
	c.Flags().StringVar(&container, "format", "bcrypt", "the file format: bcrypt, pkcs8, pkcs1 or sec1")
	c.Flags().StringVar(&comment, "comment", "", "the comment of the public key")
	c.Flags().BoolVar(&none, "no-passphrase", false, "create a key without a passphrase: anyone with the file can use it")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	c.Value("kind", "KIND", command.Words("Ed25519", "ECDSA", "RSA"))
	c.Value("format", "FORMAT", command.Words("bcrypt", "pkcs8", "pkcs1", "sec1"))
	return c
}

func containerNamed(name string) (keyfile.Container, error) {
	forms := map[string]keyfile.Container{"bcrypt": keyfile.Bcrypt, "pkcs8": keyfile.PKCS8, "pkcs1": keyfile.PKCS1, "sec1": keyfile.SEC1}
	if form, ok := forms[strings.ToLower(strings.ReplaceAll(name, "#", ""))]; ok {
		return form, nil
	}
	return "", command.Fail(command.WrongUse, fmt.Errorf("unknown key format %q; the formats are bcrypt, pkcs8, pkcs1 and sec1", name))
}

func convert() *command.Command {
	var container string
	var fd, newFD int
	var none, keep bool
	c := &command.Command{
		Use:      "convert PATH",
		Summary:  "change the file format or passphrase of a key",
		Examples: []string{"meatus key convert keys/tide.pem --format pkcs8"},
		Complete: command.First(1, command.Keys, nil),
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			form := file.Container
			if container != "" {
				if form, err = containerNamed(container); err != nil {
					return err
				}
			}
			old, err := prompt.Passphrase(cmd, file, fd, args[0])
			if err != nil {
				return err
			}
			defer clear(old)
			var pass []byte
			switch {
			case keep:
				pass = old
			case !none:
				if pass, err = prompt.Secret(cmd, newFD, "New passphrase for "+args[0], true); err != nil {
					return err
				}
				defer clear(pass)
				if len(pass) == 0 {
					return command.Fail(command.WrongUse, errors.New("nothing was changed: give --no-passphrase to remove the passphrase"))
				}
			}
			if err := keyfile.Rewrap(args[0], old, keyfile.Wrapping{Container: form, Passphrase: pass}); err != nil {
				return err
			}
			return cmd.Answer(map[string]any{"path": args[0], "rewrapped": true}, "converted "+args[0]+"\n")
		},
	}
	c.Flags().StringVar(&container, "format", "", "the new file format: bcrypt, pkcs8, pkcs1 or sec1 (default: unchanged)")
	c.Flags().BoolVar(&none, "no-passphrase", false, "remove the passphrase")
	c.Flags().BoolVar(&keep, "keep-passphrase", false, "keep the passphrase")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the current passphrase from this file descriptor")
	c.Flags().IntVar(&newFD, "new-passphrase-fd", -1, "read the new passphrase from this file descriptor")
	c.Value("format", "FORMAT", command.Words("bcrypt", "pkcs8", "pkcs1", "sec1"))
	return c
}

func public() *command.Command {
	var form4716 bool
	var fd int
	c := &command.Command{
		Use:      "public PATH",
		Summary:  "print the public key of a private key file",
		Examples: []string{"meatus key public keys/tide.pem"},
		Complete: command.First(1, command.Keys, nil),
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			public, err := prompt.PublicKey(cmd, file, fd, args[0])
			if err != nil {
				return err
			}
			text := keyfile.PublicLine(public, file.Comment)
			if form4716 {
				text = keyfile.PublicRFC4716(public, file.Comment)
			}
			return cmd.Answer(map[string]any{"public": text, "sha256": keyfile.Fingerprint(public)}, text)
		},
	}
	c.Flags().BoolVar(&form4716, "rfc4716", false, "print the format of RFC 4716 instead of one line")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func split() *command.Command {
	return &command.Command{
		Use:      "split FILE [FOLDER]",
		Summary:  "extract keys from an archive or a file of several",
		Examples: []string{"meatus key split ~/Downloads/keys.zip", "meatus key split both.pem keys"},
		JSON:     "print JSON",
		Args:     cobra.RangeArgs(1, 2),
		Run: func(cmd *command.Call, args []string) error {
			dir := filepath.Dir(args[0])
			if len(args) > 1 {
				dir = args[1]
			}
			written, err := keyfile.SplitFile(args[0], dir)
			text := ""
			for _, path := range written {
				text += path + "\n"
			}
			return errors.Join(cmd.Answer(map[string]any{"written": written}, text), err)
		},
	}
}

// keyMove is one of the commands that give a key another place.
func move(open live.Opener, how, summary, example string) *command.Command {
	use, args := how+" PATH", cobra.ExactArgs(1)
	if how == "rename" {
		use, args = how+" PATH NAME", cobra.ExactArgs(2)
	}
	return &command.Command{
		Use: use, Summary: summary, Examples: []string{example}, JSON: "print JSON", Complete: command.First(1, command.Keys, nil), Args: args,
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			name := ""
			if how == "rename" {
				name = args[1]
			}
			from, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			m, err := w.MoveKey(from, how, name)
			if m.To != "" {
				if aerr := cmd.Answer(map[string]any{"path": m.To, "sessions": m.Sessions}, sanitize.Path(m.To)+"\n"); aerr != nil {
					return aerr
				}
			}
			for _, s := range m.Sessions {
				word := "follows"
				if how == "retire" {
					word = "has it no more"
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "session %s %s\n", s, word)
			}
			return err
		},
	}
}

func decryptPassword() *command.Command {
	var fd int
	c := &command.Command{
		Use:      "decrypt-password PATH",
		Summary:  "decrypt an instance's first password with its private key",
		Examples: []string{"meatus key decrypt-password keys/tide.pem < sealed.txt"},
		Complete: command.First(1, command.Keys, nil),
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			defer file.Forget()
			sealed, err := bounded.Read(os.Stdin, 64<<10)
			if err != nil {
				return command.Fail(command.WrongUse, fmt.Errorf("the encrypted password on standard input cannot be read: %w", err))
			}
			return prompt.Decrypted(cmd, file, fd, args[0], string(sealed))
		},
	}
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func bind(open live.Opener) *command.Command {
	var hosts []string
	var stay string
	var confirm bool
	c := &command.Command{
		Use:      "bind PATH",
		Summary:  "limit a key's hosts, agent time and unconfirmed use",
		Examples: []string{"meatus key bind keys/gauge.pem --host 'gauge-*' --stay 1h"},
		Complete: command.First(1, command.Keys, nil),
		JSON:     "print JSON",
		Details: `The limits are written to the sessions file. A check warns where the key is used for another
host, and the agent does not sign for it. An empty value removes a limit: --host "".`,
		Args: cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			path, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			for _, f := range []struct{ flag, field, value string }{
				{"host", "hosts", strings.Join(hosts, ", ")}, {"stay", "stay", stay}, {"confirm", "confirm", strconv.FormatBool(confirm)},
			} {
				if !cmd.Flags().Changed(f.flag) {
					continue
				}
				if _, err := book.SetKey(w.SessionsPath(), w.Written(path), f.field, f.value); err != nil {
					return command.Fail(command.WrongUse, err)
				}
				if err := cmd.Answer(map[string]any{"key": w.Written(path), f.field: f.value}, fmt.Sprintf("%s: %s = %s\n", w.Written(path), f.field, f.value)); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().StringSliceVar(&hosts, "host", nil, "allow the key for these hosts or sessions only, by pattern (repeatable)")
	c.Flags().StringVar(&stay, "stay", "", "remove the key from the agent after this time, as 1h; end: when the program ends")
	c.Flags().BoolVar(&confirm, "confirm", false, "confirm each use by other programs")
	c.Value("host", "HOSTS", nil)
	return c
}
