package sweep

import (
	"crypto/ed25519"
	"crypto/rand"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
)

func newLine(t *testing.T) (ssh.PublicKey, string) {
	t.Helper()
	pub, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	key, err := ssh.NewPublicKey(pub)
	if err != nil {
		t.Fatal(err)
	}
	return key, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
}

func TestWhatIsFoundIsToldCleanly(t *testing.T) {
	ours, ourLine := newLine(t)
	theirs, theirLine := newLine(t)
	out := "motd of the bay\n=keys=\n" +
		"-rw-r--r-- 1 keeper keeper 399 Nov  1 10:00 ./.ssh/id old\x1b[2J.pem\n-rw------- 1 keeper keeper 399 Nov  1 10:00 /tmp/k.pem\n" +
		"=sockets=\n/tmp/ssh-x/agent.12\n=list=\n# a comment\n" + ourLine + " me\n\nrestrict " + theirLine + " old\x07 laptop\n"
	r, err := read(out, []ssh.PublicKey{ours})
	if err != nil {
		t.Fatal(err)
	}
	if len(r.Keys) != 2 || r.Keys[0] != (File{".ssh/id old[2J.pem", "-rw-r--r--"}) || r.Keys[1].Path != "/tmp/k.pem" {
		t.Errorf("keys %+v", r.Keys)
	}
	if len(r.Sockets) != 1 || r.Sockets[0] != "/tmp/ssh-x/agent.12" {
		t.Errorf("sockets %q", r.Sockets)
	}
	want := Line{4, "ssh-ed25519", ssh.FingerprintSHA256(theirs), "old laptop", "restrict"}
	if r.Explained != 1 || len(r.Unexplained) != 1 || r.Unexplained[0] != want {
		t.Errorf("explained %d, not %+v", r.Explained, r.Unexplained)
	}
	if r.Cut {
		t.Error("it says that something was cut")
	}
}

func TestMuchIsCutAndSaysSo(t *testing.T) {
	r, err := read("=keys=\n"+strings.Repeat("-rw------- 1 k k 1 Nov 1 10:00 ./k\n", 201)+"=sockets=\n=list=\n", nil)
	if err != nil || len(r.Keys) != most || !r.Cut {
		t.Errorf("%d keys, cut %v, %v", len(r.Keys), r.Cut, err)
	}
	if _, err := read("This account is closed.\n", nil); err == nil {
		t.Error("a message is understood")
	}
}
