package estate_test

import (
	"context"
	"fmt"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

// cloudOf is a bay with its cloud, and the source that its workspace names.
func cloudOf(t *testing.T) (*lab.Lab, *estate.Source) {
	t.Helper()
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	l.Cloud().Pace = 20 * time.Millisecond
	b, err := book.Read(filepath.Join(l.Dir, book.FileName))
	if err != nil || len(b.Estates) != 1 || b.Estates[0].Broken != nil {
		t.Fatal(err, b.Estates)
	}
	return l, &estate.Source{Dir: l.Dir, EstateSource: b.Estates[0]}
}

func renew(t *testing.T, s *estate.Source) estate.Kept {
	t.Helper()
	k, err := s.Renew(t.Context(), time.Now())
	if err != nil {
		t.Fatal(err)
	}
	return k
}

func instance(t *testing.T, k estate.Kept, name string) *estate.Instance {
	t.Helper()
	i := slices.IndexFunc(k.Snapshot.Instances, func(i estate.Instance) bool { return i.Name == name })
	if i < 0 {
		t.Fatalf("there is no %s: %s", name, k.Failed)
	}
	return &k.Snapshot.Instances[i]
}

func TestACloudIsRead(t *testing.T) {
	l, s := cloudOf(t)
	l.Cloud().Page = 3
	k := renew(t, s)
	if k.Failed != "" || len(k.Snapshot.Instances) != 15 || len(k.Snapshot.Networks) != 4 || len(k.Snapshot.Groups) != 6 {
		t.Fatalf("%s: %d instances, %d networks, %d groups", k.Failed, len(k.Snapshot.Instances), len(k.Snapshot.Networks), len(k.Snapshot.Groups))
	}
	quay := instance(t, k, "quay")
	if fmt.Sprint(quay.Addresses) != "[{10.61.0.10 n-shore false} {10.61.4.1 n-reef false} {203.0.113.10  true}]" || quay.State != estate.Running || quay.KeyPair != "shore" || fmt.Sprint(quay.Groups) != "[g-shore]" {
		t.Errorf("%+v", quay)
	}
	if m, ok := k.Snapshot.ImageOf(quay); !ok || m.UsualLogin() != "warden" || m.Family != "debian" {
		t.Errorf("its image is %+v", m)
	}
	if p := k.Snapshot.KeyPairOf(quay); !strings.HasPrefix(p.Fingerprint, "SHA256:") {
		t.Errorf("its key pair is %+v", p)
	}
	if float := instance(t, k, "float"); float.State != estate.Failed || !strings.Contains(float.Wrong, "No valid host was found") || len(float.Addresses) > 0 {
		t.Errorf("%+v", float)
	}
	if rules := strings.Join(k.Snapshot.Sentences(quay), "; "); rules != "shore: lets in tcp 22 from everybody (0.0.0.0/0); shore: lets out anything to everybody (0.0.0.0/0)" {
		t.Errorf("its rules are %s", rules)
	}
	if rules := strings.Join(k.Snapshot.Sentences(instance(t, k, "gauge-1")), "; "); !strings.Contains(rules, "lets in all tcp from whoever is in reef") {
		t.Errorf("the reef's rules are %s", rules)
	}
	if r := k.Snapshot.Reservations; len(r) != 1 || r[0].Instance != quay.ID {
		t.Errorf("reserved are %+v", r)
	}
	if r := k.Snapshot.Routers; len(r) != 1 || !r[0].Outside || len(r[0].Networks) != 2 {
		t.Errorf("routers are %+v", r)
	}
	s.Whole = true
	before := l.Cloud().Requests()
	if again := renew(t, s); again.Failed != "" || again.Differs || len(again.Changes) > 0 {
		t.Errorf("read again: %s, differs %v, %v", again.Failed, again.Differs, again.Changes)
	}
	t.Logf("%d requests a reading, with pages of 3", l.Cloud().Requests()-before)
}

// Between two whole readings the instances that have changed are asked for alone; what is new among
// what they refer to has everything read.
func TestWhatHasChangedIsAskedForAlone(t *testing.T) {
	l, s := cloudOf(t)
	whole := renew(t, s).Requests
	if k := renew(t, s); k.Requests > 2 || whole < 8 || k.Differs {
		t.Errorf("%d requests, and %d where nothing has changed (differs %v)", whole, k.Requests, k.Differs)
	}
	if err := s.Do(t.Context(), estate.End, "i-mast"); err != nil {
		t.Fatal(err)
	}
	if err := s.Await(t.Context(), "i-mast", estate.Ended, func(estate.State) {}); err != nil {
		t.Fatal(err)
	}
	k := renew(t, s)
	if slices.ContainsFunc(k.Snapshot.Instances, func(i estate.Instance) bool { return i.Name == "mast" }) || len(k.Changes) != 1 || k.Requests > 2 {
		t.Errorf("%d requests, %v", k.Requests, k.Changes)
	}
	o, err := s.Offer(t.Context(), &k.Snapshot)
	if err != nil {
		t.Fatal(err)
	}
	var id string
	launch := o.Like(&k.Snapshot, instance(t, k, "gauge-1")).Alone(o, netip.MustParsePrefix("10.61.4.1/32"))
	if err := s.Launch(t.Context(), launch, o, "m", func(_, made string) { id = made }); err != nil {
		t.Fatal(err)
	}
	if err := s.Await(t.Context(), id, estate.Running, func(estate.State) {}); err != nil {
		t.Fatal(err)
	}
	k = renew(t, s) // it is in a group that is new
	if i := k.Snapshot.Instance(id); i == nil || k.Requests < 8 || !slices.ContainsFunc(k.Snapshot.Sentences(i), func(say string) bool {
		return strings.Contains(say, "ssh-from-10.61.4.1: lets in tcp 22 from 10.61.4.1/32")
	}) {
		t.Errorf("after %d requests it is %+v", k.Requests, i)
	}
	if resp, err := http.Post(l.Cloud().URL()+"/lab/fault?kind=throttled&for=1m", "", nil); err != nil || resp.StatusCode != http.StatusNoContent {
		t.Fatal(resp, err)
	}
	if resp, err := http.Post(l.Cloud().URL()+"/lab/fault?kind=fog&for=1m", "", nil); err != nil || resp.StatusCode != http.StatusBadRequest {
		t.Error(resp, err)
	}
	if k := renew(t, s); !strings.Contains(k.Failed, "asked again after 5s") || len(k.Snapshot.Instances) != 15 {
		t.Errorf("throttled: %s", k.Failed)
	}
	l.Cloud().Fail(lab.Broken, time.Minute)
	if k := renew(t, s); k.Failed == "" || len(k.Snapshot.Instances) != 15 {
		t.Error("what is broken is taken")
	}
	l.Cloud().Fail(lab.Expired, 0)
	if k := renew(t, s); k.Failed != "" {
		t.Error(k.Failed)
	}
}

// A service whose clock is an hour off, either way, is read as any other.
func TestAClockThatIsOffDoesNoHarm(t *testing.T) {
	for _, skew := range []time.Duration{-time.Hour, time.Hour} {
		l, s := cloudOf(t)
		l.Cloud().Skew = skew
		renew(t, s)
		if err := s.Do(t.Context(), estate.Stop, "i-mast"); err != nil {
			t.Fatal(err)
		}
		if err := s.Await(t.Context(), "i-mast", estate.Stopped, func(estate.State) {}); err != nil {
			t.Fatal(err)
		}
		if k := renew(t, s); k.Failed != "" || instance(t, k, "mast").State != estate.Stopped || k.Requests > 2 {
			t.Errorf("%s off: %s, %+v after %d requests", skew, k.Failed, instance(t, k, "mast"), k.Requests)
		}
	}
}

// Who shows a certificate that nobody knows is told nothing, and the token least of all.
func TestABadCertificateIsToldNothing(t *testing.T) {
	asked := false
	server := httptest.NewTLSServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked = true }))
	defer server.Close()
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	_, s := cloudOf(t)
	file := filepath.Join(s.Dir, "clouds.yaml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	at := strings.Index(string(text), "http://")
	end := at + strings.IndexByte(string(text[at:]), '\n')
	if err := os.WriteFile(file, []byte(string(text[:at])+server.URL+"/v3"+string(text[end:])), 0o600); err != nil {
		t.Fatal(err)
	}
	if k := renew(t, s); !strings.Contains(k.Failed, "certificate") {
		t.Errorf("the cloud: %q", k.Failed)
	}
	t.Setenv("BAY_TOKEN", "ebb")
	b := book.Parse("f", []byte("[estate.far]\nkind = \"document\"\nurl = \""+server.URL+"/bay.json\"\ntoken_env = \"BAY_TOKEN\"\n"))
	if k := renew(t, &estate.Source{Dir: t.TempDir(), EstateSource: b.Estates[0]}); !strings.Contains(k.Failed, "certificate") {
		t.Errorf("the document: %q", k.Failed)
	}
	if asked {
		t.Error("something was asked of it")
	}
}

// Somebody else launches an instance while one looks.
func TestAnInstanceOfSomebodyElseIsNoticed(t *testing.T) {
	l, s := cloudOf(t)
	renew(t, s)
	l.Cloud().SomebodyElse(time.Millisecond)
	var k estate.Kept
	await.Until(t, "it to be noticed", func() bool {
		k = renew(t, s)
		return len(k.Snapshot.Instances) == 16 && instance(t, k, "wader").State == estate.Running
	})
	if len(k.Changes) == 0 || k.Changes[0].Say != "wader is new: starting" && k.Changes[0].Say != "wader is new: running" {
		t.Errorf("it is told: %+v", k.Changes)
	}
}

func TestATokenThatHasEndedIsRenewed(t *testing.T) {
	l, s := cloudOf(t)
	renew(t, s)
	l.Cloud().ForgetTokens()
	if k := renew(t, s); k.Failed != "" {
		t.Error(k.Failed)
	}
}

func TestInstancesAreStoppedStartedAndEnded(t *testing.T) {
	l, s := cloudOf(t)
	i := instance(t, renew(t, s), "gauge-2")
	do := func(a estate.Act) {
		t.Helper()
		if err := s.Do(t.Context(), a, i.ID); err != nil {
			t.Fatal(err)
		}
		var seen []estate.State
		if err := s.Await(t.Context(), i.ID, a.Reaches(), func(now estate.State) { seen = append(seen, now) }); err != nil || seen[len(seen)-1] != a.Reaches() {
			t.Fatalf("%s: %v, %v", a, seen, err)
		}
	}
	do(estate.Stop)
	if err := s.Do(t.Context(), estate.Stop, i.ID); err == nil || !strings.Contains(err.Error(), "409 Conflict") {
		t.Errorf("stopped twice: %v", err)
	}
	if k := renew(t, s); instance(t, k, "gauge-2").State != estate.Stopped {
		t.Errorf("then it is %+v", instance(t, k, "gauge-2"))
	}
	do(estate.Start)
	k := renew(t, s)
	if say := k.Changes[len(k.Changes)-1].Say; !strings.Contains(say, "gauge-2 was stopped and started: 10.61.4.32 became 10.61.4.70") {
		t.Errorf("it is told: %s", say)
	}
	do(estate.Restart)
	do(estate.End)
	if k := renew(t, s); slices.ContainsFunc(k.Snapshot.Instances, func(n estate.Instance) bool { return n.ID == i.ID }) || l.Cloud().Status("gauge-2") != "" {
		t.Error("it is still there")
	}
	console, err := s.Console(t.Context(), "i-gauge-1")
	if prints := estate.ConsolePrints(console); err != nil || len(prints) != 1 {
		t.Errorf("its console has %v, %v", prints, err)
	}
	if _, err := s.Console(t.Context(), "i-float"); err == nil {
		t.Error("an instance that failed has a console")
	}
	if err := (&estate.Source{}).Do(t.Context(), estate.Stop, "x"); err == nil {
		t.Error("something is done to an instance of a document")
	}
}

// A cloud that misbehaves leaves what was known, with the reason.
func TestAHostileCloudEmptiesNothing(t *testing.T) {
	l, s := cloudOf(t)
	renew(t, s)
	page := 0
	for name, c := range map[string]struct {
		answer func(w http.ResponseWriter, r *http.Request)
		want   string
	}{
		"forbidden": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusForbidden) }, "403 Forbidden: these credentials may not"},
		"not there": {func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "\x1b[31mno", http.StatusNotFound) }, "404 Not Found to GET"},
		"broken":    {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) }, "500 Internal"},
		"busy": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", "90")
			w.WriteHeader(http.StatusTooManyRequests)
		}, "asked again after 1m30s"},
		"a page": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>")
		}, "answers with a page"},
		"cut":   {func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"servers": [{"id":`) }, "unexpected"},
		"types": {func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"servers": [{"id": 7}], "networks": 3}`) }, "cannot unmarshal"},
		"elsewhere": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://127.0.0.1:1/", http.StatusFound)
		}, "no token goes along"},
		"no end": {func(w http.ResponseWriter, r *http.Request) {
			page++
			fmt.Fprintf(w, `{"networks": [{"id": "n%d"}], "networks_links": [{"rel": "next", "href": "http://%s%s?marker=%d"}]}`, page, r.Host, r.URL.Path, page)
		}, "its pages do not end"},
		"too much": {func(w http.ResponseWriter, _ *http.Request) {
			io.Copy(w, io.LimitReader(zeros{}, estate.MaxDocument+10))
		}, "longer than 67 MB"},
	} {
		l.Cloud().Intercept(func(w http.ResponseWriter, r *http.Request) bool {
			if !strings.HasPrefix(r.URL.Path, "/network/v2.0/networks") {
				return false
			}
			w.Header().Set("Content-Type", "application/json")
			c.answer(w, r)
			return true
		})
		s.Whole = true
		k := renew(t, s)
		if !strings.Contains(k.Failed, c.want) || len(k.Snapshot.Instances) != 15 || strings.Contains(k.Failed, "\x1b") {
			t.Errorf("%s: %q, %d instances", name, k.Failed, len(k.Snapshot.Instances))
		}
		if wait := k.Later.Sub(k.Tried); (name == "busy") != (wait == 90*time.Second) {
			t.Errorf("%s: it is left alone for %s", name, wait)
		}
	}
	l.Cloud().Intercept(nil)
	if k := renew(t, s); k.Failed != "" {
		t.Error(k.Failed)
	}
	ctx, cancel := context.WithCancel(t.Context())
	l.Cloud().Intercept(func(_ http.ResponseWriter, r *http.Request) bool { cancel(); <-r.Context().Done(); return true })
	if k, _ := s.Renew(ctx, time.Now()); k.Failed == "" {
		t.Error("one that never answers is waited for")
	}
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = ' '
	}
	return len(p), nil
}

func TestCredentialsAreJudged(t *testing.T) {
	l, s := cloudOf(t)
	file := filepath.Join(l.Dir, "clouds.yaml")
	good, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		text string
		mode os.FileMode
		want string
	}{
		"loose":      {string(good), 0o644, "others can read the credentials; set mode 0600"},
		"wrong":      {strings.Replace(string(good), "secret: ", "secret: x", 1), 0o600, "401 Unauthorized: the credentials"},
		"no cloud":   {strings.Replace(string(good), "  bay:", "  mole:", 1), 0o600, "cloud \"bay\" not found"},
		"plain":      {strings.Replace(string(good), "127.0.0.1", "cloud.lantern.example", 1), 0o600, "is not https: others could read"},
		"unverified": {string(good) + "    verify: false\n", 0o600, "has verify set to false"},
		"no yaml":    {"{", 0o600, "clouds.yaml"},
	} {
		if err := os.WriteFile(file, []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(file, c.mode); err != nil {
			t.Fatal(err)
		}
		if k := renew(t, &estate.Source{Dir: s.Dir, EstateSource: s.EstateSource}); !strings.Contains(k.Failed, c.want) {
			t.Errorf("%s: %q", name, k.Failed)
		}
	}
}

func TestConsolesTellFingerprintsAlone(t *testing.T) {
	const print = "SHA256:BZkpR3lwFLwnIcfr9zNnDfwO1uUYgGQmnD1tjVCJqYw"
	for text, want := range map[string]string{
		"":                              "",
		"a user prints " + print + "\n": "",
		"-----BEGIN SSH HOST KEY FINGERPRINTS-----\n256 " + print + " root@x (ED25519)\n-----END SSH HOST KEY FINGERPRINTS-----\n256 SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA late": print,
		"ci: -----BEGIN SSH HOST KEY FINGERPRINTS-----\nci: 256 MD5:74:c8:07:9d:35:a8:31:1f:b6:22:ed:6c:63:0a:28:8d no (RSA)\n":                                                               "MD5:74:c8:07:9d:35:a8:31:1f:b6:22:ed:6c:63:0a:28:8d",
		"-----BEGIN SSH HOST KEY KEYS-----\nx ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIF7Fe9hBQoh6WtFBn/EMX+mXjRLdQvMFcU/Id2QygDYP loop\nrubbish \x1b[2J\n":                                       "SHA256:",
	} {
		got := ""
		for _, p := range estate.ConsolePrints(text) {
			got += strings.TrimSpace(" "+p.Print) + " "
		}
		got = strings.TrimSpace(got)
		if want == "" && got != "" || !strings.HasPrefix(got, want) || strings.Contains(got, "\x1b") {
			t.Errorf("%q: %q", text, got)
		}
	}
	many := "BEGIN SSH HOST KEY FINGERPRINTS\n"
	for i := range 100 {
		many += fmt.Sprintf("SHA256:%043d\n", i)
	}
	if n := len(estate.ConsolePrints(many)); n > 16 {
		t.Errorf("%d are taken", n)
	}
}

func FuzzConsole(f *testing.F) {
	f.Add("-----BEGIN SSH HOST KEY KEYS-----\nssh-ed25519 AAAA\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, print := range estate.ConsolePrints(text) {
			if strings.ContainsAny(print.Print+print.Kind, " \n\x1b") || len(print.Print) > 60 {
				t.Errorf("%q", print)
			}
		}
	})
}

// The token of an address can be what a command prints.
func TestATokenIsPrintedByACommand(t *testing.T) {
	said := ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		said = r.Header.Get("Authorization")
		fmt.Fprint(w, `{"estate": 1}`)
	}))
	defer server.Close()
	from := func(command string) estate.Kept {
		b := book.Parse("f", []byte("[estate.far]\nkind = \"document\"\nurl = \""+server.URL+"\"\ntoken_command = "+command+"\n"))
		return renew(t, &estate.Source{Dir: t.TempDir(), EstateSource: b.Estates[0]})
	}
	if k := from(`["echo", "ebb"]`); k.Failed != "" || said != "Bearer ebb" {
		t.Errorf("%q, %q", k.Failed, said)
	}
	said = ""
	for command, want := range map[string]string{`["false"]`: "the token's command: false", `["printf", "ebb\\nflow"]`: "does not hold one token", `["true"]`: "does not hold one token"} {
		if k := from(command); !strings.Contains(k.Failed, want) || strings.Contains(k.Failed, "ebb") || said != "" {
			t.Errorf("%s: %q, and %q was sent", command, k.Failed, said)
		}
	}
	two := book.Parse("f", []byte("[estate.far]\nkind = \"document\"\nurl = \"https://a.example/\"\ntoken_env = \"A\"\ntoken_command = [\"b\"]\n"))
	if two.Estates[0].Broken == nil {
		t.Error("two tokens are taken")
	}
}
