package farfile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Commands accesses files by commands of a POSIX shell.
type Commands struct {
	Passage *walk.Passage
	Super   bool // by sudo, which asks for no password
}

// The time limits of one command, and of ending an interrupted change.
const (
	stepTime   = 30 * time.Second
	settleTime = 10 * time.Second
)

// The scripts. In each, f is the file at the end of symbolic links, t its temporary file and k its old copy; the mark
// precedes the output, after that of start-up files. Their exit statuses are below.
const (
	// head sets f, t and k. $1 is the path, $2 the ending of the temporary file. A digest is SHA-256 in hexadecimal, "none"
	// of an absent file, or "-" without a digest command.
	head = `LC_ALL=C; export LC_ALL; umask 077
case $1 in /*) ;; *) cd || exit 96;; esac
f=$1; if [ -L "$f" ]; then f=$(readlink -f "$f") || exit 96; fi
t=$f` + newEnd + `$2; k=$f` + keptEnd + `
sum() {
if [ ! -e "$1" ]; then echo none; return; fi
if command -v sha256sum >/dev/null 2>&1; then sha256sum < "$1" | cut -c 1-64
elif command -v shasum >/dev/null 2>&1; then shasum -a 256 < "$1" | cut -c 1-64
elif command -v openssl >/dev/null 2>&1; then openssl dgst -sha256 -r < "$1" | cut -c 1-64
elif command -v sha256 >/dev/null 2>&1; then sha256 -q < "$1"
else echo -; fi; }
flush() { sync "$1" 2>/dev/null || sync; }
`
	// ReadScript prints "there" and the file's length, or "none", in a line, and then the file.
	ReadScript = head + `echo =meatus=
if [ -e "$f" ]; then [ -f "$f" ] || exit 92; n=$(wc -c < "$f") || exit 96; echo there $((n)); cat "$f"; else echo none; fi`
	// ReplaceScript replaces the file with the digest $5 by its input of $3 bytes with the digest $4. $6 is the mode of a
	// new file, $7 the chmod argument for an existing one, "" for none, and $8 is "keep" to keep the old copy. An old copy
	// that is already there stays. Where the connection ends (a write fails with SIGPIPE), the temporary file goes.
	ReplaceScript = head + `trap 'rm -f "$t" "$t.k"; exit 96' HUP PIPE TERM
for o in "$f"` + newEnd + `*; do [ -e "$o" ] && [ -n "$(find "$o" -mmin +60 2>/dev/null)" ] && rm -f "$o"; done
[ ! -d "$f" ] || exit 92
is=$(sum "$f")
[ "$is" = "$5" ] || [ "$is" = - ] || exit 95
rm -f "$t"
if [ -e "$f" ]; then cp -p "$f" "$t" && { [ -z "$7" ] || chmod "$7" "$t"; } || { rm -f "$t"; exit 96; }
else : > "$t" && chmod "$6" "$t" || { rm -f "$t"; exit 96; }; fi
cat > "$t" || { rm -f "$t"; exit 93; }
n=$(wc -c < "$t") || exit 94
[ $((n)) -eq "$3" ] || { rm -f "$t"; exit 94; }
got=$(sum "$t")
[ "$got" = "$4" ] || [ "$got" = - ] || { rm -f "$t"; exit 94; }
flush "$t"
if [ "$8" = keep ] && [ -e "$f" ] && [ ! -e "$k" ]; then cp -p "$f" "$t.k" && flush "$t.k" && mv -f "$t.k" "$k" || { rm -f "$t" "$t.k"; exit 93; }; fi
echo =meatus=
if [ "$got" = - ]; then echo staged; exit 0; fi
[ "$(sum "$f")" = "$5" ] || { rm -f "$t"; exit 95; }
mv -f "$t" "$f" || { rm -f "$t"; exit 96; }
flush "$(dirname "$f")"
echo placed`
	// PlaceScript moves a temporary file into place that this side verified by reading it back.
	PlaceScript = head + `echo =meatus=
mv -f "$t" "$f" || exit 96
flush "$(dirname "$f")"; echo placed`
	// RemoveScript removes the file with the digest $3, and keeps an old copy if $4 is "keep".
	RemoveScript = head + `is=$(sum "$f")
[ "$is" = "$3" ] || [ "$is" = - ] || exit 95
if [ "$4" = keep ] && [ ! -e "$k" ]; then cp -p "$f" "$t.k" && flush "$t.k" && mv -f "$t.k" "$k" || { rm -f "$t.k"; exit 93; }; fi
echo =meatus=
rm -f "$f" || exit 96
flush "$(dirname "$f")"; echo placed`
	// RealScript prints the file's path without symbolic links.
	RealScript = head + `echo =meatus=
printf %s "$f"`
	// DropScript removes the file $2, which may be absent, and the temporary files beside $1.
	DropScript = head + `echo =meatus=
rm -f "$2" "$f"` + newEnd + `*`
	// SettleScript removes the temporary file, so that an interrupted change cannot complete, and prints the file as
	// ReadScript does.
	SettleScript = head + `rm -f "$t" "$t.k"
echo =meatus=
if [ -e "$f" ]; then n=$(wc -c < "$f") || exit 96; echo there $((n)); cat "$f"; else echo none; fi`
)

// The exit statuses of the scripts.
const (
	isNoFile  = 92 // something else than a file stands there
	noRoom    = 93 // it could not be written
	notWhole  = 94
	isChanged = 95
	failed    = 96
)

// run runs a script on the remote machine and returns its output.
func (c Commands) run(ctx context.Context, script string, input []byte, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	out, err := remote.RunScript(ctx, c.Passage, remote.Script{Text: script, Args: args, Input: input, Super: c.Super, Limit: Max + 64<<10})
	var ended *remote.Status
	switch {
	case errors.Is(err, remote.ErrNoShell), errors.Is(err, remote.ErrTooMuch):
		return nil, fmt.Errorf("%w: %w", errRefused, err)
	case !errors.As(err, &ended) || ended.Signal != "":
		return out, err
	}
	switch ended.Code {
	case isNoFile:
		return nil, fmt.Errorf("%w: a folder or a device stands there", errRefused)
	case isChanged:
		return nil, ErrChanged
	case notWhole:
		return nil, ErrNotWhole
	case noRoom:
		return nil, fmt.Errorf("%w: it cannot be written there: %s", errRefused, ended.Says)
	}
	return nil, fmt.Errorf("%w: %w", errRefused, ended)
}

// Read reads a file, following symbolic links.
func (c Commands) Read(ctx context.Context, path string) (State, error) {
	out, err := c.run(ctx, ReadScript, nil, path, "-")
	if err != nil {
		return None, fmt.Errorf("%s cannot be read: %w", sanitize.Line(path, 200), err)
	}
	return parse(path, out)
}

// parse parses the output of ReadScript.
func parse(path string, out []byte) (State, error) {
	first, text, ok := bytes.Cut(out, []byte("\n"))
	if ok && string(first) == none {
		return None, nil
	}
	size, is := strings.CutPrefix(string(first), "there ")
	n, err := strconv.Atoi(size)
	if !ok || !is || err != nil || n != len(text) {
		return None, fmt.Errorf("%s cannot be read: it did not come whole", sanitize.Line(path, 200))
	}
	return Text(text), nil
}

func keep(c Change) string {
	if c.Keep && c.Before.There {
		return "keep"
	}
	return ""
}

func (c Commands) apply(ctx context.Context, change Change, name string) error {
	if !change.After.There {
		_, err := c.run(ctx, RemoveScript, nil, change.Path, name, change.Before.sum(), keep(change))
		return err
	}
	deny := ""
	if change.Deny != 0 {
		for _, each := range []struct {
			who   string
			shift int
		}{{"u", 6}, {"g", 3}, {"o", 0}} {
			bits := ""
			for i, bit := range []string{"x", "w", "r"} {
				if change.Deny>>(each.shift+i)&1 == 1 {
					bits += bit
				}
			}
			if bits != "" {
				deny += "," + each.who + "-" + bits
			}
		}
	}
	out, err := c.run(ctx, ReplaceScript, change.After.Text, change.Path, name, strconv.Itoa(len(change.After.Text)),
		change.After.sum(), change.Before.sum(), fmt.Sprintf("%o", change.Mode.Perm()), strings.TrimPrefix(deny, ","), keep(change))
	if err != nil || strings.TrimSpace(string(out)) != "staged" {
		return err
	}
	// Without a digest command both files are read back and compared on this side.
	real, err := c.run(ctx, RealScript, nil, change.Path, "-")
	if err != nil {
		return err
	}
	arrived, err := c.Read(ctx, string(real)+newEnd+name)
	if err != nil {
		return err
	}
	now, err := c.Read(ctx, change.Path)
	if err == nil && !arrived.Same(change.After) {
		err = ErrNotWhole
	}
	if err == nil && !now.Same(change.Before) {
		err = ErrChanged
	}
	if err != nil {
		c.settle(context.WithoutCancel(ctx), change.Path, name)
		return err
	}
	_, err = c.run(ctx, PlaceScript, nil, change.Path, name)
	return err
}

func (c Commands) settle(ctx context.Context, path, name string) (State, error) {
	ctx, cancel := context.WithTimeout(ctx, settleTime)
	defer cancel()
	out, err := c.run(ctx, SettleScript, nil, path, name)
	if err != nil {
		return None, err
	}
	return parse(path, out)
}

func (c Commands) remove(ctx context.Context, path, file string) error {
	_, err := c.run(ctx, DropScript, nil, path, file)
	return err
}

// Close does nothing: the passage belongs to the caller.
func (Commands) Close() {}
