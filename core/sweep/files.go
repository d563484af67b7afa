package sweep

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"meatus/core/sanitize"
)

// What is looked at: folders below a place as deep as this, so many names and
// beginnings of files, files no longer than this, and lists no longer than that.
const (
	homeDepth, otherDepth = 4, 3
	maxNames, maxReads    = 20_000, 4_000
	maxFile, maxList      = 256 << 10, 1 << 20
	beginning             = 1 << 10
	atOnce                = 8
)

// keyName is a name that people give to private keys.
var keyName = regexp.MustCompile(`(?i)(\.pem|\.key|\.p8|\.der)$|^id[_-]|key|identity`)

// keyBegins is how the open containers of private keys begin.
var keyBegins = regexp.MustCompile(`-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----`)

// found is a name that was come upon.
type found struct {
	path string
	info fs.FileInfo
}

// byFiles looks over the file-transfer channel.
func byFiles(ctx context.Context, files *sftp.Client, list string, known []ssh.PublicKey) (Report, error) {
	var r Report
	home, err := files.RealPath(".")
	if err != nil {
		return r, err
	}
	info, err := files.Stat(home)
	if err != nil {
		return r, err
	}
	uid := owner(info)
	var all []found
	for _, place := range []struct {
		dir   string
		depth int
	}{{home, homeDepth}, {"/tmp", otherDepth}, {"/var/tmp", otherDepth}, {fmt.Sprintf("/run/user/%d", uid), otherDepth}} {
		all = below(ctx, files, place.dir, place.depth, uid, all)
	}
	if err := ctx.Err(); err != nil {
		return r, err
	}
	r.Cut = len(all) >= maxNames
	var candidates []found
	for _, f := range all {
		mode := f.info.Mode()
		switch {
		case mode&fs.ModeSocket != 0:
			if low := strings.ToLower(f.path); strings.Contains(low, "agent") || strings.Contains(low, "ssh") {
				r.Sockets = append(r.Sockets, sanitize.Line(f.path, 300))
			}
		case mode.IsRegular() && f.info.Size() > 0 && f.info.Size() <= maxFile:
			candidates = append(candidates, f)
		}
	}
	// Names of keys are looked at first, for when there are too many.
	slices.SortStableFunc(candidates, func(a, b found) int { return rank(a) - rank(b) })
	if len(candidates) > maxReads {
		candidates, r.Cut = candidates[:maxReads], true
	}
	r.Keys = keysAmong(ctx, files, candidates, home)
	r.Cut = r.Cut || len(r.Keys) > most || len(r.Sockets) > most
	r.Keys, r.Sockets = r.Keys[:min(len(r.Keys), most)], r.Sockets[:min(len(r.Sockets), most)]
	if !path.IsAbs(list) {
		list = path.Join(home, list)
	}
	text, err := text(files, list, maxList)
	if err != nil {
		return r, err
	}
	r.list(string(text), known)
	return r, ctx.Err()
}

func rank(f found) int {
	if keyName.MatchString(path.Base(f.path)) {
		return 0
	}
	return 1
}

func owner(info fs.FileInfo) uint32 {
	if stat, ok := info.Sys().(*sftp.FileStat); ok {
		return stat.UID
	}
	return 0
}

// below lists what an account owns below a folder, and follows no links.
func below(ctx context.Context, files *sftp.Client, dir string, depth int, uid uint32, all []found) []found {
	infos, err := files.ReadDirContext(ctx, dir)
	if err != nil {
		return all // not there, or not ours to see
	}
	for _, info := range infos {
		name := info.Name()
		if len(all) >= maxNames || ctx.Err() != nil {
			return all
		}
		if owner(info) != uid || name == "." || name == ".." || strings.Contains(name, "/") {
			continue
		}
		at := path.Join(dir, name)
		all = append(all, found{at, info})
		if info.IsDir() && depth > 1 {
			all = below(ctx, files, at, depth-1, uid, all)
		}
	}
	return all
}

// keysAmong are the files that begin like private keys.
func keysAmong(ctx context.Context, files *sftp.Client, candidates []found, home string) []File {
	is := make([]bool, len(candidates))
	var g errgroup.Group
	g.SetLimit(atOnce)
	for i, f := range candidates {
		g.Go(func() error {
			if ctx.Err() == nil {
				begin, err := text(files, f.path, beginning)
				is[i] = err == nil && keyBegins.Match(begin)
			}
			return nil
		})
	}
	g.Wait()
	var keys []File
	for i, f := range candidates {
		if is[i] {
			keys = append(keys, File{sanitize.Line(strings.TrimPrefix(f.path, home+"/"), 300), f.info.Mode().String()})
		}
	}
	slices.SortFunc(keys, func(a, b File) int { return strings.Compare(a.Path, b.Path) })
	return keys
}

// text is the beginning of a file, nothing where there is none.
func text(files *sftp.Client, name string, limit int64) ([]byte, error) {
	file, err := files.Open(name)
	if err != nil {
		if _, serr := files.Stat(name); serr != nil {
			return nil, nil
		}
		return nil, err
	}
	defer file.Close()
	var b bytes.Buffer
	_, err = io.Copy(&b, io.LimitReader(file, limit))
	return b.Bytes(), err
}
