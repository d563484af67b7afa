package workspace

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/keyfile"
	"meatus/core/statefile"
)

// Source is why a key is known.
type Source uint8

// The sources of keys.
const (
	InKeys     Source = iota // it lies in the workspace's keys/
	InFolder                 // it lies in a folder the user added
	Named                    // a session names it
	Downloaded               // it lies in the download folder
)

// Key is one key file that is known.
type Key struct {
	Path   string
	Source Source
	Sheet  keyfile.Sheet
	Err    error                // why there is no key to read
	Cert   *keyfile.Certificate // beside it, or nil
	Uses   []string             // sessions that name it
}

// Missing tells whether sessions name the key and there is no file.
func (k Key) Missing() bool { return k.has(keyfile.Missing) }

// Loose tells whether other users can read or replace the file.
func (k Key) Loose() bool {
	return k.has(keyfile.OthersReach) || k.has(keyfile.ForeignOwner) || k.has(keyfile.LooseFolder)
}

// Stray tells whether no session uses the key.
func (k Key) Stray() bool { return len(k.Uses) == 0 }

func (k Key) has(flaw keyfile.Flaw) bool {
	return slices.ContainsFunc(k.Sheet.Faults, func(f keyfile.Fault) bool { return f.Flaw == flaw })
}

// States are the words for how a key stands: "sound", or what is to be said.
func (k Key) States() []string {
	var words []string
	for _, s := range []struct {
		is   bool
		word string
	}{
		{k.Missing(), "missing"}, {k.Err != nil && !k.Missing() && !k.Loose(), "damaged"}, {k.Loose(), "loose"},
		{k.Sheet.Passphrase, "locked"}, {k.Source == Downloaded, "arrived"}, {k.Stray() && k.Source != Downloaded, "stray"},
	} {
		if s.is {
			words = append(words, s.word)
		}
	}
	if judged, _ := k.Sheet.Strength(); judged == keyfile.TooWeak {
		words = append(words, "weak")
	}
	if len(words) == 0 {
		words = []string{"sound"}
	}
	return words
}

// Keys lists every key that is known, those of sessions first as the workspace
// has them, then those that only lie about. It reads each file once.
func (w *Workspace) Keys() []Key {
	var keys []Key
	at := map[string]int{}
	add := func(path string, source Source) int {
		if i, ok := at[path]; ok {
			return i
		}
		sheet, err := keyfile.Look(path)
		k := Key{Path: path, Source: source, Sheet: sheet, Err: err}
		k.Cert, _ = keyfile.ReadCertificate(path)
		at[path] = len(keys)
		keys = append(keys, k)
		return len(keys) - 1
	}
	for _, name := range w.KeyNames() {
		add(filepath.Join(w.Dir, "keys", name), InKeys)
	}
	planner := w.Planner()
	for _, s := range w.Book.Sessions {
		for _, written := range s.Keys.V {
			i := add(planner.KeyPath(written), Named)
			keys[i].Uses = append(keys[i].Uses, s.Name)
		}
	}
	for _, dir := range w.KeyFolders() {
		for _, s := range keyfile.Found(dir) {
			add(s.Path, InFolder)
		}
	}
	for _, s := range w.Arrived() {
		add(s.Path, Downloaded)
	}
	slices.SortStableFunc(keys, func(a, b Key) int {
		if a.Source != b.Source {
			return int(a.Source) - int(b.Source)
		}
		return strings.Compare(a.Path, b.Path)
	})
	return keys
}

// PublicKeys are the public halves of every key that is known.
func (w *Workspace) PublicKeys() []ssh.PublicKey {
	var all []ssh.PublicKey
	for _, k := range w.Keys() {
		if k.Sheet.Public != nil {
			all = append(all, k.Sheet.Public)
		}
	}
	return all
}

// KeysStamp changes when a key file comes, goes or takes another name in a folder
// that is looked through. It costs a look at each folder.
func (w *Workspace) KeysStamp() string {
	var stamp strings.Builder
	for _, dir := range append([]string{filepath.Join(w.Dir, "keys"), w.Downloads}, w.KeyFolders()...) {
		if info, err := os.Stat(dir); err == nil {
			fmt.Fprintln(&stamp, dir, info.ModTime().UnixNano(), info.Mode())
		}
	}
	return stamp.String()
}

// foldersFile is where the folders a user added are remembered.
const foldersFile = "state/folders.json"

// KeyFolders lists the folders that are looked through for keys besides keys/.
func (w *Workspace) KeyFolders() []string {
	var dirs []string
	statefile.Peek(filepath.Join(w.Dir, foldersFile), &dirs) // a damaged one is put aside and said when it is next changed
	return dirs
}

// AddKeyFolder has a folder looked through for keys, or no more.
func (w *Workspace) AddKeyFolder(dir string, on bool) error {
	dir = w.Planner().KeyPath(dir)
	if info, err := os.Stat(dir); on && (err != nil || !info.IsDir()) {
		return fmt.Errorf("%s is no folder", dir)
	}
	var dirs []string
	return statefile.Change(filepath.Join(w.Dir, foldersFile), &dirs, func() {
		dirs = slices.DeleteFunc(dirs, func(d string) bool { return d == dir })
		if on {
			dirs = append(dirs, dir)
		}
		slices.Sort(dirs)
	})
}

// Opens is a key that fits what was asked for, and by what.
type Opens struct {
	Key Key
	By  string // "MD5 DER, over …", "its name", "the public key"
}

// WhichKey finds the keys that a fingerprint in any notation, a public key or the
// name of a key pair belongs to. Fingerprints over a private key's own form are
// found for keys without a passphrase alone.
func WhichKey(keys []Key, asked string) []Opens {
	asked = strings.TrimSpace(asked)
	var found []Opens
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(asked))
	for _, k := range keys {
		if k.Sheet.Public == nil || asked == "" {
			continue
		}
		if err == nil {
			if keyfile.Fingerprint(public) == k.Sheet.SHA256 {
				found = append(found, Opens{k, "the public key itself"})
			}
			continue
		}
		by := ""
		if file, err := keyfile.Read(k.Path); err == nil {
			for _, p := range file.Prints(nil) {
				if by == "" && keyfile.SamePrint(p.Value, asked) {
					by = p.Name + ", over " + p.Over
				}
			}
			file.Forget()
		}
		base := filepath.Base(k.Path)
		stem := strings.TrimSuffix(base, filepath.Ext(base))
		if by == "" && (strings.EqualFold(stem, asked) || strings.EqualFold(base, asked)) {
			by = "its name"
		}
		if by == "" && k.Sheet.Comment != "" && strings.EqualFold(k.Sheet.Comment, asked) {
			by = "its comment"
		}
		if by != "" {
			found = append(found, Opens{k, by})
		}
	}
	return found
}

// Moved is what became of a key that was moved.
type Moved struct {
	To       string     // where it is now, "" where it was not moved
	Book     *book.Book // the sessions as they are then, nil where they did not change
	Sessions []string   // that name it
}

// MoveKey adopts a key into keys/, renames it, or retires it. Sessions that name
// it follow an adopted or renamed one; those that name a retired one are told and
// keep naming it, so that nothing is lost when it comes back.
func (w *Workspace) MoveKey(path, how, name string) (Moved, error) {
	var m Moved
	var err error
	planner := w.Planner()
	for _, s := range w.Book.Sessions {
		if slices.ContainsFunc(s.Keys.V, func(k string) bool { return planner.KeyPath(k) == path }) {
			m.Sessions = append(m.Sessions, s.Name)
		}
	}
	switch how {
	case "adopt":
		m.To, err = keyfile.Adopt(path, filepath.Join(w.Dir, "keys"))
	case "rename":
		m.To, err = keyfile.Rename(path, name)
	default:
		m.To, err = keyfile.Retire(path)
	}
	if m.To == "" || how == "retire" || len(m.Sessions) == 0 {
		return m, err
	}
	written := m.To
	if inside, rel := filepath.Rel(w.Dir, m.To); rel == nil && !strings.HasPrefix(inside, "..") {
		written = inside
	}
	var berr error
	m.Book, berr = book.MoveKey(w.SessionsPath(), "moving "+filepath.Base(path), func(s string) string {
		if planner.KeyPath(s) == path {
			return written
		}
		return s
	})
	return m, errors.Join(err, berr)
}

// MakeKey makes a key pair in keys/. kind is as "Ed25519" or "RSA 4096", Ed25519 where it is empty; the
// passphrase may be nil.
func (w *Workspace) MakeKey(name, kind string, passphrase []byte) error {
	name = strings.TrimSpace(name)
	if name == "" || name != filepath.Base(name) {
		return fmt.Errorf("%q is no name for a file in keys/", name)
	}
	words, bits := strings.Fields(kind), 0
	if len(words) > 1 {
		bits, _ = strconv.Atoi(words[1])
	}
	if len(words) == 0 {
		words = []string{"Ed25519"}
	}
	key, err := keyfile.Make(words[0], bits)
	if err != nil {
		return err
	}
	dir := filepath.Join(w.Dir, "keys")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	return keyfile.Write(filepath.Join(dir, name), key, keyfile.Wrapping{Passphrase: passphrase})
}
