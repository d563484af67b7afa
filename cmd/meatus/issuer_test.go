package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/cmd/meatus/command"
	"meatus/lab"
)

// The policy of the bay's issuer is explained, another one shown as what it changes, and taken where it holds.
func TestThePolicyOfAnIssuer(t *testing.T) {
	b := openBay(t)
	state := filepath.Join(b.Dir, "lab", lab.Purser)
	at := func(args ...string) []string { return append(append([]string{"issuer"}, args...), "--state", state) }
	b.says("called tide-watch (for 1m, may shell)", command.Done, at("explain", "warden", "keeper@weir")...)
	b.says("denies it", command.Blocked, at("explain", "warden", "clerk@weir")...)
	b.says(`"rule": "rule tide-watch"`, command.Done, at("explain", "warden", "keeper@weir", "--json")...)
	b.says("names no login at a machine", command.WrongUse, at("explain", "warden", "weir")...)
	b.says("keeper may log in as root at weir: on mon-fri at 06:00-18:00", command.Done, at("who-can", "weir")...)
	b.says("warden may not log in as clerk at weir: rule books-apart denies it", command.Done, at("can", "warden")...)
	b.says("knows nobody called", command.WrongUse, at("can", "somebody")...)
	b.says("6 expectations held", command.Done, at("policy")...)
	used := filepath.Join(state, "issuer.policy")
	text, err := os.ReadFile(used)
	if err != nil {
		t.Fatal(err)
	}
	write := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	same := func() {
		t.Helper()
		if now, err := os.ReadFile(used); err != nil || string(now) != string(text) {
			t.Fatalf("it was taken: %v", err)
		}
	}
	longer := write("longer.policy", strings.Replace(string(text), "as keeper for 60s called tide-watch", "as keeper for 5m called tide-watch", 1))
	b.says("warden may log in as keeper at weir otherwise than before: always, for 5m", command.Done, at("policy", longer)...)
	same()
	// What is expected of the one in use is expected of another, too, and of that what stands beside it.
	bold := write("bold.policy", strings.Replace(string(text), "deny   warden  to weir", "allow  warden  to weir", 1))
	b.says("expect warden may NOT clerk at weir: it does not hold", command.Blocked, at("policy", bold, "--yes")...)
	same()
	if err := os.WriteFile(longer+".expect", []byte("expect warden may NOT keeper at weir\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.says("longer.policy.expect:1: expect warden may NOT keeper at weir: it does not hold", command.Blocked, at("policy", longer, "--yes")...)
	b.says("bent.policy:1: who and what are missing", command.WrongUse, at("policy", write("bent.policy", "allow warden weir\nthis is understood\n"))...)
	same()
	if err := os.Remove(longer + ".expect"); err != nil {
		t.Fatal(err)
	}
	b.says("6 expectations held", command.Done, at("policy", longer, "--yes")...)
	b.says("it changes nothing for anybody", command.Done, at("policy", longer)...)
	b.says("another policy holds, SHA-256", command.Done, at("record")...)
	b.says("each as it was written", command.Done, at("verify")...)
	b.says("weir", command.Done, at("machines")...)
}
