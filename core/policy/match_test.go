package policy

import (
	"net/netip"
	"path"
	"strings"
	"testing"
)

func TestPatternsMeanWholeNames(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"*", "", true}, {"*", "a/b", true}, {"prod*", "prod/db", true}, {"prod-*", "prod", false}, {"*db*", "a/db/b", true},
		{"a*b*c", "axxbyyc", true}, {"a*b*c", "axxbyy", false}, {"?", "é", true}, {"??", "é", false}, {"[a-c]x", "bx", true},
		{"[^a-c]x", "bx", false}, {"[^a-c]x", "/x", true}, {`\*`, "*", true}, {`\*`, "a", false}, {"[", "[", false},
		{"", "", true}, {"", "a", false}, {"***", "abc", true}, {"a*", "ba", false}, {`[\]]`, "]", true},
	} {
		if got := matches(c.pattern, c.name); got != c.want {
			t.Errorf("%q means %q: %v", c.pattern, c.name, got)
		}
	}
}

// Where a name has no slash, patterns mean what patterns of files mean.
func FuzzMatches(f *testing.F) {
	for _, seed := range [][2]string{{"a*b?[c-e]", "axbyd"}, {`\*[^a]`, "*b"}, {"[", "["}, {"*a*b*", "xaybz"}, {"é?", "éé"}} {
		f.Add(seed[0], seed[1])
	}
	f.Fuzz(func(t *testing.T, pattern, name string) {
		if len(pattern) > 60 || len(name) > 60 || validPattern(pattern) != nil || strings.ToValidUTF8(name, "") != name {
			return
		}
		got := matches(pattern, name)
		if !strings.Contains(name, "/") {
			if want, err := path.Match(pattern, name); err == nil && got != want {
				t.Errorf("%q means %q: %v, and as a pattern of files %v", pattern, name, got, want)
			}
		}
		if matches("*"+pattern, name) != true && got {
			t.Errorf("*%q means less than it does without", pattern)
		}
	})
}

func TestWhatDeniesNothingIsAMistakeOrDeniesSomething(t *testing.T) {
	read := func(text string) (*Policy, error) {
		return Parse("p", []byte("person a key SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU\nallow a to anything\n"+text))
	}
	for text, says := range map[string]string{
		"# note\rdeny everyone to anything":     "p:3:7: a character stands here (U+000D)",
		"# note\u0085deny everyone to anything": "p:3:7: a character stands here (U+0085)",
		"# note\u2028deny everyone to anything": "p:3:7: a character stands here (U+2028)",
		"# note\vdeny everyone to anything":     "p:3:7: a character stands here (U+000B)",
		"\ufeffdeny everyone to anything":       "p:3:1: a character stands here (U+FEFF)",
		"deny a to reef from fe80::1%eth0":      "p:3:21: \"fe80::1%eth0\" has a zone",
		"deny a to reef from fe80::%eth0/64":    "has a zone",
		"deny a to reef from ::ffff:0.0.0.0/90": "p:3:21: ",
		"limit machine reef connections 4":      "a machine has one connection",
		"deny a to tag:[":                       "p:3:11: \"tag:[\" is no pattern",
		"# note\r\ndeny a to reef":              "",
	} {
		_, err := read(text)
		if says == "" && err != nil || says != "" && (err == nil || !strings.Contains(err.Error(), says)) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for text, m := range map[string]Machine{
		"deny everyone to tag:prod-*":                 {Name: "x", Tags: []string{"prod-1"}},
		"deny everyone to *":                          {Name: "a/b"},
		"deny everyone to prod*":                      {Name: "prod/b"},
		"deny everyone to network:10.*":               {Name: "x", Networks: []string{"10.0.0.0/8"}},
		"deny everyone to instance:i-*":               {Name: "x", Instance: "i-7"},
		"deny everyone to x from ::ffff:10.0.0.1":     {Name: "x"},
		"deny everyone to x from ::ffff:10.0.0.0/104": {Name: "x"},
	} {
		p, err := read(text)
		if err != nil {
			t.Errorf("%q: %v", text, err)
			continue
		}
		if d := p.Decide("a", Question{Machine: m, From: addr("10.0.0.1")}); d.Allowed {
			t.Errorf("%q does not deny %+v", text, m)
		}
	}
}

func TestLinesThatHoldNowhereAreTold(t *testing.T) {
	p, err := Parse("p", []byte("person a key SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU\nperson b\nlimit a streams 4\nlimit machine tag:x daily 1GB\nlimit a connections 2\nallow a to reef reeef tag:*\nallow b to reef\ndeny everyone to anything\n"))
	if err != nil {
		t.Fatal(err)
	}
	if got := p.Unfit(Issuer).Error(); !strings.Contains(got, "p:3: ") || !strings.Contains(got, "p:4: ") || strings.Contains(got, "p:5: ") || len(p.Unfit(Gateway)) > 0 {
		t.Errorf("%s", got)
	}
	idle := p.Idle([]Machine{{Name: "reef", Tags: []string{"y"}}})
	if len(idle) != 2 || idle[0].Line != 6 || !strings.HasPrefix(idle[0].Say, "reeef means no machine") || idle[1].Line != 7 || !strings.HasPrefix(idle[1].Say, "nobody is known") {
		t.Errorf("%+v", idle)
	}
}

func TestWhatAMachineCanBeCalled(t *testing.T) {
	for name, want := range map[string]bool{"tide-db": true, "a.b_c": true, "7": true, "": false, "a/b": false, "$(id)": false, "tіde": false, "-x": false, ".x": false, "to x": false, "as": false, "anything": false, "a\u0085": false, strings.Repeat("x", 65): false, "*": false} {
		if ValidMachine(name) != want {
			t.Errorf("%q: %v", name, !want)
		}
	}
}

func addr(text string) netip.Addr { return netip.MustParseAddr(text) }
