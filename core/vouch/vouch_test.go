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
	if s, _, err := r.Judge("quay.bay", 22, a); s != Unknown || err != nil {
		t.Fatalf("an empty record says %v, %v", s, err)
	}
	if err := r.Accept("quay.bay", 22, a, "203.0.113.10:22", time.Now()); err != nil {
		t.Fatal(err)
	}
	again := Open(r.Path())
	for _, c := range []struct {
		host string
		port int
		key  ssh.PublicKey
		want Standing
	}{{"quay.bay", 22, a, Known}, {"Quay.Bay.", 22, a, Known}, {"quay.bay", 22, b, Changed}, {"quay.bay", 2022, a, Unknown}, {"other", 22, a, Unknown}} {
		if got, _, err := again.Judge(c.host, c.port, c.key); got != c.want || err != nil {
			t.Errorf("%s:%d judged %v (%v), want %v", c.host, c.port, got, err, c.want)
		}
	}
	if info, _ := os.Stat(r.Path()); info.Mode().Perm() != 0o600 {
		t.Errorf("the record has mode %o", info.Mode().Perm())
	}
}

func TestAddressesAreComparedByMeaning(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := r.Accept("2001:db8::5", 22, a, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	if got, _, _ := r.Judge("2001:0db8:0::0005", 22, a); got != Known {
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
	if err := errors.Join(r.Accept("a", 22, a, "", time.Now()), r.Accept("b", 22, a, "", time.Now())); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(r.Path())
	if !strings.HasPrefix(string(text), mine) || strings.Count(string(text), "[[vouched]]") != 2 {
		t.Errorf("the file is now:\n%s", text)
	}
}

func TestADamagedRecordIsAnErrorAndNotAnUnknownHost(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := r.Accept("a", 22, a, "", time.Now()); err != nil {
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
		if _, _, err := r.Judge("a", 22, a); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", say, err)
		}
		if err := r.Accept("z", 22, a, "", time.Now()); err == nil {
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
		wg.Go(func() { errs[i] = Open(path).Accept(fmt.Sprint("host", i), 22, key, "", time.Now()) })
	}
	wg.Wait()
	if err := errors.Join(errs...); err != nil {
		t.Fatal(err)
	}
	for i := range errs {
		if s, _, err := Open(path).Judge(fmt.Sprint("host", i), 22, key); s != Known || err != nil {
			t.Errorf("host%d is %v, %v", i, s, err)
		}
	}
}
