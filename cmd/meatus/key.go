package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/engine"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

func keyCommand(open opener) *cobra.Command {
	c := &cobra.Command{
		Use:   "key",
		Short: "keys: show, list, find, mend, make, wrap, public, split, adopt, rename, retire, unseal, bind, install, rotate, sweep",
		Long: `key does everything that is done with key files.

Passphrases are asked on the controlling terminal, or read from a file descriptor
named with --passphrase-fd, up to the end of a line; never from an argument.`,
	}
	c.PersistentFlags().Bool("json", false, "print JSON")
	c.AddCommand(keyShow(), keyList(open), keyFind(open), keyMend(), keyMake(), keyWrap(), keyPublic(), keySplit(),
		keyMove(open, "adopt", "bring a key into keys/, readable by its owner alone, and take it away from where it was"),
		keyMove(open, "rename", "give a key another name; sessions that name it follow"),
		keyMove(open, "retire", "move a key aside; sessions that name it are told"), keyUnseal(), keyBind(open), keyInstall(open), keyRotate(open), keySweep(open))
	return c
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

// answer prints what a command has to say: text, or with --json an object.
func answer(cmd *cobra.Command, v map[string]any, text string) error {
	if f := cmd.Flag("json"); f != nil && f.Value.String() == "true" {
		return printJSON(cmd.OutOrStdout(), v)
	}
	_, err := io.WriteString(cmd.OutOrStdout(), text)
	return err
}

func printJSON(out io.Writer, v any) error {
	encoder := json.NewEncoder(out)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	return encoder.Encode(v)
}

func (s keySheet) print(out io.Writer) {
	line := func(word, value string) {
		if value != "" {
			fmt.Fprintf(out, "%-12s %s\n", word, value)
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
		fmt.Fprintf(out, "%-12s %s\n%-12s   over %s\n", p.Name, p.Value, "", p.Over)
	}
	line("certificate", s.Certificate)
	for _, f := range append(s.Faults, s.Repairs...) {
		line("note", f)
	}
	line("error", s.Error)
}

func keyShow() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "show PATH",
		Short: "everything a key file tells without its passphrase; status 3 where it cannot be used",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := keyfile.Read(args[0])
			s := sheetOf(file, err)
			if asJSON {
				if err := printJSON(cmd.OutOrStdout(), s); err != nil {
					return err
				}
			} else {
				s.print(cmd.OutOrStdout())
			}
			if _, stopped := file.Blocked(); stopped || err != nil {
				return &statusError{status: statusShut}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an object")
	return c
}

func keyList(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "list",
		Short: "every key that is known, and how it stands",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			all := []keySheet{}
			for _, k := range w.Keys() {
				file, err := keyfile.Read(k.Path)
				s := sheetOf(file, err)
				s.States, s.Uses = k.States(), k.Uses
				all = append(all, s)
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), all)
			}
			for _, s := range all {
				fmt.Fprintf(cmd.OutOrStdout(), "%-16s %-14s %s  %s\n", strings.Join(s.States, " "), strings.TrimSpace(fmt.Sprintf("%s %d", s.Kind, s.Bits)), workspace.Short(s.Path), strings.Join(s.Uses, ", "))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of sheets")
	return c
}

func keyFind(open opener) *cobra.Command {
	var at string
	var identities *identities
	c := &cobra.Command{
		Use:   "find [FINGERPRINT|PUBLICKEY|NAME]",
		Short: "the key file that a fingerprint, a public key or a key pair's name belongs to, or that a session's machine would take; status 3 where there is none",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (at == "") {
				return &statusError{statusWrongUse, errors.New("name what the key is to fit, or with --at a session whose machine is asked")}
			}
			w, err := open.workspace()
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
			if err := answer(cmd, map[string]any{"keys": keys}, text); err != nil {
				return err
			}
			if len(found) == 0 {
				return &statusError{statusShut, errors.New("no key here fits; ask whoever made the key pair for the file they downloaded then, it cannot be downloaded again")}
			}
			return nil
		},
	}
	c.Flags().StringVar(&at, "at", "", "ask this session's machine which of the keys it would take; nothing is signed there")
	identities = yesIdentity(c)
	return c
}

// findAt asks a session's machine which keys it would take.
func findAt(cmd *cobra.Command, open opener, w *workspace.Workspace, session string, identities *identities) error {
	r, err := w.Planner().Plan(session)
	if err != nil {
		return err
	}
	e, err := open.engine(cmd, w, identities, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.AskKeys{Tools: e.Tools(), Route: r}
	if err := e.do(cmd, job, func(work.Step) {}); err != nil {
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
	if err := answer(cmd, map[string]any{"session": session, "login": r.Target().User, "keys": keys}, text); err != nil {
		return err
	}
	if !found {
		return &statusError{statusShut, fmt.Errorf("%s takes none of those it was asked about for %s; ask who runs it which key pair it was made with", session, r.Target().User)}
	}
	return nil
}

func keyMend() *cobra.Command {
	return &cobra.Command{
		Use:   "mend PATH",
		Short: "make a key, or every key of a folder, readable by its owner alone, and put right what pasting damaged",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if info, err := os.Stat(args[0]); err == nil && info.IsDir() {
				changed, err := keyfile.MendFolder(args[0])
				text := strings.Join(changed, "\n")
				if text != "" {
					text += "\n"
				}
				return errors.Join(answer(cmd, map[string]any{"mended": changed}, text), err)
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
			return errors.Join(answer(cmd, map[string]any{"path": args[0], "mode": fmt.Sprintf("%04o", a.Mode.Perm()), "repaired": repairs}, text), err)
		},
	}
}

func keyMake() *cobra.Command {
	var kind, container, comment string
	var bits, fd int
	var none bool
	c := &cobra.Command{
		Use:   "make PATH",
		Short: "make a key pair; its public half goes beside it",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			form, err := containerNamed(container)
			if err != nil {
				return err
			}
			var pass []byte
			if !none {
				if pass, err = askSecret(cmd, fd, "Passphrase for "+args[0], true); err != nil {
					return err
				}
				defer clear(pass)
				if weak := keyfile.JudgePassphrase(pass); weak != "" {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: a weak passphrase: "+weak)
				}
				if len(pass) == 0 {
					return &statusError{statusWrongUse, errors.New("nothing was made: pass --no-passphrase to make a key without one, knowingly")}
				}
			}
			key, err := keyfile.Make(kind, bits)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			if err := keyfile.Write(args[0], key, keyfile.Wrapping{Container: form, Passphrase: pass, Comment: comment}); err != nil {
				return err
			}
			file, err := keyfile.Read(args[0])
			if sheet := sheetOf(file, err); cmd.Flag("json").Value.String() == "true" {
				err = errors.Join(printJSON(cmd.OutOrStdout(), sheet), err)
			} else {
				sheet.print(cmd.OutOrStdout())
			}
			return err
		},
	}
	c.Flags().StringVar(&kind, "kind", "Ed25519", "Ed25519, ECDSA or RSA")
	c.Flags().IntVar(&bits, "bits", 0, "256, 384 or 521 for ECDSA; 3072 or 4096 for RSA")
	c.Flags().StringVar(&container, "container", "bcrypt", "bcrypt, pkcs8, pkcs1 or sec1")
	c.Flags().StringVar(&comment, "comment", "", "whose key it is, or what for")
	c.Flags().BoolVar(&none, "no-passphrase", false, "make it without a passphrase: whoever gets the file has the key")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func containerNamed(name string) (keyfile.Container, error) {
	forms := map[string]keyfile.Container{"bcrypt": keyfile.Bcrypt, "pkcs8": keyfile.PKCS8, "pkcs1": keyfile.PKCS1, "sec1": keyfile.SEC1}
	if form, ok := forms[strings.ToLower(strings.ReplaceAll(name, "#", ""))]; ok {
		return form, nil
	}
	return "", &statusError{statusWrongUse, fmt.Errorf("%q is no container that is written here; there are bcrypt, pkcs8, pkcs1 and sec1", name)}
}

func keyWrap() *cobra.Command {
	var container string
	var fd, newFD int
	var none, keep bool
	c := &cobra.Command{
		Use:   "wrap PATH",
		Short: "write a key anew: in another container, with another passphrase or none",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
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
			var old, pass []byte
			if file.Passphrase {
				if old, err = askSecret(cmd, fd, "Passphrase of "+args[0], false); err != nil {
					return err
				}
				defer clear(old)
			}
			switch {
			case keep:
				pass = old
			case !none:
				if pass, err = askSecret(cmd, newFD, "New passphrase for "+args[0], true); err != nil {
					return err
				}
				defer clear(pass)
				if len(pass) == 0 {
					return &statusError{statusWrongUse, errors.New("nothing was changed: pass --no-passphrase to take the passphrase away, knowingly")}
				}
			}
			if err := keyfile.Rewrap(args[0], old, keyfile.Wrapping{Container: form, Passphrase: pass}); err != nil {
				return err
			}
			return answer(cmd, map[string]any{"path": args[0], "rewrapped": true}, args[0]+" is written anew\n")
		},
	}
	c.Flags().StringVar(&container, "container", "", "bcrypt, pkcs8, pkcs1 or sec1 (else as it is)")
	c.Flags().BoolVar(&none, "no-passphrase", false, "without a passphrase")
	c.Flags().BoolVar(&keep, "keep-passphrase", false, "with the passphrase it has")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase it has from this file descriptor")
	c.Flags().IntVar(&newFD, "new-passphrase-fd", -1, "read the new one from this file descriptor")
	return c
}

func keyPublic() *cobra.Command {
	var form4716 bool
	var fd int
	c := &cobra.Command{
		Use:   "public PATH",
		Short: "print the public half of a key",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			public, err := publicOf(cmd, file, fd, args[0])
			if err != nil {
				return err
			}
			text := keyfile.PublicLine(public, file.Comment)
			if form4716 {
				text = keyfile.PublicRFC4716(public, file.Comment)
			}
			return answer(cmd, map[string]any{"public": text, "sha256": keyfile.Fingerprint(public)}, text)
		},
	}
	c.Flags().BoolVar(&form4716, "rfc4716", false, "in the form of RFC 4716 rather than in one line")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

func keySplit() *cobra.Command {
	return &cobra.Command{
		Use:   "split FILE [FOLDER]",
		Short: "write each key of an archive (zip, tar, tar.gz) or of a file that holds several to a file of its own",
		Args:  cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := filepath.Dir(args[0])
			if len(args) > 1 {
				dir = args[1]
			}
			written, err := keyfile.SplitFile(args[0], dir)
			text := ""
			for _, path := range written {
				text += path + "\n"
			}
			return errors.Join(answer(cmd, map[string]any{"written": written}, text), err)
		},
	}
}

// keyMove is one of the commands that give a key another place.
func keyMove(open opener, how, short string) *cobra.Command {
	use, args := how+" PATH", cobra.ExactArgs(1)
	if how == "rename" {
		use, args = how+" PATH NAME", cobra.ExactArgs(2)
	}
	return &cobra.Command{
		Use: use, Short: short, Args: args,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
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
				if aerr := answer(cmd, map[string]any{"path": m.To, "sessions": m.Sessions}, sanitize.Path(m.To)+"\n"); aerr != nil {
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

func keyUnseal() *cobra.Command {
	var fd int
	c := &cobra.Command{
		Use:   "unseal PATH",
		Short: "open a first password that was encrypted to a key pair; its base64 text comes by standard input",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			sealed, err := bounded.Read(os.Stdin, 64<<10)
			if err != nil {
				return &statusError{statusWrongUse, fmt.Errorf("the encrypted password on standard input cannot be read: %w", err)}
			}
			var pass []byte
			if file.Passphrase {
				if pass, err = askSecret(cmd, fd, "Passphrase of "+args[0], false); err != nil {
					return err
				}
				defer clear(pass)
			}
			open, err := file.Unseal(string(sealed), pass)
			if err != nil {
				return err
			}
			defer clear(open)
			if cmd.Flag("json").Value.String() == "true" {
				return printJSON(cmd.OutOrStdout(), map[string]string{"password": string(open)})
			}
			_, err = cmd.OutOrStdout().Write(append(open, '\n'))
			return err
		},
	}
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}

// secretText reads a secret of several lines from a file descriptor to its end, with CRLF as LF.
func secretText(fd int) ([]byte, error) {
	f := os.NewFile(uintptr(fd), "passphrase")
	if f == nil {
		return nil, &statusError{statusWrongUse, fmt.Errorf("there is no file descriptor %d", fd)}
	}
	defer f.Close()
	text := make([]byte, maxSecret) // a single buffer, which the caller clears
	n, err := io.ReadFull(f, text)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	kept := text[:0]
	for i := range n {
		if text[i] == '\r' && i+1 < n && text[i+1] == '\n' {
			continue
		}
		kept = append(kept, text[i])
	}
	clear(text[len(kept):])
	return kept, err
}

// maxSecret is the longest secret, in bytes.
const maxSecret = 4096

func keyBind(open opener) *cobra.Command {
	var hosts []string
	var stay string
	var confirm bool
	c := &cobra.Command{
		Use:   "bind PATH",
		Short: "say which hosts a key is meant for, how long it stays in the ring, and whether a person is asked before others use it",
		Long: `bind says of a key what it is meant for, in the sessions file. Used at another host
the key gate says so, and the ring does not sign for it. An empty value takes the
saying back: --host "".`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
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
					return &statusError{statusWrongUse, err}
				}
				if err := answer(cmd, map[string]any{"key": w.Written(path), f.field: f.value}, fmt.Sprintf("%s: %s = %s\n", w.Written(path), f.field, f.value)); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().StringSliceVar(&hosts, "host", nil, "hosts or sessions it is meant for, by pattern (repeatable)")
	c.Flags().StringVar(&stay, "stay", "", "how long it stays in the ring, as 1h, or end")
	c.Flags().BoolVar(&confirm, "confirm", false, "ask before others use it")
	return c
}

// secret reads a passphrase from a file descriptor, else from the controlling
// terminal, there twice where it is a new one.
func askSecret(cmd *cobra.Command, fd int, prompt string, twice bool) ([]byte, error) {
	if fd >= 0 {
		text, err := secretText(fd)
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		clear(rest)
		return line, err
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return nil, &statusError{statusWrongUse, errors.New("a passphrase is needed and there is nobody to ask; pass --passphrase-fd")}
	}
	defer tty.Close()
	first, err := askBytes(cmd.Context(), tty, prompt+": ", false)
	if err != nil || !twice {
		return first, err
	}
	again, err := askBytes(cmd.Context(), tty, "The same again: ", false)
	defer clear(again)
	if err == nil && !bytes.Equal(again, first) {
		err = &statusError{statusWrongUse, errors.New("the two are not the same; nothing was done")}
	}
	return first, err
}

// publicOf is the public half of a key file. Where its container does not show that, the passphrase is asked for.
func publicOf(cmd *cobra.Command, file *keyfile.File, fd int, name string) (ssh.PublicKey, error) {
	if file.Public != nil {
		return file.Public, nil
	}
	pass, err := askSecret(cmd, fd, "Passphrase of "+sanitize.Path(name), false)
	if err != nil {
		return nil, err
	}
	defer clear(pass)
	signer, err := file.Signer(pass)
	if err != nil {
		return nil, err
	}
	return signer.PublicKey(), nil
}
