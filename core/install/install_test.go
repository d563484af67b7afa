package install

import (
	"crypto/ed25519"
	"crypto/rand"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

func newKey(t *testing.T) ssh.PublicKey {
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

func TestALineCarriesItsOptions(t *testing.T) {
	key := newKey(t)
	line, err := Line(key, "of the\x1b pier", Options{From: "10.61.0.0/16", Command: "date", Bare: true})
	if err != nil || !strings.HasPrefix(line, `from="10.61.0.0/16",command="date",restrict ssh-ed25519 `) || !strings.HasSuffix(line, " of the pier") {
		t.Errorf("%q, %v", line, err)
	}
	if !holds([]byte("# mine\n"+line+"\n"), key) || holds([]byte(line), newKey(t)) || holds([]byte("#"+line), key) {
		t.Error("the key is not found where it stands, or where it does not")
	}
	for _, bad := range []Options{{From: `a"b`}, {Command: "x\ny"}, {Command: `a\\b`}} {
		if line, err := Line(key, "", bad); err == nil {
			t.Errorf("%+v became %q", bad, line)
		}
	}
}

func TestTheListIsKeptToTheByte(t *testing.T) {
	for _, c := range []struct{ before, after string }{
		{"", "LINE\n"}, {"a\n", "a\nLINE\n"}, {"# c\r\n\n  b", "# c\r\n\n  b\nLINE\n"},
	} {
		if got := string(with([]byte(c.before), "LINE")); got != c.after {
			t.Errorf("%q became %q, want %q", c.before, got, c.after)
		}
	}
}

func TestAKeyIsTakenOutAndTheRestStays(t *testing.T) {
	old, other := newKey(t), newKey(t)
	text := "# mine\r\n" + line([]string{`from="10.0.0.1"`}, old, "old") + "\n\n" + line(nil, other, "") + "\n" + line(nil, old, "again")
	if options, ok := optionsOf([]byte(text), old); !ok || len(options) != 1 || options[0] != `from="10.0.0.1"` {
		t.Errorf("options %q", options)
	}
	if got, want := string(without([]byte(text), old)), "# mine\r\n\n"+line(nil, other, "")+"\n"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}

func TestDoubtsAreWhatServersHave(t *testing.T) {
	head := "drwxr-xr-x 5 1000 1000 4096 Nov 1 10:00 .\ndrwxrwx--- 2 1000 1000 4096 Nov 1 10:00 .ssh\n-rw-r--r-- 1 1001 1000 10 Nov 1 10:00 .ssh/authorized_keys"
	parts, err := read([]byte(head + "\n=list of 1000=\n"))
	doubts := list{parts: parts}.doubts()
	if err != nil || len(doubts) != 2 || !strings.Contains(doubts[0], ".ssh is writable by others") || !strings.Contains(doubts[1], "belongs to account 1001") {
		t.Errorf("%q, %v", doubts, err)
	}
	if parts, err := read([]byte("=list of 0=\n")); err != nil || len(parts) != 0 {
		t.Errorf("an empty home: %+v, %v", parts, err)
	}
	for _, bad := range []string{"", "This account is not available.", "x\n=list of"} {
		if _, err := read([]byte(bad)); err == nil {
			t.Errorf("%q is understood", bad)
		}
	}
}
