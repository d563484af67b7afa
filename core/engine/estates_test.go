package engine

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/estate"
	"meatus/core/trail"
	"meatus/core/workspace"
	"meatus/lab/await"
	"meatus/lab/estatedoc"
)

const anInstance = `{"estate": 1, "instances": [{"id": "i-1", "name": "gauge-1", "state": "running", "checks": "passed", "addresses": [{"ip": "ADDRESS"}]}]}`

// withEstate is an engine over a workspace whose gauge-1 is an instance of a document in it.
func withEstate(t *testing.T, every string) (e *Engine, write func(text string)) {
	t.Helper()
	dir := t.TempDir()
	write = func(text string) {
		t.Helper()
		estatedoc.Write(t, dir, text)
	}
	write(strings.ReplaceAll(anInstance, "ADDRESS", "10.61.4.31"))
	text := estatedoc.Table(every) + "[session.gauge-1]\ninstance = \"gauge-1\"\n"
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if e, err = Open(t.Context(), Options{Workspace: ws, Name: "test", Attended: true}); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	return e, write
}

func hostOf(e *Engine, session string) string {
	if s := e.Workspace().Book.Session(session); s != nil && s.Broken == nil {
		return s.Host.V
	}
	return ""
}

func TestSessionsFollowTheirInstances(t *testing.T) {
	e, write := withEstate(t, "1s")
	await.Until(t, "the estate to be read at the start", func() bool { return hostOf(e, "gauge-1") == "10.61.4.31" })
	write(strings.ReplaceAll(anInstance, "ADDRESS", "10.61.4.47"))
	await.Until(t, "the session to follow the address", func() bool { return hostOf(e, "gauge-1") == "10.61.4.47" })
	entries := func(text string) int {
		found, err := e.Trail.Read(t.Context(), trail.Filter{Text: text, Limit: 10})
		if err != nil {
			t.Fatal(err)
		}
		return len(found)
	}
	await.Until(t, "the trail", func() bool { return entries("gauge-1 has another address: 10.61.4.31 became 10.61.4.47") == 1 })
	write("{")
	await.Until(t, "the failure to be told", func() bool { return entries("estate bay cannot be read; what was known of it stays") == 1 })
	if hostOf(e, "gauge-1") != "10.61.4.47" {
		t.Error("a source that fails emptied the board")
	}
	write(strings.ReplaceAll(anInstance, "ADDRESS", "10.61.4.48"))
	e.ReadEstates()
	await.Until(t, "it to be read again when asked", func() bool { return hostOf(e, "gauge-1") == "10.61.4.48" })
	await.Until(t, "that to be told", func() bool { return entries("estate bay is read again") == 1 })
}

// A source that is read when asked alone is read once, and then when it is asked; one that leaves the file
// is no longer read.
func TestASourceIsReadWhenAskedAlone(t *testing.T) {
	e, write := withEstate(t, "off")
	await.Until(t, "the estate to be read at the start", func() bool { return hostOf(e, "gauge-1") == "10.61.4.31" })
	write(strings.ReplaceAll(anInstance, "ADDRESS", "10.61.4.47"))
	if !e.due(e.Workspace().Book.Estates[0], 0).IsZero() {
		t.Error("it is to be read by itself")
	}
	e.ReadEstates()
	await.Until(t, "the reading that was asked for", func() bool { return hostOf(e, "gauge-1") == "10.61.4.47" })
	path := e.Workspace().SessionsPath()
	if err := os.WriteFile(path, []byte("[session.gauge-1]\nhost = \"10.61.4.99\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the file as it is now", func() bool { return hostOf(e, "gauge-1") == "10.61.4.99" && len(e.Workspace().Estates) == 0 })
}

func TestAFailingSourceIsAskedLaterAndLater(t *testing.T) {
	e, _ := withEstate(t, "1m")
	await.Until(t, "the estate to be read at the start", func() bool { return hostOf(e, "gauge-1") != "" })
	source := e.Workspace().Book.Estates[0]
	tried := e.Workspace().Estates[0].Tried
	last := time.Duration(0)
	for failures := range 20 {
		wait := e.due(source, failures).Sub(tried)
		if wait < last*9/10 || wait > longestBackOff*11/10 {
			t.Errorf("after %d failures it waits %s, before that %s", failures, wait, last)
		}
		last = wait
	}
	if last < longestBackOff {
		t.Errorf("it waits at most %s", last)
	}
	k := e.Workspace().Estates[0]
	k.Later = tried.Add(time.Hour)
	e.know(k)
	if got := e.due(source, 1); got.Before(k.Later) {
		t.Errorf("it is asked at %s, and wanted to be left alone until %s", got, k.Later)
	}
	if len(k.Changes) > 0 || k.Source != "bay" {
		t.Errorf("%+v", estate.Kept{Source: k.Source, Changes: k.Changes})
	}
}
