package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/cargo/ends"
	"meatus/core/enrol"
	"meatus/core/farfile"
	"meatus/core/install"
	"meatus/core/posix"
)

// script runs the lab's "sh -c SCRIPT sh ARGUMENT...". It is no shell: it emulates the scripts of this program only.
func script(ctx context.Context, s *shell, args []string) int {
	if len(args) < 3 || args[0] != "-c" || s.host.Files.filesOnly() {
		fmt.Fprintln(s.errs, "sh: there are no scripts here")
		return 127
	}
	text, words := args[1], args[3:]
	if text == posix.Decoder && len(words) > 0 {
		for i, word := range words {
			words[i] = posix.Decode(word)
		}
		text, words = words[0], words[1:]
	}
	words = append(words, make([]string, 8)...) // a word that is not given is empty
	switch text {
	case ends.AskScript, ends.DigestScript:
		return folderScript(s, text, words[0])
	case farfile.ReadScript, farfile.ReplaceScript, farfile.RemoveScript, farfile.SettleScript, farfile.DropScript:
		return fileScript(s, text, words)
	case install.MoveScript:
		from, _, _ := s.files.find(s.cwd, words[0])
		to, _, _ := s.files.find(s.cwd, words[1])
		return s.said(s.files.move(from, to, true))
	}
	return serverScript(s, text, words)
}

// said prints an error, and returns the matching exit status.
func (s *shell) said(err error) int {
	if err != nil {
		fmt.Fprintln(s.errs, "sh: "+err.Error())
		return 1
	}
	return 0
}

// folderScript emulates the scripts that examine a folder and digest its files.
func folderScript(s *shell, text, name string) int {
	folder, dir, ok := s.files.find(s.cwd, name)
	if !ok || !dir {
		return 96
	}
	if text == ends.DigestScript {
		return digestFiles(s, folder)
	}
	n, _ := s.files.get(folder)
	fmt.Fprintf(s.out, "=meatus=\n%d\nseen %d %d %x\ncan-digest\n", s.host.Files.now().Unix(), n.at.Unix(), n.owner, 0o40000|uint32(n.mode.Perm()))
	return 0
}

// fileScript emulates the scripts that read, replace and remove single files.
func fileScript(s *shell, text string, words []string) int {
	name, _, there := s.files.find(s.cwd, words[0])
	before := s.files.read(name)
	print := func(text string, there bool) string {
		if !there {
			return "none"
		}
		return fmt.Sprintf("%x", sha256.Sum256([]byte(text)))
	}
	write := func(name, text string) int {
		if s.user == "root" {
			s.files.put(name, text)
			return 0
		}
		if _, there := s.files.get(name); !there {
			if err := s.files.make(name, 0o600); err != nil {
				return s.said(err)
			}
		}
		return s.said(s.files.change(name, func(n *node) { n.text, n.at = []byte(text), time.Now() }))
	}
	remove := func(name string) int {
		if _, there := s.files.get(name); !there {
			return 0
		}
		if s.user == "root" {
			s.files.drop(name)
			return 0
		}
		return s.said(s.files.remove(name, false))
	}
	status := 0
	switch text {
	case farfile.ReadScript, farfile.SettleScript:
		fmt.Fprintln(s.out, "=meatus=")
		if there {
			fmt.Fprintf(s.out, "there %d\n%s", len(before), before)
		} else {
			fmt.Fprintln(s.out, "none")
		}
		return 0
	case farfile.DropScript:
		file, _, _ := s.files.find(s.cwd, words[1])
		status = remove(file)
	case farfile.RemoveScript:
		if print(before, there) != words[2] {
			return 95
		}
		if words[3] == "keep" && there {
			status = write(farfile.Kept(name), before)
		}
		if status == 0 {
			status = remove(name)
		}
	case farfile.ReplaceScript:
		typed, err := io.ReadAll(io.LimitReader(s.in, farfile.Max+1))
		switch {
		case print(before, there) != words[4]:
			return 95
		case err != nil || fmt.Sprint(len(typed)) != words[2] || print(string(typed), true) != words[3]:
			return 94
		}
		if _, kept := s.files.get(farfile.Kept(name)); words[7] == "keep" && there && !kept {
			status = write(farfile.Kept(name), before)
		}
		if status == 0 {
			status = write(name, string(typed))
		}
	}
	fmt.Fprintln(s.out, "=meatus=\nplaced")
	return status
}

// serverScript emulates the scripts that read and change the machine's SSH server.
func serverScript(s *shell, text string, words []string) int {
	config, there := s.files.get(words[0])
	switch text {
	case enrol.WhoScript:
		fmt.Fprintf(s.out, "=meatus=\n%d\n", map[bool]int{true: 0, false: keeperID}[s.user == "root"])
	case enrol.ListenerScript: // each login is let in by the files as they are
		fmt.Fprint(s.out, "=meatus=\n1\n\n")
	case enrol.CheckScript, enrol.EffectiveScript, enrol.HostKeysScript:
		switch {
		case s.user != "root":
			fmt.Fprintln(s.errs, "sshd: permission denied")
			return 1
		case !there:
			fmt.Fprintf(s.errs, "%s: No such file or directory\n", words[0])
			return 1
		}
		fmt.Fprintln(s.out, "=meatus=")
		if text == enrol.HostKeysScript {
			s.out.Write(ssh.MarshalAuthorizedKey(s.host.Identity()))
		}
		if text == enrol.EffectiveScript {
			s.effective(string(config.text))
		}
	case enrol.ExpandScript:
		fmt.Fprintln(s.out, "=meatus=")
		if _, dir, ok := s.files.find("/etc/ssh", words[0]); ok && !dir {
			fmt.Fprintln(s.out, words[0])
		}
	case enrol.ReloadScript:
		fmt.Fprintln(s.out, "=meatus=")
	default:
		fmt.Fprintln(s.errs, "sh: this script is not known here")
		return 127
	}
	return 0
}

// effective returns the effective settings of a configuration: the first value of each.
func (s *shell) effective(config string) {
	values := map[string]string{"trustedusercakeys": "none", "revokedkeys": "none", "authorizedprincipalscommand": "none"}
	var read func(text string)
	read = func(text string) {
		for line := range strings.Lines(text) {
			keyword, value, _ := strings.Cut(strings.TrimSpace(line), " ")
			if keyword = strings.ToLower(keyword); keyword == "include" {
				read(s.files.read(value))
			} else if values[keyword] == "none" {
				values[keyword] = value
			}
		}
	}
	read(config)
	for keyword, value := range values {
		fmt.Fprintln(s.out, keyword, value)
	}
}

// digestFiles prints the digests of the files whose names are typed.
func digestFiles(s *shell, folder string) int {
	fmt.Fprintln(s.out, "=meatus=")
	names, err := io.ReadAll(io.LimitReader(s.in, 8<<20))
	if err != nil {
		return 1
	}
	status := 0
	for name := range bytes.SplitSeq(bytes.TrimSuffix(names, []byte{0}), []byte{0}) {
		full, _ := s.files.resolve(path.Join(folder, string(name)))
		n, ok := s.files.get(full)
		if !ok || !n.mode.IsRegular() {
			fmt.Fprintf(s.errs, "%s: no such file\n", name)
			status = 1
			continue
		}
		shown, mark := ends.Escaped(string(name)), ""
		if strings.Compare(shown, string(name)) != 0 {
			mark = "\\"
		}
		fmt.Fprintf(s.out, "%s%x  %s\n", mark, sha256.Sum256(n.text), shown)
	}
	return status
}
