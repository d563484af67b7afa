package lab

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"
)

// shell is one login at a host of the lab.
type shell struct {
	host     *Host
	user     string
	from     string
	env      map[string]string
	command  string
	terminal string // TERM, "" where there is no terminal
	cwd      string
	files    *tree
	transfer bool // files are carried, no shell
	out      io.Writer
	errs     io.Writer
	in       *input
	conn     *ssh.ServerConn
	agent    bool           // a key agent is lent to it
	windows  *windowRequest // what it may draw with, or nil

	mu         sync.Mutex
	cols, rows int
	resized    chan struct{}
	interrupt  context.CancelFunc
	editor     *term.Terminal
}

func (s *shell) resize(cols, rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.cols, s.rows = max(cols, 1), max(rows, 1)
	if s.editor != nil {
		s.editor.SetSize(s.cols, s.rows)
	}
	if s.resized != nil {
		select {
		case s.resized <- struct{}{}:
		default:
		}
	}
}

func (s *shell) size() (cols, rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cols, s.rows
}

// input feeds what is typed to whoever reads: the line editor, or a command.
type input struct {
	mu     sync.Mutex
	change *sync.Cond
	held   []byte
	closed bool
}

func newInput() *input {
	in := &input{}
	in.change = sync.NewCond(&in.mu)
	return in
}

func (in *input) put(p []byte, eof bool) {
	in.mu.Lock()
	defer in.mu.Unlock()
	for len(in.held) > maxHeld && !in.closed {
		in.change.Wait()
	}
	in.held = append(in.held, p...)
	in.closed = in.closed || eof
	in.change.Broadcast()
}

func (in *input) Read(p []byte) (int, error) {
	in.mu.Lock()
	defer in.mu.Unlock()
	for len(in.held) == 0 && !in.closed {
		in.change.Wait()
	}
	if len(in.held) == 0 {
		return 0, io.EOF
	}
	n := copy(p, in.held)
	in.held = in.held[n:]
	in.change.Broadcast()
	return n, nil
}

// take gives what is typed to a full-screen command, "" after a while without.
func (in *input) take() string {
	in.mu.Lock()
	defer in.mu.Unlock()
	typed := string(in.held)
	in.held = nil
	return typed
}

// crlf ends lines the way a terminal wants them.
type crlf struct{ io.Writer }

func (w crlf) Write(p []byte) (int, error) {
	if _, err := io.WriteString(w.Writer, strings.ReplaceAll(string(p), "\n", "\r\n")); err != nil {
		return 0, err
	}
	return len(p), nil
}

// run runs the one command, or the lines that are typed until the end.
func (s *shell) run(ctx context.Context, stream io.Reader) int {
	s.in = newInput()
	stop := context.AfterFunc(ctx, func() { s.in.put(nil, true) })
	defer stop()
	go s.feed(stream)
	if s.terminal != "" {
		s.out, s.errs = crlf{s.out}, crlf{s.out}
	}
	switch {
	case s.command != "":
		status, _ := s.line(ctx, s.command)
		return status
	case s.terminal != "":
		return s.prompt(ctx)
	}
	status, lines := 0, bufio.NewScanner(s.in)
	for lines.Scan() {
		var leave bool
		if status, leave = s.line(ctx, lines.Text()); leave {
			break
		}
	}
	return status
}

// feed passes on what is typed. Control-C ends the running command; while a
// line is edited it drops the line.
func (s *shell) feed(stream io.Reader) {
	buf := make([]byte, 4096)
	for {
		n, err := stream.Read(buf)
		typed := buf[:n]
		if s.terminal != "" {
			if at := strings.IndexByte(string(typed), 3); at >= 0 {
				s.mu.Lock()
				interrupt := s.interrupt
				s.mu.Unlock()
				if interrupt != nil {
					interrupt()
					typed = typed[at+1:]
				} else {
					// end of line, erase to its start, return: an empty line
					typed = []byte(strings.ReplaceAll(string(typed), "\x03", "\x05\x15\r"))
				}
			}
		}
		s.in.put(typed, err != nil)
		if err != nil {
			return
		}
	}
}

// editorIO is what the line editor reads and writes.
type editorIO struct {
	io.Reader
	io.Writer
}

func (s *shell) prompt(ctx context.Context) int {
	raw := s.out.(crlf).Writer
	editor := term.NewTerminal(editorIO{s.in, raw}, s.promptText())
	s.mu.Lock()
	s.editor = editor
	editor.SetSize(s.cols, s.rows)
	s.mu.Unlock()
	fmt.Fprint(s.out, s.files.read("/etc/motd"))
	for {
		fmt.Fprintf(raw, "\x1b]7;file://%s%s\x1b\\", s.host.Name, s.cwd) // where the shell is, as shells tell it
		line, err := editor.ReadLine()
		if err != nil || ctx.Err() != nil {
			return 0
		}
		status, leave := s.line(ctx, line)
		if leave {
			return status
		}
		editor.SetPrompt(s.promptText())
	}
}

// promptText is the prompt, with a mark in front.
func (s *shell) promptText() string {
	where := s.cwd
	if rest, ok := strings.CutPrefix(where, "/home/"+s.user); ok {
		where = "~" + rest
	}
	return fmt.Sprintf("\x1b]133;A\x1b\\\x1b[36m%s@%s\x1b[0m:%s$ ", s.user, s.host.Name, where)
}

// line runs the commands of one line, which ";" parts.
func (s *shell) line(ctx context.Context, text string) (status int, leave bool) {
	for _, words := range parse(text) {
		if len(words) == 0 {
			continue
		}
		c, ok := commands[words[0]]
		if !ok {
			fmt.Fprintf(s.errs, "%s: no such command; type help\n", words[0])
			status = 127
			continue
		}
		own, cancel := context.WithCancel(ctx)
		s.mu.Lock()
		s.interrupt = cancel
		s.mu.Unlock()
		status = c.run(own, s, words[1:])
		if own.Err() != nil && ctx.Err() == nil {
			status = 130
			fmt.Fprint(s.out, "^C\n")
		}
		s.mu.Lock()
		s.interrupt = nil
		s.mu.Unlock()
		cancel()
		if words[0] == "exit" {
			return status, true
		}
	}
	return status, false
}

// parse cuts a line into commands and their words; quotes keep blanks.
func parse(text string) [][]string {
	var all [][]string
	var words []string
	var word strings.Builder
	var quote rune
	inWord, escaped := false, false
	flush := func() {
		if inWord {
			words = append(words, word.String())
		}
		word.Reset()
		inWord = false
	}
	for _, r := range text {
		switch {
		case escaped:
			word.WriteRune(r)
			escaped, inWord = false, true
		case r == '\\' && quote != '\'':
			escaped = true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, inWord = r, true
		case r == ';':
			flush()
			all, words = append(all, words), nil
		case r == ' ' || r == '\t':
			flush()
		default:
			word.WriteRune(r)
			inWord = true
		}
	}
	flush()
	return append(all, words)
}
