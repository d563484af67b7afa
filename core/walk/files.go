package walk

import (
	"context"
	"errors"
	"io"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
)

// maxTold bounds what a far side may say over one file-transfer channel, in
// bytes: what is looked at is small, and a hostile one could list names for ever.
const maxTold = 64 << 20

// Files opens the file-transfer channel of the account at the passage's end (the
// "sftp" subsystem, RFC 4254 section 6.5). done ends it, and so does the context.
// It fails with a [gate.Failure] at the channel gate where the server has none.
func (p *Passage) Files(ctx context.Context) (files *sftp.Client, done func(), err error) {
	type opened struct {
		files   *sftp.Client
		session *ssh.Session
		err     error
	}
	link := p.current()
	got := make(chan opened, 1)
	go func() {
		files, session, err := openFiles(link)
		got <- opened{files, session, err}
	}()
	var o opened
	select {
	case o = <-got:
	case <-link.ctx.Done(): // see Link.open
		o.err = io.EOF
	case <-ctx.Done():
		go func() {
			select {
			case o := <-got:
				if o.session != nil {
					o.session.Close()
				}
			case <-link.ctx.Done():
			}
		}()
		o.err = ctx.Err()
	}
	if o.err != nil {
		return nil, nil, p.refused("file-transfer channel", o.err, ctx)
	}
	stop := context.AfterFunc(ctx, func() { o.session.Close() })
	return o.files, func() {
		stop()
		o.session.Close()
		o.files.Close()
	}, nil
}

func openFiles(link *Link) (*sftp.Client, *ssh.Session, error) {
	session, err := link.client.NewSession()
	if err != nil {
		return nil, nil, err
	}
	in, err1 := session.StdinPipe()
	out, err2 := session.StdoutPipe()
	if err := errors.Join(err1, err2, session.RequestSubsystem("sftp")); err != nil {
		session.Close()
		return nil, nil, err
	}
	files, err := sftp.NewClientPipe(io.LimitReader(out, maxTold), in)
	if err != nil {
		session.Close()
		return nil, nil, err
	}
	return files, session, nil
}

// NoFiles tells whether an error is that a server has no file-transfer channel.
func NoFiles(err error) bool {
	var f *gate.Failure
	return errors.As(err, &f) && f.Cause == gate.ChannelRefused
}
