package main

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"meatus/cmd/meatus/command"
)

// The remedies of a blocked session are listed, and one is applied: only where a person, or --yes, says so.
func TestABlockedSessionIsMended(t *testing.T) {
	b := openBay(t)
	b.says("tide-db: blocked, gate key: mode 0644", command.Done, "mend", "--list")
	b.says("nobody to ask which remedy", command.WrongUse, "mend", "tide-db")
	b.says("   - set mode 0600 on tide.pem", command.Done, "mend", "tide-db", "--list")
	b.says("no problems found", command.Done, "mend", "gauge-1")
	b.says("name the session to mend", command.WrongUse, "mend", "--yes")
	b.says("unknown gate", command.WrongUse, "mend", "tide-db", "--gate", "garden")
	b.says("there is no session", command.WrongUse, "mend", "no-such")
	b.says(`there is no remedy "open sesame" now`, command.Blocked, "mend", "tide-db", "--remedy", "open sesame", "--yes")
	if file, err := os.Stat(b.key("tide.pem")); err != nil || file.Mode().Perm() != 0o644 {
		t.Fatalf("nobody has chosen, and %v %v", file.Mode(), err)
	}
	var problems []struct {
		Session, Gate, Verdict string
		Remedies               []struct {
			Say   string
			Mends bool
		}
	}
	if err := json.Unmarshal([]byte(b.run(command.Done, "mend", "buoy", "--json")), &problems); err != nil || len(problems) != 1 || problems[0].Gate != "key" || problems[0].Verdict != "shut" {
		t.Fatalf("%+v %v", problems, err)
	}
	var checked []struct {
		Problems []struct{ Remedies []struct{ Say string } }
	}
	if err := json.Unmarshal([]byte(b.run(command.Blocked, "check", "buoy", "--json")), &checked); err != nil || checked[0].Problems[0].Remedies[0].Say != problems[0].Remedies[0].Say {
		t.Errorf("%+v %v", checked, err)
	}
	b.says(`"verdict": "untried"`, command.Done, "mend", "tide-db", "--gate", "key", "--yes", "--json")
	if file, err := os.Stat(b.key("tide.pem")); err != nil || file.Mode().Perm() != 0o600 {
		t.Errorf("it was mended, and %v %v", file.Mode(), err)
	}
	b.says("no problems found", command.Done, "mend", "tide-db", "--yes")
	b.says("key of buoy is keys/gauge.pem now", command.Done, "mend", "buoy", "--remedy", "use the key gauge.pem", "--yes")
	if out := b.run(command.Done, "session", "show", "buoy"); !strings.Contains(out, "keys/gauge.pem") {
		t.Error(out)
	}
	b.says("now has mode 0600", command.Done, "trail", "tide-db")
	// What no remedy of this command mends is said, and fails.
	b.says("none of these remedies is applied by meatus mend", command.Blocked, "mend", "gauge-2", "--depth", "identity", "--yes")
}
