package trail

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

func open(t *testing.T) *Trail {
	t.Helper()
	tr, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { tr.Close() })
	return tr
}

func says(t *testing.T, tr *Trail, f Filter) string {
	t.Helper()
	entries, err := tr.Read(context.Background(), f)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, e := range entries {
		all = append(all, e.Say)
	}
	return strings.Join(all, " ")
}

func TestEntriesAreFoundByWhatTheySay(t *testing.T) {
	tr := open(t)
	day := time.Date(2026, 10, 12, 9, 0, 0, 0, time.UTC)
	for i, e := range []Entry{
		{Kind: Walk, Session: "gauge-1", Say: "one"},
		{Kind: Walk, Session: "gauge-2", Hop: "quay", Say: "two", Failed: "identity changed"},
		{Kind: Mend, Session: "tide-db", Say: "three_100%"},
	} {
		e.At = day.Add(time.Duration(i) * time.Hour)
		if err := tr.Add(e); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		f    Filter
		want string
	}{
		{Filter{}, "three_100% two one"},
		{Filter{Limit: 2}, "three_100% two"},
		{Filter{Text: "gauge"}, "two one"},
		{Filter{Text: "quay"}, "two"},
		{Filter{Text: "100%"}, "three_100%"},
		{Filter{Text: "o_e"}, ""},
		{Filter{Session: "gauge-1"}, "one"},
		{Filter{Failed: true}, "two"},
		{Filter{Since: day.Add(time.Hour)}, "three_100% two"},
		{Filter{Text: "' or 1=1 --"}, ""},
	} {
		if got := says(t, tr, c.f); got != c.want {
			t.Errorf("%+v found %q, want %q", c.f, got, c.want)
		}
	}
}

func TestTextIsCleanedAndExported(t *testing.T) {
	tr := open(t)
	at := time.Date(2026, 10, 12, 9, 0, 0, 5e6, time.UTC)
	if err := tr.Add(Entry{At: at, Who: "warden", Kind: Walk, Session: "a", Say: "said \x1b[31m\"hi\",\nthere", Took: 1500 * time.Millisecond, Event: "walk.ended", Fields: map[string]any{"hop": "quay", "tries": 2}}); err != nil {
		t.Fatal(err)
	}
	entries, _ := tr.Read(context.Background(), Filter{})
	var j, c bytes.Buffer
	if err := errors.Join(WriteJSON(&j, entries), WriteCSV(&c, entries)); err != nil {
		t.Fatal(err)
	}
	if want := `{"id":1,"at":"2026-10-12T09:00:00.005Z","who":"warden","kind":"walk","session":"a","say":"said [31m\"hi\", there","took_ns":1500000000,"event":"walk.ended","fields":{"hop":"quay","tries":2}}` + "\n"; j.String() != want {
		t.Errorf("JSON %s\nwant %s", j.String(), want)
	}
	if want := "id,at,who,kind,session,hop,say,took_ms,failed,event,fields\n1,2026-10-12T09:00:00.005Z,warden,walk,a,,\"said [31m\"\"hi\"\", there\",1500,,walk.ended,\"{\"\"hop\"\":\"\"quay\"\",\"\"tries\"\":2}\"\n"; c.String() != want {
		t.Errorf("CSV %s\nwant %s", c.String(), want)
	}
}

func TestTwoProgramsWriteAtOnce(t *testing.T) {
	dir := t.TempDir()
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			tr, err := Open(dir)
			if err != nil {
				t.Error(err)
				return
			}
			defer tr.Close()
			for i := range 50 {
				if err := tr.Add(Entry{Kind: Walk, Say: fmt.Sprint(i)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	tr, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	if got, _ := tr.Read(context.Background(), Filter{}); len(got) != 200 {
		t.Errorf("%d entries, want 200", len(got))
	}
	if info, _ := os.Stat(filepath.Join(dir, FileName)); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %o", info.Mode().Perm())
	}
}

// TestMain makes the test binary serve as a program that is killed while it
// writes.
func TestMain(m *testing.M) {
	dir := os.Getenv("MEATUS_TRAIL_WRITER")
	if dir == "" {
		os.Exit(m.Run())
	}
	tr, err := Open(dir)
	for i := 0; err == nil; i++ {
		if err = tr.Add(Entry{Kind: Walk, Say: fmt.Sprint(i)}); err == nil {
			fmt.Println(i) // it was written
		}
	}
}

func TestKillingLosesNothingWritten(t *testing.T) {
	dir := t.TempDir()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "MEATUS_TRAIL_WRITER="+dir)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	var told bytes.Buffer
	buf := make([]byte, 256)
	for told.Len() < 600 {
		n, err := out.Read(buf)
		if err != nil {
			t.Fatal(err)
		}
		told.Write(buf[:n])
	}
	cmd.Process.Kill()
	for {
		n, err := out.Read(buf)
		told.Write(buf[:n])
		if err != nil {
			break
		}
	}
	cmd.Wait()
	tr, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	entries, err := tr.Read(context.Background(), Filter{})
	if want := strings.Count(told.String(), "\n"); err != nil || len(entries) < want {
		t.Errorf("%d entries are there of %d that were written, %v", len(entries), want, err)
	}
}

func TestADamagedTrailIsSaid(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "state"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, FileName), bytes.Repeat([]byte("not a database "), 500), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(dir); err == nil || !strings.Contains(err.Error(), "move it away") {
		t.Errorf("got %v", err)
	}
}

// TestATrailOfTheFirstFormIsCarriedOver opens a trail as the program before this one
// left it: with no event and no fields.
func TestATrailOfTheFirstFormIsCarriedOver(t *testing.T) {
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "state"), 0o700); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, FileName))
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile("testdata/first-form.sql")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(string(text)); err != nil {
		t.Fatal(err)
	}
	db.Close()
	for range 2 { // the second time there is nothing left to carry over
		tr, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		entries, err := tr.Read(context.Background(), Filter{})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, e := range entries {
			got = append(got, fmt.Sprint(e.Event, e.Fields))
		}
		want := "walkedmap[] link-downmap[] finishedmap[what:shell] beganmap[what:shell] link-upmap[]"
		if s := strings.Join(got, " "); s != want {
			t.Errorf("carried over as %q, want %q", s, want)
		}
		from := time.UnixMilli(1791000000000)
		stays, err := tr.Stays(context.Background(), from, from.Add(time.Hour))
		if err != nil || len(stays) != 2 || stays[0].What != "shell" || stays[0].Open || !stays[1].Lost {
			t.Errorf("%+v, %v", stays, err)
		}
		tr.Close()
	}
}
