package shells

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/sanitize"
	"meatus/core/term"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Action is something that can be done with the shell that shows, by the key that
// does it behind the leader.
type Action struct {
	theme.Hint
	Also string // other words for it
	do   func(m *Model)
}

// Actions lists what can be done with the shell that shows. Two of them are the
// frame's: b takes the next shell beside, o is told here.
func Actions() []Action {
	return []Action{
		{theme.Hint{Key: "/", Does: "search the output"}, "find scrollback output", (*Model).search},
		{theme.Hint{Key: "v", Does: "select and copy with keys"}, "mark clipboard", (*Model).selectKeys},
		{theme.Hint{Key: "w", Does: "save the output to a file"}, "save output export", (*Model).save},
		{theme.Hint{Key: "l", Does: "start or stop a log file"}, "record session file", (*Model).toggleLog},
		{theme.Hint{Key: "p", Does: "to the command before"}, "prompt back jump previous", func(m *Model) { m.toPrompt(false) }},
		{theme.Hint{Key: "n", Does: "to the command after"}, "prompt forward jump next", func(m *Model) { m.toPrompt(true) }},
		{theme.Hint{Key: "u", Does: "open or copy a link"}, "url web address open copy http", (*Model).findLinks},
		{theme.Hint{Key: "b", Does: "split, or show one shell alone"}, "split panes several", nil},
		{theme.Hint{Key: "o", Does: "focus the next shell"}, "focus pane other side", (*Model).Other},
		{theme.Hint{Key: "=", Does: "change the split layout"}, "layout grid rows columns arrange", (*Model).Arrange},
		{theme.Hint{Key: "A", Does: "type to all shown shells, or to one"}, "several many broadcast together", (*Model).askMany},
		{theme.Hint{Key: "[", Does: "divide to the left"}, "narrower split", func(m *Model) { m.MoveDivide(-5) }},
		{theme.Hint{Key: "]", Does: "divide to the right"}, "wider split", func(m *Model) { m.MoveDivide(5) }},
	}
}

// Do does an action by its key, where it is not the frame's. It returns what is asked of the frame, or nil.
func (m *Model) Do(key string) (wish tea.Msg) {
	for _, a := range Actions() {
		if a.Key == key && a.do != nil && m.shell != nil {
			m.notice, m.wish = "", nil
			a.do(m)
		}
	}
	wish, m.wish = m.wish, nil
	return wish
}

func (m *Model) ask(what mode, proposed string) {
	m.mode = what
	m.input.Begin(proposed)
}

// leaveMode gives the keys back to the far side.
func (m *Model) leaveMode() {
	m.mode, m.held, m.marked, m.drag, m.jumped = typing, "", span{}, false, false
}

func (m *Model) search() { m.ask(searching, "") }

// selectKeys puts a cursor where the far side's is.
func (m *Model) selectKeys() {
	f := m.shell.Frame()
	m.mode = selecting
	m.cursor = term.Point{Row: f.First + min(f.Y, f.Rows-1), Col: f.X}
	m.marked = span{m.cursor, m.cursor, true}
	m.held = "" // nothing is anchored yet
}

// proposed is a file's name for what a shell showed.
func (m *Model) proposed(kind string) string {
	name := fmt.Sprintf("%s-%s.%s", m.shell.Route.Session, time.Now().Format("20060102-1504"), kind)
	if home, err := os.UserHomeDir(); err == nil {
		return workspace.Short(filepath.Join(home, name))
	}
	return name
}

func (m *Model) save() {
	m.whole = true
	m.ask(saving, m.proposed("txt"))
}

// toggleLog ends the log, or asks where one is to be written.
func (m *Model) toggleLog() {
	if path, _ := m.shell.Logging(); path == "" {
		m.ask(logging, m.proposed("log"))
		return
	}
	s := m.shell.Shell
	m.wish = Run(func() string {
		path, err := s.StopLog()
		switch {
		case err != nil:
			return "the log is not whole: " + err.Error()
		case path == "":
			return ""
		}
		return "the log is in " + workspace.Short(path)
	})
}

// paste sends what was pasted; several lines, which a shell without bracketed
// paste would run one after another, wait for a yes.
func (m *Model) paste(msg tea.PasteMsg) {
	switch m.mode {
	case searching, saving, logging:
		m.input.Take(msg)
		return
	case typing:
	default:
		return
	}
	if !m.shell.Live() {
		return
	}
	if strings.ContainsAny(msg.Content, "\r\n") && !m.shell.Frame().Modes.Paste || m.many {
		m.mode, m.held = pasting, msg.Content
		return
	}
	m.sendPaste(msg.Content)
}

func (m *Model) sendPaste(text string) {
	m.toEnd()
	m.sendAll(func(s *Shell) []byte { return term.EncodePaste(text, s.Frame().Modes) })
}

// toPrompt shows the command before what shows, or the one after, where the shell says where its
// prompts begin.
func (m *Model) toPrompt(below bool) {
	f := m.shell.Frame()
	row := f.First
	switch {
	case m.jumped: // the frame may not show yet what was gone to last
		row = m.marked.from.Row
	case !below && f.Back == 0:
		row = f.First + min(f.Y, f.Rows-1)
	}
	var at int
	var ok bool
	m.shell.With(func(screen *term.Screen) { at, ok = screen.Prompt(row, below) })
	switch {
	case !ok && below:
		m.toEnd()
	case !ok:
		m.notice = "no command before this is known; shells that mark their prompts (OSC 133) tell"
	default:
		m.shell.back = min(max(f.First+f.Back-at, 0), f.Scrolled)
		m.shell.Look(m.shell.back)
		m.marked, m.jumped = span{term.Point{Row: at}, term.Point{Row: at, Col: f.Cols - 1}, true}, true
	}
}

// web are the links that are found: nothing but these two schemes.
var web = regexp.MustCompile(`https?://[^\s"'<>\x60{}|\\^]+`)

// findLinks goes through the open or copy a link, the last first.
func (m *Model) findLinks() {
	f := m.shell.Frame()
	text := ""
	m.shell.With(func(screen *term.Screen) {
		text = screen.TextBetween(term.Point{Row: f.First}, term.Point{Row: f.First + f.Rows - 1, Col: f.Cols - 1})
	})
	m.links, m.link = nil, 0
	for _, l := range slices.Backward(web.FindAllString(text, 200)) {
		if l = strings.TrimRight(l, ".,;:!?)]"); !slices.Contains(m.links, l) {
			m.links = append(m.links, l)
		}
	}
	if len(m.links) == 0 {
		m.notice = "no link shows"
		return
	}
	m.mode = linking
}

// modeKey takes a key while the place does something of its own.
func (m *Model) modeKey(msg tea.KeyPressMsg) (wish tea.Msg) {
	key := msg.String()
	if key == "esc" || key == "ctrl+c" {
		m.leaveMode()
		m.toEnd()
		return nil
	}
	switch m.mode {
	case pasting:
		text := m.held
		m.leaveMode()
		if key == "enter" {
			m.sendPaste(text)
		}
	case searching:
		if key == "enter" {
			m.mode = stepping
			m.marked = span{}
			m.step(false)
			return nil
		}
		m.input.Take(msg)
	case stepping:
		switch key {
		case "n", "up", "enter":
			m.step(false)
		case "N", "down", "shift+n":
			m.step(true)
		case "y":
			return m.copy()
		case "/":
			m.mode = searching
		}
	case selecting:
		return m.selectKey(key)
	case manying:
		m.leaveMode()
		if m.many = key == "enter"; !m.many {
			m.notice = "typing to this shell alone"
		}
	case linking:
		switch key {
		case "up", "n", "tab":
			m.link = (m.link + 1) % len(m.links)
		case "down", "N", "shift+tab":
			m.link = (m.link + len(m.links) - 1) % len(m.links)
		case "enter", "y":
			link := m.links[m.link]
			m.leaveMode()
			m.notice = "the link is on the clipboard"
			return Copy{link}
		case "o":
			link := m.links[m.link]
			m.leaveMode()
			return OpenLink{link}
		}
	case saving, logging:
		switch key {
		case "enter":
			return m.write()
		case "tab":
			m.whole = !m.whole
		default:
			m.input.Take(msg)
		}
	}
	return nil
}

// step goes to the next match, and says where there is none.
func (m *Model) step(forwards bool) {
	text := m.input.Text()
	s := m.shell
	var from, to term.Point
	var ok bool
	s.With(func(screen *term.Screen) {
		at := m.marked.from
		if !m.marked.on {
			_, end := screen.Rows()
			at = term.Point{Row: end}
		}
		from, to, ok = screen.Find(text, at, forwards)
	})
	if !ok {
		m.notice = "no more of it"
		if !m.marked.on {
			m.notice = "not there"
		}
		return
	}
	m.marked = span{from, to, true}
	m.reveal(from.Row)
}

// reveal scrolls so that a row is in view.
func (m *Model) reveal(row int) {
	f := m.shell.Frame()
	bottom := f.First + f.Back // the first row of the screen itself
	if row >= f.First && row < f.First+f.Rows {
		return
	}
	m.shell.back = min(max(bottom-row+f.Rows/3, 0), f.Scrolled)
	m.shell.Look(m.shell.back)
}

func (m *Model) selectKey(key string) (wish tea.Msg) {
	f := m.shell.Frame()
	c := m.cursor
	switch key {
	case "left", "h":
		c.Col--
	case "right", "l":
		c.Col++
	case "up", "k":
		c.Row--
	case "down", "j":
		c.Row++
	case "home", "0":
		c.Col = 0
	case "end", "$":
		c.Col = f.Cols - 1
	case "pgup":
		c.Row -= f.Rows / 2
	case "pgdown":
		c.Row += f.Rows / 2
	case "space", "v":
		m.held = "anchored"
		m.marked = span{c, c, true}
	case "w":
		m.shell.With(func(screen *term.Screen) { m.marked.from, m.marked.to = screen.Word(c) })
		m.held, m.cursor = "anchored", m.marked.to
		return nil
	case "enter", "y":
		return m.copy()
	}
	first := f.First + f.Back - f.Scrolled
	c.Row = min(max(c.Row, first), first+f.Scrolled+f.Rows-1)
	c.Col = min(max(c.Col, 0), f.Cols-1)
	m.cursor = c
	if m.marked.to = c; m.held == "" {
		m.marked.from = c
	}
	m.reveal(c.Row)
	return nil
}

// copy takes what is marked.
func (m *Model) copy() (wish tea.Msg) {
	text := ""
	marked := m.marked
	m.shell.With(func(screen *term.Screen) { text = screen.TextBetween(marked.from, marked.to) })
	m.leaveMode()
	if text == "" {
		return nil
	}
	m.notice = fmt.Sprintf("copied %d characters", len([]rune(text)))
	return Copy{text}
}

// write saves what was shown, or begins a log.
func (m *Model) write() (wish tea.Msg) {
	path, s, whole, logs := strings.TrimSpace(m.input.Text()), m.shell.Shell, m.whole, m.mode == logging
	m.leaveMode()
	return Run(func() string {
		if rest, ok := strings.CutPrefix(path, "~/"); ok {
			if home, err := os.UserHomeDir(); err == nil {
				path = filepath.Join(home, rest)
			}
		}
		say, err := "written to "+workspace.Short(path), error(nil)
		if logs {
			say, err = "what it prints is logged to "+workspace.Short(path), s.StartLog(path)
		} else {
			err = s.Save(path, whole)
		}
		if err != nil {
			return "not written: " + err.Error()
		}
		return say
	})
}

// modeLine is the line above the terminal while the place does something of its
// own.
func (m *Model) modeLine(width int) string {
	t := m.theme
	word := func(s string) string { return " " + t.Accent.Render("▌"+s+" ") }
	room := max(width-60, 12)
	hints := func(h ...theme.Hint) string { return "  " + t.Keys(h...) }
	esc := theme.Hint{Key: "esc", Does: "leave"}
	switch m.mode {
	case searching:
		return word("search") + m.input.View(room) + hints(theme.Hint{Key: "enter", Does: "back from the end"}, esc)
	case stepping:
		say := t.Strong.Render(m.input.Text())
		if m.notice != "" {
			say += t.Accent.Render("  " + m.notice)
		}
		return word("search") + say + hints(theme.Hint{Key: "n", Does: "earlier"}, theme.Hint{Key: "N", Does: "later"}, theme.Hint{Key: "y", Does: "copy"}, esc)
	case selecting:
		return word("select") + hints(theme.Hint{Key: "arrows", Does: "move"}, theme.Hint{Key: "space", Does: "begin here"}, theme.Hint{Key: "w", Does: "word"}, theme.Hint{Key: "enter", Does: "copy"}, esc)
	case pasting:
		lines := strings.Split(strings.TrimRight(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(m.held), "\n"), "\n")
		say := fmt.Sprintf("paste %d lines? ", len(lines))
		if m.many {
			return word(fmt.Sprintf("paste to %d SHELLS?", m.Many())) + t.Strong.Render(sanitize.Line(lines[0], 40)) + hints(theme.Hint{Key: "enter", Does: "paste"}, theme.Hint{Key: "any other", Does: "do not"})
		}
		if len(lines) == 1 {
			say = "paste a line with its end? "
		}
		return word(say+"This shell runs each as it arrives:") + t.Strong.Render(sanitize.Line(lines[0], 40)) + hints(theme.Hint{Key: "enter", Does: "paste"}, theme.Hint{Key: "any other", Does: "do not"})
	case manying:
		all, left := m.mayMany()
		var names []string
		for _, s := range all {
			names = append(names, s.Way().Target().Name)
		}
		return word(fmt.Sprintf("type to %d shells at once?", len(all))) + t.Strong.Render(fit.Cut(strings.Join(names, ", ")+left, max(width-72, 16))) + hints(theme.Hint{Key: "enter", Does: "type to all"}, theme.Hint{Key: "any other", Does: "do not"})
	case linking:
		return word(fmt.Sprintf("link %d of %d", m.link+1, len(m.links))) + t.Strong.Render(fit.Cut(sanitize.Line(m.links[m.link], 300), max(width-66, 16))) + hints(theme.Hint{Key: "n", Does: "earlier"}, theme.Hint{Key: "y", Does: "copy"}, theme.Hint{Key: "o", Does: "open"}, esc)
	case logging:
		return word("log to") + m.input.View(room) + hints(theme.Hint{Key: "enter", Does: "begin"}, esc)
	}
	what := "the screen"
	if m.whole {
		what = "everything it showed"
	}
	return fit.Cut(word("write "+what+" to")+m.input.View(room)+hints(theme.Hint{Key: "enter", Does: "write"}, theme.Hint{Key: "tab", Does: "the screen or all"}, esc), width)
}
