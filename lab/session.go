package lab

import (
	"context"
	"io"
	"sync"

	"golang.org/x/crypto/ssh"
)

// terminalRequest is the payload of "pty-req" (RFC 4254 section 6.2).
type terminalRequest struct {
	Term          string
	Cols, Rows    uint32
	Width, Height uint32
	Modes         string
}

// session serves one session channel: its requests until it starts something,
// then that, then its end.
func (h *Host) session(conn *ssh.ServerConn, channel ssh.NewChannel) {
	stream, requests, err := channel.Accept()
	if err != nil {
		return
	}
	defer stream.Close()
	s := &shell{host: h, conn: conn, user: conn.User(), from: conn.RemoteAddr().String(), env: map[string]string{}, out: stream, errs: stream.Stderr()}
	s.cwd = "/home/" + s.user
	s.files = h.files
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	var wg sync.WaitGroup
	defer wg.Wait()
	defer stream.Close()
	started := false
	done := make(chan struct{})
	for {
		select {
		case <-done:
			return
		case request, ok := <-requests:
			if !ok {
				cancel(io.EOF)
				if started {
					<-done
				}
				return
			}
			fine := s.request(request, started, cancel)
			request.Reply(fine, nil)
			if fine && !started && (request.Type == "shell" || request.Type == "exec" || request.Type == "subsystem") {
				started = true
				wg.Go(func() {
					defer close(done)
					s.begin(ctx, stream)
				})
			}
		}
	}
}

// killed is why a program ends: a signal came from outside.
type killed string

func (k killed) Error() string { return "signal " + string(k) }

// request handles one request of a session channel (RFC 4254 section 6).
func (s *shell) request(r *ssh.Request, started bool, cancel context.CancelCauseFunc) bool {
	switch r.Type {
	case "pty-req":
		var t terminalRequest
		if started || ssh.Unmarshal(r.Payload, &t) != nil {
			return false
		}
		s.terminal = t.Term
		s.resize(int(t.Cols), int(t.Rows))
	case "window-change":
		var size struct{ Cols, Rows, Width, Height uint32 }
		if ssh.Unmarshal(r.Payload, &size) != nil {
			return false
		}
		s.resize(int(size.Cols), int(size.Rows))
	case "auth-agent-req@openssh.com":
		if started || !s.host.Bastion {
			return false
		}
		s.agent = true
	case "x11-req":
		var w windowRequest
		if started || !s.host.Bastion || ssh.Unmarshal(r.Payload, &w) != nil {
			return false
		}
		s.windows = &w
	case "env":
		var v struct{ Name, Value string }
		if started || ssh.Unmarshal(r.Payload, &v) != nil {
			return false
		}
		s.env[v.Name] = v.Value
	case "exec":
		var c struct{ Command string }
		if started || ssh.Unmarshal(r.Payload, &c) != nil {
			return false
		}
		s.command = c.Command
	case "subsystem":
		var name struct{ Name string }
		if started || ssh.Unmarshal(r.Payload, &name) != nil || name.Name != "sftp" {
			return false
		}
		s.transfer = true
	case "shell":
		return !started
	case "signal":
		var name struct{ Name string }
		if ssh.Unmarshal(r.Payload, &name) != nil {
			return false
		}
		cancel(killed(name.Name))
	default:
		return false
	}
	return true
}

// begin runs what the session is for and tells how it ended.
func (s *shell) begin(ctx context.Context, stream ssh.Channel) {
	status := 0
	if s.transfer {
		status = s.serveFiles(stream)
	} else {
		status = s.run(ctx, stream)
	}
	if signal, ok := context.Cause(ctx).(killed); ok {
		stream.SendRequest("exit-signal", false, ssh.Marshal(struct {
			Name    string
			Core    bool
			Message string
			Lang    string
		}{string(signal), false, "", ""}))
	} else {
		stream.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
	}
	stream.Close()
}
