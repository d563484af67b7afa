package tui

import (
	"context"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"meatus/core/prefs"
	"meatus/core/step"
	"meatus/core/workspace"
	"meatus/lab/labtest"
	"meatus/tui/action"
	"meatus/tui/place"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

// overLab opens the frame over the lab.
func overLab(t *testing.T, width, height int) *driver {
	t.Helper()
	l, ws := labtest.Workspace(t)
	return openWith(t, ws, Options{Name: "Lantern Bay", Dialer: l.Dialer()}, width, height)
}

// A shell that arrives while something is typed, asked or listed takes no key; one key goes to it.
func TestAShellThatArrivesTakesTheKeysFromNobody(t *testing.T) {
	for name, c := range map[string]struct {
		busy  []string // what is pressed before the shell is there
		types string   // what is typed when it is there
		shows string
		back  []string // what is pressed then
	}{
		"the finder":       {[]string{":", "t", "i"}, "de", "tide", []string{"esc"}},
		"the help":         {[]string{"?"}, "", "all keys", []string{"esc"}},
		"a search":         {[]string{"/", "q", "u"}, "ay", "quay", []string{"esc"}},
		"a place's search": {[]string{"T", "/", "q", "u"}, "ay", "quay", []string{"esc"}},
		"a new session":    {[]string{"n", "q", "u"}, "ay-2", "quay-2", []string{"esc"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := overLab(t, 120, 40)
			a.home.Select("quay")
			a.press("enter")
			a.press(c.busy...)
			top := a.stack.Top()
			a.until("the shell", func() bool { return len(a.open) == 1 })
			a.types(c.types)
			if a.stack.Top() != top || a.inShell() || !strings.Contains(a.see(), c.shows) {
				t.Fatalf("it shows\n%s", a.see())
			}
			a.press(c.back...)
			a.press("leader")
			if !strings.Contains(a.see(), "quay is open") {
				t.Errorf("the switcher does not lead to it:\n%s", a.see())
			}
			a.press("a")
			if !a.inShell() {
				t.Errorf("it is not gone to:\n%s", a.see())
			}
		})
	}
}

// A program that wants the terminal gets it where the person waits for it, and nowhere else.
func TestAnEditorWaitsUntilItIsGoneTo(t *testing.T) {
	a := open(t, bay(t, 2), 110, 30)
	at := slices.IndexFunc(places, func(e place.Entry) bool { return e.Name == "Cargo" })
	id := 0
	for n := 1; id == 0; n++ {
		if a.stack.Owner(n) == a.places[at] {
			id = n
		}
	}
	begin := func() tea.Cmd {
		a.acting = acting{id: id}
		defer func() { a.acting = acting{} }()
		return a.services(id).Exec(exec.Command("true"), func(error) tea.Msg { return nil })
	}
	a.press(cargoKey)
	if begin() == nil {
		t.Error("it does not begin where it is waited for")
	}
	a.press("leader", "0")
	for name, keys := range map[string][]string{"another place": {"K"}, "the finder": {":", "x"}, "the switcher": {"leader"}, "a dialog": {"Q", "?"}} {
		a.press(keys...)
		if begin() != nil {
			t.Errorf("%s: it takes the terminal from what is typed there", name)
		}
		a.press("esc", "esc", "leader", "0")
		if see := a.see(); !strings.Contains(see, "true waits to be opened") {
			t.Errorf("%s: nothing says so:\n%s", name, see)
		}
		a.press("leader", "a")
		if places[a.at()].Name != "Cargo" {
			t.Errorf("%s: it is not gone to", name)
		}
		a.press("leader", "0")
		if strings.Contains(a.see(), "waits to be opened") {
			t.Errorf("%s: it waits still:\n%s", name, a.see())
		}
	}
}

// What cannot be seen takes no key, no paste and no click.
func TestNothingIsPastedIntoWhatCannotBeSeen(t *testing.T) {
	a := overLab(t, 100, 30)
	a.home.Select("quay")
	a.press("enter")
	a.until("the shell", func() bool { return a.inShell() })
	a.give(tea.WindowSizeMsg{Width: leastShellWidth - 1, Height: leastShellHeight - 1})
	a.give(tea.PasteMsg{Content: "echo hidden\n"})
	a.types("echo hidden")
	a.give(tea.WindowSizeMsg{Width: 60, Height: 12}) // a shell is drawn in that
	a.give(tea.PasteMsg{Content: "echo shown"})
	a.press("enter")
	a.until("the shell to answer", func() bool { return strings.Count(a.see(), "shown") > 1 })
	if see := a.see(); strings.Contains(see, "hidden") {
		t.Errorf("what was pasted unseen got there:\n%s", see)
	}
	a.give(tea.WindowSizeMsg{Width: 100, Height: 30})
	a.press("leader", "0", "n")
	a.give(tea.WindowSizeMsg{Width: 60, Height: 12})
	a.give(tea.PasteMsg{Content: "unseen"})
	a.give(tea.WindowSizeMsg{Width: 100, Height: 30})
	if see := a.see(); strings.Contains(see, "unseen") {
		t.Errorf("a task takes what is pasted unseen:\n%s", see)
	}
}

// deaf is a place with a fault in how it hears events.
type deaf struct{ faulty }

func (*deaf) Update(msg tea.Msg) tea.Cmd {
	if _, heard := msg.(place.Heard); heard {
		panic("ebb-and-flow")
	}
	return nil
}

// A fault while an event is handled ends the part it is in. The next events, questions and output of shells are heard.
func TestAFaultWhileHearingEndsOnePartAlone(t *testing.T) {
	a := open(t, bay(t, 2), 110, 30)
	a.places[1] = &deaf{}
	a.press(places[1].Key)
	a.engine.Tell("low tide")
	a.until("the fault", func() bool { return strings.Contains(a.notice, "by a fault of this program") })
	if see := strings.Join(strings.Fields(a.see()), " "); !strings.Contains(see, "Shells, tunnels and jobs go on") {
		t.Errorf("the place does not say so:\n%s", see)
	}
	a.engine.Tell("high tide")
	a.until("the next event", func() bool { return a.notice == "high tide" })
	answered := a.asks(func(ctx context.Context) error {
		_, err := a.desk.Passphrase(ctx, step.PassphraseQuestion{Place: step.Place{Session: "quay", Hop: "quay"}, Path: "/k/tide.pem", Try: 1})
		return err
	})
	a.press("leader", "a", "x", "enter")
	if err := <-answered; err != nil {
		t.Errorf("a question after the fault: %v", err)
	}
	a.press(places[1].Key)
	if see := a.see(); strings.Contains(see, "by a fault") {
		t.Errorf("the place is not made anew when it is gone to:\n%s", see)
	}
}

// A question that has the keys keeps nothing of what was typed hidden once the person goes elsewhere.
func TestATypedSecretIsWipedWhenItsQuestionIsLeft(t *testing.T) {
	a := open(t, bay(t, 2), 110, 30)
	a.home.Select("quay")
	answered := a.asks(func(ctx context.Context) error {
		_, err := a.desk.Passphrase(ctx, step.PassphraseQuestion{Place: step.Place{Session: "quay", Hop: "quay"}, Path: "/k/tide.pem", Try: 1})
		return err
	})
	if !a.answering() {
		t.Fatal("the question does not have the keys")
	}
	a.types("ebb")
	if !strings.Contains(a.see(), "•••") {
		t.Errorf("nothing is typed:\n%s", a.see())
	}
	a.press("leader", "K", "leader", "a")
	if strings.Contains(a.see(), "•") {
		t.Errorf("what was typed is kept:\n%s", a.see())
	}
	a.press("esc")
	if err := <-answered; err == nil {
		t.Error("it is answered")
	}
}

// A key of the frame that a place has, too, goes to the same place by both: there with what is chosen, by the frame as it is.
func TestTheFrameTakesNoKeyFromAPlace(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	for i, p := range a.places {
		a.goToPlace(places[i].Key, "")
		for _, mine := range p.Table() {
			for _, k := range mine.Keys() {
				for _, frame := range a.frameTable() {
					same := strings.HasPrefix(mine.Help().Desc, "to ") && strings.HasPrefix(frame.Help().Desc, "go to ")
					if frame.Do != nil && frame.Applies() && key.Matches(placetest.Key(k), frame.Binding) && !same && !(i == 0 && k == "ctrl+c") {
						t.Errorf("%s: %q is %q there, and for the frame %q", places[i].Name, k, mine.Help().Desc, frame.Help().Desc)
					}
				}
			}
		}
	}
	// The place's own comes first.
	mine := &own{}
	a.places[1] = mine
	a.press("leader", places[1].Key)
	a.press("K")
	if mine.pressed != 1 || a.at() != 1 {
		t.Errorf("it was pressed %d times, and %s shows", mine.pressed, places[a.at()].Name)
	}
}

// own is a place with an action on a key of the frame.
type own struct {
	faulty
	pressed int
}

func (*own) View() []string { return nil }
func (o *own) Table() action.Table {
	return action.Table{action.On("K", "to its key", func() tea.Cmd { o.pressed++; return nil })}
}

// What is said of a key is what is pressed for it, where a person chose another.
func TestWhatIsSaidOfAKeyIsWhatIsPressed(t *testing.T) {
	ws, err := workspace.Open(bay(t, 2))
	if err != nil {
		t.Fatal(err)
	}
	a := openWith(t, ws, Options{Prefs: prefs.Prefs{Keys: map[string]string{"undo": "f5", "redo": "f6"}}}, 120, 40)
	a.home.Select("gauge-1")
	a.press("n")
	a.types("spit = keeper@10.61.9.9")
	a.press("enter")
	a.until("the session", func() bool { return a.engine.Workspace().Book.Session("spit") != nil })
	a.stack.CutAbove(a.home)
	a.press("f5")
	a.until("what it would do", func() bool { return strings.Contains(a.see(), "f5 again takes back") })
	a.press("f5")
	a.until("it to be taken back", func() bool { return a.engine.Workspace().Book.Session("spit") == nil })
	a.press("f6")
	a.until("what it would do", func() bool { return strings.Contains(a.see(), "f6 again does again") })
}

var _ stack.Layer = (*brokenLayer)(nil)
