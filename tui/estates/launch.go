package estates

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/localaddr"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// launching is a launch under review: what is asked for on one side, and what would become of it on the
// other.
type launching struct {
	source  book.EstateSource
	like    string // the instance it is like, "" for none
	offer   *estate.Offer
	launch  estate.Launch
	boot    string // the file of the first-boot text
	at      int    // the field that is edited
	line    *line.Line
	note    string // what is wrong with what is typed
	alone   netip.Prefix
	whose   string // whose address that is
	review  estate.Review
	file    string // of its key pair, "" for none here
	ws      *workspace.Workspace
	areas   []estate.Area
	hops    []string // on the way to its network
	reached bool     // that sessions have
}

// offering is what became of asking what is offered.
type offering struct {
	launch *launching
	err    error
}

// field is one thing that is asked for: typed, or one of what is offered.
type field struct {
	word  string
	value func(l *launching) string
	set   func(l *launching, text string) string // says what is wrong with it, "" for nothing
	offer func(l *launching) []string            // what there is, nil where it is typed alone
	list  bool                                   // several, with commas between
}

// fields are what a launch is made of, in the order they are asked for.
var fields = []field{
	{word: "name", value: func(l *launching) string { return l.launch.Name }, set: func(l *launching, text string) string { l.launch.Name = strings.TrimSpace(text); return "" }},
	{word: "how many", value: func(l *launching) string { return strconv.Itoa(l.launch.Count) }, set: func(l *launching, text string) (why string) {
		n, err := strconv.Atoi(strings.TrimSpace(text))
		if l.launch.Count = n; err != nil {
			return "that is no number"
		}
		return ""
	}},
	choice("image", func(l *launching) *string { return &l.launch.Image }, func(o *estate.Offer) []string { return names(o.Images, func(m estate.Image) string { return m.Name }) }),
	choice("size", func(l *launching) *string { return &l.launch.Size }, func(o *estate.Offer) []string { return names(o.Sizes, func(z estate.Size) string { return z.Name }) }),
	choice("network", func(l *launching) *string { return &l.launch.Network }, func(o *estate.Offer) []string {
		return names(o.Networks, func(n estate.Network) string { return n.Name })
	}),
	{word: "groups", list: true, value: func(l *launching) string { return strings.Join(l.launch.Groups, ", ") },
		set: func(l *launching, text string) string { l.launch.Groups = listed(text); return "" },
		offer: func(l *launching) []string {
			return names(l.offer.Groups, func(g estate.Group) string { return g.Name })
		}},
	choice("key pair", func(l *launching) *string { return &l.launch.KeyPair }, func(o *estate.Offer) []string {
		return names(o.KeyPairs, func(p estate.KeyPair) string { return p.Name })
	}),
	{word: "tags", value: func(l *launching) string { return tags(l.launch.Tags) }, set: func(l *launching, text string) string {
		l.launch.Tags = map[string]string{}
		for _, tag := range listed(text) {
			name, value, ok := strings.Cut(tag, "=")
			if !ok {
				return sanitize.Line(tag, 40) + " is no tag: write NAME=VALUE"
			}
			l.launch.Tags[name] = value
		}
		return ""
	}},
	{word: "first boot", value: func(l *launching) string { return l.boot }, set: func(l *launching, text string) string {
		l.boot, l.launch.FirstBoot = strings.TrimSpace(text), ""
		return ""
	}},
	{word: "only from", value: func(l *launching) string {
		if l.launch.From.IsValid() {
			return l.launch.From.String()
		}
		return ""
	}, set: func(l *launching, text string) string {
		l.launch.From = netip.Prefix{}
		if text = strings.TrimSpace(text); text == "" {
			return ""
		}
		from, err := estate.ParseFrom(text)
		if err != nil {
			return err.Error()
		}
		l.launch.From = from
		return ""
	}},
}

const onBoot = 8 // of the fields, the one whose text is a file's name

func choice(word string, of func(*launching) *string, offer func(*estate.Offer) []string) field {
	return field{word: word, value: func(l *launching) string { return *of(l) },
		set:   func(l *launching, text string) string { *of(l) = strings.TrimSpace(text); return "" },
		offer: func(l *launching) []string { return offer(l.offer) }}
}

func names[T any](all []T, name func(T) string) []string {
	var list []string
	for _, one := range all {
		list = append(list, name(one))
	}
	return list
}

// listed are the words of a list with commas between.
func listed(text string) []string {
	return slices.DeleteFunc(strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }), func(s string) bool { return s == "" })
}

// launchable is the source that another instance is launched at: that of the chosen one, else the first
// that something can be done at.
func (m *Model) launchable() (book.EstateSource, bool) {
	if e, ok := m.source(); ok && (&estate.Source{EstateSource: e}).Acts() {
		return e, true
	}
	for _, e := range m.s.Workspace().Book.Estates {
		if e.Broken == nil && (&estate.Source{EstateSource: e}).Acts() {
			return e, true
		}
	}
	return book.EstateSource{}, false
}

// another begins a launch of another instance like the chosen one, or where none is chosen of any.
func (m *Model) another() tea.Cmd {
	source, ok := m.launchable()
	if !ok {
		return nil
	}
	ws, chosen := m.s.Workspace(), m.chosen()
	m.s.Tell("asking what estate " + sanitize.Line(source.Name, 20) + " offers …")
	theme := m.s.Theme
	return m.s.Run(func() tea.Msg {
		ctx, cancel := context.WithTimeout(context.Background(), askTime)
		defer cancel()
		s := estate.Source{Dir: ws.Dir, EstateSource: source}
		known := &estate.Snapshot{}
		for k := range ws.Estates {
			if ws.Estates[k].Source == source.Name {
				known = &ws.Estates[k].Snapshot
			}
		}
		o, err := s.Offer(ctx, known)
		if err != nil {
			return offering{err: err}
		}
		l := &launching{source: source, offer: o, ws: ws, launch: o.Fresh(), line: line.New(theme, ""), areas: estate.Areas(ws.Estates, ws.Book, estate.Query{})}
		if chosen != nil && chosen.Source.Source == source.Name {
			l.like, l.launch = called(chosen.Instance), o.Like(known, chosen.Instance)
			l.launch.Name = nextName(known, l.launch.Name)
		}
		return offering{launch: l}
	})
}

// nextName is a name that no instance has: the one there is with the next number.
func nextName(s *estate.Snapshot, name string) string {
	stem := strings.TrimRight(name, "0123456789")
	n, err := strconv.Atoi(name[len(stem):])
	if err != nil {
		stem, n = name+"-", 1
	}
	taken := map[string]bool{}
	for i := range s.Instances {
		taken[s.Instances[i].Name] = true
	}
	for n++; taken[stem+strconv.Itoa(n)]; n++ {
	}
	return stem + strconv.Itoa(n)
}

// focus goes to a field.
func (l *launching) focus(at int) {
	l.at = (at + len(fields)) % len(fields)
	l.line.Begin(fields[l.at].value(l))
	l.look()
}

// look reviews the launch as it is now.
func (l *launching) look() {
	l.review = l.launch.Review(l.offer, func(p estate.KeyPair) string {
		l.file = l.ws.KeyOf(p)
		return l.file
	})
	l.alone = netip.Prefix{}
	l.hops, l.reached = estate.Way(l.areas, l.source.Name, l.launch.Network)
	if !l.review.Alone {
		return
	}
	at, ok := localaddr.Own()
	if l.whose = "this machine, as it knows itself"; len(l.hops) > 0 {
		l.whose = l.hops[len(l.hops)-1]
		at, ok = estate.SeenFrom(l.areas, l.whose, l.launch.Network)
	}
	if ok {
		l.alone = netip.PrefixFrom(at, at.BitLen())
	}
}

// typed takes what is typed into the field.
func (l *launching) typed(msg tea.Msg) {
	l.line.Take(msg)
	l.note = fields[l.at].set(l, l.line.Text())
	l.look()
}

// other goes to another of what is offered.
func (l *launching) other(by int) {
	f := fields[l.at]
	if f.offer == nil || f.list {
		return
	}
	all := f.offer(l)
	if len(all) == 0 {
		return
	}
	i := slices.Index(all, f.value(l))
	if i < 0 && by < 0 {
		i = 0
	}
	f.set(l, all[(i+by+len(all))%len(all)])
	l.focus(l.at)
}

// launchTable is what can be done while a launch is under review.
func (m *Model) launchTable() action.Table {
	l := m.launch
	choosing := func() bool { f := fields[l.at]; return f.offer != nil && !f.list }
	return action.Table{
		action.On("enter", "launch", m.launched),
		action.On("ctrl+o", "allow SSH from one address only", func() tea.Cmd {
			l.launch = l.launch.Alone(l.offer, l.alone)
			l.focus(l.at)
			return nil
		}).If(func() bool { return l.alone.IsValid() }, "no other address is allowed"),
		action.On("up shift+tab", "choose", func() tea.Cmd { l.focus(l.at - 1); return nil }).As("↑↓").Ranked(action.Movement),
		action.On("down tab", "", func() tea.Cmd { l.focus(l.at + 1); return nil }).Ranked(action.Hidden),
		action.On("left", "next value", func() tea.Cmd { l.other(-1); return nil }).As("←→").If(choosing, "this is typed"),
		action.On("right", "", func() tea.Cmd { l.other(1); return nil }).If(choosing, "").Ranked(action.Hidden),
		action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.launch = nil; return nil }),
	}
}

// launched launches what is reviewed, once it is asked for twice.
func (m *Model) launched() tea.Cmd {
	l := m.launch
	if l.note != "" || len(l.review.Wrong) > 0 {
		m.s.Tell("it can not be launched: " + strings.Join(append(l.review.Wrong, l.note), "; "))
		return nil
	}
	if l.boot != "" && l.launch.FirstBoot == "" { // it is read before anything is agreed to
		return m.readBoot()
	}
	do := func() tea.Cmd {
		m.launch = nil
		m.begun = m.s.Jobs.Begin(&work.Launch{Tools: m.s.Tools(), Source: l.source, Launch: l.launch, Offer: l.offer, Read: m.s.ReadEstates})
		return nil
	}
	return m.s.Confirm(place.Confirm{Subject: fmt.Sprintf("%p", l), Say: "enter again to launch " + words.Count(l.launch.Count, "instance"), Do: do})
}

// booted is the first-boot text of a file.
type booted struct {
	file, text string
	err        error
}

func (m *Model) readBoot() tea.Cmd {
	file, at := m.launch.boot, m.launch.ws.Planner().KeyPath(m.launch.boot)
	return m.s.Run(func() tea.Msg {
		info, err := os.Stat(at)
		if err == nil && (!info.Mode().IsRegular() || info.Size() > 1<<20) {
			err = fmt.Errorf("%s is no file that is run at a first boot", sanitize.Path(file))
		}
		if err != nil {
			return booted{file, "", err}
		}
		text, err := os.ReadFile(at)
		return booted{file, string(text), err}
	})
}

// boot takes the first-boot text.
func (m *Model) boot(b booted) {
	l := m.launch
	switch {
	case l == nil || l.boot != b.file:
	case b.err != nil:
		l.focus(onBoot)
		l.note = b.err.Error()
	default:
		l.launch.FirstBoot = b.text
		l.look()
		m.s.Tell("its first-boot text is read: enter again, and once more to launch")
	}
}

// launchView draws a launch under review.
func (m *Model) launchView() []string {
	t, l := m.s.Theme, m.launch
	title := t.Accent.Render("estate / launch")
	if l.like != "" {
		title += t.Faint.Render(" another like ") + t.Strong.Render(l.like)
	}
	lines := []string{t.Title(title, t.Faint.Render("at "+sanitize.Line(l.source.Name, 20)), m.width, fit.Spread)}
	list, pane, beside := place.Halves(m.width)
	asked, told := m.launchFields(list), m.launchReview(pane)
	if beside {
		return append(lines, place.Joined(t, asked, told, list, max(m.height-1, 0))...)
	}
	rest := max(m.height-1-len(asked), 0)
	lines = append(lines, asked...)
	return append(lines, told[:min(len(told), rest)]...)
}

// launchFields draws what is asked for.
func (m *Model) launchFields(width int) []string {
	t, l := m.s.Theme, m.launch
	var lines []string
	for n, f := range fields {
		pointer, value := "  ", t.Text.Render(sanitize.Line(f.value(l), 200))
		if value == "" || f.value(l) == "" {
			value = t.Faint.Render("none")
		}
		if f.word == "only from" && f.value(l) == "" {
			value = t.Faint.Render("the addresses that the groups allow")
		}
		if n == l.at {
			pointer = t.Accent.Render(theme.Chosen + " ")
			value = l.line.View(max(width-18, 12))
		}
		lines = append(lines, fit.Hang(" "+pointer+t.Faint.Render(fit.Pad(f.word, 11))+" "+value, 15, width-1).Whole...)
		if n != l.at {
			continue
		}
		if f.offer != nil {
			all := f.offer(l)
			for i := range all {
				style := t.Faint
				if f.list && slices.Contains(listed(f.value(l)), all[i]) || !f.list && all[i] == f.value(l) {
					style = t.Accent
				}
				all[i] = style.Render(sanitize.Line(all[i], 40))
			}
			offer := strings.Join(all[:min(len(all), 12)], t.Faint.Render(" · "))
			if len(all) > 12 {
				offer += t.Faint.Render(fmt.Sprintf(" and %d more", len(all)-12))
			}
			lines = append(lines, fit.Hang("               "+offer, 15, width-1).Whole...)
		}
		if f.word == "first boot" {
			lines = append(lines, fit.Hang("               "+t.Faint.Render("a file with the script; it is read at the launch"), 15, width-1).Whole...)
		}
		if l.note != "" {
			lines = append(lines, fit.Hang("               "+t.Verdict(gate.Shut).Render(sanitize.Line(l.note, 200)), 15, width-1).Whole...)
		}
	}
	return lines
}

// launchWay draws where it will stand: the way from here to its network, and whom it stands beside.
func (m *Model) launchWay() string {
	t, l := m.s.Theme, m.launch
	stroke := t.Rule.Render(" ── ")
	way := t.Accent.Render("here")
	if !l.reached {
		stroke = t.Rule.Render(" ┈┈ ")
	}
	for _, hop := range l.hops {
		way += stroke + t.Text.Render(sanitize.Line(hop, 40))
	}
	way += stroke + t.Faint.Render(sanitize.Line(l.launch.Network, 40)+" │ ")
	for n, name := range l.launch.Names() {
		if n == 3 {
			way += t.Faint.Render(" …")
			break
		}
		way += t.Accent.Render(theme.Untried+" ") + t.Strong.Render(sanitize.Line(name, 40)) + " "
	}
	for _, a := range l.areas {
		if a.Network == nil || a.Source.Source != l.source.Name || a.Name() != l.launch.Network {
			continue
		}
		for n, s := range a.Spots {
			if n == 4 {
				way += t.Faint.Render(fmt.Sprintf("and %d more", len(a.Spots)-n))
				break
			}
			way += t.Faint.Render("· " + called(s.Instance) + " ")
		}
	}
	if !l.reached {
		way += t.Faint.Render("; no session leads into it")
	}
	return way
}

// launchReview draws what would become of it.
func (m *Model) launchReview(width int) []string {
	t, l := m.s.Theme, m.launch
	say := func(mark, text string) []string { return fit.Hang("   "+mark+" "+text, 5, width-1).Whole }
	if len(l.review.Wrong) > 0 {
		lines := []string{t.Title(t.Verdict(gate.Shut).Render("it can not be launched"), "", width, fit.Spread)}
		for _, wrong := range l.review.Wrong {
			lines = append(lines, say(t.Mark(gate.Shut), wrong)...)
		}
		return lines
	}
	lines := []string{t.Title(t.Strong.Render("what becomes of it"), "", width, fit.Spread)}
	way := fit.Hang("   "+m.launchWay(), 5, width-1).Whole
	if _, _, beside := place.Halves(m.width); beside {
		way = append(append([]string{""}, way...), "")
	}
	lines = append(lines, way...)
	for _, ajar := range l.review.Ajar {
		lines = append(lines, say(t.Mark(gate.Ajar), t.Verdict(gate.Ajar).Render(ajar))...)
	}
	if l.alone.IsValid() {
		lines = append(lines, say(t.Accent.Render("→"), "press "+t.Key.Render("ctrl+o")+": from "+l.alone.Addr().String()+" alone, which is "+l.whose)...)
	}
	for _, does := range l.review.Does {
		lines = append(lines, say(t.Faint.Render("·"), does)...)
	}
	lines = append(lines, say(t.Faint.Render("·"), t.Faint.Render("then it is waited for until it runs, its console is read for fingerprints, and a session leads to it"))...)
	return lines
}
