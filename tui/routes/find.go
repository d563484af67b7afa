package routes

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"github.com/sahilm/fuzzy"

	"meatus/core/book"
	"meatus/tui/theme"
)

// find narrows the board to the sessions that match what is typed.
type find struct {
	on     bool     // the board is narrowed
	typing bool     // keys go into the text
	text   string   // what is looked for
	pool   []string // for each session what is matched, made when first needed
	found  []int    // sessions, the best match first
}

// Finding tells whether keys go into what is looked for.
func (m *Model) Finding() bool { return m.find.typing }

// findKey takes a key while what is looked for is typed.
func (m *Model) findKey(msg tea.KeyPressMsg) (wish tea.Msg) {
	f := &m.find
	switch msg.String() {
	case "esc", "ctrl+c":
		m.endFind()
		return nil
	case "enter":
		f.typing = false
		return m.open()
	case "up":
		m.step(-1)
		return nil
	case "down":
		m.step(1)
		return nil
	case "tab":
		f.typing = false
		return nil
	case "backspace":
		_, size := utf8.DecodeLastRuneInString(f.text)
		f.text = f.text[:len(f.text)-size]
	case "ctrl+u":
		f.text = ""
	default:
		f.text += msg.Text
	}
	m.narrow()
	return nil
}

func (m *Model) startFind() {
	m.find.on, m.find.typing = true, true
	m.narrow()
}

// endFind shows the whole board again; the selected session stays selected.
func (m *Model) endFind() {
	m.find.on, m.find.typing, m.find.text = false, false, ""
	m.lay()
}

// narrow finds the sessions that match.
func (m *Model) narrow() {
	f := &m.find
	if len(f.pool) != len(m.entries) {
		f.pool = make([]string, len(m.entries))
		for i, s := range m.ws.Book.Sessions {
			f.pool[i] = matched(s)
		}
	}
	f.found = f.found[:0]
	if f.text == "" {
		for i := range m.entries {
			f.found = append(f.found, i)
		}
	} else {
		f.found = rank(f.text, f.pool)
	}
	m.lay()
	if len(f.found) > 0 {
		m.cursor, m.whole, m.cut = f.found[0], false, false
	}
}

// rank orders the matches: those that hold the text as it is first, then those
// that hold its letters in order, the better ones first.
func rank(text string, pool []string) []int {
	text = strings.ToLower(strings.TrimSpace(text))
	var whole, loose []int
	matches := fuzzy.FindNoSort(text, pool)
	scores := make(map[int]int, len(matches))
	for _, match := range matches {
		scores[match.Index] = match.Score
		if strings.Contains(pool[match.Index], text) {
			whole = append(whole, match.Index)
		} else {
			loose = append(loose, match.Index)
		}
	}
	for _, list := range [][]int{whole, loose} {
		sort.SliceStable(list, func(i, j int) bool { return scores[list[i]] > scores[list[j]] })
	}
	return append(whole, loose...)
}

// matched is what of a session is looked through: name, site, host, user, keys,
// tunnels.
func matched(s *book.Session) string {
	parts := []string{s.Name, s.Site.V, s.Host.V, s.User.V}
	parts = append(parts, s.Keys.V...)
	for _, t := range s.Tunnels.V {
		parts = append(parts, t.Bring, t.Lend, t.Roam, t.Reach)
	}
	return strings.ToLower(strings.Join(parts, " "))
}

// findLine shows what is looked for and how much was found.
func (m *Model) findLine() string {
	t, f := m.theme, &m.find
	text := t.Strong.Render(f.text)
	if f.typing {
		text += t.Accent.Render("▏")
	}
	return "  " + t.Accent.Render("/ ") + text + "  " + t.Faint.Render(fmt.Sprintf("%d of %d", len(f.found), len(m.entries)))
}

var findHints = []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "enter", Does: "open shell"}, {Key: "tab", Does: "to the board"}, {Key: "esc", Does: "show all"}}
