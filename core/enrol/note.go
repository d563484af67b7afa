package enrol

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os/user"
	"path"
	"time"

	"meatus/core/farfile"
	"meatus/core/sanitize"
)

// NoteFile is the name of the note in the server's configuration folder while a change is under way.
const NoteFile = "meatus-lease-begun"

// Note records a change under way on the machine. It is removed once the change is proven or undone.
type Note struct {
	What    string    `json:"what"` // "enrol" or "remove"
	Issuer  string    `json:"issuer"`
	Machine string    `json:"machine"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Absent  []string  `json:"absent"` // files that were not there before; what was there of the others is kept beside them
}

// The kinds of changes.
const (
	enrolling = "enrol"
	removing  = "remove"
	carrying  = "carry" // is never noted: its files are apart from each other
)

// Say describes the unfinished change.
func (n *Note) Say() string {
	what := "enrolling it for the issuer " + n.Issuer
	if n.What == removing {
		what = "removing its trust in the issuer " + n.Issuer
	}
	return fmt.Sprintf("%s was begun here on %s by %s, and was cut off", sanitize.Line(what, 120), n.At.Local().Format("2 Jan 2006 at 15:04"), sanitize.Line(n.By, 80))
}

func (p *Plan) notePath() string { return path.Join(p.folder, NoteFile) }

// findNote reads the note of an unfinished change, and the files' content from before it.
func (p *Plan) findNote(ctx context.Context) error {
	s, err := p.read(ctx, p.notePath())
	if err != nil || !s.There {
		return err
	}
	n := &Note{}
	if err := json.Unmarshal(s.Text, n); err != nil {
		return fmt.Errorf("%s cannot be understood (%w): it says what another Meatus has begun here; see whether the files beside it ending in %s are wanted, and remove it", p.notePath(), err, farfile.Kept(""))
	}
	p.Begun, p.note = n, s
	return nil
}

// base returns a file's content from before the unfinished change.
func (p *Plan) base(ctx context.Context, f *File) (farfile.State, error) {
	if p.Begun == nil {
		return f.Before, nil
	}
	for _, absent := range p.Begun.Absent {
		if absent == f.Path {
			return farfile.None, nil
		}
	}
	kept, err := p.read(ctx, farfile.Kept(f.Path))
	if err != nil || kept.There {
		return kept, err
	}
	return f.Before, nil
}

// begin writes the note.
func (p *Plan) begin(ctx context.Context) error {
	n := Note{What: enrolling, Issuer: p.Name, Machine: p.Machine.Name, By: p.About.Person, At: time.Now().UTC().Truncate(time.Second)}
	if p.Out {
		n.What = removing
	}
	if who, err := user.Current(); err == nil {
		n.By += " (" + who.Username + ")"
	}
	for _, f := range p.Files {
		if !f.base.There {
			n.Absent = append(n.Absent, f.Path)
		}
	}
	if err := farfile.Drop(ctx, p.account(), p.notePath()); err != nil { // a note that was cut off while it was written
		return err
	}
	if p.Begun == nil { // what an older one may have left is of no use any more
		for _, f := range p.Files {
			if err := farfile.Drop(ctx, p.account(), f.Path); err != nil {
				return err
			}
		}
	}
	text, err := json.MarshalIndent(n, "", "  ")
	if err != nil {
		return err
	}
	to := farfile.Text(append(text, '\n'))
	if err := p.apply(ctx, farfile.Change{Path: p.notePath(), Before: p.note, After: to, Mode: 0o600}); err != nil {
		return err
	}
	p.note = to
	return nil
}

// finish removes the kept copies, and the note last.
func (p *Plan) finish(ctx context.Context) error {
	var wrong error
	for _, f := range p.Files {
		wrong = errors.Join(wrong, farfile.Drop(ctx, p.account(), f.Path))
	}
	if wrong != nil {
		return wrong
	}
	if err := p.apply(ctx, farfile.Change{Path: p.notePath(), Before: p.note}); err != nil {
		return err
	}
	p.note = farfile.None
	return nil
}
