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
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/pelletier/go-toml/v2"

	"meatus/core/perm"
	"meatus/core/sanitize"
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
}

// Alert is what is done besides when a session that wants an alert is lost, or is back.
type Alert struct {
	// Command is a program and its arguments, none for nothing. It is run as it stands, by no
	// shell; what happened comes in its environment, see [Alert.Run].
	Command []string `toml:"command"`
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

// Run runs the command where there is one, for at most ten seconds. MEATUS_SESSION is the
// session, MEATUS_STATE "lost" or "back", and MEATUS_SAY what happened, in words.
func (a Alert) Run(ctx context.Context, session, state, say string) error {
	if len(a.Command) == 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, a.Command[0], a.Command[1:]...)
	cmd.WaitDelay = time.Second
	cmd.Env = append(os.Environ(), "MEATUS_SESSION="+session, "MEATUS_STATE="+state, "MEATUS_SAY="+sanitize.Line(say, 300))
	out, err := cmd.CombinedOutput()
	if err != nil && ctx.Err() != nil {
		err = fmt.Errorf("it did not end within %s", commandTime)
	}
	if err != nil {
		return fmt.Errorf("the alert's command %s: %w %s", sanitize.Name(a.Command[0]), err, sanitize.Line(string(out), 100))
	}
	return nil
}
