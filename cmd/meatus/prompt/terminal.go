package prompt

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"meatus/cmd/meatus/command"
	"meatus/core/keyfile"
	"meatus/core/sanitize"
)

// Open opens the controlling terminal. Nobody is the error where there is none.
func Open(nobody string) (*os.File, error) {
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil {
		return nil, command.Fail(command.WrongUse, errors.New(nobody))
	}
	return tty, nil
}

// Ask asks for one line on the controlling terminal. Nobody is the error where there is none.
func Ask(ctx context.Context, question, nobody string) (string, error) {
	tty, err := Open(nobody)
	if err != nil {
		return "", err
	}
	defer tty.Close()
	return Line(ctx, tty, question, true)
}

// Sure asks whether something is to be done, unless yes says so already. It fails where the answer is no.
func Sure(cmd *command.Call, what string, yes bool) error {
	if yes {
		return nil
	}
	answer, err := Ask(cmd.Context(), what+"? Type yes: ", "there is nobody to ask whether to "+what+"; pass --yes")
	if err == nil && answer != "yes" {
		err = errors.New("nothing was done")
	}
	return err
}

// Secret reads a passphrase from a file descriptor, or, where that is negative, from the controlling terminal: twice where
// it is a new one.
func Secret(cmd *command.Call, fd int, question string, twice bool) ([]byte, error) {
	if fd >= 0 {
		text, err := FromFD(fd)
		line, rest, _ := bytes.Cut(text, []byte("\n"))
		clear(rest)
		return line, err
	}
	tty, err := Open("a passphrase is needed and there is nobody to ask; pass --passphrase-fd")
	if err != nil {
		return nil, err
	}
	defer tty.Close()
	first, err := Bytes(cmd.Context(), tty, question+": ", false)
	if err != nil || !twice {
		return first, err
	}
	again, err := Bytes(cmd.Context(), tty, "The same again: ", false)
	defer clear(again)
	if err == nil && !bytes.Equal(again, first) {
		err = command.Fail(command.WrongUse, errors.New("the two are not the same; nothing was done"))
	}
	return first, err
}

// Line puts a question and reads one line, shown or not.
func Line(ctx context.Context, tty *os.File, prompt string, echo bool) (string, error) {
	typed, err := Bytes(ctx, tty, prompt, echo)
	return string(typed), err
}

// Bytes is [Line] for what is to be wiped.
func Bytes(ctx context.Context, tty *os.File, prompt string, echo bool) ([]byte, error) {
	fmt.Fprint(tty, prompt)
	type line struct {
		text []byte
		err  error
	}
	before, _ := term.GetState(int(tty.Fd()))
	read := make(chan line, 1)
	go func() {
		var l line
		if echo {
			var b [1]byte
			for l.err == nil && !bytes.HasSuffix(l.text, []byte("\n")) {
				if _, l.err = tty.Read(b[:]); l.err == nil {
					l.text = append(l.text, b[0])
				}
			}
		} else {
			l.text, l.err = term.ReadPassword(int(tty.Fd()))
			fmt.Fprintln(tty)
		}
		read <- l
	}()
	select {
	case l := <-read:
		return bytes.TrimRight(l.text, "\r\n"), l.err
	case <-ctx.Done():
		if before != nil {
			term.Restore(int(tty.Fd()), before)
		}
		fmt.Fprintln(tty)
		return nil, ctx.Err()
	}
}

// FromFD reads a secret of several lines from a file descriptor to its end, with CRLF as LF.
func FromFD(fd int) ([]byte, error) {
	f := os.NewFile(uintptr(fd), "passphrase")
	if f == nil {
		return nil, command.Fail(command.WrongUse, fmt.Errorf("there is no file descriptor %d", fd))
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

// Passphrase asks for the passphrase of a key file that has one, by its name for the person, and is nil for another. The
// caller clears it.
func Passphrase(cmd *command.Call, file *keyfile.File, fd int, name string) ([]byte, error) {
	if !file.Passphrase {
		return nil, nil
	}
	return Secret(cmd, fd, "Passphrase of "+sanitize.Path(name), false)
}

// PublicKey is the public half of a key file. Where its container does not show that, the passphrase is asked for.
func PublicKey(cmd *command.Call, file *keyfile.File, fd int, name string) (ssh.PublicKey, error) {
	if file.Public != nil {
		return file.Public, nil
	}
	pass, err := Secret(cmd, fd, "Passphrase of "+sanitize.Path(name), false)
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

// Decrypted prints an instance's first password, sealed for the key in file, and asks for the key's passphrase if it
// has one; name is the key's name for the person. The password and the passphrase are cleared.
func Decrypted(cmd *command.Call, file *keyfile.File, fd int, name, sealed string) error {
	pass, err := Passphrase(cmd, file, fd, name)
	if err != nil {
		return err
	}
	defer clear(pass)
	open, err := file.Unseal(sealed, pass)
	if err != nil {
		return err
	}
	defer clear(open)
	if cmd.JSON {
		return command.JSON(cmd.OutOrStdout(), map[string]string{"password": string(open)})
	}
	_, err = cmd.OutOrStdout().Write(append(open, '\n')) // without copies that stay in memory
	return err
}
