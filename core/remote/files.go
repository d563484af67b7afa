package remote

import (
	"cmp"
	"context"
	"errors"
	"io"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/walk"
)

// MaxLook bounds what a far side may say over a file-transfer channel that is only
// looked through, in bytes: a hostile one could list names for ever.
const MaxLook = 64 << 20

// Files opens the file-transfer channel of the account at the passage's end (the
// "sftp" subsystem, RFC 4254 section 6.5). What the far side may say over it is bounded
// by limit, in bytes; 0 is without a bound, which is for transfers that somebody asked
// for. done ends it, and so does the context. It fails with a [gate.Failure] at the
// channel gate where the server has none.
func Files(ctx context.Context, p *walk.Passage, limit int64) (files *sftp.Client, done func(), err error) {
	f, err := FilesWith(ctx, p, FileOptions{Limit: limit})
	if err != nil {
		return nil, nil, err
	}
	return f.Client, f.Close, nil
}

// FileOptions say how a file-transfer channel is opened.
type FileOptions struct {
	Command string      // that serves the protocol on its standard input and output; the subsystem where ""
	Limit   int64       // of what the far side may say, in bytes; 0 for none
	Heard   func(n int) // told of what the far side says, in bytes; may be nil
	Piece   int         // the longest piece of a file that is asked for or sent, in bytes; the protocol's least where 0
}

// FileChannel is a file-transfer channel.
type FileChannel struct {
	*sftp.Client
	Extended *Extended

	session *ssh.Session
	once    sync.Once
	cut     chan struct{}
	stop    func() bool
}

// FilesWith is [Files] with options.
func FilesWith(ctx context.Context, p *walk.Passage, o FileOptions) (*FileChannel, error) {
	f, err := walk.Over(ctx, p, "file-transfer channel", func(l *link.Link) (*FileChannel, error) { return openFiles(ctx, l, o) }, (*FileChannel).Close)
	if err == nil {
		f.stop = context.AfterFunc(ctx, f.end)
	}
	return f, err
}

// Close ends the channel without waiting for the far side's word.
func (f *FileChannel) Close() {
	if f.stop != nil {
		f.stop()
	}
	f.end()
}

func (f *FileChannel) end() {
	f.once.Do(func() {
		close(f.cut)
		go func() {
			f.session.Close()
			f.Client.Close()
		}()
	})
}

func openFiles(ctx context.Context, l *link.Link, o FileOptions) (*FileChannel, error) {
	session, err := l.Session()
	if err != nil {
		return nil, err
	}
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	begin := func() error { return session.RequestSubsystem("sftp") }
	if o.Command != "" {
		begin = func() error { return session.Start(o.Command) }
	}
	if err := errors.Join(err1, err2, begin()); err != nil {
		session.Close()
		return nil, l.OfChannel(err)
	}
	f := &FileChannel{session: session, cut: make(chan struct{})}
	out = cuttable(out, f.cut)
	if o.Limit > 0 {
		out = io.LimitReader(out, o.Limit)
	}
	if o.Heard != nil {
		out = heard{out, o.Heard}
	}
	given := context.AfterFunc(ctx, func() { // the far side may never say which version it speaks
		close(f.cut)
		session.Close()
	})
	var options []sftp.ClientOption
	if o.Piece > 0 {
		options = append(options, sftp.MaxPacketUnchecked(o.Piece))
	}
	f.Extended = extend(out, in)
	f.Client, err = sftp.NewClientPipe(f.Extended, f.Extended, options...)
	if !given() {
		return nil, cmp.Or(err, ctx.Err())
	}
	if err != nil {
		close(f.cut)
		session.Close()
		return nil, l.OfChannel(err)
	}
	return f, nil
}

// heard is a reader whose bytes are told.
type heard struct {
	io.Reader
	tell func(n int)
}

func (h heard) Read(p []byte) (int, error) {
	n, err := h.Reader.Read(p)
	h.tell(n)
	return n, err
}

// NoFiles tells whether an error is that a server has no file-transfer channel.
func NoFiles(err error) bool {
	var f *gate.Failure
	return errors.As(err, &f) && f.Cause == gate.ChannelRefused
}
