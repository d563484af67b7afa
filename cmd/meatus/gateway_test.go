package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/cmd/meatus/command"
	"meatus/lab/await"
)

// A gateway of the sessions file is asked, walked through, and tells in words why it leads nowhere.
func TestTheBaysGateway(t *testing.T) {
	b := openBay(t)
	if !await.Within(await.Patience, func() bool {
		return strings.Contains(b.run(command.Done, "gateway", "list", "lightship"), "sounder  joined since")
	}) {
		t.Fatal("the sounder never joined")
	}
	b.says(`"instance": "i-sounder"`, command.Done, "gateway", "list", "lightship", "--json")
	b.says(`there is no gateway "beacon"`, command.Failed, "gateway", "list", "beacon")
	_, after, ok := strings.Cut(b.run(250+command.Blocked, "run", "sounder", "--", "hostname"), "--yes-identity ")
	if !ok {
		t.Fatal("the first visit is not asked about")
	}
	b.says("sounder\n", command.Done, "run", "sounder", "--yes-identity", strings.TrimSpace(strings.SplitN(after, "\n", 2)[0]), "--", "hostname")
	b.says("hulk: address: hulk has not joined yet", 250+command.Blocked, "run", "hulk", "--", "hostname")
	b.says("sounder", command.Done, "check", "sounder", "--depth", "identity")
	b.says("1 lightship  gateway at 127.0.0.1:", command.Done, "check", "sounder")
	// What came of it stands in the gateway's record.
	b.says("warden (key SHA256:", command.Done, "trail", "--gateway", "lightship")
	b.says(`"event":"enrolled"`, command.Done, "trail", "--gateway", "lightship", "--json", "enrolled")
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
	b.says("a gateway is reached over TLS alone", 250+command.Blocked, "run", "sounder", "--", "hostname")
	b.says("quay\n", command.Done, "run", "quay", "--", "hostname")
}

// What is wrong with how a gateway is to serve or to join is said before anything begins.
func TestGatewaysThatCannotBegin(t *testing.T) {
	b := openBay(t)
	state := filepath.Join(t.TempDir(), "gateway")
	rules := filepath.Join(t.TempDir(), "rules")
	if err := os.WriteFile(rules, []byte("person mira\nallow mira to\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	b.says("rules:2: who and what are missing", command.WrongUse, "gateway", "serve", "--state", state, "--policy", rules, "--listen", "127.0.0.1:0")
	b.says("rules:2: who and what are missing", command.WrongUse, "gateway", "explain", "mira", "reef", "--state", state, "--policy", rules)
	b.says("--token-audience go together", command.WrongUse, "gateway", "serve", "--state", state, "--token-issuer", "https://id.lantern.example")
	b.says("is no loopback address", command.WrongUse, "gateway", "serve", "--state", state, "--listen", "127.0.0.1:0", "--status", "0.0.0.0:9180")
	b.says("joins with a token the first time", command.WrongUse, "gateway", "join", "wss://127.0.0.1:1", "--key", filepath.Join(state, "machine.pem"))
	b.says("is no destination", command.WrongUse, "gateway", "join", "wss://127.0.0.1:1", "--token", "x", "--key", filepath.Join(state, "machine.pem"), "--also", "printer")
	b.says("is no proxy", command.WrongUse, "gateway", "join", "wss://127.0.0.1:1", "--token", "x", "--proxy", "nowhere")
	b.says("cannot be a machine's name", command.WrongUse, "gateway", "token", "reef*", "--state", state)
	b.says("from a minute to 30 days", command.WrongUse, "gateway", "token", "reef", "--for", "1s", "--state", state)
	b.says("there is no such machine", command.WrongUse, "gateway", "revoke", "reef", "--state", state)
	b.says("is no head of a record", command.WrongUse, "gateway", "verify", "--head", "1", "--state", state)
	token := strings.SplitN(b.run(command.Done, "gateway", "token", "reef", "--state", state, "--tag", "web"), "\n", 2)[0]
	b.says("a token, until", command.Done, "gateway", "machines", "--state", state)
	b.says(`"tags": [`, command.Done, "gateway", "machines", "--state", state, "--json")
	b.says("a token was made for reef", command.Done, "gateway", "record", "--state", state)
	head := strings.SplitN(b.run(command.Done, "gateway", "verify", "--state", state), "\n", 2)[0]
	b.says(head, command.Done, "gateway", "verify", "--state", state, "--head", head)
	script := b.run(command.Done, "gateway", "join", "wss://gateway.lantern.example", "--token", token, "--print-first-boot", "--also", "printer=10.61.4.99:22")
	for _, want := range []string{token, "meatus gateway join 'wss://gateway.lantern.example' --also 'printer=10.61.4.99:22' --ssh '127.0.0.1:22'", "NoNewPrivileges=yes", "umask 077"} {
		if !strings.Contains(script, want) {
			t.Errorf("no %q in\n%s", want, script)
		}
	}
}
