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
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui/fit"
)

// rightBlock is the column that the lattice and the picture stand at, where there
// is room.
const rightBlock = 84

// sheet draws everything that a key tells, or the answer to which key fits.
func (m *Model) sheet(k workspace.Key) []string {
	t := m.theme
	lines := []string{t.Title(t.Strong.Render(filepath.Base(k.Path)), t.Faint.Render(fit.Cut(workspace.Short(k.Path), m.width/2)), m.width, fit.Spread)}
	if m.opened != nil {
		return append(lines, "", "   "+t.Accent.Render("the first password, for a minute: ")+t.Strong.Render(sanitize.Line(string(m.opened), 200)), "   "+t.Faint.Render("It is stored nowhere; esc hides it."))
	}
	lines = append(lines, m.answer()...)
	lines = append(lines, fit.Beside(m.facts(k), m.lattice(k), min(m.width-40, rightBlock))...)
	wide := m.width >= 110
	prints, picture := m.prints(k), m.picture(k)
	switch {
	case wide:
		prints = fit.Beside(prints, picture, rightBlock)
	case len(lines)+len(prints)+len(picture) < m.height-m.room()-4: // under them, where there is room
		prints = append(append(prints, ""), picture...)
	}
	return append(append(lines, prints...), m.flaws(k)...)
}

// answer says which key fits what was asked.
func (m *Model) answer() []string {
	t := m.theme
	if m.asked == "" {
		return nil
	}
	asked := t.Strong.Render(fit.Cut(sanitize.Line(m.asked, 80), m.width/2))
	if len(m.which) == 0 {
		return []string{"   " + t.Mark(gate.Shut) + " no key here fits " + asked,
			"     " + t.Faint.Render("Ask whoever made the key pair for the file they downloaded then: it cannot be downloaded again."), ""}
	}
	var lines []string
	for _, w := range m.which {
		lines = append(lines, "   "+t.Mark(gate.Open)+" "+asked+" is "+t.Strong.Render(m.short(w.Key))+t.Faint.Render(", by "+fit.Cut(w.By, m.width/2)))
	}
	return append(lines, "")
}

// facts are what the key and its file are, in lines.
func (m *Model) facts(k workspace.Key) []string {
	t := m.theme
	var lines []string
	line := func(word, value string) {
		if value != "" {
			lines = append(lines, "   "+t.Faint.Render(fit.Pad(word, 12))+value)
		}
	}
	if k.Missing() {
		line("file", t.Verdict(gate.Shut).Render("there is none; ")+"sessions name it: a key of that name that arrives is offered")
		return lines
	}
	s := k.Sheet
	line("container", string(s.Container))
	if s.Kind != "" {
		judged, why := s.Strength()
		style := map[keyfile.Strength]gate.Verdict{keyfile.Sound: gate.Open, keyfile.Aging: gate.Ajar, keyfile.TooWeak: gate.Shut}[judged]
		value := fmt.Sprintf("%s, %d bits  ", s.Kind, s.Bits) + t.Mark(style) + " " + judged.String()
		if why != "" {
			value += t.Faint.Render(": " + why)
		}
		line("kind", value)
	}
	passphrase := t.Mark(gate.Ajar) + " none" + t.Faint.Render(": whoever gets the file has the key")
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
	if opened, ok := m.ws.Logins.(interface{ Opened(string) []string }); ok && s.SHA256 != "" {
		line("got in", fit.Cut(strings.Join(opened.Opened(s.SHA256), ", "), max(min(m.width-40, rightBlock)-18, 20)))
	}
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
	for _, e := range m.held() {
		if e.SHA256 == s.SHA256 && s.SHA256 != "" {
			line("in the ring", e.Stay()+t.Faint.Render(fmt.Sprintf(", used %d times", e.Uses)))
		}
	}
	if info, err := os.Stat(k.Path); err == nil {
		line("age", fit.Ago(time.Since(info.ModTime()))+t.Faint.Render(", since "+info.ModTime().Local().Format("2 Jan 2006")))
	}
	return lines
}

// flaws are what is wrong with the key or its file, in lines.
func (m *Model) flaws(k workspace.Key) []string {
	t := m.theme
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
		say(gate.Ajar, "read all the same, but "+r)
	}
	if _, stopped := k.Sheet.Blocked(); k.Err != nil && !stopped {
		say(gate.Shut, k.Err.Error())
	}
	return lines
}

// prints draws the key's fingerprints; those over the private form are there
// where it has no passphrase.
func (m *Model) prints(k workspace.Key) []string {
	if k.Sheet.Public == nil {
		return nil
	}
	t := m.theme
	prints := keyfile.PublicPrints(k.Sheet.Public)
	if file, err := keyfile.Read(k.Path); err == nil && !file.Passphrase {
		prints = file.Prints(nil)
	}
	var lines []string
	for _, p := range prints {
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
func (m *Model) lattice(k workspace.Key) []string {
	if k.Missing() || k.Sheet.Mode == 0 {
		return nil
	}
	t := m.theme
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
	for _, dir := range []string{filepath.Dir(k.Path), filepath.Dir(filepath.Dir(k.Path))} {
		if info, err := os.Stat(dir); err == nil {
			mark := t.Mark(gate.Open)
			if info.Mode().Perm()&0o022 != 0 && info.Mode()&fs.ModeSticky == 0 {
				mark = t.Mark(gate.Ajar)
			}
			lines = append(lines, fit.Cut("  "+mark+" "+t.Faint.Render(fmt.Sprintf("%04o %s/", info.Mode().Perm(), filepath.Base(dir))), 38))
		}
	}
	return append(lines, "")
}

// picture draws the key's fingerprint.
func (m *Model) picture(k workspace.Key) []string {
	if k.Sheet.Public == nil {
		return nil
	}
	var lines []string
	for _, row := range keyfile.Picture(k.Sheet.Public) {
		lines = append(lines, "  "+m.theme.Live.Render(row))
	}
	return lines
}
