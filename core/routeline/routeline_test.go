package routeline

import (
	"reflect"
	"slices"
	"strings"
	"testing"

	"meatus/core/book"
)

var bay = Known{
	Sessions: []string{"quay", "inner", "tide-db"},
	Sites:    []string{"shore", "reef"},
	Keys:     []string{"tide.pem", "shore.pem"},
	Users:    []string{"keeper", "warden"},
	Hosts:    map[string]string{"203.0.113.10": "quay", "10.61.4.20": "tide-db"},

	Downloads: []string{"~/got/new key.pem"},
}

func TestLinesBecomeDrafts(t *testing.T) {
	cases := []struct {
		line string
		want book.Draft
	}{
		{"gauge-9 = keeper@10.61.4.39 via quay with tide.pem", book.Draft{Name: "gauge-9", User: "keeper", Host: "10.61.4.39", Via: []string{"quay"}, Keys: []string{"keys/tide.pem"}}},
		{"keeper@10.61.4.20:2022", book.Draft{Name: "10.61.4.20", User: "keeper", Host: "10.61.4.20", Port: 2022}},
		{"archive.reef.internal", book.Draft{Name: "archive", Host: "archive.reef.internal"}},
		{"quay.bay", book.Draft{Name: "quay-2", Host: "quay.bay"}},
		{"a=h via quay,inner with 'my keys/x.pem' site reef every 1m", book.Draft{Name: "a", Host: "h", Via: []string{"quay", "inner"}, Keys: []string{"my keys/x.pem"}, Site: "reef", Keepalive: "1m"}},
		{"a = h via quay|inner, quay", book.Draft{Name: "a", Host: "h", Via: []string{"quay | inner", "quay"}}},
		{"six = keeper@[2001:db8::5]:2022", book.Draft{Name: "six", User: "keeper", Host: "2001:db8::5", Port: 2022}},
		{"db = keeper@10.61.4.20 via quay bring 15432 from db.internal:5432 lend 9000 from 127.0.0.1:3000 roam 0.0.0.0:1080 lend-agent every off", book.Draft{Name: "db", User: "keeper", Host: "10.61.4.20", Via: []string{"quay"}, Keepalive: "off", Agent: "lend", Tunnels: []book.Tunnel{
			{Bring: "127.0.0.1:15432", Reach: "db.internal:5432"}, {Lend: "127.0.0.1:9000", Reach: "127.0.0.1:3000"}, {Roam: "0.0.0.0:1080"}}}},
		{"sock = h bring /run/db.sock from /var/run/db", book.Draft{Name: "sock", Host: "h", Tunnels: []book.Tunnel{{Bring: "/run/db.sock", Reach: "/var/run/db"}}}},
		{"ssh://keeper@archive.reef.internal:2022/", book.Draft{Name: "archive", User: "keeper", Host: "archive.reef.internal", Port: 2022}},
		{"a=ssh://the%40keeper;x=y@[2001:db8::7]", book.Draft{Name: "a", User: "the@keeper", Host: "2001:db8::7"}},
		{"a = h with 'new key.pem'", book.Draft{Name: "a", Host: "h", Keys: []string{"~/got/new key.pem"}}},
		{"six = 2001:db8::5", book.Draft{Name: "six", Host: "2001:db8::5"}},
	}
	for _, c := range cases {
		l := Parse(c.line, bay)
		if len(l.Mistakes) > 0 || !reflect.DeepEqual(l.Draft, c.want) {
			t.Errorf("%q:\n got %+v, mistakes %v\nwant %+v", c.line, l.Draft, l.Mistakes, c.want)
		}
	}
}

func TestMistakesStandAtTheirWord(t *testing.T) {
	cases := []struct {
		line, word, say string
		unfinished      bool
	}{
		{"", "", "who and where", true},
		{"x =", "", "host is missing", true},
		{"quay = h", "quay", "already", false},
		{"a b = h", "b", "one word", false},
		{"x = h:99999", "99999", "port", false},
		{"x = 10.61.4.300", "10.61.4.300", "four numbers", true},
		{"x = h via qauy", "qauy", "did you mean quay", false},
		{"x = h via qu", "qu", "no session", true},
		{"x = h via quay|qauy", "quay|qauy", "did you mean quay", false},
		{"x = h via quay|", "quay|", "no session", true},
		{"x = h via", "via", "via wants a session", true},
		{"x = h vai quay", "vai", "did you mean via", false},
		{"x = h via quay via inner", "via", "twice", false},
		{"x = h with none.pem", "none.pem", "no key", false},
		{"x = h every 3", "3", "from 1s", true},
		{"x = h bring", "bring", "door here", true},
		{"x = h bring 15432", "15432", "bring 15432 from", true},
		{"x = h bring 15432 form db:1", "form", "from is missing", false},
		{"x = h bring 99999 from db:1 via quay", "99999", "a door is", false},
		{"x = h bring 1 from db", "db", "a service is", true},
		{"x = h roam 1080 1081", "1081", "nothing here", false},
		{"x=ssh://h/etc", "/etc", "no meaning", false},
		{"x = h lend-agent yes", "yes", "nothing here", false},
		{"x = via quay", "via", "host is missing", false},
		{"tide = h via tide", "tide", "itself", false},
		{"x = @h", "@", "login name", false},
		{"x = [2001:db8::5", "[2001:db8::5", "bracket", true},
	}
	for _, c := range cases {
		l := Parse(c.line, bay)
		if len(l.Mistakes) == 0 {
			t.Errorf("%q: no mistake", c.line)
			continue
		}
		found := false
		for _, m := range l.Mistakes {
			found = found || c.line[m.From:m.To] == c.word && strings.Contains(m.Say, c.say) && m.Unfinished == c.unfinished
		}
		if !found {
			t.Errorf("%q: %+v, want %q at %q", c.line, l.Mistakes, c.say, c.word)
		}
	}
}

func TestCompletion(t *testing.T) {
	cases := []struct {
		line, want string
		from       int
	}{
		{"x = h via q", "quay", 10},
		{"x = h via quay|in", "quay|inner", 10},
		{"x = h via quay with ", "tide.pem shore.pem \"new key.pem\"", 20},
		{"x = h with ti", "tide.pem", 11},
		{"x = h w", "with", 6},
		{"x = h ", "via with site every bring lend roam set lend-agent", 6},
		{"x = h bring 1 ", "from", 14},
		{"x = h bring 1 from 10.61", "10.61.4.20:", 19},
		{"x = ke", "keeper@", 4},
		{"x = keeper@10", "keeper@10.61.4.20", 4},

		{"x = h site ", "shore reef", 11},
		{"x = ", "", 4},
		{"h v", "via", 2},
	}
	for _, c := range cases {
		from, got := Complete(c.line, len(c.line), bay)
		if from != c.from || strings.Join(got, " ") != c.want {
			t.Errorf("%q: from %d %q, want %d %q", c.line, from, got, c.from, c.want)
		}
	}
}

func TestExampleCommandsBecomeLines(t *testing.T) {
	for _, c := range []struct{ text, line, left string }{
		{`ssh -i "shore.pem" warden@203.0.113.10`, "warden@203.0.113.10 with shore.pem", ""},
		{"$ ssh -i ~/got/tide.pem -p 2222 -l keeper 10.61.4.20", "keeper@10.61.4.20:2222 with tide.pem", ""},
		{"To connect to the machine:\n  1. open a terminal\n  `ssh -J warden@203.0.113.10 -A keeper@10.61.4.20`\n", "keeper@10.61.4.20 via quay lend-agent", ""},
		{"ssh keeper@h -p2022 -L 15432:db.internal:5432 \\\n -D 1080 -N", "keeper@h:2022 bring 15432 from db.internal:5432 roam 1080", ""},
		{"ssh -R 127.0.0.1:9000:[::1]:3000 h", "h lend 127.0.0.1:9000 from [::1]:3000", ""},
		{"sudo ssh -o Compression=yes -p 22 2001:db8::9 uptime -p", "[2001:db8::9]:22", "-o Compression=yes; the command uptime -p"},
		{"ssh -i 'my new.pem' ssh://keeper@h:2022/", `keeper@h:2022 with "my new.pem"`, ""},
		// A page of a console, with the line ends that most terminals paste.
		{"Connect to the instance:\r1. Open a terminal.\r2. Connect by its name:\r   ssh -i \"shore.pem\" warden@203.0.113.10\r\r3. Done.\r", "warden@203.0.113.10 with shore.pem", ""},
		{"mira@desk:~$ ssh -i tide.pem keeper@10.61.4.20", "keeper@10.61.4.20 with tide.pem", ""},
		{"Example: `ssh -p 2022 keeper@h` (or with sftp)", "keeper@h:2022", ""},
		{"use ssh to log in, as in ssh keeper@h", "keeper@h", ""},
		{"Use ssh to log in.", "", ""}, {"/usr/bin/ssh h", "h", ""}, {"the openssh client", "", ""},
		// A machine to go through that is not known yet, and the other ways to write one.
		{"ssh -J warden@198.51.100.9:2200 keeper@h", "keeper@h via warden@198.51.100.9:2200", ""},
		{`ssh -o ProxyCommand="ssh -W %h:%p warden@203.0.113.10" keeper@h`, "keeper@h via quay", ""},
		{`ssh -o "ProxyCommand ssh -i b.pem -p 2200 -l warden 198.51.100.9 -W %h:%p" keeper@h`, "keeper@h via warden@198.51.100.9:2200", "the bastion's key b.pem"},
		{`ssh -o ProxyCommand="nc -x proxy %h %p" keeper@h`, "keeper@h", "-o ProxyCommand=nc -x proxy %h %p"},
		{"ssh -o ProxyJump=warden@203.0.113.10 -o User=keeper -o Port=2022 -o IdentityFile=tide.pem h", "keeper@h:2022 via quay with tide.pem", ""},
		// Options that are values here.
		{`ssh -o ServerAliveInterval=30 -o "SetEnv LANG=C" -o setenv=TERM=xterm -o ForwardAgent=yes h`, `h every 30s lend-agent set env="LANG=C" term=xterm`, ""},
		{`ssh -o "LocalForward 15432 db.internal:5432" -o DynamicForward=1080 h`, "h bring 15432 from db.internal:5432 roam 1080", ""},
		{"ssh -o StrictHostKeyChecking=no -o ConnectTimeout=5 h", "h", "-o StrictHostKeyChecking=no (host keys are always compared with the trusted ones); -o ConnectTimeout=5"},
		// Keys by paths of another system.
		{`ssh -i "C:\Users\mira\my tide.pem" keeper@h`, `keeper@h with "my tide.pem"`, ""},
		{`ssh -i C:\Users\mira\tide.pem keeper@h`, "keeper@h with tide.pem", ""},
		{`ssh.exe -i .\tide.pem keeper@h`, "keeper@h with tide.pem", ""},
		{"scp x y", "", ""}, {"ssh", "", ""}, {"ssh -i", "", ""}, {"ssh 'open", "", ""}, {"keeper@h", "", ""}, {"ssh -Z h", "", ""},
	} {
		got, ok := ReadCommand(c.text, bay)
		if ok != (c.line != "") || got.Line != c.line || strings.Join(got.Left, "; ") != c.left {
			t.Errorf("%q:\n got %q, left %q, %v\nwant %q, left %q", c.text, got.Line, got.Left, ok, c.line, c.left)
		}
	}
}

func FuzzReadCommand(f *testing.F) {
	for _, s := range []string{`ssh -i "k" -p 1 -L 1:b:2 u@h x`, "ssh -J a,b h", "ssh \x1b[31m"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, ok := ReadCommand(text, bay)
		if strings.ContainsAny(c.Line, "\n\x1b\x00") || ok && c.Line == "" {
			t.Errorf("%q becomes %q", text, c.Line)
		}
		Parse(c.Line, bay)
	})
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"x = keeper@10.61.4.20:22 via quay, inner with 'a b' every 30s", "=", "a=b=c", "[::1]:x", "\"", "via via"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		l := Parse(line, bay)
		for _, m := range l.Mistakes {
			if m.From < 0 || m.To < m.From || m.To > len(line) {
				t.Fatalf("%q: mistake out of the line: %+v", line, m)
			}
		}
		for at := range line[:min(len(line), 100)] {
			if from, _ := Complete(line, at, bay); from > at {
				t.Fatalf("%q: completion at %d from %d", line, at, from)
			}
		}
		if len(l.Mistakes) > 0 {
			return
		}
		b := book.Parse("f", []byte("[session.quay]\nhost=\"q\"\n[session.inner]\nhost=\"q\"\n[session.tide-db]\nhost=\"q\"\n[site.reef]\n[site.shore]\n"+l.Draft.Text()))
		if s := b.Session(l.Draft.Name); s == nil || s.Broken != nil {
			t.Errorf("%q passes, its session does not: %+v %v", line, l.Draft, b.Problems)
		}
	})
}

// A hop that is written as a login at a host becomes a session of its own, each reached through those before it.
func TestHopsThatAreNotThereYetAreMade(t *testing.T) {
	l := Parse("box = admin@10.0.0.9 via warden@198.51.100.9:2200, ops@deep.example with tide.pem", bay)
	if len(l.Mistakes) > 0 {
		t.Fatalf("%+v", l.Mistakes)
	}
	want := []book.Draft{
		{Name: "198.51.100.9", User: "warden", Host: "198.51.100.9", Port: 2200},
		{Name: "deep", User: "ops", Host: "deep.example", Via: []string{"198.51.100.9"}},
	}
	if !reflect.DeepEqual(l.Hops, want) || !slices.Equal(l.Draft.Via, []string{"deep"}) {
		t.Errorf("%+v, via %v", l.Hops, l.Draft.Via)
	}
	if l := Parse("box = admin@10.0.0.9 via warden@203.0.113.10", bay); len(l.Hops) > 0 || !slices.Equal(l.Draft.Via, []string{"quay"}) {
		t.Errorf("a host that a session has: %+v, via %v", l.Hops, l.Draft.Via)
	}
	if l := Parse("box = admin@10.0.0.9 via warden@-x", bay); len(l.Mistakes) == 0 {
		t.Error("a bastion that is none is taken")
	}
	if l := Parse("deep = admin@10.0.0.9 via ops@deep.example", bay); len(l.Hops) != 1 || l.Hops[0].Name == "deep" {
		t.Errorf("its name is taken twice: %+v", l.Hops)
	}
}

// Any value of a session can be given at its creation.
func TestValuesAreSetInTheLine(t *testing.T) {
	l := Parse(`box = admin@10.0.0.9 set careful=on note="mind the tide, at noon" env='A=1, B=2' with tide.pem`, bay)
	want := []book.Setting{{Key: "careful", Value: "on"}, {Key: "note", Value: "mind the tide, at noon"}, {Key: "env", Value: "A=1, B=2"}}
	if len(l.Mistakes) > 0 || !slices.Equal(l.Draft.Settings, want) || l.Draft.Name != "box" || len(l.Draft.Keys) != 1 {
		t.Errorf("%+v, %+v", l.Draft, l.Mistakes)
	}
	if l := Parse("admin@10.0.0.9 set careful=on", bay); len(l.Mistakes) > 0 || len(l.Draft.Settings) != 1 {
		t.Errorf("without a name: %+v", l)
	}
	for line, say := range map[string]string{
		"x = h set": "set wants values", "x = h set careful": "KEY=VALUE", "x = h set careful=": "missing", "x = h set colour=red": "no setting", "x = h set carefull=on": "did you mean careful?",
		"x = h set careful=maybe": `"on" or "off"`, "x = h set port=22": "a word of its own", "x = h set note=a note=b": "twice",
	} {
		l := Parse(line, bay)
		if len(l.Mistakes) == 0 || !strings.Contains(l.Mistakes[0].Say, say) {
			t.Errorf("%q: %+v, want %q", line, l.Mistakes, say)
		}
	}
	b := book.Parse(book.FileName, []byte(Parse(`box = admin@10.0.0.9 set careful=on note="mind the tide"`, bay).Draft.Text()))
	if s := b.Session("box"); len(b.Problems) > 0 || s == nil || s.Careful.V != "on" || s.Note.V != "mind the tide" {
		t.Errorf("%+v, %v", s, b.Problems)
	}
}
