package lab

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"sort"
	"strconv"
	"strings"
	"time"
)

// command is one command of the lab's shell.
type command struct {
	use string
	run func(ctx context.Context, s *shell, args []string) int
}

var commands map[string]command

func init() {
	commands = map[string]command{
		"help":     {"this list", help},
		"ls":       {"ls [FOLDER]: what stands in a folder", list},
		"cat":      {"cat FILE...: print files", printFiles},
		"cd":       {"cd [FOLDER]: go to a folder", changeFolder},
		"chmod":    {"chmod MODE FILE: who may do what with it, as 755", func(_ context.Context, s *shell, a []string) int { return changeMode(s, a) }},
		"pwd":      {"where you are in the files", func(_ context.Context, s *shell, _ []string) int { fmt.Fprintln(s.out, s.cwd); return 0 }},
		"whoami":   {"who you are", func(_ context.Context, s *shell, _ []string) int { fmt.Fprintln(s.out, s.user); return 0 }},
		"hostname": {"which machine this is", func(_ context.Context, s *shell, _ []string) int { fmt.Fprintln(s.out, s.host.Name); return 0 }},
		"addr":     {"this machine's addresses, and where you come from", addresses},
		"ip":       {"ip -o route get ADDRESS: which address this machine goes by to get there", routeGet},
		"getent":   {"getent hosts NAME: the address of a name", hostsOf},
		"uptime":   {"how long this machine is up", uptime},
		"date": {"the time", func(_ context.Context, s *shell, _ []string) int {
			fmt.Fprintln(s.out, s.host.Files.now().UTC().Format(time.RFC1123))
			return 0
		}},
		"echo": {"echo WORD...: say them", func(_ context.Context, s *shell, a []string) int { fmt.Fprintln(s.out, strings.Join(a, " ")); return 0 }},
		"complain": {"complain WORD...: say them on standard error", func(_ context.Context, s *shell, a []string) int {
			fmt.Fprintln(s.errs, strings.Join(a, " "))
			return 1
		}},
		"env":    {"the environment", environment},
		"secret": {"asks for a passphrase without showing it, as some programs do", secret},
		"sh":     {"sh -c SCRIPT sh FOLDER: what this program asks machines about their files", script},
		"size":   {"the terminal's size", terminalSize},
		"later":  {"later SECONDS FILE WORD...: somebody else puts a line behind a file, so much later", later},
		"stream": {"stream [EVERY]: readings until stopped, 500ms apart", stream},
		"gauge":  {"the gauge over the whole screen; q leaves", gaugeDisplay},
		"reach":  {"reach HOST [COMMAND]: log in there with a key that is lent to this shell", reach},
		"pester": {"pester [TIMES]: ask a lent agent for signatures, as a program up to no good would", pester},
		"window": {"window [stranger [TIMES]]: do what a graphical program does first at your display", introduce},
		"taps":   {"what the mouse does, shown; q leaves", taps},
		"flood":  {"flood MEGABYTES: much text", flood},
		"copy":   {"print what is typed until its end", func(_ context.Context, s *shell, _ []string) int { io.Copy(s.out, s.in); return 0 }},
		"sleep":  {"sleep SECONDS", sleep},
		"clear":  {"an empty screen", func(_ context.Context, s *shell, _ []string) int { fmt.Fprint(s.out, "\x1b[H\x1b[2J"); return 0 }},
		"fault":  {"fault HOST delay DURATION|limit BYTES|loss PERCENT|freeze|cut|closed|forbid|replace|impostor|quota BYTES|clock DURATION|lie|forget|cut-files BYTES|endless|crowd|silent-files|files-only|shell-only|heal, or fault lightship restart: what goes wrong in the lab", fault},
		"exit":   {"exit [STATUS]: leave", exit},
	}
}

func help(_ context.Context, s *shell, _ []string) int {
	names := make([]string, 0, len(commands))
	for name := range commands {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Fprintf(s.out, "  %-9s %s\n", name, commands[name].use)
	}
	return 0
}

func list(_ context.Context, s *shell, args []string) int {
	where := "."
	if len(args) > 0 {
		where = args[len(args)-1]
	}
	full, dir, ok := s.files.find(s.cwd, where)
	if !ok {
		fmt.Fprintf(s.errs, "ls: %s: no such file\n", where)
		return 1
	}
	if !dir {
		fmt.Fprintln(s.out, where)
		return 0
	}
	for _, name := range s.files.list(full) {
		if s.terminal != "" && strings.HasSuffix(name, "/") {
			name = "\x1b[1;34m" + name + "\x1b[0m"
		}
		fmt.Fprintln(s.out, name)
	}
	return 0
}

func printFiles(_ context.Context, s *shell, args []string) (status int) {
	if len(args) == 0 {
		io.Copy(s.out, s.in)
	}
	for _, name := range args {
		full, dir, ok := s.files.find(s.cwd, name)
		switch {
		case !ok:
			fmt.Fprintf(s.errs, "cat: %s: no such file\n", name)
			status = 1
		case dir:
			fmt.Fprintf(s.errs, "cat: %s: a folder\n", name)
			status = 1
		default:
			io.WriteString(s.out, s.files.read(full))
		}
	}
	return status
}

func changeFolder(_ context.Context, s *shell, args []string) int {
	where := "/home/" + s.user
	if len(args) > 0 {
		where = args[0]
	}
	full, dir, ok := s.files.find(s.cwd, where)
	if !ok || !dir {
		fmt.Fprintf(s.errs, "cd: %s: no such folder\n", where)
		return 1
	}
	s.cwd = full
	return 0
}

func addresses(_ context.Context, s *shell, _ []string) int {
	fmt.Fprintf(s.out, "lo    127.0.0.1\nbay0  %s\nyou   %s\n", s.host.at(), s.from)
	return 0
}

// routeGet says a route as the common tool of that name does.
func routeGet(_ context.Context, s *shell, a []string) int {
	if len(a) != 4 || a[1] != "route" || a[2] != "get" || net.ParseIP(a[3]) == nil {
		fmt.Fprintln(s.errs, "ip -o route get ADDRESS is all there is here")
		return 1
	}
	own := s.host.at()
	if s.host.Bastion && strings.HasPrefix(a[3], "10.61.") {
		own = InnerAddress
	}
	fmt.Fprintf(s.out, "%s dev bay0 src %s uid 1000 \\    cache\n", a[3], own)
	return 0
}

// hostsOf resolves a name of the bay.
func hostsOf(_ context.Context, s *shell, a []string) int {
	if len(a) == 2 && a[0] == "hosts" {
		if address, ok := s.host.bay.names[a[1]]; ok {
			fmt.Fprintf(s.out, "%s     %s\n", address, a[1])
			return 0
		}
	}
	return 2
}

func uptime(_ context.Context, s *shell, _ []string) int {
	up := time.Since(s.host.bay.since) + 41*24*time.Hour
	fmt.Fprintf(s.out, "up %d days, %02d:%02d, load 0.07\n", int(up.Hours())/24, int(up.Hours())%24, int(up.Minutes())%60)
	return 0
}

func environment(_ context.Context, s *shell, _ []string) int {
	names := make([]string, 0, len(s.env))
	for name := range s.env {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		fmt.Fprintf(s.out, "%s=%s\n", name, s.env[name])
	}
	fmt.Fprintf(s.out, "HOME=/home/%s\nTERM=%s\nUSER=%s\n", s.user, s.terminal, s.user)
	return 0
}

// taps asks for the mouse and prints what it is told.
func taps(ctx context.Context, s *shell, _ []string) int {
	fmt.Fprint(s.out, "\x1b[?1002;1006htap the window\n")
	defer fmt.Fprint(s.out, "\x1b[?1002;1006l")
	for {
		if typed := s.in.take(); strings.Contains(typed, "q") {
			return 0
		} else if typed != "" {
			fmt.Fprintln(s.out, "told "+strings.ReplaceAll(typed, "\x1b", "ESC "))
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return 130
		}
	}
}

// later has somebody else write to a file after a time, as in a place where several work.
func later(_ context.Context, s *shell, args []string) int {
	if len(args) < 3 {
		fmt.Fprintln(s.errs, commands["later"].use)
		return 2
	}
	seconds, err := strconv.ParseFloat(args[0], 64)
	full, dir, ok := s.files.find(s.cwd, args[1])
	if err != nil || seconds < 0 || seconds > 600 || !ok || dir {
		fmt.Fprintln(s.errs, commands["later"].use)
		return 2
	}
	host, line := s.host, strings.Join(args[2:], " ")+"\n"
	time.AfterFunc(time.Duration(seconds*float64(time.Second)), func() { host.SetText(full, host.Text(full)+line) })
	return 0
}

// secret reads a line without echo.
func secret(ctx context.Context, s *shell, _ []string) int {
	fmt.Fprint(s.out, "passphrase of the lamp: ")
	for typed := ""; !strings.ContainsAny(typed, "\r\n"); typed += s.in.take() {
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return 130
		}
	}
	fmt.Fprintln(s.out, "\nthe lamp is lit")
	return 0
}

func terminalSize(_ context.Context, s *shell, _ []string) int {
	cols, rows := s.size()
	fmt.Fprintf(s.out, "%d columns, %d rows\n", cols, rows)
	return 0
}

func stream(ctx context.Context, s *shell, args []string) int {
	every := 500 * time.Millisecond
	if len(args) > 0 {
		if d, err := time.ParseDuration(args[0]); err == nil && d >= time.Millisecond {
			every = d
		}
	}
	tick := time.NewTicker(every)
	defer tick.Stop()
	for n := 1; ; n++ {
		level := tideLevel(float64(n) / 40)
		if _, err := fmt.Fprintf(s.out, "%6d  %s  level %s m  %s\n", n, time.Now().UTC().Format("15:04:05.000"), metres(level), strings.Repeat("~", int(level*10))); err != nil {
			return 1
		}
		select {
		case <-tick.C:
		case <-ctx.Done():
			return 130
		}
	}
}

func flood(ctx context.Context, s *shell, args []string) int {
	megabytes := 1
	if len(args) > 0 {
		megabytes, _ = strconv.Atoi(args[0])
	}
	line := []byte("the tide comes in and the tide goes out and nobody at the bay has ever minded it\n")
	block := bytes.Repeat(line, 400)
	for sent := 0; sent < min(megabytes, 4096)<<20; {
		if ctx.Err() != nil {
			return 130
		}
		n, err := s.out.Write(block)
		if err != nil {
			return 1
		}
		sent += n
	}
	return 0
}

func sleep(ctx context.Context, _ *shell, args []string) int {
	seconds := 1.0
	if len(args) > 0 {
		seconds, _ = strconv.ParseFloat(args[0], 64)
	}
	select {
	case <-time.After(time.Duration(seconds * float64(time.Second))):
		return 0
	case <-ctx.Done():
		return 130
	}
}

func exit(_ context.Context, _ *shell, args []string) int {
	if len(args) > 0 {
		n, _ := strconv.Atoi(args[0])
		return n & 0xff
	}
	return 0
}

// fault sets a fault on a host of the lab.
func fault(_ context.Context, s *shell, args []string) int {
	if len(args) < 2 {
		fmt.Fprintln(s.errs, commands["fault"].use)
		return 2
	}
	if args[0] == Lightship && args[1] == "restart" {
		s.host.bay.RestartLightship(time.Second)
		fmt.Fprintln(s.out, "the lightship is back in a second")
		return 0
	}
	h := s.host.bay.Host(args[0])
	if h == nil {
		fmt.Fprintf(s.errs, "fault: there is no %s in the bay\n", args[0])
		return 1
	}
	switch args[1] {
	case "delay":
		var late time.Duration
		var err error = strconv.ErrSyntax
		if len(args) > 2 {
			late, err = time.ParseDuration(args[2])
		}
		if err != nil || late < 0 || late > time.Minute {
			fmt.Fprintln(s.errs, "fault: a delay is a time like 200ms, up to 1m")
			return 2
		}
		h.Faults.Delay(late)
	case "limit", "loss":
		n := -1
		if len(args) > 2 {
			n, _ = strconv.Atoi(args[2])
		}
		if n < 0 || args[1] == "loss" && n > 90 || n == 0 && (len(args) < 3 || args[2] != "0") {
			fmt.Fprintln(s.errs, "fault: a limit is bytes a second, a loss up to 90 in a hundred")
			return 2
		}
		if args[1] == "limit" {
			h.Faults.Limit(n)
		} else {
			h.Faults.Lose(float64(n) / 100)
		}
	case "freeze":
		h.Faults.Freeze(true)
	case "closed":
		h.Faults.ClosePort(true)
	case "forbid":
		h.Faults.ForbidOnward(true)
	case "impostor":
		h.Faults.Impostor(true)
	case "replace":
		if err := h.Replace(); err != nil {
			fmt.Fprintln(s.errs, err)
			return 1
		}
	case "cut":
		time.AfterFunc(50*time.Millisecond, h.Cut) // after this command has ended
	case "heal":
		h.Faults.Heal()
		h.Files.Heal()
	default:
		if !fileFault(h, args[1:]) {
			fmt.Fprintln(s.errs, commands["fault"].use)
			return 2
		}
	}
	fmt.Fprintf(s.out, "%s: %s\n", h.Name, strings.Join(args[1:], " "))
	return 0
}

// fileFault sets a fault of a host's files, and tells whether there is one of that name.
func fileFault(h *Host, args []string) bool {
	value := ""
	if len(args) > 1 {
		value = args[1]
	}
	number, nerr := strconv.ParseInt(value, 10, 64)
	ahead, derr := time.ParseDuration(value)
	switch {
	case args[0] == "quota" && nerr == nil && number >= 0:
		h.Files.Quota(number)
	case args[0] == "clock" && derr == nil:
		h.Files.Clock(ahead)
	case args[0] == "cut-files" && nerr == nil && number >= 0:
		h.Files.CutAfter(number)
	case args[0] == "lie":
		h.Files.Lie(true)
	case args[0] == "forget":
		h.Files.Forget(true)
	case args[0] == "endless":
		h.Files.Endless(true)
	case args[0] == "crowd":
		h.Files.Crowd(true)
	case args[0] == "silent-files":
		h.Files.Silent(true)
	case args[0] == "files-only":
		h.Files.FilesOnly(true)
	case args[0] == "shell-only":
		h.Files.ShellOnly(true)
	default:
		return false
	}
	return true
}

// tideLevel is the water's height in metres at an hour of the day: two tides,
// one a little higher.
func tideLevel(hour float64) float64 {
	return 1.9 + 1.2*math.Sin(hour*math.Pi/6.2) + 0.3*math.Sin(hour*math.Pi/12.4)
}

func metres(level float64) string { return strconv.FormatFloat(level, 'f', 2, 64) }

func two(n int) string { return fmt.Sprintf("%02d", n) }

// gaugeDisplay draws the water over the whole screen, again and again.
func gaugeDisplay(ctx context.Context, s *shell, _ []string) int {
	resized := make(chan struct{}, 1)
	s.mu.Lock()
	s.resized = resized
	s.mu.Unlock()
	fmt.Fprint(s.out, "\x1b[?1049h\x1b[?25l")
	defer fmt.Fprint(s.out, "\x1b[?25h\x1b[?1049l")
	tick := time.NewTicker(250 * time.Millisecond)
	defer tick.Stop()
	for n := 0; ; n++ {
		if _, err := io.WriteString(s.out, s.gaugeFrame(n)); err != nil {
			return 1
		}
		select {
		case <-tick.C:
		case <-resized:
		case <-ctx.Done():
			return 130
		}
		if strings.ContainsAny(s.in.take(), "qQ\x04") {
			return 0
		}
	}
}

func (s *shell) gaugeFrame(n int) string {
	cols, rows := s.size()
	var b strings.Builder
	level := tideLevel(float64(n) / 60)
	fmt.Fprintf(&b, "\x1b[H\x1b[1m %s \x1b[0m level \x1b[1;36m%s m\x1b[0m  %s\x1b[K", s.host.Name, metres(level), time.Now().UTC().Format("15:04:05"))
	height := rows - 2
	for row := range max(height, 0) {
		b.WriteString("\r\n")
		mark := float64(height-row) / float64(height) * 4
		fmt.Fprintf(&b, "\x1b[2m%4.1f\x1b[0m ", mark)
		for col := range max(cols-6, 0) {
			water := tideLevel(float64(n+col)/60) + 0.08*math.Sin(float64(n)/2+float64(col)/3)
			switch {
			case water >= mark:
				b.WriteString("\x1b[48;5;24m \x1b[0m")
			case water >= mark-4/float64(height):
				b.WriteString("\x1b[38;5;45m~\x1b[0m")
			default:
				b.WriteByte(' ')
			}
		}
		b.WriteString("\x1b[K")
	}
	fmt.Fprintf(&b, "\r\n\x1b[7m %-*s\x1b[0m", max(cols-2, 1), "q leaves")
	return b.String()
}
