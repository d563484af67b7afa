package e2e

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"meatus/lab/await"
)

// holding is a "meatus hold" that runs, and what it told.
type holding struct {
	t    *testing.T
	cmd  *exec.Cmd
	mu   sync.Mutex
	told bytes.Buffer
	errs bytes.Buffer
}

func (h *holding) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.told.Write(p)
}

// hold starts holding sessions, in a namespace where in names one.
func hold(t *testing.T, in []string, dir string, args ...string) *holding {
	t.Helper()
	h := &holding{t: t}
	command := append(append(in, "setsid", "-w", program, "--workspace", dir, "hold", "--json"), args...)
	h.cmd = exec.Command(command[0], command[1:]...)
	h.cmd.Stdout, h.cmd.Stderr = h, &h.errs
	h.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := h.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if h.cmd.ProcessState == nil {
			if pid := h.session(); pid > 0 {
				syscall.Kill(pid, syscall.SIGKILL)
			}
			h.cmd.Process.Kill()
			h.cmd.Wait()
		}
	})
	return h
}

// session is the process that setsid started.
func (h *holding) session() int {
	files, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, f := range files {
		text, _ := os.ReadFile(f)
		var pid, parent int
		var state string
		if at := bytes.LastIndexByte(text, ')'); at > 0 {
			fmt.Sscan(string(text), &pid)
			fmt.Sscan(string(text[at+1:]), &state, &parent)
		}
		if parent == h.cmd.Process.Pid {
			return pid
		}
	}
	return 0
}

// until waits until something was told, and returns all of it.
func (h *holding) until(want ...string) string {
	h.t.Helper()
	var told string
	if !await.Within(await.Patience, func() bool {
		h.mu.Lock()
		told = h.told.String()
		h.mu.Unlock()
		return !slices.ContainsFunc(want, func(w string) bool { return !strings.Contains(told, w) })
	}) {
		h.t.Fatalf("waited in vain for %q; it told\n%s\n%s", want, told, h.errs.String())
	}
	return told
}

// door is where a tunnel's door is, by the tunnel's words.
func (h *holding) door(what string) (door string) {
	h.t.Helper()
	if !await.Within(await.Patience, func() bool { // which may be told after that
		for line := range strings.Lines(h.until(`"ready"`)) {
			var e struct{ Event, Tunnel, Door string }
			if json.Unmarshal([]byte(line), &e) == nil && e.Event == "open" && strings.Contains(e.Tunnel, what) {
				door = e.Door
				return true
			}
		}
		return false
	}) {
		h.t.Fatalf("no door for %s:\n%s", what, h.told.String())
	}
	return door
}

// end interrupts it and tells how it ended.
func (h *holding) end() int {
	h.t.Helper()
	pid := h.session()
	if pid == 0 {
		h.t.Fatalf("it does not run any more: %s", h.errs.String())
	}
	syscall.Kill(pid, syscall.SIGINT)
	h.cmd.Wait()
	return h.cmd.ProcessState.ExitCode()
}

// withTunnels adds a session to the lab's bastion that has tunnels.
func withTunnels(t *testing.T, dir, name, tunnels string) {
	t.Helper()
	path := filepath.Join(dir, "sessions.toml")
	text := string(must(os.ReadFile(path)))
	dial := regexp.MustCompile(`dial = "[^"]*"`).FindString(text)
	os.WriteFile(path, []byte(text+fmt.Sprintf("\n[session.%s]\nsite = \"shore\"\nhost = \"203.0.113.10\"\n%s\nkey = \"keys/shore.pem\"\nkeepalive = \"1s\"\ntunnels = [%s]\n", name, dial, tunnels)), 0o600)
}

func TestTunnelsAreHeldHeadless(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	withTunnels(t, dir, "held", `{ bring = "127.0.0.1:0", reach = "tide-db.internal:5432" }, { roam = "127.0.0.1:0" }`)
	ready := filepath.Join(t.TempDir(), "ready")
	notified, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(t.TempDir(), "n"), Net: "unixgram"})
	if err != nil {
		t.Fatal(err)
	}
	defer notified.Close()
	free := must(net.Listen("tcp", "127.0.0.1:0"))
	metrics := free.Addr().String()
	free.Close()
	h := hold(t, []string{"env", "NOTIFY_SOCKET=" + notified.LocalAddr().String()}, dir, "--ready", ready, "--metrics", metrics, "held")
	conn, err := net.Dial("tcp", h.door("tide-db.internal:5432"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	lines := bufio.NewScanner(conn)
	if !lines.Scan() || !strings.HasPrefix(lines.Text(), "TIDES 1.4 ready") {
		t.Errorf("it said %q", lines.Text())
	}
	if _, err := os.Stat(ready); err != nil {
		t.Error(err)
	}
	notified.SetDeadline(time.Now().Add(10 * time.Second))
	buf := make([]byte, 100)
	if n, err := notified.Read(buf); err != nil || string(buf[:n]) != "READY=1" {
		t.Errorf("the service manager was told %q, %v", buf[:n], err)
	}
	if r := do(t, dir, "", "tunnels"); r.status != 0 || !strings.Contains(r.out, "⇐ tide-db.internal:5432, as seen from held") || !strings.Contains(r.out, "1 live") || !strings.Contains(r.out, "hold)") {
		t.Errorf("listed %+v", r)
	}
	proxy := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(must(url.Parse("socks5://" + h.door("roam")))), DisableKeepAlives: true}}
	page, err := proxy.Get("http://survey-web.internal/")
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(page.Body)
	page.Body.Close()
	if !strings.Contains(string(text), "Tide tables of survey-web") {
		t.Errorf("the page is %s", text)
	}
	counted, err := http.Get("http://" + metrics + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	text, _ = io.ReadAll(counted.Body)
	counted.Body.Close()
	for _, want := range []string{`meatus_link_round_trip_seconds{hop="held"}`, `kind="roam",session="held"} 1`, `meatus_tunnel_flows_live{door="` + h.door("tide-db") + `",kind="bring",session="held"} 1`, `meatus_reconnects_total{session="held"} 0`, `meatus_tunnel_gates{gate="service",verdict="open"} 1`, `meatus_tunnel_gates{gate="door",verdict="open"} 2`, `meatus_links{hop="held"} 1`, `meatus_link_payload_bytes_total{direction="in",hop="held"}`} {
		if !strings.Contains(string(text), want) {
			t.Errorf("%s is missing of\n%s", want, text)
		}
	}
	if r := do(t, dir, "", "hold", "--metrics", "0.0.0.0:9", "held"); r.status != 2 || !strings.Contains(r.err, "no loopback address") {
		t.Errorf("%+v", r)
	}
	fmt.Fprintln(conn, "quit")
	h.until(`"event":"flow"`, `"complete":true`)
	if r := do(t, dir, "", "trail", "tunnel"); !strings.Contains(r.out, "listening at "+h.door("tide-db")) || !strings.Contains(r.out, "tested from the machine: open, it answers: TIDES") {
		t.Errorf("the trail: %+v", r)
	}
	if status := h.end(); status != 0 || !strings.Contains(h.told.String(), `"event":"shut"`) {
		t.Errorf("ended with %d:\n%s%s", status, h.told.String(), h.errs.String())
	}
	if r := do(t, dir, "", "tunnels"); strings.TrimSpace(r.out) != "" {
		t.Errorf("after it: %+v", r)
	}
}

func TestADoorThatAnotherMeatusHoldsIsNamedAndTakenOver(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	l := must(net.Listen("tcp", "127.0.0.1:0"))
	door := l.Addr().String()
	l.Close()
	withTunnels(t, dir, "held", fmt.Sprintf(`{ bring = %q, reach = "survey-web.internal:80" }, { roam = "127.0.0.1:0" }`, door))
	h := hold(t, nil, dir, "held")
	h.until(`"ready"`)
	r := do(t, dir, "", "hold", "held")
	if r.status != 3 || !strings.Contains(r.err, "is taken by meatus") || !strings.Contains(r.err, "(hold) holds "+door+" for held: --take-over") {
		t.Errorf("%+v", r)
	}
	again := hold(t, nil, dir, "--take-over", "held")
	again.until(`"ready"`)
	h.until(`"event":"shut"`)
	// The full screen sees it, names it and takes it over, too.
	s := show(t, 130, 40, program, "--workspace", dir)
	s.until("routes")
	s.text("W")
	s.until("hold has 2 tunnels", "hold your "+door)
	s.keys("Escape")
	s.until(" routes · ")
	s.text("/held")
	s.keys("Tab")
	s.until("❯ held")
	s.text("t")
	s.until("hold) holds " + door + " for held; t again takes it over")
	s.text("t")
	again.until(`"event":"shut"`)
	s.until("held: the port forwards are open")
	s.text("t")
	s.until("held: closed, 2 doors")
	again = hold(t, nil, dir, "held")
	again.until(`"ready"`)
	if r := do(t, dir, "", "tunnels"); strings.Count(r.out, door) != 1 {
		t.Errorf("listed %+v", r)
	}
	// One that was killed leaves nothing in the way.
	pid := again.session()
	if pid == 0 {
		t.Fatal("it does not run any more")
	}
	syscall.Kill(pid, syscall.SIGKILL)
	again.cmd.Wait()
	third := hold(t, nil, dir, "held")
	third.until(`"ready"`)
	if r := do(t, dir, "", "tunnels"); strings.Count(r.out, door) != 1 {
		t.Errorf("listed %+v", r)
	}
}

func TestDoorsToOtherMachinesAreOpenedKnowinglyOnly(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	withTunnels(t, dir, "wide", `{ bring = "0.0.0.0:0", reach = "survey-web.internal:80" }`)
	if r := do(t, dir, "", "hold", "wide"); r.status != 2 || !strings.Contains(r.err, "listens for other machines; --beyond opens it knowingly") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "check", "wide", "--depth", "here"); !strings.Contains(r.out, "listens for other machines") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "hold", "quay"); r.status != 2 || !strings.Contains(r.err, "has no tunnels") {
		t.Errorf("%+v", r)
	}
	h := hold(t, nil, dir, "--beyond", "wide")
	h.until(`"ready"`)
	if r := do(t, dir, "", "tunnels"); !strings.Contains(r.out, "OPEN TO OTHER MACHINES") {
		t.Errorf("%+v", r)
	}
}

func TestTunnelsThroughARealServer(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("quay")
	in := []string{"ip", "netns", "exec", p.here}
	sock := filepath.Join(t.TempDir(), "s")
	p.workspace(fmt.Sprintf("\n[session.way]\nhost = %q\nkey = \"keys/outer.pem\"\nkeepalive = \"1s\"\ntunnels = [{ bring = %q, reach = \"127.0.0.1:22\" }, { lend = \"127.0.0.1:7009\", reach = %q }, { lend = \"0.0.0.0:7010\", reach = %q }, { lend = %q, reach = %q }, { bring = \"127.0.0.1:0\", reach = \"203.0.113.99:5432\" }]\n", bastionAddr, sock, sock+".local", sock+".local", sock+".there", sock+".local"))
	// What goes to that address is lost behind the inner machine.
	system(t, "ip -n "+p.bastion+" route add 203.0.113.99/32 via "+innerAddr)
	service, err := net.Listen("unix", sock+".local")
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	go func() {
		for {
			conn, err := service.Accept()
			if err != nil {
				return
			}
			go func() { io.Copy(conn, conn); conn.Close() }()
		}
	}()
	p.again("Subsystem sftp internal-sftp\n", "ListenAddress 127.0.0.1:22\n")
	// Somebody else's file stands where a socket is to be.
	p.write(sock+".there", "kept", 0o600)
	h := hold(t, in, p.dir, "--beyond", "way")
	h.until(`"door":"127.0.0.1:7009"`, "does not listen at "+sock+".there: a file that is no socket exists there; choose another path")
	if text, err := os.ReadFile(sock + ".there"); err != nil || string(text) != "kept" {
		t.Errorf("the file there: %q, %v", text, err)
	}
	os.Remove(sock + ".there")
	h.until(`"ready"`)
	socketEchoes := func() {
		t.Helper()
		conn, err := net.Dial("unix", sock+".there")
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(30 * time.Second))
		fmt.Fprintln(conn, "over")
		if line, err := bufio.NewReader(conn).ReadString('\n'); line != "over\n" {
			t.Errorf("the socket over there: %q, %v", line, err)
		}
	}
	socketEchoes()
	// The server was asked for a door that others reach, says yes, and opens none.
	h.until("opened it at its loopback address only", "GatewayPorts", "allow way (seen as "+inwardAddr+") to connect to 203.0.113.99:5432")
	banner := func() string {
		conn, err := net.Dial("unix", sock)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(30 * time.Second))
		line, _ := bufio.NewReader(conn).ReadString('\n')
		return line
	}
	if got := banner(); !strings.HasPrefix(got, "SSH-2.0-") {
		t.Errorf("brought: %q", got)
	}
	if info, err := os.Stat(sock); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the door: %v, %v", info, err)
	}
	// What is lent is reached from over there.
	out, err := exec.CommandContext(context.Background(), "ip", "netns", "exec", p.bastion, "bash", "-c", "exec 3<>/dev/tcp/127.0.0.1/7009; echo over >&3; head -n 1 <&3").CombinedOutput()
	if err != nil || string(out) != "over\n" {
		t.Errorf("lent: %q, %v", out, err)
	}
	// The way is lost and comes back; the doors stay.
	system(t, "ip -n "+p.here+" link set oa down")
	h.until(`"event":"lost"`)
	back := time.AfterFunc(300*time.Millisecond, func() {
		exec.Command("ip", "-n", p.here, "link", "set", "oa", "up").Run()
	})
	defer back.Stop()
	if got := banner(); !strings.HasPrefix(got, "SSH-2.0-") {
		t.Errorf("after the way was lost: %q", got)
	}
	h.until(`"again":1`)
	// The door over there comes with the way, when the server has given the old one up.
	await.Until(t, "the door over there", func() bool { return strings.Count(h.until("open"), `"door":"127.0.0.1:7009"`) == 2 })
	out, err = exec.Command("ip", "netns", "exec", p.bastion, "bash", "-c", "exec 3<>/dev/tcp/127.0.0.1/7009; echo again >&3; head -n 1 <&3").CombinedOutput()
	if err != nil || string(out) != "again\n" {
		t.Errorf("lent again: %q, %v", out, err)
	}
	// The file that the server left is taken away, and another made.
	await.Until(t, "the socket over there", func() bool { return strings.Count(h.until("open"), `"door":"`+sock+`.there"`) == 2 })
	socketEchoes()
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
	if out, err := exec.Command("ip", "netns", "exec", p.bastion, "bash", "-c", "exec 3<>/dev/tcp/127.0.0.1/7009").CombinedOutput(); err == nil {
		t.Errorf("the door over there outlives it: %s", out)
	}
	if _, err := os.Lstat(sock + ".there"); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the socket over there outlives it: %v", err)
	}
}

func TestTunnelsInTheInterface(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 40, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("/tables")
	s.keys("Tab")
	s.until("m remedies")
	s.text("m")
	s.until("listen at port")
	s.keys("Enter")
	s.until("tunnels of tables is bring")
	s.text("t")
	s.until("first visit ─ tables")
	s.text("yes")
	s.keys("Enter")
	s.until("⇐ survey-web.internal:80, as seen from", "live", "⇐ :")
	door := regexp.MustCompile(`your (127\.0\.0\.1:[0-9]+) ⇐`).FindStringSubmatch(s.see())
	if door == nil {
		t.Fatalf("no door:\n%s", s.see())
	}
	conn, err := net.Dial("tcp", door[1])
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	io.WriteString(conn, "GET / HTTP/1.1\r\nHost: x\r\n\r\n")
	line, _ := bufio.NewReader(conn).ReadString('\n')
	if line != "HTTP/1.1 200 OK\r\n" {
		t.Errorf("it said %q", line)
	}
	s.text("W")
	s.until("closing the lid now cuts 0 shells, 1 tunnel, 1 flow; demo traffic has 4 tunnels", "─ tables")
	s.keys("Down")
	s.until("quay", "tables", "survey-web.internal:80", "tables over 2 min", "connected to", "round trip now")
	s.text("D")
	s.until("close the connection to tables? This also ends 0 links behind it, 0 shells and commands")
	s.keys("Enter")
	s.until("tables: link ended", "came back 1×", "tables: connected", "0 flows")
	again, err := net.Dial("tcp", door[1])
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	s.until("1 tunnel, 1 flow")
	s.keys("Tab", "Down")
	s.text("y")
	s.until("by " + door[1] + " of tables, from 127.0.0.1:") // the chosen flow's
	s.text("D")
	s.until("so far? Nothing else ends with it. enter does, esc does not")
	s.keys("Enter")
	s.until("1 tunnel, 0 flows", " ended")
	s.text("g")
	s.until("what runs by host")
	s.text("/")
	s.text("gauge-1")
	s.keys("Enter")
	s.until("what runs by host", "/ gauge-1", "gauge-1.internal:7000")
	s.keys("Tab", "Left")
	s.until("leave the chart", "over 2 min", " B/s")
	s.text("x")
	s.until("draw what", "p without, esc not at all")
	s.keys("Enter")
	s.until("drawn, as .svg and .pdf:")
	s.text("w")
	s.until("the last 8 h", "no link was lost", "close the recap")
	s.keys("Escape")
	s.until("over 2 min", "leave the chart")
	s.keys("Escape")
	s.until("what runs by host", "leave the chart", "archive.internal")
	s.keys("Escape")
	s.until("to Routes", "close the port forward")
	s.keys("Escape")
	s.until("22 routes")
	if drawn, _ := filepath.Glob(filepath.Join(dir, "drawings", "chart-*.pdf")); len(drawn) != 1 {
		t.Errorf("drawn: %v", drawn)
	}
	s.text("q")
	s.until("Quitting closes these local ports:", "your 127.0.0.1")
	s.keys("Escape")
	s.gone("Quitting closes")
	s.text("t")
	s.until("tables: closed, 1 door")
	if conn, err := net.Dial("tcp", door[1]); err == nil {
		conn.Close()
		t.Error("the door is open")
	}
}

func TestATunnelIsComposedInAPersonsTerms(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 40, program, "demo", "--dir", dir)
	s.until("22 routes", "❯ quay")
	s.text("P")
	s.until("a tunnel ─ quay", "a remote service, on a local port")
	s.text("archive.internal")
	s.until("which service of archive.internal?")
	s.text(" 5433")
	screen := s.until("⇐ archive.internal:5433, as seen from quay")
	port := regexp.MustCompile(`your 127\.0\.0\.1:(\d+) ⇐`).FindStringSubmatch(screen)[1] // 15433, where nobody has it
	s.keys("C-s")
	s.until("quay has another port forward: bring " + port + " from archive.internal:5433")
	s.until("answers: FATAL no", "for its administrator: allow quay", "connect to archive.internal:5433")
	if text := string(must(os.ReadFile(filepath.Join(dir, "sessions.toml")))); !strings.Contains(text, `tunnels = [{ bring = "127.0.0.1:`+port+`", reach = "archive.internal:5433" }]`) {
		t.Errorf("the sessions are\n%s", text)
	}
	s.text("P")
	s.until("a tunnel ─ quay")
	s.keys("Up", "Right", "Right")
	s.until("through a SOCKS proxy here", "⇐ anywhere that quay reaches")
	s.keys("Down")
	s.text("0.0.0.0:0")
	s.until("OTHER MACHINES")
	s.keys("Enter")
	s.until("enter again opens it to other machines, knowingly")
	s.keys("Escape")
	s.gone("a tunnel ─")
}

func TestTheMapIsDrawnToHandOn(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	out := filepath.Join(t.TempDir(), "map.svg")
	if r := do(t, dir, "", "draw", "-o", out); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if text := string(must(os.ReadFile(out))); !strings.Contains(text, "22 sessions, as of") || !strings.Contains(text, ">tide-db<") || !strings.Contains(text, "blocked: key, mode 0644") {
		t.Errorf("%s", text)
	}
	pdf := filepath.Join(t.TempDir(), "map.pdf")
	if r := do(t, dir, "", "draw", "--site", "reef", "--private", "-o", pdf); r.status != 0 || !bytes.HasPrefix(must(os.ReadFile(pdf)), []byte("%PDF-")) {
		t.Errorf("%+v", r)
	}
	for _, wrong := range [][]string{{"-o", "x.gif"}, {"--site", "nowhere", "-o", out}, {"nobody", "-o", out}} {
		if r := do(t, dir, "", append([]string{"draw"}, wrong...)...); r.status != 2 {
			t.Errorf("%q: %+v", wrong, r)
		}
	}
	s := show(t, 120, 36, program, "--workspace", dir)
	s.until("22 routes")
	s.text("x")
	s.until("draw the map of 22 sessions: enter with addresses")
	s.keys("Escape")
	s.gone("draw the map of")
	s.text("x")
	s.until("draw the map of 22 sessions: enter with addresses")
	s.text("p")
	s.until("22 sessions drawn, as .svg and .pdf: ")
	if files := must(filepath.Glob(filepath.Join(dir, "drawings", "map-*"))); len(files) != 2 {
		t.Errorf("drawn %q", files)
	} else if svg := string(must(os.ReadFile(files[1]))); strings.Contains(svg, "203.0.113") {
		t.Errorf("addresses are drawn:\n%s", svg)
	}
	s.text("X")
	s.until("draw the map of quay: enter")
	s.keys("Enter")
	s.until("quay drawn, as .svg and .pdf: ")
}

func TestWhatWasCarriedAndWhoWasWhereIsDrawnFromTheTrail(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	if r := do(t, dir, "", "run", "gauge-1", "--", "sleep", "2"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	withTunnels(t, dir, "held", `{ bring = "127.0.0.1:0", reach = "gauge-1.internal:7000" }`)
	h := hold(t, nil, dir, "held")
	conn := must(net.Dial("tcp", h.door("gauge-1")))
	feed := bufio.NewScanner(conn)
	for range 12 { // three seconds of readings
		if !feed.Scan() {
			t.Fatal(feed.Err())
		}
	}
	conn.Close()
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
	chart := filepath.Join(t.TempDir(), "chart.svg")
	if r := do(t, dir, "", "draw", "--chart", "held", "--over", "2m", "-o", chart); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if text := string(must(os.ReadFile(chart))); !strings.Contains(text, ">held<") || !strings.Contains(text, ">B/s<") && !strings.Contains(text, ">kB/s<") || !strings.Contains(text, "from the far side") {
		t.Errorf("%s", text)
	}
	line := filepath.Join(t.TempDir(), "day.svg")
	if r := do(t, dir, "", "draw", "--timeline", "-o", line); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if text := string(must(os.ReadFile(line))); !strings.Contains(text, ">gauge-1<") || !strings.Contains(text, ">held<") || !strings.Contains(text, "who was connected where") {
		t.Errorf("%s", text)
	}
	s := show(t, 120, 36, program, "--workspace", dir)
	s.until("23 routes")
	s.lead("T")
	s.until("draw the last day", "connected to the hop")
	s.text("x")
	s.until("draw who was connected where over the last day: enter with the accounts here")
	s.keys("Enter")
	s.until("the last day drawn, as .svg and .pdf:")
	s.lead("K")
	s.until("7 keys", "❯")
	s.text("/shore")
	s.keys("Enter")
	s.until("❯ ● shore.pem")
	s.text("x")
	s.until("draw the map of")
	s.text("p")
	s.until("drawn, as .svg and .pdf:")
	if drawn, _ := filepath.Glob(filepath.Join(dir, "drawings", "*")); len(drawn) != 4 {
		t.Errorf("drawn: %q", drawn)
	}
	for _, wrong := range [][]string{{"--chart", "nobody", "-o", line}, {"--chart", "-o", line}, {"--chart", "--timeline", "held", "-o", line}, {"--timeline", "--over", "-1h", "-o", line}} {
		if r := do(t, dir, "", append([]string{"draw"}, wrong...)...); r.status != 2 || r.err == "" {
			t.Errorf("%q: %+v", wrong, r)
		}
	}
}

func TestAWayIsWalkedWhenSomebodyKnocks(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	withTunnels(t, dir, "lazy", "{ bring = \"127.0.0.1:0\", reach = \"tide-db.internal:5432\" }")
	path := filepath.Join(dir, "sessions.toml")
	os.WriteFile(path, append(must(os.ReadFile(path)), "knock = \"on\"\n"...), 0o600)
	h := hold(t, nil, dir, "lazy")
	door := h.door("tide-db")
	if r := do(t, dir, "", "tunnels"); !strings.Contains(r.out, "waits for a knock") || strings.Contains(h.told.String(), `"up"`) {
		t.Errorf("%+v\n%s", r, h.told.String())
	}
	conn, err := net.Dial("tcp", door)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if line, _ := bufio.NewReader(conn).ReadString('\n'); !strings.HasPrefix(line, "TIDES") {
		t.Errorf("it said %q", line)
	}
	h.until(`"event":"up"`)
}

func TestTunnelsAreHeldWhereTheTrailIsFull(t *testing.T) {
	t.Parallel()
	need(t, "unshare")
	dir := startLab(t)
	withTunnels(t, dir, "held", `{ bring = "127.0.0.1:0", reach = "tide-db.internal:5432" }`)
	wish, filled := filepath.Join(t.TempDir(), "fill"), filepath.Join(t.TempDir(), "filled")
	script := fmt.Sprintf(`mount -t tmpfs -o size=512k none %[1]s/state && { ( (while [ ! -e %[2]s ]; do sleep 0.05; done; head -c 4000000 /dev/zero >%[1]s/state/ballast; touch %[3]s) >/dev/null 2>&1 & ); exec "$@"; }`, dir, wish, filled)
	os.MkdirAll(filepath.Join(dir, "state"), 0o700)
	h := hold(t, []string{"unshare", "-m", "sh", "-c", script, "sh"}, dir, "held")
	door := h.door("tide-db")
	os.WriteFile(wish, nil, 0o600)
	await.Until(t, "a full disk", func() bool { return there(filled) })
	for range 30 { // more happens than what was set aside holds
		conn, err := net.Dial("tcp", door)
		if err != nil {
			t.Fatal(err)
		}
		lines := bufio.NewScanner(conn)
		if !lines.Scan() || !strings.HasPrefix(lines.Text(), "TIDES 1.4 ready") {
			t.Errorf("it said %q", lines.Text())
		}
		fmt.Fprintln(conn, "quit")
		conn.Close()
	}
	if status := h.end(); status != 0 || !strings.Contains(h.errs.String(), "full") || !strings.Contains(h.told.String(), `"event":"shut"`) {
		t.Errorf("ended with %d: %s\n%s", status, h.errs.String(), h.told.String())
	}
}

func TestARoamingDoorIsNarrowedAndAsksForALogin(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	withTunnels(t, dir, "narrow", `{ roam = "127.0.0.1:0", only = ["survey-web.*", "10.61.4.0/24:7"], login = "keeper" }`)
	const password = "marked-by-the-test ebb"
	secret := filepath.Join(t.TempDir(), "secret")
	os.WriteFile(secret, []byte(password+"\n"), 0o600)
	if r := do(t, dir, "", "hold", "narrow"); r.status == 0 || r.err == "" {
		t.Errorf("without a password: %+v", r)
	}
	h := hold(t, []string{"env", "SECRET=" + secret, "sh", "-c", `exec "$@" 3<"$SECRET"`, "sh"}, dir, "--login-fd", "3", "narrow")
	door := h.door("roam")
	get := func(login *url.Userinfo, page string) string {
		transport := &http.Transport{Proxy: http.ProxyURL(&url.URL{Scheme: "socks5", User: login, Host: door})}
		defer transport.CloseIdleConnections()
		r, err := (&http.Client{Transport: transport, Timeout: 20 * time.Second}).Get(page)
		if err != nil {
			return err.Error()
		}
		defer r.Body.Close()
		text, _ := io.ReadAll(r.Body)
		return string(text)
	}
	right := url.UserPassword("keeper", password)
	if got := get(right, "http://survey-web.internal/"); !strings.Contains(got, "Tide tables of survey-web") {
		t.Errorf("with the login: %s", got)
	}
	for name, got := range map[string]string{
		"without a login":       get(nil, "http://survey-web.internal/"),
		"with another password": get(url.UserPassword("keeper", "flood"), "http://survey-web.internal/"),
		"to another machine":    get(right, "http://archive.internal:8080/"),
	} {
		if strings.Contains(got, "Tide tables") || !strings.Contains(got, "socks connect") {
			t.Errorf("%s: %s", name, got)
		}
	}
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
	if strings.Contains(h.told.String()+h.errs.String(), "marked-by-the-test") {
		t.Error("the password is told")
	}
	filepath.WalkDir(dir, func(path string, e os.DirEntry, _ error) error {
		if text, err := os.ReadFile(path); err == nil && bytes.Contains(text, []byte("marked-by-the-test")) {
			t.Errorf("the password stands in %s", path)
		}
		return nil
	})
}

func TestALentDoorThatTheServerRefusesIsSaid(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.again("AllowTcpForwarding local\n")
	p.vouch("quay")
	p.workspace(fmt.Sprintf("\n[session.lends]\nhost = %q\nkey = \"keys/outer.pem\"\ntunnels = [{ lend = \"127.0.0.1:7009\", reach = \"127.0.0.1:9\" }]\n", bastionAddr))
	h := hold(t, []string{"ip", "netns", "exec", p.here}, p.dir, "lends")
	if told := h.until(`"event":"stuck"`, "lends does not listen at 127.0.0.1:7009", `"up"`); strings.Contains(told, `"ready"`) {
		t.Errorf("ready with a door that is not open:\n%s", told)
	}
	r := p.run("tunnels")
	if !strings.Contains(r.out, "lends does not listen at 127.0.0.1:7009") || !strings.Contains(r.out, "AllowTcpForwarding") {
		t.Errorf("it says %+v", r)
	}
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
}

func TestADoorIsForThisAccountAlone(t *testing.T) {
	t.Parallel()
	need(t, "setpriv", "bash")
	if os.Geteuid() != 0 {
		missing(t, "only the superuser can be another account")
	}
	dir := startLab(t)
	withTunnels(t, dir, "held", `{ bring = "127.0.0.1:0", reach = "tide-db.internal:5432" }, { bring = "127.0.0.2:0", reach = "tide-db.internal:5432", share = true }`)
	h := hold(t, nil, dir, "held")
	own, shared := h.door("bring 0 from"), h.door("bring 127.0.0.2:0")
	asNobody := func(door string) string {
		host, port, _ := net.SplitHostPort(door)
		out, _ := exec.Command("setpriv", "--reuid=65534", "--regid=65534", "--clear-groups", "bash", "-c", "exec 3<>/dev/tcp/"+host+"/"+port+"; timeout 5 head -n 1 <&3").Output()
		return string(out)
	}
	if said := asNobody(own); said != "" {
		t.Errorf("another account was told %q", said)
	}
	h.until("made by a program of nobody, and the port is not shared")
	if said := asNobody(shared); !strings.HasPrefix(said, "TIDES 1.4 ready") {
		t.Errorf("at a shared door another account was told %q", said)
	}
	if r := do(t, dir, "", "tunnels", "--json"); strings.Count(r.out, `"open_to_other_accounts": true`) != 1 {
		t.Errorf("listed %s", r.out)
	}
	h.end()
}
