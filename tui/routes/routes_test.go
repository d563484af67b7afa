package routes

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/core/gate"
	"meatus/core/walk"
	"meatus/tui/placetest"
)

func open(t *testing.T) (*placetest.Driver, *Model) {
	t.Helper()
	d, _ := placetest.Lab(t)
	d.Place(New)
	d.UntilSees("quay", "tide-db", "sill")
	return d, d.On().(*Model)
}

// at chooses a session and waits until it is judged.
func at(d *placetest.Driver, m *Model, session string) {
	d.Helper()
	m.Select(session)
	d.Until(session+" to be judged", func() bool {
		s, ok := d.Engine.Board.State(session)
		return ok && s.Judged && m.Selected() == session
	})
}

func TestAKeyIsMendedFromItsCard(t *testing.T) {
	d, m := open(t)
	at(d, m, "tide-db")
	d.UntilSees("press m: set mode 0600")
	d.Fits()
	d.Press("m")
	d.Until("the mode", func() bool {
		info, err := os.Stat(filepath.Join(d.Engine.Workspace().Dir, "keys", "tide.pem"))
		return err == nil && info.Mode().Perm() == 0o600
	})
	d.Until("the card to be judged anew", func() bool { return !strings.Contains(d.See(), "press m: set mode 0600") })
}

func TestWhatGoesViaASessionIsFound(t *testing.T) {
	d, m := open(t)
	at(d, m, "quay")
	d.Press("V")
	d.UntilSees("/ via quay", "17 of 22")
	if strings.Contains(d.See(), "❯ quay") {
		t.Errorf("quay does not go via itself:\n%s", d.See())
	}
	d.Press("esc")
	at(d, m, "gauge-1")
	d.Press("V")
	d.UntilSaid("no session goes via gauge-1")
	d.Press("A")
	d.UntilSaid("no session is marked")
	d.Press("space", "A", "E")
	if len(d.Tasks) != 2 {
		t.Errorf("%d tasks for what is marked", len(d.Tasks))
	}
}

func TestEveryMachineIsCheckedAndOneAlone(t *testing.T) {
	d, m := open(t)
	at(d, m, "gauge-1")
	d.Press("v", "v")
	if got := m.depth; int(got) >= len(walk.DepthWords) {
		t.Errorf("depth %d", got)
	}
	for m.depth != walk.Identity {
		d.Press("v")
	}
	d.Press("c")
	d.UntilSees("checked just now")
	d.Until("the check to be over", func() bool { return !m.looking.on })
	d.Press("C")
	d.Until("all to be checked", func() bool {
		s, _ := d.Engine.Board.State("gauge-3")
		return strings.Contains(d.See(), "refused") && s.Failure != nil
	})
	d.Press("F", "F", "d", "d", "o", "o", "o") // worst first
	first, last := m.listed()[0], m.listed()[len(m.listed())-1]
	if a, b := d.Engine.Board.Verdict(first), d.Engine.Board.Verdict(last); a != gate.Shut || b >= a {
		t.Errorf("%s (%s) is before %s (%s)", first, a, last, b)
	}
	d.Press("o")
	d.Fits()
}

func TestSessionsAreFoundMarkedAndOpened(t *testing.T) {
	d, m := open(t)
	d.Press("/")
	d.Type("gauge-1")
	d.Fits()
	d.Press("enter")
	d.Until("it to be found", func() bool { return m.Selected() == "gauge-1" })
	d.Until("a shell to be opened, or the choice to be kept", func() bool { return m.Selected() == "gauge-1" })
	d.Press("esc")
	at(d, m, "gauge-1")
	d.Press("enter")
	d.Until("a shell to be opened", func() bool { return len(d.Opened) > 0 && d.Opened[len(d.Opened)-1].Session == "gauge-1" })
	d.Press("space")
	d.Until("it to be marked", func() bool {
		text, _ := os.ReadFile(filepath.Join(d.Engine.Workspace().Dir, "state", "marks.json"))
		return strings.Contains(string(text), "gauge-1")
	})
	d.Press("home", "end", "pgup", "pgdown", "up", "down")
}

func TestTunnelsAreOpenedAndClosed(t *testing.T) {
	d, m := open(t)
	at(d, m, "tables")
	d.Press("t")
	d.Until("a word about the address that is taken", func() bool { return len(d.Said) > 0 || m.held != nil })
	d.Until("it to be judged anew", func() bool {
		s, ok := m.current()
		if !ok || s.Walk != nil || len(s.Details.Report.Hops) == 0 {
			return false
		}
		worst, _ := s.Details.Report.Worst()
		return worst.Verdict >= gate.Ajar
	})
	d.Press("M")
	d.Until("its remedies", func() bool { return len(d.Tasks) == 1 })
}

func TestEachTaskIsBegunForTheChosenSession(t *testing.T) {
	d, m := open(t)
	at(d, m, "gauge-1")
	for i, key := range []string{"n", "e", "P", "l"} {
		d.Press(key)
		d.Until("the task of "+key, func() bool { return len(d.Tasks) == i+1 })
	}
	d.Press("S")
	d.Until("a sweep", func() bool { return len(d.Begun) == 1 })
	d.Press("a")
	d.Until("the question about keys", func() bool { return len(d.Begun) == 2 })
	d.Press("x", "X")
	if len(d.Drawn) != 2 {
		t.Errorf("%d drawings", len(d.Drawn))
	}
	drawing, err := d.Drawn[1].Make(true).Make(t.Context())
	if err != nil || drawing == nil {
		t.Errorf("%v, %v", drawing, err)
	}
}

func TestAnEditIsTakenBack(t *testing.T) {
	d, m := open(t)
	path := filepath.Join(d.Engine.Workspace().Dir, "sessions.toml")
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	at(d, m, "gauge-4")
	if err := os.WriteFile(path, append(before, "\n[session.pier]\nhost = \"10.61.4.77\"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Press("r")
	d.UntilSees("pier")
	d.Press("u")
	d.UntilSaid("no") // nothing of ours is there to be undone
}

func TestAnEmptyWorkspaceSaysWhatToDo(t *testing.T) {
	d := placetest.Workspace(t, "")
	d.Place(New)
	d.Fits()
	if see := d.See(); strings.TrimSpace(see) == "" {
		t.Error("nothing shows")
	}
	d.Press("enter", "c", "e", "t", "m", "x", "space", "up", "down", "C")
	if len(d.Opened) != 0 {
		t.Errorf("opened %v", d.Opened)
	}
}

func TestLongNamesAndManySessionsFit(t *testing.T) {
	var b strings.Builder
	long := strings.Repeat("harbour-", 7)
	for i := range 60 {
		b.WriteString("[session." + long + string(rune('a'+i%26)) + string(rune('a'+i/26)) + "]\nhost = \"" + long + "example\"\nuser = \"" + long + "\"\n")
	}
	d := placetest.Workspace(t, b.String())
	d.Place(New)
	d.Until("the board", func() bool { return d.On().(*Model).Selected() != "" })
	d.Fits()
}

// Wide letters and those that are read from the right take the columns that they take, and
// change nothing about what stands beside them.
func TestLettersOfAllKindsFit(t *testing.T) {
	d := placetest.Workspace(t, "[session.\"灯台-北\"]\nhost = \"10.1.1.1\"\nuser = \"ü\"\nnote = \"灯台の番人は夜に二度だけ灯をともす。それ以外は誰も入らない。\"\n\n[session.\"מגדלור\"]\nhost = \"10.1.1.2\"\nvia = [\"灯台-北\"]\nuser = \"k\"\n")
	m := d.Place(New).On().(*Model)
	if len(m.ws.Book.Problems) > 0 {
		t.Fatal(m.ws.Book.Problems[0])
	}
	d.UntilSees("灯台-北", "מגדלור")
	d.Fits()
}

func TestWhatIsLookedForStaysWhenOthersEditTheFile(t *testing.T) {
	d, m := tree(t)
	d.Press("/", "s")
	path := d.Engine.Workspace().SessionsPath()
	if err := os.WriteFile(path, []byte(branches+"[session.sounder]\nhost = \"10.61.9.4\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Until("the file as it is now", func() bool { return len(m.ws.Book.Sessions) == 7 })
	if !m.Typing() {
		t.Fatalf("the next letter is a key:\n%s", d.See())
	}
	d.Press("o", "u")
	if got := m.Selected(); got != "sounder" || m.find.line.Text() != "sou" {
		t.Errorf("%q finds %s", m.find.line.Text(), got)
	}
}
