package lab

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"strings"

	"meatus/core/cargo/ends"
)

// script is the lab's "sh -c SCRIPT sh FOLDER". It runs the scripts by which this program asks a
// machine about its files, and no others: it is no shell.
func script(ctx context.Context, s *shell, args []string) int {
	if len(args) == 2 && args[0] == "-c" && !s.host.Files.filesOnly() {
		return serverScript(s, args[1])
	}
	if len(args) < 4 || args[0] != "-c" || s.host.Files.filesOnly() {
		fmt.Fprintln(s.errs, "sh: there are no scripts here")
		return 127
	}
	folder, dir, ok := s.files.find(s.cwd, args[3])
	if !ok || !dir {
		return 96
	}
	switch args[1] {
	case ends.AskScript:
		n, _ := s.files.get(folder)
		fmt.Fprintf(s.out, "=meatus=\n%d\nseen %d %d %x\ncan-digest\n", s.host.Files.now().Unix(), n.at.Unix(), n.owner, 0o40000|uint32(n.mode.Perm()))
		return 0
	case ends.DigestScript:
		return digestFiles(s, folder)
	}
	fmt.Fprintln(s.errs, "sh: this script is not known here")
	return 127
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
