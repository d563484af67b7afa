package estate_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/estate"
	"meatus/core/keyfile"
	"meatus/lab"
)

// offerOf is what the bay's cloud offers, with what is known of it.
func offerOf(t *testing.T, s *estate.Source) (*estate.Offer, estate.Kept) {
	t.Helper()
	k := renew(t, s)
	o, err := s.Offer(t.Context(), &k.Snapshot)
	if err != nil {
		t.Fatal(err)
	}
	return o, k
}

func here(estate.KeyPair) string { return "keys/gauge.pem" }

func TestAnotherLikeOneIsLaunched(t *testing.T) {
	_, s := cloudOf(t)
	o, k := offerOf(t, s)
	l := o.Like(&k.Snapshot, instance(t, k, "gauge-1"))
	if l.Image != "bay-keeper-12" || l.Size != "skiff" || l.Network != "reef" || l.KeyPair != "gauge" || strings.Join(l.Groups, " ") != "reef services" || l.Tags["role"] != "gauge" {
		t.Fatalf("like gauge-1 is %+v", l)
	}
	l.Name, l.Count, l.FirstBoot = "gauge-9", 2, "#!/bin/sh\necho ready\n"
	does := strings.Join(l.Review(o, here).Does, "\n")
	for _, want := range []string{"2 instances of bay-keeper-12: skiff, 1 CPU, 512 MiB", "an address inside reef (10.61.4.0/24)", "one logs in as keeper", "keys/gauge.pem, which is key pair gauge", "reef: lets in tcp 22 from 10.61.4.1/32", "called gauge-9-1, gauge-9-2", "21 bytes run at the first boot: #!/bin/sh"} {
		if !strings.Contains(does, want) {
			t.Errorf("%q is not said:\n%s", want, does)
		}
	}
	ids := map[string]string{}
	if err := s.Launch(t.Context(), l, o, "mark", func(name, id string) { ids[name] = id }); err != nil {
		t.Fatal(err)
	}
	for _, name := range l.Names() {
		if err := s.Await(t.Context(), ids[name], estate.Running, func(estate.State) {}); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	k = renew(t, s)
	if i := instance(t, k, "gauge-9-2"); i.Size != "skiff" || i.KeyPair != "gauge" || i.Tags["role"] != "gauge" {
		t.Errorf("it is %+v", i)
	}
	console, err := s.Console(t.Context(), ids["gauge-9-1"])
	if err != nil || len(estate.ConsolePrints(console)) != 1 {
		t.Errorf("its console: %q, %v", console, err)
	}
	if again := o.Like(&k.Snapshot, instance(t, k, "gauge-9-1")); len(again.Tags) != 1 {
		t.Errorf("the mark of a launch goes on to what is like it: %v", again.Tags)
	}
}

func TestALaunchIsReviewedBefore(t *testing.T) {
	_, s := cloudOf(t)
	o, k := offerOf(t, s)
	quay := o.Like(&k.Snapshot, instance(t, k, "quay"))
	r := quay.Review(o, func(estate.KeyPair) string { return "" })
	if ajar := strings.Join(r.Ajar, "\n"); !r.Alone || !strings.Contains(ajar, "everybody may knock at 22, by group shore") || !strings.Contains(ajar, "no file of key pair shore is here") {
		t.Errorf("it is said\n%s", ajar)
	}
	alone := quay.Alone(o, netip.MustParsePrefix("203.0.113.77/32"))
	if r := alone.Review(o, here); r.Alone || len(r.Ajar) > 0 || !strings.Contains(strings.Join(r.Does, "\n"), "ssh-from-203.0.113.77 that lets in tcp 22 from 203.0.113.77/32 alone") {
		t.Errorf("from one address alone: %+v", r)
	}
	nobody := quay
	nobody.Groups, nobody.KeyPair = nil, ""
	if ajar := strings.Join(nobody.Review(o, here).Ajar, "\n"); !strings.Contains(ajar, "no group lets anybody knock at 22") || !strings.Contains(ajar, "without a key pair") {
		t.Errorf("it is said\n%s", ajar)
	}
	bad := estate.Launch{Name: "a\x1b[31m", Image: "none", Size: "x\ny", Network: "harbour", Groups: []string{"?"}, KeyPair: "?", Count: 1000, FirstBoot: strings.Repeat("x", 1<<16), Tags: map[string]string{"": ""}}
	if wrong := bad.Review(o, here).Wrong; len(wrong) != 9 || strings.Contains(strings.Join(wrong, ""), "\x1b") {
		t.Errorf("%d are wrong: %q", len(wrong), wrong)
	}
	if err := s.Launch(t.Context(), bad, o, "", nil); err == nil {
		t.Error("it is launched")
	}
}

// A launch is written down before it is begun: one that was cut short is told of, once.
func TestALaunchThatWasCutShortIsTold(t *testing.T) {
	_, s := cloudOf(t)
	o, k := offerOf(t, s)
	l := o.Like(&k.Snapshot, instance(t, k, "gauge-1"))
	l.Name, l.Count = "gauge-9", 3
	g, err := estate.BeginLaunch(s.Dir, s.Name, l, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	one := l
	one.Count = 1
	if err := s.Launch(t.Context(), one, o, g.Mark, func(_, id string) {}); err != nil { // the program ends here, before it is written down
		t.Fatal(err)
	}
	if left := estate.CutShort(s.Dir, s.Name); len(left) > 0 {
		t.Fatal("one that goes on is told as cut short")
	}
	g.Abandon()
	left := estate.CutShort(s.Dir, s.Name)
	if len(left) != 1 {
		t.Fatalf("%d were cut short", len(left))
	}
	s.Whole = true
	k = renew(t, s)
	if say := left[0].Told(&k.Snapshot); !strings.Contains(say, "a launch of 3 instances") || !strings.Contains(say, "gauge-9 (") || !strings.Contains(say, "2 not") {
		t.Error(say)
	}
	left[0].End()
	if left := estate.CutShort(s.Dir, s.Name); len(left) > 0 {
		t.Error("it is told twice")
	}
	if err := os.WriteFile(filepath.Join(s.Dir, "state", "estate", "launching", s.Name+"-x.json"), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if left := estate.CutShort(s.Dir, s.Name); len(left) > 0 {
		t.Error("a broken file is told as a launch")
	}
}

func TestAFirstPasswordIsFetchedSealed(t *testing.T) {
	_, s := cloudOf(t)
	path := filepath.Join(s.Dir, "keys", "salvage.pem")
	key, err := keyfile.Make("RSA", 3072)
	if err != nil {
		t.Fatal(err)
	}
	if err := keyfile.Write(path, key, keyfile.Wrapping{}); err != nil {
		t.Fatal(err)
	}
	file, err := keyfile.Read(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Forget()
	public := keyfile.PublicLine(file.Public, "")
	if err := s.SendKeyPair(t.Context(), "salvage", public); err != nil {
		t.Fatal(err)
	}
	if err := s.SendKeyPair(t.Context(), "salvage", public); err == nil || !strings.Contains(err.Error(), "there is a key pair salvage already") {
		t.Errorf("sent twice: %v", err)
	}
	if err := s.SendKeyPair(t.Context(), "x", "no key"); err == nil {
		t.Error("what is no key is sent")
	}
	o, k := offerOf(t, s)
	l := o.Like(&k.Snapshot, instance(t, k, "gauge-1"))
	l.Name, l.KeyPair = "salvage", "salvage"
	id := ""
	if err := s.Launch(t.Context(), l, o, "m", func(_, made string) { id = made }); err != nil {
		t.Fatal(err)
	}
	sealed, err := s.SealedPassword(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if open, err := file.Unseal(sealed, nil); err != nil || string(open) != lab.FirstPassword {
		t.Errorf("it opens to %q, %v", open, err)
	}
	if _, err := s.SealedPassword(t.Context(), "i-gauge-1"); err == nil || !strings.Contains(err.Error(), "no first password") {
		t.Errorf("one of another kind of key: %v", err)
	}
}
