package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/lab/await"
)

// A gateway of the sessions file is asked, walked through, and tells in words why it leads nowhere.
func TestTheBaysGateway(t *testing.T) {
	b := openBay(t)
	if !await.Within(await.Patience, func() bool {
		return strings.Contains(b.run(statusDone, "gateway", "list", "lightship"), "sounder  joined since")
	}) {
		t.Fatal("the sounder never joined")
	}
	b.says(`"instance": "i-sounder"`, statusDone, "gateway", "list", "lightship", "--json")
	b.says(`there is no gateway "beacon"`, statusFailed, "gateway", "list", "beacon")
	_, after, ok := strings.Cut(b.run(statusShut, "run", "sounder", "--", "hostname"), "--yes-identity ")
	if !ok {
		t.Fatal("the first visit is not asked about")
	}
	b.says("sounder\n", statusDone, "run", "sounder", "--yes-identity", strings.TrimSpace(strings.SplitN(after, "\n", 2)[0]), "--", "hostname")
	b.says("hulk: address: hulk has not joined yet", statusShut, "run", "hulk", "--", "hostname")
	b.says("sounder", statusDone, "check", "sounder", "--as-far-as", "identity")
	b.says("1 lightship  gateway at 127.0.0.1:", statusDone, "check", "sounder")
	// What came of it stands in the gateway's record.
	b.says("warden (key SHA256:", statusDone, "trail", "--gateway", "lightship")
	b.says(`"event":"enrolled"`, statusDone, "trail", "--gateway", "lightship", "--json", "enrolled")
	// What is wrong in its table is told by its place, and breaks what goes by it alone.
	path := filepath.Join(b.Dir, "sessions.toml")
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	wrong := strings.Replace(string(text), `url      = "wss:`, `url      = "ws:`, 1)
	if err := os.WriteFile(path, []byte(wrong), 0o600); err != nil {
		t.Fatal(err)
	}
	b.says("a gateway is reached over TLS alone", statusShut, "run", "sounder", "--", "hostname")
	b.says("quay\n", statusDone, "run", "quay", "--", "hostname")
}

// What is wrong with how a gateway is to serve or to join is said before anything begins.
func TestGatewaysThatCannotBegin(t *testing.T) {
	b := openBay(t)
	state := filepath.Join(t.TempDir(), "gateway")
	rules := filepath.Join(t.TempDir(), "rules")
	if err := os.WriteFile(rules, []byte("person mira\nallow mira to\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.says("rules:2: who and what are missing", statusWrongUse, "gateway", "serve", "--state", state, "--policy", rules, "--at", "127.0.0.1:0")
	b.says("rules:2: who and what are missing", statusWrongUse, "gateway", "explain", "mira", "reef", "--state", state, "--policy", rules)
	b.says("--token-audience go together", statusWrongUse, "gateway", "serve", "--state", state, "--token-issuer", "https://id.lantern.example")
	b.says("is no loopback address", statusWrongUse, "gateway", "serve", "--state", state, "--at", "127.0.0.1:0", "--status", "0.0.0.0:9180")
	b.says("joins with a token the first time", statusWrongUse, "gateway", "join", "wss://127.0.0.1:1", "--key", filepath.Join(state, "machine.pem"))
	b.says("is no destination", statusWrongUse, "gateway", "join", "wss://127.0.0.1:1", "--token", "x", "--key", filepath.Join(state, "machine.pem"), "--also", "printer")
	b.says("is no proxy", statusWrongUse, "gateway", "join", "wss://127.0.0.1:1", "--token", "x", "--proxy", "nowhere")
	b.says("cannot be a machine's name", statusWrongUse, "gateway", "token", "reef*", "--state", state)
	b.says("from a minute to 30 days", statusWrongUse, "gateway", "token", "reef", "--for", "1s", "--state", state)
	b.says("there is no such machine", statusWrongUse, "gateway", "revoke", "reef", "--state", state)
	b.says("is no head of a record", statusWrongUse, "gateway", "verify", "--head", "1", "--state", state)
	token := strings.SplitN(b.run(statusDone, "gateway", "token", "reef", "--state", state, "--tag", "web"), "\n", 2)[0]
	b.says("a token, until", statusDone, "gateway", "machines", "--state", state)
	b.says(`"tags": [`, statusDone, "gateway", "machines", "--state", state, "--json")
	b.says("a token was made for reef", statusDone, "gateway", "record", "--state", state)
	head := strings.SplitN(b.run(statusDone, "gateway", "verify", "--state", state), "\n", 2)[0]
	b.says(head, statusDone, "gateway", "verify", "--state", state, "--head", head)
	script := b.run(statusDone, "gateway", "join", "wss://gateway.lantern.example", "--token", token, "--print-first-boot", "--also", "printer=10.61.4.99:22")
	for _, want := range []string{token, "meatus gateway join 'wss://gateway.lantern.example' --also 'printer=10.61.4.99:22' --ssh '127.0.0.1:22'", "NoNewPrivileges=yes", "umask 077"} {
		if !strings.Contains(script, want) {
			t.Errorf("no %q in\n%s", want, script)
		}
	}
}
