package keys

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/fit"
)

// rightBlock is the column that the lattice and the picture stand at, where there
// is room.
const rightBlock = 84

// sheet is a key with all that its sheet shows, read together so that drawing reads
// nothing.
type sheet struct {
	workspace.Key
	prints  []keyfile.Print // those over the private form where it has no passphrase
	gotIn   []string        // logins that it got in with, the latest first
	held    *ring.Entry     // in the ring, or nil
	changed time.Time       // when the file was last, zero where there is none
	folders []folder        // above the file, the nearest first
}

// folder is a folder by its name and mode.
type folder struct {
	name string
	mode fs.FileMode
}

// sheets reads the keys of a workspace.
func sheets(ws *workspace.Workspace, held []ring.Entry, logins *trail.Trail) []sheet {
	var all []sheet
	for _, k := range ws.Keys() {
		s := sheet{Key: k}
		if k.Sheet.Public != nil {
			s.prints = keyfile.PublicPrints(k.Sheet.Public)
			if file, err := keyfile.Read(k.Path); err == nil && !file.Passphrase {
				s.prints = file.Prints(nil)
				file.Forget()
			}
		}
		if logins != nil && k.Sheet.SHA256 != "" {
			s.gotIn = logins.Opened(k.Sheet.SHA256)
		}
		for i := range held {
			if held[i].SHA256 == k.Sheet.SHA256 && k.Sheet.SHA256 != "" {
				s.held = &held[i]
			}
		}
		if info, err := os.Stat(k.Path); err == nil {
			s.changed = info.ModTime()
		}
		for _, dir := range []string{filepath.Dir(k.Path), filepath.Dir(filepath.Dir(k.Path))} {
			if info, err := os.Stat(dir); err == nil {
				s.folders = append(s.folders, folder{sanitize.Name(dir), info.Mode()})
			}
		}
		all = append(all, s)
	}
	return all
}

// sheet draws everything that a key tells, or the answer to which key fits.
func (m *Model) sheet(k sheet) []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Strong.Render(sanitize.Name(k.Path)), t.Faint.Render(fit.Cut(workspace.Short(k.Path), m.width/2)), m.width, fit.Spread)}
	if m.opened != nil {
		return append(lines, "", "   "+t.Accent.Render("the first password, for a minute: ")+t.Strong.Render(sanitize.Line(string(m.opened), 200)), "   "+t.Faint.Render("It is stored nowhere; esc hides it."))
	}
	lines = append(lines, m.answer()...)
	if m.beside { // it has the height for both
		lines = append(append(append(lines, m.facts(k)...), ""), m.lattice(k)...)
		lines = append(lines, "")
	} else {
		lines = append(lines, fit.Beside(m.facts(k), m.lattice(k), min(m.width-40, rightBlock))...)
	}
	wide := m.width >= 110
	prints, picture := m.prints(k), m.picture(k)
	switch {
	case wide:
		prints = fit.Beside(prints, picture, rightBlock)
	case len(lines)+len(prints)+len(picture) < m.sheetRows(): // under them, where there is room
		prints = append(append(prints, ""), picture...)
	}
	return append(append(lines, prints...), m.flaws(k)...)
}

// sheetRows is how many rows the sheet has.
func (m *Model) sheetRows() int {
	if m.beside {
		return m.height - 3
	}
	return m.height - m.room() - 3
}

// answer says which key fits what was asked.
func (m *Model) answer() []string {
	t := m.s.Theme
	if m.asked == "" {
		return nil
	}
	asked := t.Strong.Render(fit.Cut(sanitize.Line(m.asked, 80), m.width/2))
	if len(m.which) == 0 {
		lines := []string{"   " + t.Mark(gate.Shut) + " no key here fits " + asked}
		lines = append(lines, fit.Hang("     "+t.Faint.Render("Ask whoever made the key pair for the file they downloaded then: it cannot be downloaded again."), 5, m.width-1).Whole...)
		return append(lines, "")
	}
	var lines []string
	for _, w := range m.which {
		lines = append(lines, fit.Hang("   "+t.Mark(gate.Open)+" "+t.Strong.Render(m.short(w.Key))+" is "+asked+t.Faint.Render(", by "+w.By), 5, m.width).Whole...)
	}
	return append(lines, "")
}

// factsWidth is how wide a fact is drawn.
func (m *Model) factsWidth() int {
	if m.beside {
		return max(m.width-17, 20)
	}
	return max(min(m.width-40, rightBlock)-17, 20)
}

// facts are what the key and its file are, in lines.
func (m *Model) facts(k sheet) []string {
	t := m.s.Theme
	var lines []string
	line := func(word, value string) {
		if value == "" {
			return
		}
		for _, l := range fit.Wrap(value, m.factsWidth()) {
			lines = append(lines, "   "+t.Faint.Render(fit.Pad(word, 12))+l)
			word = ""
		}
	}
	if k.Missing() {
		line("file", t.Verdict(gate.Shut).Render("there is none; ")+"sessions name it: a key of that name that arrives is offered")
		return lines
	}
	s := k.Sheet
	line("file format", string(s.Container))
	if s.Kind != "" {
		judged, why := s.Strength()
		style := map[keyfile.Strength]gate.Verdict{keyfile.Sound: gate.Open, keyfile.Aging: gate.Ajar, keyfile.TooWeak: gate.Shut}[judged]
		value := fmt.Sprintf("%s, %d bits  ", s.Kind, s.Bits) + t.Mark(style) + " " + judged.String()
		if why != "" {
			value += t.Faint.Render(": " + why)
		}
		line("kind", value)
	}
	passphrase := t.Mark(gate.Ajar) + " none" + t.Faint.Render(": anyone with the file can use the key")
	if s.Passphrase {
		passphrase = t.Mark(gate.Open) + " " + s.Derivation.String()
		if weak := s.Derivation.Weak(); weak != "" {
			passphrase = t.Mark(gate.Ajar) + " " + weak
		}
	}
	if k.Err == nil {
		line("passphrase", passphrase)
	}
	line("comment", s.Comment)
	line("opens", strings.Join(k.Uses, ", "))
	line("got in", strings.Join(k.gotIn, ", "))
	if terms := m.ws.Planner().TermsOf(k.Path); len(terms.Said) > 0 || terms.Stay > 0 || terms.Confirm {
		say := "every host"
		if len(terms.Said) > 0 {
			say = strings.Join(terms.Said, ", ")
		}
		if terms.Stay > 0 {
			say += t.Faint.Render(", stays " + terms.Stay.String() + " in the ring")
		}
		if terms.Confirm {
			say += t.Faint.Render(", others must ask")
		}
		line("meant for", say)
	}
	if k.held != nil {
		line("in the ring", k.held.Stay()+t.Faint.Render(", used "+words.Count(k.held.Uses, "time")))
	}
	if !k.changed.IsZero() {
		line("age", fit.Ago(time.Since(k.changed))+t.Faint.Render(", since "+k.changed.Local().Format("2 Jan 2006")))
	}
	return lines
}

// flaws are what is wrong with the key or its file, in lines.
func (m *Model) flaws(k sheet) []string {
	t := m.s.Theme
	var lines []string
	say := func(v gate.Verdict, text string) {
		for i, l := range fit.Wrap(text, m.width-8) {
			mark := " "
			if i == 0 {
				mark = t.Mark(v)
			}
			lines = append(lines, "   "+mark+" "+l)
		}
	}
	if k.Missing() {
		return nil
	}
	for _, f := range k.Sheet.Faults {
		verdict := gate.Ajar
		if f.Blocks {
			verdict = gate.Shut
		}
		say(verdict, f.Say+"; "+f.Mend)
	}
	for _, r := range k.Sheet.Repairs {
		say(gate.Ajar, "readable, but "+r)
	}
	if _, stopped := k.Sheet.Blocked(); k.Err != nil && !stopped {
		say(gate.Shut, k.Err.Error())
	}
	return lines
}

// prints draws the key's fingerprints; those over the private form are there
// where it has no passphrase.
func (m *Model) prints(k sheet) []string {
	if k.Sheet.Public == nil {
		return nil
	}
	t := m.s.Theme
	var lines []string
	for _, p := range k.prints {
		lines = append(lines, "   "+t.Faint.Render(fit.Pad(p.Name, 12))+p.Value)
		lines = append(lines, "   "+fit.Pad("", 12)+t.Faint.Render("over "+p.Over))
	}
	if k.Cert != nil {
		lines = append(lines, "   "+t.Faint.Render(fit.Pad("certificate", 12))+k.Cert.Said())
	}
	return lines
}

// lattice draws the file's permissions, with what is too many marked, and those
// of the folders above.
func (m *Model) lattice(k sheet) []string {
	if k.Missing() || k.Sheet.Mode == 0 {
		return nil
	}
	t := m.s.Theme
	perm := k.Sheet.Mode.Perm()
	lines := []string{"          " + t.Faint.Render("owner  group  others")}
	excess := 0
	for _, row := range []struct {
		word string
		bit  fs.FileMode
	}{{"read", 4}, {"write", 2}, {"run", 1}} {
		line := "  " + t.Faint.Render(fit.Pad(row.word, 8))
		for shift := 6; shift >= 0; shift -= 3 {
			cell := t.Rule.Render("·")
			if perm>>shift&row.bit != 0 {
				cell = t.Text.Render("■")
				if shift < 6 {
					cell = t.Verdict(gate.Shut).Render("▨")
					excess++
				}
			}
			line += "  " + cell + "    "
		}
		lines = append(lines, line)
	}
	say := t.Faint.Render(fmt.Sprintf("%04o, %s", perm, sanitize.Line(k.Sheet.Owner, 20)))
	if excess > 0 {
		say += t.Verdict(gate.Shut).Render(fmt.Sprintf("  %d too many", excess))
	}
	lines = append(lines, "  "+say)
	for _, dir := range k.folders {
		mark := t.Mark(gate.Open)
		if dir.mode.Perm()&0o022 != 0 && dir.mode&fs.ModeSticky == 0 {
			mark = t.Mark(gate.Ajar)
		}
		lines = append(lines, fit.Cut("  "+mark+" "+t.Faint.Render(fmt.Sprintf("%04o %s/", dir.mode.Perm(), dir.name)), 38))
	}
	return append(lines, "")
}

// picture draws the key's fingerprint.
func (m *Model) picture(k sheet) []string {
	if k.Sheet.Public == nil {
		return nil
	}
	var lines []string
	for _, row := range keyfile.Picture(k.Sheet.Public) {
		lines = append(lines, "  "+m.s.Theme.Live.Render(row))
	}
	return lines
}
