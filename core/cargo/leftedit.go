package cargo

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"
)

// Each private copy has a note beside it, locked by the editing program, so that the copy of a killed program can be found.

const (
	editPrefix = "meatus-edit-"
	editNote   = ".meatus"
)

// editFolder is the folder of private copies.
func editFolder() string {
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		return dir
	}
	return os.TempDir()
}

// editing is the content of a note.
type editing struct {
	Of  string `json:"of"`  // what is edited, as a person knows it
	Sum string `json:"sum"` // the SHA-256 digest of what was there last, in hexadecimal
}

func digestOf(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// noteEdit writes a copy's note.
func noteEdit(dir string, of string, base []byte) error {
	text, err := json.Marshal(editing{of, digestOf(base)})
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, editNote), text, 0o600)
}

// LeftEdit is the private copy of a killed program, with changes that were not written back.
type LeftEdit struct {
	Of   string // what was edited, cleaned
	Kept string // where the copy is now
}

// Say describes the copy and what to do with it.
func (l LeftEdit) Say() string {
	return fmt.Sprintf("an edit of %s was cut off: what did not go back is kept in %s; compare it, and send it or remove it", l.Of, l.Kept)
}

// TakeLeftEdits moves copies with unwritten changes, left by killed programs of this account, into a folder, and removes
// copies without any.
func TakeLeftEdits(folder string) (left []LeftEdit, err error) {
	dirs, err := filepath.Glob(filepath.Join(editFolder(), editPrefix+"*"))
	if err != nil {
		return nil, err
	}
	for _, dir := range dirs {
		if l, ok := takeLeftEdit(dir, folder); ok {
			left = append(left, l)
		}
	}
	return left, nil
}

func takeLeftEdit(dir, folder string) (l LeftEdit, ok bool) {
	info, err := os.Lstat(dir)
	if err != nil || !info.IsDir() || info.Mode().Perm() != 0o700 {
		return l, false
	}
	if st, is := info.Sys().(*syscall.Stat_t); !is || int(st.Uid) != os.Geteuid() {
		return l, false
	}
	text, err := os.ReadFile(filepath.Join(dir, editNote))
	var note editing
	if err != nil || json.Unmarshal(text, &note) != nil {
		return l, false
	}
	lock := flock.New(filepath.Join(dir, editNote))
	if held, err := lock.TryLock(); err != nil || !held {
		return l, false // it is being edited
	}
	defer lock.Close()
	files, err := os.ReadDir(dir)
	if err != nil {
		return l, false
	}
	for _, f := range files {
		if f.Name() == editNote || !f.Type().IsRegular() || strings.HasSuffix(f.Name(), "~") || strings.HasPrefix(f.Name(), ".") {
			continue
		}
		copied, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			return l, false
		}
		if digestOf(copied) == note.Sum {
			continue
		}
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return l, false
		}
		kept := filepath.Join(folder, time.Now().Format("20060102-150405-")+f.Name())
		if err := os.WriteFile(kept, copied, 0o600); err != nil {
			return l, false
		}
		l, ok = LeftEdit{Of: Say(note.Of), Kept: kept}, true
	}
	os.RemoveAll(dir)
	return l, ok
}
