package many

import (
	"os"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/tui/placetest"
)

func written(d *placetest.Driver) string {
	text, err := os.ReadFile(d.Engine.Workspace().SessionsPath())
	if err != nil {
		d.Fatal(err)
	}
	return string(text)
}

func TestOneValueOfManyIsShownWrittenAndTakenBackAtOnce(t *testing.T) {
	d := placetest.Workspace(t, "[site.reef]\nkeepalive = \"1m\"\n[session.a]\nhost = \"a\"\nsite = \"reef\"\n[session.b]\nhost = \"b\"\nkeepalive = \"45s\"\n[session.c]\nhost = \"c\"\n")
	before := written(d)
	d.Task(NewChange(d.Services, []string{"a", "b"}))
	d.UntilSees("change the marked", "2 sessions")
	d.Type("keepalvie=1")
	d.UntilSees("did you mean keepalive?")
	d.Press("ctrl+u")
	d.Type("keepa")
	d.Press("tab")
	d.UntilSees("keepalive=", "1m, site reef", "45s, session b")
	d.Type("1x")
	d.UntilSees("╰ ")
	d.Press("enter")
	if written(d) != before {
		t.Fatal("what is wrong was written")
	}
	d.Press("backspace")
	d.Type("s")
	d.UntilSees("1m, site reef → 1s", "45s, session b → 1s")
	d.Fits()
	d.Press("enter")
	d.Until("the edit", func() bool { return d.Closed && strings.Count(written(d), `keepalive = "1s"`) == 2 })
	if strings.Contains(written(d), "[session.c]\nhost = \"c\"\nkeepalive") {
		t.Error("c was not marked")
	}
	if _, _, err := book.Undo(d.Engine.Workspace().SessionsPath()); err != nil || written(d) != before {
		t.Errorf("not one edit: %v\n%s", err, written(d))
	}
}

func TestAValueIsGivenUpByMany(t *testing.T) {
	d := placetest.Workspace(t, "[site.reef]\nuser = \"keeper\"\n[session.a]\nhost = \"a\"\nsite = \"reef\"\nuser = \"pilot\"\n[session.b]\nhost = \"b\"\nuser = \"pilot\"\n")
	d.Task(NewChange(d.Services, []string{"a", "b"}))
	d.Type("user=")
	d.UntilSees("pilot, session a → keeper, site reef", "pilot, session b → –")
	d.Press("enter")
	d.Until("the edit", func() bool { return !strings.Contains(written(d), "pilot") })
}

func TestACommandAtManyShowsWhereTheyDiffer(t *testing.T) {
	d, _ := placetest.Lab(t)
	if _, err := book.SetAll(d.Engine.Workspace().SessionsPath(), []string{"gauge-1"}, []book.Setting{{Key: "careful", Value: "on"}}); err != nil {
		t.Fatal(err)
	}
	d.Engine.Reread(true)
	d.Until("the care", func() bool { return len(d.Engine.Workspace().Book.Careful("gauge-1")) == 1 })
	d.Task(NewEach(d.Services, []string{"quay", "gauge-1", "buoy"}))
	d.UntilSees("run at the marked", "quay, gauge-1, buoy")
	d.Type("echo the same; hostname")
	d.Press("enter")
	d.UntilSees("gauge-1 is marked careful; type its name")
	d.Type("quay")
	d.Press("enter")
	d.UntilSees("that is not gauge-1")
	d.Press("ctrl+u")
	d.Type("gauge-1")
	d.Press("enter")
	d.UntilSees("done", "could not be run")
	m := d.On().(*Each)
	d.SetSize(130, 38)
	above := func() string { return strings.Join(m.View(), "\n") }
	for _, want := range []string{"the same", "quay", "gauge-1", "there is no such file"} {
		if !strings.Contains(above()+d.See(), want) {
			t.Errorf("%q is missing of\n%s\n%s", want, above(), d.See())
		}
	}
	if !strings.Contains(above(), " + ") || !strings.Contains(above(), " - ") {
		t.Errorf("what differs is not marked:\n%s", above())
	}
	d.Press("right")
	if m.first != 1 {
		t.Error("the next output is not gone to")
	}
	d.Fits()
	d.Press("esc")
	if !d.Closed {
		t.Error("it is not put away")
	}
}
