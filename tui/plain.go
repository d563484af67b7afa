package tui

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/contain"
	"meatus/core/posix"
	"meatus/core/sanitize"
	"meatus/core/term"
	"meatus/tui/finder"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The size that plain places are drawn for: tall enough for nothing to be left out.
const (
	plainWidth  = 110
	plainHeight = 400
)

// plain is the program as lines of text, for screen readers and for terminals that cannot be drawn
// on: the same places, keys and questions, with no frame and nothing drawn anew.
type plain struct {
	a        *App
	out      *bufio.Writer
	messages chan tea.Msg
	ctx      context.Context
	done     bool

	place  string   // that was read out last
	chosen []string // what was said of what is chosen
	notice string
	asked  string
	offers []finder.Item // what words have found, to choose from by number
	row    map[int]int   // of each shell: the first row that was not read out
	prompt string        // the line with the cursor, as it was read out
	quiet  *time.Timer
	beside func(err error) tea.Msg // takes the end of a program that the person runs elsewhere
}

// errLeft is the end of a program that was not run after all.
var errLeft = errors.New("it was left")

// besides has the person run a program in another terminal, as this one reads lines, and waits until they say that it has
// ended.
func (p *plain) besides(c *exec.Cmd, ended func(error) tea.Msg) tea.Cmd {
	var words []string
	for _, arg := range c.Args {
		words = append(words, posix.Word(arg))
	}
	p.say("run this in another terminal: " + sanitize.Line(strings.Join(words, " "), 4000))
	p.say("an empty line goes on once you have saved and left it; esc leaves it as it was")
	p.beside = ended
	return nil
}

// RunPlain is the program as lines of text, from in to out, until it is left or in ends.
func (a *App) RunPlain(ctx context.Context, in io.Reader, out io.Writer) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer a.Close()
	a.plain = &plain{a: a, out: bufio.NewWriter(out), messages: make(chan tea.Msg), ctx: ctx, row: map[int]int{}, quiet: time.NewTimer(time.Hour)}
	return a.plain.run(in)
}

func (p *plain) run(in io.Reader) error {
	lines := make(chan string)
	go func() {
		defer close(lines)
		s := bufio.NewScanner(in)
		s.Buffer(nil, 1<<20)
		for s.Scan() {
			select {
			case lines <- s.Text():
			case <-p.ctx.Done():
				return
			}
		}
	}()
	p.take(tea.WindowSizeMsg{Width: plainWidth, Height: plainHeight})
	p.do(p.a.Init())
	p.say("meatus " + p.a.name() + ". A key or words, then enter: ? lists the keys, all reads out everything, an empty line what is chosen.")
	for !p.done {
		p.tell()
		if err := p.out.Flush(); err != nil {
			return err
		}
		select {
		case line, open := <-lines:
			if !open {
				return nil
			}
			p.line(line)
		case msg := <-p.messages:
			p.take(msg)
		case <-p.quiet.C:
			p.readPrompt()
		case <-p.ctx.Done():
			return nil
		}
	}
	return p.out.Flush()
}

func (p *plain) say(line string) { fmt.Fprintln(p.out, line) }

// take gives the frame a message, and runs what it asks for beside everything else.
func (p *plain) take(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.QuitMsg:
		p.done = true
		return
	case tea.BatchMsg:
		for _, cmd := range msg {
			p.do(cmd)
		}
		return
	}
	_, cmd := p.a.Update(msg)
	p.do(cmd)
}

func (p *plain) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		var msg tea.Msg
		if err := contain.Do("something in the background", func() error { msg = cmd(); return nil }); err != nil || msg == nil {
			return
		}
		select {
		case p.messages <- msg:
		case <-p.ctx.Done():
		}
	}()
}

// press presses a key by its name.
func (p *plain) press(key string) {
	if msg, ok := plainKey(key); ok {
		p.take(msg)
	}
}

// plainKey is the key of a name: a letter, or a word for one.
func plainKey(name string) (tea.KeyPressMsg, bool) {
	named := map[string]rune{
		"enter": tea.KeyEnter, "esc": tea.KeyEscape, "tab": tea.KeyTab, "up": tea.KeyUp, "down": tea.KeyDown, "left": tea.KeyLeft, "right": tea.KeyRight,
		"pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd, "backspace": tea.KeyBackspace, "delete": tea.KeyDelete,
	}
	mod := tea.KeyMod(0)
	for prefix, m := range map[string]tea.KeyMod{"ctrl+": tea.ModCtrl, "alt+": tea.ModAlt, "shift+": tea.ModShift} {
		if rest, ok := strings.CutPrefix(name, prefix); ok && rest != "" {
			name, mod = rest, mod|m
		}
	}
	if code, ok := named[name]; ok {
		return tea.KeyPressMsg{Code: code, Mod: mod}, true
	}
	if name == "space" {
		return tea.KeyPressMsg{Code: tea.KeySpace, Text: " ", Mod: mod}, true
	}
	if r := []rune(name); len(r) == 1 {
		msg := tea.KeyPressMsg{Code: r[0], Mod: mod}
		if mod == 0 {
			msg.Text = name
		}
		return msg, true
	}
	return tea.KeyPressMsg{}, false
}

// typed types a text, and enter behind it.
func (p *plain) typed(text string) {
	for _, r := range text {
		p.take(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
	p.press("enter")
}

// line does what a line says.
func (p *plain) line(line string) {
	a := p.a
	word := strings.TrimSpace(line)
	switch {
	case p.beside != nil:
		ended := p.beside
		switch word {
		case "":
			p.beside = nil
			p.take(ended(nil))
		case "esc":
			p.beside = nil
			p.take(ended(errLeft))
		default:
			p.say("an empty line goes on, esc leaves it")
		}
	case a.inShell() && !strings.HasPrefix(line, "."):
		p.prompt = ""
		p.typed(line)
	case a.inShell():
		p.behindLeader(word[1:])
	case word == "all":
		p.read(p.whole())
	case word == "?":
		p.keys()
	case word == "esc" || word == "leader":
		if word == "leader" {
			word = a.options.Leader
		}
		p.press(word)
	case a.stack.Top().Typing() && a.stack.Top().Shape() != stack.Dialog:
		p.typed(line)
	case len(p.offers) > 0 && len(word) == 1 && word[0] >= '1' && int(word[0]-'0') <= len(p.offers):
		item := p.offers[word[0]-'1']
		p.offers = nil
		if item.WhyNot != "" {
			p.say("not now: " + item.WhyNot)
			return
		}
		p.do(p.a.byHand(item.Do))
	case word == "":
		p.chosen = nil
	default:
		p.offers = nil
		if _, ok := plainKey(word); ok {
			p.press(word)
			return
		}
		p.find(word)
	}
}

// behindLeader does what a line behind a full stop says in a shell.
func (p *plain) behindLeader(word string) {
	switch {
	case word == "" || word == "all":
		p.readScreen()
	case strings.HasPrefix(word, "ctrl+") || strings.HasPrefix(word, "alt+") || word == "esc" || word == "tab" || word == "up" || word == "down":
		p.press(word) // to the far side
	case strings.HasPrefix(word, "."):
		p.typed(word)
	default:
		p.press(p.a.options.Leader)
		p.press(word)
	}
}

// find offers what words find; one alone is done.
func (p *plain) find(words string) {
	p.a.find(words)
	finder := layer[*findLayer](p.a.stack)
	items := finder.Items()
	p.a.stack.Drop(finder)
	switch {
	case len(items) == 0:
		p.say("nothing is called that: " + words)
		return
	case len(items) == 1 && items[0].WhyNot == "":
		p.do(p.a.byHand(items[0].Do))
		return
	}
	p.offers = items[:min(len(items), 9)]
	for i, item := range p.offers {
		say := fmt.Sprintf("%d %s", i+1, item.Say)
		if item.Of != "" {
			say += ", " + item.Of
		}
		if item.Key != "" {
			say += ", key " + item.Key
		}
		if item.WhyNot != "" {
			say += ", not now: " + item.WhyNot
		}
		p.say(say)
	}
	p.say("a number does it")
}

// keys lists the keys of what has them.
func (p *plain) keys() {
	for _, g := range p.a.helpGroups() {
		if g.name == marksGroup || g.name == shellGroup { // marks are read as words
			continue
		}
		p.say(g.name + ":")
		for _, h := range g.hints {
			p.say(h.Key + ": " + h.Does)
		}
	}
	p.say("in a shell, a line is sent to the remote shell; a line that begins with a full stop is not: .0 goes to Routes, .ctrl+c interrupts, .all reads the screen")
}

// whole is everything that the place shows.
func (p *plain) whole() []string {
	if p.a.inShell() {
		return nil
	}
	return p.a.placeLines()
}

// tell says what is new: where one is, what asks, what is to be said, and what of the place has
// changed since it was read out.
func (p *plain) tell() {
	a := p.a
	if a.inShell() {
		p.tellShell()
		return
	}
	at := places[a.at()].Name
	if a.under().Shape().OnRoutes() {
		at = "task"
	}
	if at != p.place {
		p.place, p.chosen = at, nil
		p.read(p.whole())
	}
	if a.ask.Waiting() && a.answering() {
		if asked := strings.Join(plainLines(a.ask.View(plainHeight, "")), "\n"); asked != p.asked {
			p.asked = asked
			p.say(asked)
			p.say("type the answer, or esc")
		}
	} else {
		p.asked = ""
	}
	if leave := layer[*leaveLayer](a.stack); leave != nil {
		if p.notice != "leaving" {
			p.notice = "leaving"
			p.read(leave.View())
			p.say("enter ends them and leaves, esc stays")
		}
		return
	}
	said := a.said(a.stack.Top())
	if said != "" && said != p.notice {
		p.say(said)
	}
	p.notice = said
	if chosen := p.aboutChosen(); len(p.chosen) == 0 || strings.Join(chosen, "\n") != strings.Join(p.chosen, "\n") && !a.home.Checking() {
		same := len(p.chosen) > 0 && len(chosen) > 0 && subject(chosen[0]) == subject(p.chosen[0])
		for i, l := range chosen { // of the same thing, what is new
			if !same || i > 0 && !slices.Contains(p.chosen, l) && theme.HasStatus(l) {
				p.say(plainLine(l))
			}
		}
		p.chosen = chosen
	}
}

// subject is what a card is of.
func subject(title string) string {
	name, _, _ := strings.Cut(plainLine(title), ",")
	return name
}

// aboutChosen is what is said of what is chosen, as it is drawn: the card on Routes, its line elsewhere.
func (p *plain) aboutChosen() []string {
	a := p.a
	if a.under() == a.home {
		return slices.DeleteFunc(a.home.Card(), func(l string) bool { return plainLine(l) == "" })
	}
	for _, l := range a.placeLines() {
		if strings.Contains(l, theme.Chosen) {
			return []string{l}
		}
	}
	return []string{""}
}

func (p *plain) read(lines []string) {
	for _, l := range plainLines(lines) {
		p.say(l)
	}
}

// plainWords are what the frame's own signs of direction say; marks have words of their own ([theme.Words]).
var plainWords = strings.NewReplacer("▲", " ", "⇐", " from ", "⇒", " to ", "↓", " in ", "↑", " out ", " ▸ ", ", ", "▸", " ", "⇄", " ", "…", "...")

// plainLines are drawn lines as words: no frames, marks as what they mean, columns parted by
// commas, and no line that says nothing.
func plainLines(lines []string) []string {
	var out []string
	for _, line := range lines {
		if line = plainLine(line); line != "" {
			out = append(out, line)
		}
	}
	return out
}

func plainLine(line string) string {
	line = strings.Map(func(r rune) rune {
		switch {
		case r >= 0x2500 && r <= 0x25ff && r != '▸' && r != '▲', r >= 0x2800 && r <= 0x28ff:
			return ' '
		case r == '·':
			return ','
		}
		return r
	}, ansi.Strip(line))
	line = theme.Words(plainWords.Replace(line))
	var columns []string
	for column := range strings.SplitSeq(line, "  ") {
		if column = strings.TrimSpace(column); column != "" {
			columns = append(columns, column)
		}
	}
	line = strings.Join(columns, ", ")
	line = strings.NewReplacer(":, ", ": ", " ,", ",", ",,", ",").Replace(line)
	return strings.Trim(line, " ,")
}

// tellShell reads out what a shell has printed: whole lines as they come, the line with the cursor
// once nothing more comes for a moment.
func (p *plain) tellShell() {
	s := p.a.shell.Shell()
	who, way := s.Where()
	if at := fmt.Sprint("shell ", s.ID); at != p.place {
		p.place, p.prompt = at, ""
		p.say("shell: " + who + ", " + strings.ReplaceAll(way, " ▸ ", ", "))
	}
	f := s.Frame()
	end := f.First + f.Back + f.Y
	from, known := p.row[s.ID]
	if !known {
		from = f.First
	}
	if f.Alternate {
		if p.notice != "alternate" {
			p.notice = "alternate"
			p.say("a full-screen program runs; .all reads what it shows")
		}
		return
	}
	if p.notice == "alternate" {
		p.notice = ""
	}
	if end > from {
		text := ""
		s.With(func(screen *term.Screen) {
			text = screen.TextBetween(term.Point{Row: from}, term.Point{Row: end - 1, Col: f.Cols - 1})
		})
		for _, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
			p.say(l)
		}
		p.prompt = ""
	}
	p.row[s.ID] = end
	if !s.Live() && p.notice != "ended" {
		p.notice = "ended"
		p.say("the shell has ended; .enter goes back, .a reconnects")
	}
	p.quiet.Reset(150 * time.Millisecond)
}

// readPrompt reads out the line with the cursor.
func (p *plain) readPrompt() {
	if !p.a.inShell() {
		return
	}
	f := p.a.shell.Shell().Frame()
	if line := f.Line(min(f.Y, len(f.Lines)-1)); line != "" && line != p.prompt && !f.Alternate {
		p.prompt = line
		p.say(line)
	}
}

// readScreen reads out what the shell shows now.
func (p *plain) readScreen() {
	f := p.a.shell.Shell().Frame()
	for i := range f.Lines {
		if l := f.Line(i); strings.TrimSpace(l) != "" {
			p.say(l)
		}
	}
}
