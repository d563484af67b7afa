package remote

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"meatus/core/sanitize"
)

// What is known of the file-transfer protocol here: the packets that are looked at on their way
// (draft-ietf-secsh-filexfer-02, section 3).
const (
	packetVersion       = 2
	packetStatus        = 101
	packetExtended      = 200
	packetExtendedReply = 201

	headBytes = 9       // of a packet: its length, its type, the request's number
	ownFrom   = 1 << 31 // requests from this number on are ours; the library counts up from 1
	maxReply  = 64 << 10
)

// Extended makes requests of the file-transfer protocol that the library does not know, over a channel
// that it uses at the same time: ours go between its own, and their answers are taken out of what it is
// given to read. It is safe to use from many goroutines.
type Extended struct {
	out io.WriteCloser
	in  *bufio.Reader

	writing sync.Mutex
	whole   *sync.Cond // the library is between two packets
	behind  int        // bytes of the packet that it is writing and has yet to write
	length  []byte     // of the packet that it begins

	left int // bytes of the packet that it is reading; used by its reader alone

	mu    sync.Mutex
	next  uint32
	waits map[uint32]chan reply
	over  error
}

type reply struct {
	kind byte
	body []byte // behind the request's number
}

func extend(in io.Reader, out io.WriteCloser) *Extended {
	e := &Extended{out: out, in: bufio.NewReaderSize(in, 64<<10), next: ownFrom, waits: map[uint32]chan reply{}}
	e.whole = sync.NewCond(&e.writing)
	return e
}

// Write takes what the library writes.
func (e *Extended) Write(p []byte) (int, error) {
	e.writing.Lock()
	defer e.writing.Unlock()
	rest := p
	for len(rest) > 0 {
		if e.behind > 0 {
			n := min(e.behind, len(rest))
			e.behind, rest = e.behind-n, rest[n:]
			continue
		}
		n := min(4-len(e.length), len(rest))
		e.length, rest = append(e.length, rest[:n]...), rest[n:]
		if len(e.length) == 4 {
			e.behind, e.length = int(binary.BigEndian.Uint32(e.length)), e.length[:0]
		}
	}
	n, err := e.out.Write(p)
	if err != nil {
		e.behind, e.length = 0, e.length[:0]
	}
	if e.behind == 0 && len(e.length) == 0 {
		e.whole.Broadcast()
	}
	return n, err
}

// Close closes the way to the far side, once nothing is being written.
func (e *Extended) Close() error {
	e.writing.Lock()
	defer e.writing.Unlock()
	return e.out.Close()
}

// Read gives the library what is its own.
func (e *Extended) Read(p []byte) (int, error) {
	for e.left == 0 {
		if err := e.begin(); err != nil {
			e.end(err)
			return 0, err
		}
	}
	n, err := e.in.Read(p[:min(len(p), e.left)])
	e.left -= n
	if err != nil {
		e.end(err)
	}
	return n, err
}

// begin looks at the packet that comes next, and takes it where it is ours.
func (e *Extended) begin() error {
	length, err := e.in.Peek(4)
	if err != nil {
		return err
	}
	size := int(binary.BigEndian.Uint32(length))
	if size < headBytes-4 {
		e.left = 4 + size // which the library refuses
		return nil
	}
	head, err := e.in.Peek(headBytes)
	if err != nil {
		return err
	}
	kind, number := head[4], binary.BigEndian.Uint32(head[5:])
	if kind == packetVersion || number < ownFrom {
		e.left = 4 + size
		return nil
	}
	if size > maxReply {
		return fmt.Errorf("the remote side answers with %d bytes, which is too long", size)
	}
	body := make([]byte, 4+size)
	if _, err := io.ReadFull(e.in, body); err != nil {
		return err
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	if wait := e.waits[number]; wait != nil {
		delete(e.waits, number)
		wait <- reply{kind, body[headBytes:]}
	}
	return nil
}

// end has all that wait for an answer wait no more.
func (e *Extended) end(err error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.over = err
	for number, wait := range e.waits {
		delete(e.waits, number)
		close(wait)
	}
}

// Ask makes a request of an extension (section 4.1 of the draft) and returns what stands in the answer.
// It fails with an error of [fs] where the far side's answer is one, with [Refused] where it says no
// otherwise, and with what ended the channel.
func (e *Extended) Ask(ctx context.Context, request string, data []byte) ([]byte, error) {
	e.mu.Lock()
	if e.over != nil {
		defer e.mu.Unlock()
		return nil, e.over
	}
	number := e.next
	e.next = max(e.next+1, ownFrom)
	wait := make(chan reply, 1)
	e.waits[number] = wait
	e.mu.Unlock()

	packet := binary.BigEndian.AppendUint32(nil, uint32(5+4+len(request)+len(data)))
	packet = append(packet, packetExtended)
	packet = binary.BigEndian.AppendUint32(packet, number)
	packet = append(AppendText(packet, request), data...)
	forget := func() {
		e.mu.Lock()
		defer e.mu.Unlock()
		delete(e.waits, number)
	}
	if err := e.send(packet); err != nil {
		forget()
		return nil, err
	}
	select {
	case r, ok := <-wait:
		if !ok {
			return nil, io.ErrUnexpectedEOF
		}
		if r.kind == packetExtendedReply {
			return r.body, nil
		}
		return nil, refusal(r)
	case <-ctx.Done():
		forget()
		return nil, ctx.Err()
	}
}

func (e *Extended) send(packet []byte) error {
	e.writing.Lock()
	defer e.writing.Unlock()
	for e.behind > 0 || len(e.length) > 0 {
		e.whole.Wait()
	}
	_, err := e.out.Write(packet)
	return err
}

// Refused is what the far side said in place of an answer.
type Refused struct {
	Code uint32 // of section 7 of the draft
	Says string
}

func (r *Refused) Error() string {
	return fmt.Sprintf("refused by the remote side: %s (status %d)", r.Says, r.Code)
}

// refusal is the error that a status tells.
func refusal(r reply) error {
	if r.kind != packetStatus || len(r.body) < 4 {
		return errors.New("the remote side's answer is not of the protocol")
	}
	code := binary.BigEndian.Uint32(r.body)
	switch code {
	case 2:
		return fs.ErrNotExist
	case 3:
		return fs.ErrPermission
	}
	says, _, _ := CutText(r.body[4:])
	return &Refused{code, sanitize.Line(says, 200)}
}

// AppendText appends a string as the protocol writes it (RFC 4251 section 5).
func AppendText(b []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(b, uint32(len(s))), s...)
}

// CutText takes a string off what the protocol wrote; ok is false where there is none.
func CutText(b []byte) (s string, rest []byte, ok bool) {
	if len(b) < 4 || uint64(binary.BigEndian.Uint32(b)) > uint64(len(b)-4) {
		return "", b, false
	}
	n := 4 + int(binary.BigEndian.Uint32(b))
	return string(b[4:n]), b[n:], true
}
