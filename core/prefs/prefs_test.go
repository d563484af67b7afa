package prefs

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		"":                                       "",
		"[alert]\ncommand = [\"say\", \"it\"]\n": "",
		"[alert]\ncomand = [\"say\"]\n":          "settings.toml:2:1: there is no setting alert.comand",
		"[alert]\ncommand = 3\n":                 "settings.toml:2:11: ",
		"[alert\n":                               "settings.toml:1:",
		"[alert]\ncommand = [\"a\x1b[31m\"]\n":   "settings.toml:2:",
		"[keys]\nmend = \"f2\"\nedit = \"n\"\nnew = \"e\"\n": "",
		"[keys]\nmend = \"n\"\n":                             "settings.toml:2:1: n is the key of new, too",
		"[keys]\nmend = \"f2\"\nmake = \"k\"\n":              "settings.toml:3:1: there is nothing called make",
		"[keys]\nmend = \"f2\"\nedit = \"f2\"\n":             "settings.toml:2:1: f2 is the key of edit, too",
		"[keys]\nmend = \"enter\"\n":                         "settings.toml:2:1: \"enter\" is no key that mend can have",
		"[keys]\nmend = \"a b\"\n":                           "settings.toml:2:1: ",
		"look.marks = \"plain\"\n":                           "",
		"[look]\nground = \"grey\"\n":                        "settings.toml:2:1: ground can be dark, light, terminal, none, not \"grey\"",
		"[estate]\nseen = \"198.51.100.7\"\n":                "",
		"[estate]\nseen = \"198.51.100.0/24\"\n":             "settings.toml:2:1: seen is an address",
		"[lookup]\n":                                         "settings.toml:1:2: there is no setting lookup",
	} {
		p, err := Parse(FileName, []byte(text))
		if want == "" && err != nil || want != "" && (err == nil || !strings.HasPrefix(err.Error(), want)) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
		if set := strings.Contains(text, "100.7"); p.Estate.Address().IsValid() != set {
			t.Errorf("%q: this machine is seen as %s", text, p.Estate.Address())
		}
		if want != "" && len(p.Alert.Command) > 0 {
			t.Errorf("%q: part of it is used: %+v", text, p)
		}
	}
}

func TestAFileThatOthersCanWriteIsNotUsed(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	if p, err := Read(path); err != nil || len(p.Alert.Command) > 0 {
		t.Errorf("without a file: %+v, %v", p, err)
	}
	if err := os.WriteFile(path, []byte("[alert]\ncommand = [\"true\"]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if p, err := Read(path); err != nil || len(p.Alert.Command) != 1 {
		t.Errorf("%+v, %v", p, err)
	}
	if err := os.Chmod(path, 0o666); err != nil {
		t.Fatal(err)
	}
	if p, err := Read(path); err == nil || len(p.Alert.Command) > 0 || !strings.Contains(err.Error(), "is not used") {
		t.Errorf("writable by all: %+v, %v", p, err)
	}
}

func TestTheCommandIsToldWhatHappened(t *testing.T) {
	out := filepath.Join(t.TempDir(), "out")
	a := Alert{Command: []string{"sh", "-c", `printf '%s|%s|%s' "$MEATUS_SESSION" "$MEATUS_STATE" "$MEATUS_SAY" > "$0"`, out}}
	if err := a.Run(context.Background(), "quay", "lost", "quay is lost\x1b[31m: $(true)"); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(out); err != nil || string(text) != "quay|lost|quay is lost[31m: $(true)" {
		t.Errorf("%q, %v", text, err)
	}
	if err := (Alert{}).Run(context.Background(), "quay", "back", ""); err != nil {
		t.Error(err)
	}
	if err := (Alert{Command: []string{"sh", "-c", "echo no use >&2; exit 3"}}).Run(context.Background(), "quay", "back", ""); err == nil || !strings.Contains(err.Error(), "no use") {
		t.Errorf("a command that fails: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if err := (Alert{Command: []string{"sleep", "60"}}).Run(ctx, "quay", "back", ""); err == nil {
		t.Error("it was not stopped")
	}
}

func TestALinkIsOpenedByWhatIsNamedAlone(t *testing.T) {
	out := filepath.Join(t.TempDir(), "out")
	l := Links{Command: []string{"sh", "-c", `printf %s "$1" > "$0"`, out}}
	if err := l.Open(t.Context(), "https://tables.lantern.example/$(touch x)"); err != nil {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(out); err != nil || !strings.HasPrefix(string(text), "https://tables.lantern.example/$%28touch") {
		t.Errorf("%q, %v", text, err)
	}
	for _, link := range []string{"file:///etc/passwd", "javascript:1", "-x", "https://", "http:\x1b[31m"} {
		if err := l.Open(t.Context(), link); err == nil {
			t.Errorf("%q is opened", link)
		}
	}
}
