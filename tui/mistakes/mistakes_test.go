package mistakes

import (
	"os"
	"testing"

	"meatus/tui/placetest"
)

func TestEveryMistakeCanBeReadAndTheListGoesWhenTheyAreMended(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhsot = \"203.0.113.10\"\n[defualts]\n[session.reef]\nhost = \"10.61.4.20\"\nport = 70000\n")
	d.Task(New(d.Services))
	d.UntilSees("1 of 3", "line 2, column 1, quay", `unknown key "hsot"`, `did you mean "host"`)
	d.Fits()
	d.Press("down")
	d.UntilSees("2 of 3", "[defualts] is no table")
	d.Press("end")
	d.UntilSees("3 of 3", "line 6, column 8, reef", "70000 is no port")
	d.Press("home")
	if err := os.WriteFile(d.Engine.Workspace().SessionsPath(), []byte("[session.quay]\nhost = \"203.0.113.10\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Press("r")
	d.Until("the list to be put away", func() bool { return d.Closed })
}
