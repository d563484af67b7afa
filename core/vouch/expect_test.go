package vouch

import (
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func TestFingerprintsAreComparedInTheNotationTheyCameIn(t *testing.T) {
	key, other := hostKey(t), hostKey(t)
	for _, n := range Notations {
		for _, written := range []string{n.Write(key), " " + strings.ToUpper(n.Name[:3]) + strings.TrimPrefix(n.Name, n.Name[:3]) + ":" + n.Write(key) + "\n"} {
			if strings.Contains(written, " hex:") || n.Name == "SHA1" && !strings.Contains(written, ":") && len(strings.TrimSpace(written)) != 27 {
				continue // nobody writes it so
			}
			m, ok := Compare(written, key)
			if !ok || !m.Same || m.Shown != n.Write(key) {
				t.Errorf("%s as %q: %+v, %v", n.Name, written, m, ok)
			}
			if m, ok := Compare(written, other); !ok || m.Same {
				t.Errorf("%s of another key: %+v, %v", n.Name, m, ok)
			}
		}
	}
	if m, ok := Compare(string(ssh.MarshalAuthorizedKey(key)), key); !ok || !m.Same {
		t.Errorf("a whole key: %+v, %v", m, ok)
	}
	for _, none := range []string{"", "yes", "y", "SHA256:", "SHA256:abc", "MD5:aa:bb", "AAAA"} {
		if m, ok := Compare(none, key); ok {
			t.Errorf("%q is taken for a fingerprint: %+v", none, m)
		}
	}
}

func TestSSHFPRecordsGoOutAndComeBack(t *testing.T) {
	r, a, b := record(t), hostKey(t), hostKey(t)
	for host, key := range map[string]ssh.PublicKey{"quay.bay": a, "203.0.113.10": b} {
		if err := r.Accept(At{host, 22, ""}, key, "", time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	hosts, err := r.Hosts()
	if err != nil || len(hosts) != 2 || hosts[1].Name != "quay.bay" {
		t.Fatalf("%+v, %v", hosts, err)
	}
	var all []Vouch
	for _, h := range hosts {
		all = append(all, h.Keys...)
	}
	text := SSHFP(all)
	if strings.Count(text, "\n") != 1 || !strings.HasPrefix(text, "quay.bay. IN SSHFP 4 2 ") {
		t.Fatalf("records %q", text)
	}
	list, unread := ReadExpected(text, "", 0)
	if len(unread) > 0 || len(list) != 1 || list[0].Host != "quay.bay" {
		t.Fatalf("read %+v, %q", list, unread)
	}
	if m, ok := Compare(list[0].Print, a); !ok || !m.Same {
		t.Errorf("%+v", m)
	}
}

func TestExpectedFingerprintsAreReadFromWhatPeopleHave(t *testing.T) {
	key := hostKey(t)
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	sha, md5 := ssh.FingerprintSHA256(key), ssh.FingerprintLegacyMD5(key)
	for _, c := range []struct {
		text, host string
		port       int
	}{
		{"quay.bay " + line, "quay.bay", 22},
		{"[quay.bay]:2022 " + line, "quay.bay", 2022},
		{"10.61.4.20,quay " + line + " a comment", "10.61.4.20", 22},
		{"256 " + sha + " root@quay (ED25519)", "given", 99},
		{"10.61.4.20 MD5:" + md5, "10.61.4.20", 22},
		{"tide-db.internal: " + sha, "tide-db.internal", 22},
		{sha, "given", 99},
		{"$ORIGIN reef.internal.\ntide-db 3600 IN SSHFP 4 2 ( " + strings.ReplaceAll(Notations[1].Write(key), ":", "")[:30] + "\n " + strings.ReplaceAll(Notations[1].Write(key), ":", "")[30:] + " ) ; it\n", "tide-db.reef.internal", 99},
	} {
		list, unread := ReadExpected(c.text, "given", 99)
		if len(list) != 1 || len(unread) > 0 || list[0].Host != c.host || list[0].Port != c.port {
			t.Errorf("%q: %+v, unread %q", c.text, list, unread)
			continue
		}
		if m, ok := Compare(list[0].Print, key); !ok || !m.Same {
			t.Errorf("%q: print %q", c.text, list[0].Print)
		}
	}
	for _, bad := range []string{"quay.bay", "hello", "quay.bay SHA256:short", "x IN SSHFP 4 2 00ff", "x IN SSHFP broken"} {
		if list, unread := ReadExpected(bad, "", 0); len(list) > 0 || len(unread) == 0 {
			t.Errorf("%q: %+v, %q", bad, list, unread)
		}
	}
}

func TestExpectationsVouchForNothing(t *testing.T) {
	r, key := record(t), hostKey(t)
	list, _ := ReadExpected("quay.bay "+ssh.FingerprintSHA256(key), "", 0)
	for want := range 2 {
		if n, err := r.Expect(append(list, list...), time.Now()); err != nil || n != 1-want {
			t.Errorf("added %d, %v", n, err)
		}
	}
	if s, _, err := r.Judge(At{"quay.bay", 22, ""}, key); s != Unknown || err != nil {
		t.Errorf("judged %v, %v", s, err)
	}
	if of, err := Open(r.Path()).ExpectedOf("QUAY.bay", 22); err != nil || len(of) != 1 || of[0].By == "" {
		t.Errorf("expected %+v, %v", of, err)
	}
}

func TestARetiredHostIsVisitedForTheFirstTimeAgain(t *testing.T) {
	r, a, b := record(t), hostKey(t), hostKey(t)
	for _, err := range []error{
		r.Accept(At{"quay.bay", 22, ""}, a, "x", time.Now()), r.Add(At{"quay.bay", 22, ""}, b, "x", time.Now(), Announced), r.Accept(At{"other", 22, ""}, a, "x", time.Now()),
		r.Retire(At{"quay.bay", 22, ""}, time.Now(), "it went out of service"),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	if s, _, _ := r.Judge(At{"quay.bay", 22, ""}, a); s != Unknown {
		t.Errorf("quay is judged %v", s)
	}
	if s, _, _ := r.Judge(At{"other", 22, ""}, a); s != Known {
		t.Errorf("other is judged %v", s)
	}
	if all, _ := r.History(At{"quay.bay", 22, ""}); len(all) != 2 || all[1].How != Announced || all[0].Ended == "" {
		t.Errorf("history %+v", all)
	}
	if err := r.Retire(At{"quay.bay", 22, ""}, time.Now(), ""); err == nil {
		t.Error("retired twice")
	}
}

func TestSigningKeysHoldForTheirPattern(t *testing.T) {
	r, key := record(t), hostKey(t)
	if _, err := r.Trust("*.reef.internal", string(ssh.MarshalAuthorizedKey(key)), time.Now()); err != nil {
		t.Fatal(err)
	}
	for host, want := range map[string]int{"tide-db.reef.internal": 1, "TIDE.Reef.Internal": 1, "reef.internal": 0, "quay.bay": 0} {
		if got, err := Open(r.Path()).SignersFor(host); err != nil || len(got) != want {
			t.Errorf("%s: %+v, %v", host, got, err)
		}
	}
	for _, bad := range [][2]string{{"*", "no key"}, {"[a", string(ssh.MarshalAuthorizedKey(key))}, {"", string(ssh.MarshalAuthorizedKey(key))}} {
		if _, err := r.Trust(bad[0], bad[1], time.Now()); err == nil {
			t.Errorf("trusted %q", bad)
		}
	}
}

func TestARecordOthersCanWriteIsNotTrusted(t *testing.T) {
	r, key := record(t), hostKey(t)
	if err := r.Accept(At{"quay.bay", 22, ""}, key, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	for mode, ok := range map[uint32]bool{0o622: false, 0o660: false, 0o644: true, 0o600: true} {
		chmod(t, r.Path(), mode)
		if _, _, err := Open(r.Path()).Judge(At{"quay.bay", 22, ""}, key); (err == nil) != ok {
			t.Errorf("mode %o: %v", mode, err)
		}
		if _, exposed := Open(r.Path()).Exposed(); exposed != (mode == 0o644) {
			t.Errorf("mode %o: exposed %v", mode, exposed)
		}
	}
}

func FuzzReadExpected(f *testing.F) {
	for _, s := range []string{"quay.bay IN SSHFP 4 2 00", "h.x SHA256:" + strings.Repeat("A", 43), "[::1]:22 aa:bb", "$INCLUDE /etc/passwd\nx SSHFP"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		list, _ := ReadExpected(text, "", 0)
		for _, e := range list {
			if _, ok := readPrint(e.Print); !ok || e.Host == "" {
				t.Fatalf("%q became %+v", text, e)
			}
		}
	})
}
