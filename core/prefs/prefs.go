// Package prefs are a person's own settings of the program, in settings.toml of the
// configuration folder: what concerns this account on this machine and no session.
//
// A sessions file can be handed on and imported; what runs programs here stands in this file
// alone. It promises that a file which others could have written is not used, and that a
// mistake is told with its line and column and leaves everything as it is built in.
package prefs

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/pelletier/go-toml/v2"

	"meatus/core/perm"
	"meatus/core/sanitize"
	"meatus/core/secret"
)

// FileName is the name of the file.
const FileName = "settings.toml"

// maxFile is how long the file may be, in bytes, and commandTime how long a command may run.
const (
	maxFile     = 1 << 20
	commandTime = 10 * time.Second
)

// Prefs are the settings. The zero value is what is built in.
type Prefs struct {
	Alert Alert `toml:"alert"`
	Look  Look  `toml:"look"`
	Links Links `toml:"links"`

	Estate Estate `toml:"estate"`
	// Keys are keys of one's own, by the verb of one of [Letters].
	Keys map[string]string `toml:"keys"`
}

// Estate is what concerns estates.
type Estate struct {
	// Seen is as which address this machine is seen outside, where that is another than its own: behind a router
	// that translates, or a tunnel.
	Seen string `toml:"seen"`
}

// Address is that address, not valid where none is set.
func (e Estate) Address() netip.Addr {
	at, _ := netip.ParseAddr(e.Seen) // it was looked at when it was read
	return at.Unmap()
}

// Look is how the full screen looks. What is empty is found out from the terminal.
type Look struct {
	Ground  string `toml:"ground"`  // "dark", "light", "terminal" (its own 16 colours), "none"
	Marks   string `toml:"marks"`   // "plain": ASCII alone
	Colours string `toml:"colours"` // "red-green": for those who tell red from green badly
	Motion  string `toml:"motion"`  // "reduced": nothing turns or runs
}

// looks are what each setting of the look can be.
var looks = []struct {
	name string
	of   func(Look) string
	can  []string
}{
	{"ground", func(l Look) string { return l.Ground }, []string{"dark", "light", "terminal", "none"}},
	{"marks", func(l Look) string { return l.Marks }, []string{"plain", "full"}},
	{"colours", func(l Look) string { return l.Colours }, []string{"usual", "red-green"}},
	{"motion", func(l Look) string { return l.Motion }, []string{"full", "reduced"}},
}

// Alert is what is done besides when a session that wants an alert is lost, or is back.
type Alert struct {
	// Command is a program and its arguments, none for nothing. It is run as it stands, by no
	// shell; what happened comes in its environment, see [Alert.Run].
	Command []string `toml:"command"`
}

// Names are the settings of the look and of the keys, as they are written: "look.ground".
func Names() []string {
	names := []string{"alert.command", "links.command", "estate.seen"}
	for _, l := range looks {
		names = append(names, "look."+l.name)
	}
	return append(names, "keys")
}

// Can says what the setting of a name can be.
func Can(name string) string {
	for _, l := range looks {
		if name == "look."+l.name {
			return "it can be " + strings.Join(l.can, ", ")
		}
	}
	if name == "estate.seen" {
		return "it is the public address of this machine"
	}
	if name == "keys" {
		return "it names the key of each verb"
	}
	return "it is a program and its arguments"
}

// Links is what opens a link that a far side has printed.
type Links struct {
	// Command is a program and its arguments, none for nothing: a link from elsewhere is opened by
	// nothing that a person has not named. It is run by no shell, with the link behind its arguments.
	Command []string `toml:"command"`
}

// Open opens a link, waiting at most ten seconds. It fails for any link but http and https.
func (l Links) Open(ctx context.Context, link string) error {
	u, err := url.Parse(link)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return fmt.Errorf("%s is no link that is opened", sanitize.Line(link, 60))
	}
	return run(ctx, "the command that opens links", l.Command, nil, u.String())
}

// Path is where the file is looked for.
func Path() string { return filepath.Join(xdg.ConfigHome, "meatus", FileName) }

// Read reads the file at a path; where there is none all is as it is built in. The error says
// where the mistake is and what to do.
func Read(path string) (Prefs, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Prefs{}, nil
	}
	if err == nil && info.Size() > maxFile {
		err = fmt.Errorf("it is longer than %d bytes", maxFile)
	}
	if err == nil {
		err = perm.Judge(path)
	}
	var text []byte
	if err == nil {
		text, err = os.ReadFile(path)
	}
	if err != nil {
		var foreign *perm.Foreign
		if errors.As(err, &foreign) {
			err = fmt.Errorf("%s: %s", foreign.Say, foreign.Mend)
		}
		return Prefs{}, fmt.Errorf("%s is not used: %w", path, err)
	}
	return Parse(path, text)
}

// Parse reads the text of the file that is called name.
func Parse(name string, text []byte) (Prefs, error) {
	var p Prefs
	in := toml.NewDecoder(strings.NewReader(string(text)))
	in.DisallowUnknownFields()
	err := in.Decode(&p)
	var at *toml.DecodeError
	var unknown *toml.StrictMissingError
	switch {
	case err == nil:
		if table, key, mistake := p.mistake(); mistake != "" {
			line, column := place(text, table, key)
			return Prefs{}, fmt.Errorf("%s:%d:%d: %s", name, line, column, mistake)
		}
		return p, nil
	case errors.As(err, &unknown) && len(unknown.Errors) > 0:
		line, column := unknown.Errors[0].Position()
		return Prefs{}, fmt.Errorf("%s:%d:%d: there is no setting %s", name, line, column, sanitize.Line(strings.Join(unknown.Errors[0].Key(), "."), 60))
	case errors.As(err, &at):
		line, column := at.Position()
		return Prefs{}, fmt.Errorf("%s:%d:%d: %s", name, line, column, sanitize.Line(strings.TrimPrefix(at.Error(), "toml: "), 160))
	}
	return Prefs{}, fmt.Errorf("%s: %w", name, err)
}

// mistake is the first value that cannot be, and the table and key it is of; "" for none.
func (p Prefs) mistake() (table, key, mistake string) {
	if verb, mistake := checkKeys(p.Keys); mistake != "" {
		return "keys", verb, mistake
	}
	if at, err := netip.ParseAddr(p.Estate.Seen); p.Estate.Seen != "" && (err != nil || at.Zone() != "") {
		return "estate", "seen", fmt.Sprintf("seen is an address, as 198.51.100.7, not %q", sanitize.Line(p.Estate.Seen, 60))
	}
	for _, l := range looks {
		if v := l.of(p.Look); v != "" && !slices.Contains(l.can, v) {
			return "look", l.name, fmt.Sprintf("%s can be %s, not %q", l.name, strings.Join(l.can, ", "), sanitize.Line(v, 40))
		}
	}
	return "", "", ""
}

// Run runs the command where there is one, for at most ten seconds. MEATUS_SESSION is the
// session, MEATUS_STATE "lost" or "back", and MEATUS_SAY what happened, in words.
func (a Alert) Run(ctx context.Context, session, state, say string) error {
	if len(a.Command) == 0 {
		return nil
	}
	return run(ctx, "the alert's command", a.Command, []string{"MEATUS_SESSION=" + session, "MEATUS_STATE=" + state, "MEATUS_SAY=" + sanitize.Line(say, 300)})
}

// run runs a command of a person's, with more in its environment and more arguments.
func run(ctx context.Context, what string, command, env []string, more ...string) error {
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], append(command[1:len(command):len(command)], more...)...)
	cmd.WaitDelay = time.Second
	cmd.Env = append(secret.Plain(), env...)
	out, err := cmd.CombinedOutput()
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("it did not end within %s", commandTime)
	}
	if err != nil {
		return fmt.Errorf("%s %s: %w %s", what, sanitize.Name(command[0]), err, sanitize.Line(string(out), 100))
	}
	return nil
}
