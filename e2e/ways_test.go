package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"testing"

	"meatus/lab/await"
)

// inNamespace runs a program in a namespace until the test ends, and waits until something
// listens at an address there.
func (p *peers) inNamespace(ns, listens string, command ...string) {
	p.t.Helper()
	log, err := os.Create(p.path(command[0] + ".log"))
	if err != nil {
		p.t.Fatal(err)
	}
	cmd := exec.Command("ip", append([]string{"netns", "exec", ns}, command...)...)
	cmd.Stdout, cmd.Stderr = log, log
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		log.Close()
	})
	_, port, _ := net.SplitHostPort(listens)
	if !await.Within(await.Patience, func() bool {
		out, _ := exec.Command("ip", "netns", "exec", ns, "ss", "-Hltn", "sport", "=", ":"+port).Output()
		return len(out) > 0
	}) {
		text, _ := os.ReadFile(log.Name())
		p.t.Fatalf("%s did not start: %s", command[0], text)
	}
}

func TestRealProxiesLeadToAFirstHop(t *testing.T) {
	t.Parallel()
	need(t, "tinyproxy", "microsocks", "ss")
	p := startPeers(t)
	config := p.path("tinyproxy.conf")
	p.write(config, fmt.Sprintf("Port 3128\nListen %s\nTimeout 600\nMaxClients 20\nBasicAuth keeper low-tide\nConnectPort 22\nLogLevel Connect\n", bastionAddr), 0o644)
	p.inNamespace(p.bastion, bastionAddr+":3128", "tinyproxy", "-d", "-c", config)
	p.inNamespace(p.bastion, bastionAddr+":1080", "microsocks", "-i", bastionAddr, "-p", "1080", "-u", "keeper", "-P", "low-tide")
	p.write(p.path("keys", "proxy.login"), "keeper:low-tide\n", 0o600)
	for name, uri := range map[string]string{"web": "http://" + bastionAddr + ":3128", "socks": "socks5://" + bastionAddr + ":1080"} {
		session := fmt.Sprintf("\n[session.%s]\nhost = %q\nkey = \"keys/inner.pem\"\nproxy = %q\nproxy_login = \"keys/proxy.login\"\n", name, innerAddr, uri)
		p.workspace(session)
		p.vouch(name)
		r := p.run("run", "--trace", name, "--", "echo $SSH_CONNECTION")
		if r.status != 0 || !strings.HasPrefix(r.out, inwardAddr+" ") || !strings.Contains(r.err, "connects onward as keeper") {
			t.Errorf("%s: %+v", name, r)
		}
		// Without the login nobody can be asked, with a wrong one it is refused, and a port
		// where nothing listens is told as such, as far as the proxy tells.
		p.workspace(strings.Replace(session, "proxy_login = \"keys/proxy.login\"\n", "", 1))
		if r := p.run("run", name, "--", "true"); r.status != 253 || !strings.Contains(r.err, name+": proxy: there is nobody to ask for the login of the proxy") {
			t.Errorf("%s without a login: %+v", name, r)
		}
		p.write(p.path("keys", "wrong.login"), "keeper:high-tide\n", 0o600)
		p.workspace(strings.Replace(session, "proxy.login", "wrong.login", 1))
		if r := p.run("run", name, "--", "true"); r.status != 253 || !strings.Contains(r.err, name+": proxy: the proxy refused the login") {
			t.Errorf("%s with a wrong login: %+v", name, r)
		}
		p.workspace(session + "port = 2222\n")
		if r := p.run("run", name, "--", "true"); r.status != 253 || !strings.Contains(r.err, "the proxy ") {
			t.Errorf("%s to a closed port: %+v", name, r)
		}
	}
	// The login is asked for on the screen, and is not the machine's.
	p.workspace(fmt.Sprintf("\n[session.web]\nhost = %q\nkey = \"keys/inner.pem\"\nproxy = \"http://keeper@%s:3128\"\n", innerAddr, bastionAddr))
	s := show(t, 80, 24, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("quay", "reef", "web")
	s.keys("Down", "Down")
	s.until("proxy", "http://keeper@")
	s.keys("Enter")
	s.until("requires a login", "It is not the machine's")
	s.text("low-tide")
	s.keys("Enter")
	s.until("root on web")
	s.text("hostname >/dev/null; echo via $SSH_CONNECTION")
	s.keys("Enter")
	s.until("via " + inwardAddr)
}

func TestAnotherRealBastionIsTaken(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.workspace("\n[session.mole]\nhost = \"192.0.2.3\"\nkey = \"keys/outer.pem\"\n\n[session.both]\nhost = \"reef.internal\"\nvia = [\"mole | quay\"]\nkey = \"keys/inner.pem\"\n")
	p.vouch("both")
	r := p.run("run", "both", "--", "echo $SSH_CONNECTION")
	if r.status != 0 || !strings.HasPrefix(r.out, inwardAddr+" ") || !strings.Contains(r.err, "meatus: both: goes via quay: mole: ") {
		t.Errorf("%+v", r)
	}
	if r := p.run("check", "--depth", "knock", "both"); !strings.Contains(r.out, "answers") {
		t.Errorf("checked: %+v", r)
	}
	if r := p.run("trail", "--json"); !strings.Contains(r.out, "goes via quay") {
		t.Errorf("the trail: %+v", r)
	}
	s := show(t, 80, 24, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("quay", "reef", "both")
	s.keys("Down", "Down", "Down")
	s.until("else quay")
	s.keys("Enter")
	s.until("root on both", "here ▸ quay ▸ both")
	s.keys("M-m", "0")
	s.keys("d")
	s.until("taken in place of mole")
}
