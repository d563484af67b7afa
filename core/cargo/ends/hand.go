package ends

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/sanitize"
)

// HandScript packs the files whose names it reads, each ended by a null byte, and has the Meatus of that
// machine hand the stream to another machine: $2 is its address, $3 the login, $4 the key that it has to
// prove itself with, $5 the command that unpacks.
const HandScript = `cd "$1" || exit 96
command -v meatus >/dev/null || { echo "Meatus is not installed there" >&2; exit 95; }
echo =meatus=
tar --null --no-recursion -T - -cf - --format=pax | meatus cargo hand "$2" "$3" "$4" "$5"`

// Handover is where a stream is handed to.
type Handover struct {
	Address, User string
	HostKey       string // as a list of keys has it
	Command       string // that is given the stream
}

// handTime is how long the other machine may take to let in.
const handTime = 20 * time.Second

// HandOver gives a stream to a command of another machine, which is logged in to with the keys of an agent,
// at the end of a connection, and no others. It fails where the machine shows another key than it has to, and
// where it or the agent has not let in within 20 seconds. It ends the connection to the agent.
func HandOver(ctx context.Context, stream io.Reader, h Handover, keys net.Conn) error {
	defer keys.Close()
	want, _, _, _, err := ssh.ParseAuthorizedKey([]byte(h.HostKey))
	if err != nil {
		return fmt.Errorf("the key of %s: %w", h.Address, err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	soon, done := context.WithTimeout(ctx, handTime)
	defer done()
	conn, err := (&net.Dialer{}).DialContext(soon, "tcp", h.Address)
	if err != nil {
		return err
	}
	defer conn.Close()
	context.AfterFunc(ctx, func() { conn.Close() })
	early := context.AfterFunc(soon, func() {
		conn.Close()
		keys.Close()
	})
	algorithms := []string{want.Type()}
	if want.Type() == ssh.KeyAlgoRSA {
		algorithms = []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256}
	}
	c, chans, requests, err := ssh.NewClientConn(conn, h.Address, &ssh.ClientConfig{
		User: h.User, Auth: []ssh.AuthMethod{ssh.PublicKeysCallback(agent.NewClient(keys).Signers)},
		HostKeyCallback: ssh.FixedHostKey(want), HostKeyAlgorithms: algorithms,
	})
	if !early() {
		return fmt.Errorf("%s does not let in within %v", h.Address, handTime)
	}
	if err != nil {
		return err
	}
	client := ssh.NewClient(c, chans, requests)
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		return err
	}
	session.Stdin = stream
	var says bytes.Buffer
	session.Stderr = &limited{&says, 4 << 10}
	if err := session.Run(h.Command); err != nil {
		return fmt.Errorf("%w: %s", err, sanitize.Line(says.String(), 300))
	}
	return nil
}

// limited is a writer that keeps so much, and drops what comes after.
type limited struct {
	to   io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	keep := p[:min(len(p), l.left)]
	l.left -= len(keep)
	_, err := l.to.Write(keep)
	return len(p), err
}

// ErrNotHanded says that one machine cannot hand files to another itself.
var ErrNotHanded = errors.New("the one machine cannot hand files to the other by itself")

// Hand has this tree's machine hand files to another machine by itself, with a key that is lent to it for
// that time, into a folder of that tree which is there. The machine that is handed to has to show the key
// that it showed here. It fails with [ErrNotHanded] where that cannot be, and says why.
func (t *There) Hand(ctx context.Context, names []string, to *There, folder string) error {
	p, far := t.Passage(), to.Passage()
	if p == nil || far == nil {
		return lost{errors.New("the line is lost")}
	}
	if t.Lent == nil || !t.known().pack || !to.known().unpack {
		return fmt.Errorf("%w: both have to have a shell and the program tar", ErrNotHanded)
	}
	ctx, cancel := context.WithTimeout(ctx, maxDigest)
	defer cancel()
	hop := far.Route().Target()
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(far.HostKey())))
	g, err := t.Lent(ctx, p, t.line(HandScript, net.JoinHostPort(hop.Host, strconv.Itoa(hop.Port)), hop.User, key, to.lineIn(to.at(folder), UnpackScript)))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotHanded, err)
	}
	defer g.Close()
	if g.Lend == nil {
		return fmt.Errorf("%w: the session %s lends no key; set agent and lends", ErrNotHanded, t.Session)
	}
	stop := context.AfterFunc(ctx, g.Close)
	defer stop()
	go t.say(g.In, names)
	said := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(io.LimitReader(g.Err, 4<<10))
		io.Copy(io.Discard, g.Err)
		said <- string(text)
	}()
	io.Copy(io.Discard, g.Out)
	lines := strings.Split(strings.TrimSpace(<-said), "\n")
	why := sanitize.Line(lines[len(lines)-1], 300) // what stands before it is of a banner
	end := g.Wait()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case end.Err != nil:
		return lost{end.Err}
	case end.Status != 0 || end.Signal != "":
		return fmt.Errorf("%w: %s", ErrNotHanded, cmp.Or(why, fmt.Sprintf("the command ended with %d", end.Status)))
	}
	return nil
}
