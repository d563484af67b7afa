package vouch

import (
	"encoding/base64"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func TestTheSameAddressByAnotherWayIsAnotherHost(t *testing.T) {
	r, a, b := record(t), hostKey(t), hostKey(t)
	quay, spit := At{"10.61.4.20", 22, "via quay"}, At{"10.61.4.20", 22, "via spit"}
	if err := r.Accept(quay, a, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	if s, _, err := r.Judge(spit, b); s != Unknown || err != nil {
		t.Errorf("behind the other bastion: %v, %v", s, err)
	}
	if err := r.Accept(spit, b, "", time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		at   At
		key  ssh.PublicKey
		want Standing
	}{{quay, a, Known}, {quay, b, Changed}, {spit, b, Known}, {spit, a, Changed}} {
		if got, _, _ := r.Judge(c.at, c.key); got != c.want {
			t.Errorf("%s: %v, want %v", c.at, got, c.want)
		}
	}
	if found, _ := r.Elsewhere(spit, a); len(found) != 1 || found[0].At() != quay {
		t.Errorf("elsewhere: %+v", found)
	}
	if hosts, _ := r.Hosts(); len(hosts) != 2 || hosts[0].Way != "via quay" || hosts[1].Way != "via spit" {
		t.Errorf("hosts %+v", hosts)
	}
	if err := r.Replace(quay, b, "", time.Now(), "rebuilt"); err != nil {
		t.Fatal(err)
	}
	if got, _, _ := r.Judge(spit, b); got != Known {
		t.Error("replacing by one way ended the other")
	}
}

// old is a record as it was written before there were ways.
func old(t *testing.T, keys ...ssh.PublicKey) *Record {
	t.Helper()
	text, err := os.ReadFile("testdata/before-ways.toml")
	if err != nil {
		t.Fatal(err)
	}
	for i, key := range keys {
		name := string('A' + rune(i))
		text = []byte(strings.NewReplacer("KEY-"+name, base64.StdEncoding.EncodeToString(key.Marshal()), "PRINT-"+name, ssh.FingerprintSHA256(key)).Replace(string(text)))
	}
	return write(t, string(text))
}

// write returns a record with a text.
func write(t *testing.T, text string) *Record {
	t.Helper()
	r := record(t)
	if err := errors.Join(os.MkdirAll(filepath.Dir(r.Path()), 0o700), os.WriteFile(r.Path(), []byte(text), 0o600)); err != nil {
		t.Fatal(err)
	}
	return r
}

func TestARecordFromBeforeWaysIsCarriedOver(t *testing.T) {
	a, b, other := hostKey(t), hostKey(t), hostKey(t)
	r := old(t, a, b)
	quay, spit := At{"10.61.4.20", 22, "via quay"}, At{"10.61.4.20", 22, "via spit"}
	if s, of, err := r.Judge(quay, a); s != Known || err != nil || of[0].Way != "" {
		t.Fatalf("an old vouch: %v, %v", s, err)
	}
	if s, _, _ := r.Judge(quay, other); s != Changed {
		t.Errorf("another key at an old vouch: %v", s)
	}
	if err := r.CarryOver(quay); err != nil {
		t.Fatal(err)
	}
	if s, of, err := r.Judge(quay, a); s != Known || err != nil || of[0].Way != "via quay" || of[0].By != "keeper" {
		t.Errorf("carried over: %v, %+v, %v", s, of, err)
	}
	if s, _, _ := r.Judge(spit, other); s != Unknown {
		t.Errorf("by the other way it is still judged by the old vouch: %v", s)
	}
	if s, _, _ := r.Judge(At{"203.0.113.10", 22, ""}, b); s != Known {
		t.Error("a public host is no longer known")
	}
	text, _ := os.ReadFile(r.Path())
	if !strings.Contains(string(text), "# the old quay") || strings.Count(string(text), "way = ") != 2 {
		t.Errorf("what a person wrote is gone, or more was carried over:\n%s", text)
	}
	if err := r.CarryOver(quay); err != nil {
		t.Error(err)
	}
	if again, _ := os.ReadFile(r.Path()); string(again) != string(text) {
		t.Error("carrying over twice changed the file")
	}
}

func TestAnOldVouchCanBeReplaced(t *testing.T) {
	a, b, fresh := hostKey(t), hostKey(t), hostKey(t)
	r := old(t, a, b)
	quay := At{"10.61.4.20", 22, "via quay"}
	if err := r.Replace(quay, fresh, "", time.Now(), "rebuilt"); err != nil {
		t.Fatal(err)
	}
	if s, _, _ := r.Judge(quay, fresh); s != Known {
		t.Errorf("the new key is %v", s)
	}
	if s, _, _ := r.Judge(At{"10.61.4.20", 22, "via spit"}, a); s != Unknown {
		t.Errorf("the old key is still %v by another way", s)
	}
}

func TestEachFormOfTheFileCanBeReplacedIn(t *testing.T) {
	a, fresh := hostKey(t), hostKey(t)
	values := fmt.Sprintf("algorithm = %q, sha256 = %q, key = %q, when = 2026-10-01T09:00:00Z, by = \"keeper\", address = \"\"",
		a.Type(), ssh.FingerprintSHA256(a), base64.StdEncoding.EncodeToString(a.Marshal()))
	for what, text := range map[string]string{
		"hexadecimal port": "[[vouched]]\nhost = \"quay\"\nport = 0x16\n" + strings.ReplaceAll(values, ", ", "\n"),
		"octal port":       "[[vouched]]\nhost = \"quay\"\nport = 0o26\n" + strings.ReplaceAll(values, ", ", "\n"),
		"inline":           "vouched = [ # all of them\n  {host = \"quay\", port = 22, " + values + "},\n  {host = \"spit\", port = 22, " + values + "} ]\n",
		"quoted":           "[[\"vouched\"]]\n\"host\" = 'quay'\n\"port\" = 2_2\n" + strings.ReplaceAll(values, ", ", "\n"),
	} {
		r := write(t, text)
		at := At{"quay", 22, ""}
		if s, _, err := r.Judge(at, a); s != Known || err != nil {
			t.Fatalf("%s: %v, %v", what, s, err)
		}
		if err := r.Replace(at, fresh, "", time.Now(), "rebuilt"); err != nil {
			t.Errorf("%s: %v", what, err)
			continue
		}
		was, _, _ := r.Judge(at, a)
		is, _, err := r.Judge(at, fresh)
		if was != Changed || is != Known || err != nil {
			text, _ := os.ReadFile(r.Path())
			t.Errorf("%s: the old key is %v, the new one %v, %v\n%s", what, was, is, err, text)
		}
		if s, _, _ := r.Judge(At{"spit", 22, ""}, a); what == "inline" && s != Known {
			t.Errorf("%s: another host is %v", what, s)
		}
	}
}

func TestAnnouncedKeysAreFewAndGo(t *testing.T) {
	r, own := record(t), hostKey(t)
	at := At{"quay.bay", 22, ""}
	now := time.Now()
	if err := r.Accept(at, own, "", now); err != nil {
		t.Fatal(err)
	}
	var keys []ssh.PublicKey
	named := []string{ssh.FingerprintSHA256(own)}
	for range MaxAnnounced + 3 {
		k := hostKey(t)
		keys, named = append(keys, k), append(named, ssh.FingerprintSHA256(k))
	}
	if added, err := r.Announce(at, keys, named, "", now); len(added) != MaxAnnounced || err != nil {
		t.Fatalf("%d announced keys were taken, %v", len(added), err)
	}
	// Some are no longer named; then there is room for others.
	if _, err := r.Announce(at, nil, named[:2], "", now); err != nil {
		t.Fatal(err)
	}
	standing := func(k ssh.PublicKey) Standing { s, _, _ := r.Judge(at, k); return s }
	if standing(keys[0]) != Known || standing(keys[1]) != Changed || standing(own) != Known {
		t.Errorf("after another announcement: %v %v %v", standing(keys[0]), standing(keys[1]), standing(own))
	}
	if added, err := r.Announce(at, keys[4:5], append(named[:2:2], named[5]), "", now); len(added) != 1 || err != nil {
		t.Errorf("there is no room again: %d, %v", len(added), err)
	}
	// One that was planted goes by itself.
	if added, err := r.Announce(at, nil, nil, "", now); len(added) != 0 || err != nil || standing(keys[0]) != Changed || standing(own) != Known {
		t.Errorf("an empty announcement: %v, %v", standing(keys[0]), err)
	}
	if _, err := r.Announce(at, keys[6:], named, "", now.Add(-AnnouncedStays-time.Hour)); err != nil || standing(keys[6]) != Changed {
		t.Errorf("long after it was announced the key is %v, %v", standing(keys[6]), err)
	}
}

func TestAnAnnouncedKeyStaysWhileItIsAnnounced(t *testing.T) {
	r, own, key := record(t), hostKey(t), hostKey(t)
	at := At{"10.61.4.20", 22, "via quay"}
	then := time.Now().Add(-AnnouncedStays + 24*time.Hour)
	named := []string{ssh.FingerprintSHA256(own), ssh.FingerprintSHA256(key)}
	_, err := r.Announce(at, []ssh.PublicKey{key}, named, "", then)
	if err := errors.Join(err, r.Accept(at, own, "", then)); err != nil {
		t.Fatal(err)
	}
	for _, now := range []time.Time{then.Add(20 * 24 * time.Hour), time.Now()} {
		if _, err := r.Announce(at, nil, named, "", now); err != nil {
			t.Fatal(err)
		}
	}
	text, _ := os.ReadFile(r.Path())
	of, err := r.Of(at)
	if err != nil || strings.Count(string(text), "again = ") != 1 || !of[0].lastAnnounced().After(then) {
		t.Errorf("%v, vouched %+v\n%s", err, of, text)
	}
	if g := of[0].Gate(); g.Verdict.String() != "ajar" || !strings.Contains(g.Reason, "nobody compared") {
		t.Errorf("its gate is %+v", g)
	}
	if err := r.Confirm(at, named[1], time.Now()); err != nil {
		t.Fatal(err)
	}
	of, err = r.Of(at)
	if err != nil || len(of) != 2 || of[0].How != "" || of[1].How != "" {
		t.Errorf("after a person confirmed it: %+v, %v", of, err)
	}
	if err := r.Confirm(at, named[1], time.Now()); err == nil {
		t.Error("a key is confirmed twice")
	}
}

func TestWaysFollowTheNameOfTheSessionTheyGoBy(t *testing.T) {
	r, a := record(t), hostKey(t)
	if err := errors.Join(r.Accept(At{"10.61.4.20", 22, "via quay"}, a, "", time.Now()), r.Accept(At{"10.61.4.21", 22, "via spit"}, a, "", time.Now()), r.Renamed("quay", "pier")); err != nil {
		t.Fatal(err)
	}
	for at, want := range map[At]Standing{{"10.61.4.20", 22, "via pier"}: Known, {"10.61.4.20", 22, "via quay"}: Unknown, {"10.61.4.21", 22, "via spit"}: Known} {
		if got, _, err := r.Judge(at, a); got != want || err != nil {
			t.Errorf("%s: %v, %v", at, got, err)
		}
	}
}
