package vouch

import (
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func hostKey(t testing.TB) ssh.PublicKey {
	t.Helper()
	pub, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func record(t testing.TB) *Record { return Open(filepath.Join(t.TempDir(), "w", FileName)) }

func TestAVouchedKeyIsKnownAndAnotherIsChanged(t *testing.T) {
	r, a, b := record(t), hostKey(t), hostKey(t)
	if s, _, err := r.Judge(At{"quay.bay", 22, ""}, a); s != Unknown || err != nil {
		t.Fatalf("an empty record says %v, %v", s, err)
	}
	if err := r.Accept(At{"quay.bay", 22, ""}, a, "203.0.113.10:22", time.Now()); err != nil {
		t.Fatal(err)
	}
	again := Open(r.Path())
	for _, c := range []struct {
		host string
		port int
		key  ssh.PublicKey
		want Standing
	}{{"quay.bay", 22, a, Known}, {"Quay.Bay.", 22, a, Known}, {"quay.bay", 22, b, Changed}, {"quay.bay", 2022, a, Unknown}, {"other", 22, a, Unknown}} {
		if got, _, err := again.Judge(At{c.host, c.port, ""}, c.key); got != c.want || err != nil {
			t.Errorf("%s:%d judged %v (%v), want %v", c.host, c.port, got, err, c.want)
		}
	}
	if info, _ := os.Stat(r.Path()); info.Mode().Perm() != 0o600 {
		t.Errorf("the record has mode %o", info.Mode().Perm())
	}
}

func TestAddressesAreComparedByMeaning(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := r.Accept(At{"2001:db8::5", 22, ""}, a, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	if got, _, _ := r.Judge(At{"2001:0db8:0::0005", 22, ""}, a); got != Known {
		t.Errorf("judged %v", got)
	}
}

func TestOwnTextSurvives(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := os.MkdirAll(filepath.Dir(r.Path()), 0o700); err != nil {
		t.Fatal(err)
	}
	mine := "# told to me by the warden\n"
	if err := os.WriteFile(r.Path(), []byte(mine), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(r.Accept(At{"a", 22, ""}, a, "", time.Now()), r.Accept(At{"b", 22, ""}, a, "", time.Now())); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(r.Path())
	if !strings.HasPrefix(string(text), mine) || strings.Count(string(text), "[[vouched]]") != 2 {
		t.Errorf("the file is now:\n%s", text)
	}
}

func TestADamagedRecordIsAnErrorAndNotAnUnknownHost(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := r.Accept(At{"a", 22, ""}, a, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	good, _ := os.ReadFile(r.Path())
	for say, text := range map[string]string{
		":2:":         strings.Replace(string(good), "host = ", "hots = ", 1),
		"damaged":     strings.Replace(string(good), "SHA256:", "SHA256:x", 1),
		FileName:      "[[vouched]\n",
		"is damaged:": "[[vouched]]\nhost = 'h'\nport = 22\n",
	} {
		if err := os.WriteFile(r.Path(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		if _, _, err := r.Judge(At{"a", 22, ""}, a); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", say, err)
		}
		if err := r.Accept(At{"z", 22, ""}, a, "", time.Now()); err == nil {
			t.Error("a damaged record was written over")
		}
	}
}

func TestTwoProgramsVouchAtOnce(t *testing.T) {
	path := record(t).Path()
	key := hostKey(t)
	var wg sync.WaitGroup
	errs := make([]error, 10)
	for i := range errs {
		wg.Go(func() { errs[i] = Open(path).Accept(At{fmt.Sprint("host", i), 22, ""}, key, "", time.Now()) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
	for i := range errs {
		if s, _, err := Open(path).Judge(At{fmt.Sprint("host", i), 22, ""}, key); s != Known || err != nil {
			t.Errorf("host%d is %v, %v", i, s, err)
		}
	}
}

func TestReplacingKeepsTheOldKeyAsHistory(t *testing.T) {
	r, old, fresh, other := record(t), hostKey(t), hostKey(t), hostKey(t)
	day := time.Date(2026, 10, 12, 9, 30, 0, 0, time.UTC)
	if err := errors.Join(r.Accept(At{"gauge-2", 22, ""}, old, "10.61.4.32:22", day), r.Accept(At{"quay", 22, ""}, other, "", day)); err != nil {
		t.Fatal(err)
	}
	before, _ := os.ReadFile(r.Path())
	noted := strings.Replace(string(before), "port = 22\n", "port = 22   # the old machine\n", 1)
	if err := os.WriteFile(r.Path(), []byte(noted), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := r.Replace(At{"gauge-2", 22, ""}, fresh, "10.61.4.32:22", day.Add(time.Hour), "replaced by hand"); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		key  ssh.PublicKey
		want Standing
	}{{old, Changed}, {fresh, Known}} {
		if got, _, err := r.Judge(At{"gauge-2", 22, ""}, c.key); got != c.want || err != nil {
			t.Errorf("judged %v, want %v, %v", got, c.want, err)
		}
	}
	if got, _, _ := r.Judge(At{"quay", 22, ""}, other); got != Known {
		t.Errorf("another host's record changed: %v", got)
	}
	history, err := r.History(At{"gauge-2", 22, ""})
	if err != nil || len(history) != 2 || history[0].Current() || history[0].Ended != "replaced by hand" || !history[1].Current() {
		t.Errorf("history %+v, %v", history, err)
	}
	text, _ := os.ReadFile(r.Path())
	if !strings.Contains(string(text), "# the old machine") || strings.Count(string(text), "until = ") != 1 {
		t.Errorf("the file is now\n%s", text)
	}
}

func TestAKeyIsFoundUnderItsOtherName(t *testing.T) {
	r, key := record(t), hostKey(t)
	if err := r.Accept(At{"quay", 22, ""}, key, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	found, err := r.Elsewhere(At{"gauge-2", 22, ""}, key)
	if err != nil || len(found) != 1 || found[0].Host != "quay" {
		t.Errorf("found %+v, %v", found, err)
	}
	if found, _ := r.Elsewhere(At{"quay", 22, ""}, key); len(found) != 0 {
		t.Errorf("a host is elsewhere at itself: %+v", found)
	}
}

func chmod(t *testing.T, path string, mode uint32) {
	t.Helper()
	if err := os.Chmod(path, os.FileMode(mode)); err != nil {
		t.Fatal(err)
	}
}
