package tui

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/atomicfile"
	"meatus/core/book"
	"meatus/core/draw"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/sweep"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/tui/carry"
	"meatus/tui/compose"
	"meatus/tui/entry"
	"meatus/tui/keys"
	"meatus/tui/lending"
	"meatus/tui/routes"
	"meatus/tui/sheet"
	"meatus/tui/watch"
)

// begin shows a job in place of the card, at the session it is for.
func (a *App) begin(job carry.Job) tea.Cmd {
	a.goTo(nil)
	a.routes.Select(job.Session)
	m, cmd := carry.New(a.ctx, job, a.theme, a.width)
	a.task = m
	return cmd
}

// sweep looks through the account of a session for what was left there.
func (a *App) sweep(session string) tea.Cmd {
	r, ok := a.routes.Route(session)
	if !ok {
		return nil
	}
	walker, ws := a.walker, a.ws
	return a.begin(carry.Job{What: "sweep", Of: session + ", " + r.Target().User, Session: session, Kind: trail.Sweep, Run: func(ctx context.Context, tell func(carry.Line)) error {
		p, err := walker.Walk(ctx, r)
		if err != nil {
			return err
		}
		defer p.Close()
		report, err := sweep.Look(ctx, p, ws.PublicKeys())
		if err != nil {
			return err
		}
		verdict := gate.Open
		if report.Found() > 0 {
			verdict = gate.Ajar
		}
		tell(carry.Line{Verdict: verdict, Where: "found", Say: report.Sum() + "; nothing was changed"})
		for _, f := range report.Findings() {
			tell(carry.Line{Verdict: gate.Ajar, Where: f.Kind, Say: f.Say})
		}
		return nil
	}})
}

// which asks the machine of a session which keys it would take.
func (a *App) which(session string) tea.Cmd {
	r, ok := a.routes.Route(session)
	if !ok {
		return nil
	}
	walker, ws := a.walker, a.ws
	return a.begin(carry.Job{What: "which key opens this?", Of: session + ", " + r.Target().User, Session: session, Kind: trail.Check, Run: func(ctx context.Context, tell func(carry.Line)) error {
		taken, err := ws.AskServer(ctx, walker, r)
		if err != nil {
			return err
		}
		none, left := true, 0
		for _, t := range taken {
			switch {
			case t.Takes:
				none = false
				tell(carry.Line{Verdict: gate.Open, Where: t.Name, Say: "it would take it  " + t.SHA256})
			case t.Asked:
				tell(carry.Line{Verdict: gate.Shut, Where: t.Name, Say: "not this one"})
			default:
				left++
				tell(carry.Line{Where: t.Name, Say: "not asked: the server's patience is kept"})
			}
		}
		if none {
			say := fmt.Sprintf("%s takes none of your keys for %s: ask who runs it which key pair it was made with", r.Target().Name, r.Target().User)
			if left > 0 {
				say = fmt.Sprintf("%s takes none of those it was asked about; name another as the session's, and it is asked about first", r.Target().Name)
			}
			tell(carry.Line{Verdict: gate.Ajar, Where: "none", Say: say})
		}
		return nil
	}})
}

// install puts a key into the list at a session's machine and proves it.
func (a *App) install(w keys.Install) tea.Cmd {
	r, ok := a.routes.Route(w.Session)
	if !ok {
		a.keys.Say("there is no session " + w.Session + " that could be walked")
		return nil
	}
	walker := a.walker
	return a.begin(carry.Job{What: "install", Of: filepath.Base(w.Path), Session: w.Session, Kind: trail.Carry, Run: func(ctx context.Context, tell func(carry.Line)) error {
		file, err := keyfile.Read(w.Path)
		if err != nil {
			return err
		}
		if file.Public == nil {
			return errors.New("the public half of that key is locked away; derive it first, with P in Keys")
		}
		line, err := install.Line(file.Public, file.Comment, w.Options)
		if err != nil {
			return err
		}
		p, err := walker.Walk(ctx, r)
		if err != nil {
			return err
		}
		report, err := install.Add(ctx, p, file.Public, line)
		p.Close()
		for _, d := range report.Doubts {
			tell(carry.Line{Verdict: gate.Ajar, Where: w.Session, Say: d})
		}
		if err != nil {
			return err
		}
		say := filepath.Base(w.Path) + " is in the list of " + r.Target().User + " now"
		if report.Already {
			say = filepath.Base(w.Path) + " stood in the list of " + r.Target().User + " already"
		}
		tell(carry.Line{Verdict: gate.Open, Where: w.Session, Say: say})
		if w.Options.From != "" || w.Options.Command != "" {
			tell(carry.Line{Verdict: gate.Untried, Where: w.Session, Say: "not proven: a line with from or command lets in less than a login"})
			return nil
		}
		if p, err = install.Prove(ctx, walker, r, file); err != nil {
			return err
		}
		p.Close()
		tell(carry.Line{Verdict: gate.Open, Where: w.Session, Say: "proven: a login with that key alone got in"})
		return nil
	}})
}

// renamed brings the sessions after a rotation has changed them.
type renamed struct{ book *book.Book }

// rotate puts one key in the place of another.
func (a *App) rotate(w keys.Rotate) tea.Cmd {
	routes, names, err := a.ws.RotatePlan(w.Old, w.Sessions)
	if err != nil {
		a.keys.Say(err.Error())
		return nil
	}
	walker, ws, send := a.walker, a.ws, a.desk.Send
	title := filepath.Base(w.Old) + " → " + filepath.Base(w.New)
	return a.begin(carry.Job{What: "rotate", Of: title, Session: names[0], Kind: trail.Carry, Run: func(ctx context.Context, tell func(carry.Line)) error {
		old, err := keyfile.Read(w.Old)
		if err != nil {
			return err
		}
		fresh, err := keyfile.Read(w.New)
		if err != nil {
			return fmt.Errorf("%w; make the new key first, with n in Keys", err)
		}
		return install.Rotation{
			Walker: walker, Routes: routes, Old: old, New: fresh,
			Rename: func() error {
				b, err := ws.ReplaceKey(w.Old, w.New, names)
				if err != nil {
					return err
				}
				send(renamed{b})
				tell(carry.Line{Verdict: gate.Open, Where: "sessions", Say: strings.Join(names, ", ") + " use " + filepath.Base(w.New) + " from now on"})
				return nil
			},
			Tell: func(s install.Step) {
				if s.Err == nil { // why it stopped is told at the end
					tell(carry.Line{Verdict: gate.Open, Where: s.Session, Say: s.Say})
				}
			},
		}.Run(ctx)
	}})
}

// hold puts a key into the ring.
func (a *App) hold(w keys.Hold) tea.Cmd {
	walker, terms := a.walker, a.ws.Planner().TermsOf(w.Path)
	return func() tea.Msg {
		defer clear(w.Passphrase)
		file, err := keyfile.Read(w.Path)
		if err != nil {
			return keys.Said(err.Error())
		}
		e, err := walker.Hold(file, w.Passphrase, terms)
		if err != nil {
			return keys.Said(filepath.Base(w.Path) + ": " + err.Error())
		}
		return keys.Said(e.String() + " is held in memory " + e.Stay() + "; g on Routes shows the ring")
	}
}

// lend asks what is to be lent to one shell of a session.
func (a *App) lend(session string) tea.Cmd {
	r, ok := a.routes.Route(session)
	if !ok {
		return nil
	}
	m := lending.New(a.ws, r, a.theme, a.width)
	a.task = m
	return m.Look()
}

// better is a way that needs nothing lent, in the place of one that did.
type better struct {
	line string // the route line of a session that does not exist yet, or
	have string // the session that goes that way
}

// betterWay finds how a host that was reached with a lent key is reached without:
// as the next hop of the route. ok is false where the request did not tell enough.
func (a *App) betterWay(e walk.Lent) (b better, ok bool) {
	if e.Refuse != nil || e.Session == "" || e.Login == "" || len(e.At) == 0 {
		return b, false
	}
	r, ok := a.routes.Route(e.Session)
	if !ok {
		return b, false
	}
	key, ways := "", []route.Route{r}
	for _, s := range a.open {
		ways = append(ways, s.Route) // which may lend what the session does not
	}
	for _, way := range ways {
		for _, path := range way.Target().Lends {
			if way.Session == e.Session && filepath.Base(path) == e.Key.Name {
				key = path
			}
		}
	}
	for _, name := range a.ws.Book.Names() {
		have, ok := a.routes.Route(name)
		if !ok || len(have.Hops) < 2 {
			continue
		}
		last, before := have.Target(), have.Hops[len(have.Hops)-2]
		through := before.Host == r.Target().Host && before.Port == r.Target().Port
		if last.Host == e.At[0] && last.User == e.Login && through && (key == "" || slices.Contains(last.Keys, key)) {
			return better{have: name}, true
		}
	}
	if key == "" {
		return b, false
	}
	name := strings.NewReplacer(".", "-", ":", "-").Replace(e.At[0])
	for n := 2; a.ws.Book.Session(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", strings.NewReplacer(".", "-", ":", "-").Replace(e.At[0]), n)
	}
	return better{line: fmt.Sprintf("%s = %s@%s via %s with %s", name, e.Login, e.At[0], e.Session, a.ws.Written(key))}, true
}

// offerBetter has the card of a session say that there is a better way. It tells
// whether there is one.
func (a *App) offerBetter(e walk.Lent) bool {
	b, ok := a.betterWay(e)
	if !ok {
		return false
	}
	a.better[e.Session] = b
	hops := append(routeNames(a.routes, e.Session), e.At[0])
	say := fmt.Sprintf("A better way: here ▸ %s as a route of %d hops, with nothing lent. b makes that session.", strings.Join(hops, " ▸ "), len(hops))
	if b.have != "" {
		say = fmt.Sprintf("A better way: %s goes there through this machine, with nothing lent. b goes to it.", b.have)
	}
	a.routes.Say(e.Session, say)
	return true
}

func routeNames(routes interface {
	Route(string) (route.Route, bool)
}, session string) []string {
	var names []string
	if r, ok := routes.Route(session); ok {
		for _, h := range r.Hops {
			names = append(names, h.Name)
		}
	}
	return names
}

// takeBetter goes to the better way of a session, or opens the line that makes it.
func (a *App) takeBetter(session string) tea.Cmd {
	b, ok := a.better[session]
	switch {
	case !ok:
		a.notice = "there is nothing better to offer: no lent key was used from there"
		return nil
	case b.have != "":
		a.goTo(nil)
		a.routes.Select(b.have)
		return nil
	}
	a.goTo(nil)
	line := entry.New(a.ws, a.theme, a.width)
	line.Write(b.line)
	a.task = line
	return line.Look()
}

// toggleTunnels opens the tunnels of a session, or closes them where they are open.
func (a *App) toggleTunnels(msg routes.Tunnels) tea.Cmd {
	r, ok := a.routes.Route(msg.Session)
	if !ok {
		return nil
	}
	set, session := a.tunnels, msg.Session
	if taking := a.takeOver != nil && a.takeOver.session == session; len(set.Of(session)) > 0 && !taking {
		return func() tea.Msg {
			n := set.Close(session)
			return notice(fmt.Sprintf("%s: closed, %d doors", session, n))
		}
	}
	specs := r.Target().Tunnels
	if len(specs) == 0 {
		a.notice = session + " has no tunnels; e edits it: bring 15432 from HOST:5432"
		return nil
	}
	for _, spec := range specs {
		if spec.Beyond() && a.beyond != session {
			a.beyond = session
			_, at := spec.Kind()
			a.notice = fmt.Sprintf("the door %s listens to OTHER MACHINES: whoever reaches this one can use it; t again opens it knowingly", at)
			return nil
		}
	}
	a.beyond = ""
	dir, over := a.ws.Dir, a.takeOver
	if a.takeOver = nil; over != nil && over.session != session {
		over = nil
	}
	return func() tea.Msg {
		if over != nil {
			tunnel.TakeOver(over.program, over.door) // where that fails, opening tells who has it
		}
		err := set.Open(r, specs, tunnel.Options{}, r.Target().OnKnock)
		if err == nil {
			return notice(session + ": the doors are open")
		}
		say := err.Error()
		if programs, perr := tunnel.Programs(dir); perr == nil {
			for _, p := range programs {
				for _, l := range p.Lines {
					if l.Kind != "lend" && strings.Contains(say, l.Door) {
						return heldElsewhere{session, p, l.Door, l.Session}
					}
				}
			}
		}
		return notice(session + ": " + say)
	}
}

// heldElsewhere says that another Meatus holds a door that is wanted.
type heldElsewhere struct {
	session string
	program tunnel.Program
	door    string
	forIt   string // the session it holds it for
}

// tellHeld names who holds a door; "t" again has it closed there and opened here.
func (a *App) tellHeld(h heldElsewhere) {
	a.takeOver = &h
	a.notice = fmt.Sprintf("another Meatus (process %d, %s) holds %s for %s; t again takes it over", h.program.PID, h.program.What, h.door, h.forIt)
}

// openMade opens a tunnel that was composed, and keeps it in the session where that
// is wanted.
func (a *App) openMade(msg compose.Made) tea.Cmd {
	set, path, session := a.tunnels, a.ws.SessionsPath(), msg.Route.Session
	specs := append(slices.Clone(msg.Route.Target().Tunnels), msg.Spec)
	return func() tea.Msg {
		if err := set.Open(msg.Route, []book.Tunnel{msg.Spec}, tunnel.Options{}, false); err != nil {
			return notice(session + ": " + err.Error())
		}
		if !msg.Keep {
			return notice(session + ": the door is open, until t closes it or the program ends")
		}
		b, err := book.Set(path, session, "tunnels", book.TunnelsLine(specs))
		if err != nil {
			return notice("the door is open, but not kept: " + err.Error())
		}
		return sheet.Changed{Book: b, Session: session, Say: session + " has another tunnel: " + msg.Spec.String()}
	}
}

// openWindows opens a shell whose programs may draw here, and keeps that in the session
// where it is wanted.
func (a *App) openWindows(msg compose.Windows) tea.Cmd {
	path, session := a.ws.SessionsPath(), msg.Route.Session
	r := msg.Route
	r.Hops = slices.Clone(r.Hops)
	r.Hops[len(r.Hops)-1].Windows = true
	var keep tea.Cmd
	if msg.Keep {
		keep = func() tea.Msg {
			b, err := book.Set(path, session, "windows", "on")
			if err != nil {
				return notice("not kept: " + err.Error())
			}
			return sheet.Changed{Book: b, Session: session, Say: session + ": programs there may draw here"}
		}
	}
	return tea.Batch(a.walkRoute(r, false), keep)
}

// drawMap draws the map of sessions.
func (a *App) drawMap(sessions []string) tea.Cmd {
	ws, title, of := a.ws, a.name(), fmt.Sprintf("%d sessions", len(sessions))
	if len(sessions) == 1 {
		of, title = sessions[0], sessions[0]+", "+title
	}
	reports := map[string]gate.Report{}
	for _, s := range sessions {
		if _, report, ok := a.routes.Report(s); ok {
			report.Hops = slices.Clone(report.Hops)
			for i := range report.Hops {
				report.Hops[i].Gates = slices.Clone(report.Hops[i].Gates)
			}
			reports[s] = report
		}
	}
	return a.askDrawing("the map of "+of, "addresses, logins and fingerprints", func(private bool) tea.Msg {
		m, err := ws.Map(sessions, title, time.Now())
		if err != nil {
			return notice(err.Error())
		}
		for i, r := range m.Routes { // what checks and walks have found since is truer
			if report, ok := reports[r.Route.Session]; ok {
				m.Routes[i].Report = report
			}
		}
		m.Private = private
		return keepDrawing(ws.Dir, "map", of, m)
	})
}

// drawChart draws what a link or flow carried.
func (a *App) drawChart(msg watch.Draw) tea.Cmd {
	dir, name := a.ws.Dir, a.name()
	return a.askDrawing("what "+msg.Name+" carried", "what it is called", func(private bool) tea.Msg {
		title := msg.Name + ", " + name
		if private {
			title = name
		}
		return keepDrawing(dir, "chart", msg.Name, draw.Chart{Title: title, From: msg.From, To: msg.To, Samples: msg.Samples})
	})
}

// drawTimeline draws who was connected where over the last day.
func (a *App) drawTimeline() tea.Cmd {
	if a.trail == nil {
		return nil
	}
	t, dir, title := a.trail, a.ws.Dir, a.name()
	return a.askDrawing("who was connected where over the last day", "the accounts here", func(private bool) tea.Msg {
		line := draw.Timeline{Title: title, To: time.Now(), Private: private}
		line.From = line.To.Add(-24 * time.Hour)
		var err error
		if line.Stays, err = t.Stays(context.Background(), line.From, line.To); err != nil {
			return notice(err.Error())
		}
		return keepDrawing(dir, "timeline", "the last day", line)
	})
}

// toDraw is a drawing that is asked about.
type toDraw func(private bool) tea.Msg

// askDrawing asks whether a drawing is to leave private parts out.
func (a *App) askDrawing(what, private string, do toDraw) tea.Cmd {
	a.toDraw = do
	a.notice = fmt.Sprintf("draw %s: enter with %s, p without, esc not at all", what, private)
	return nil
}

// answerDrawing takes the answer to that.
func (a *App) answerDrawing(key string) tea.Cmd {
	do := a.toDraw
	a.toDraw = nil
	if key != "enter" && key != "p" {
		return nil
	}
	return func() tea.Msg { return do(key == "p") }
}

// keepDrawing writes a drawing beside the sessions file, as SVG and PDF.
func keepDrawing(dir, kind, of string, d draw.Drawing) tea.Msg {
	stem := filepath.Join(dir, "drawings", kind+"-"+time.Now().Format("2006-01-02-150405"))
	if err := os.MkdirAll(filepath.Dir(stem), 0o700); err != nil {
		return notice(err.Error())
	}
	for _, f := range []draw.Format{draw.SVG, draw.PDF} {
		var text bytes.Buffer
		err := d.Write(&text, f)
		if err == nil {
			err = atomicfile.Write(stem+"."+string(f), text.Bytes())
		}
		if err != nil {
			return notice("drawing the " + kind + ": " + err.Error())
		}
	}
	return notice(fmt.Sprintf("%s drawn, as .svg and .pdf: %s", of, workspace.Short(stem)))
}
