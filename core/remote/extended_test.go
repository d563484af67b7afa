package remote

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"net"
	"strings"
	"sync"
	"testing"
	"testing/iotest"

	"github.com/pkg/sftp"
)

// served is a server of the protocol library that also knows "shout", which answers in capitals, and
// what a client is given to speak with it.
func served(t *testing.T, slowly bool) (*sftp.Client, *Extended) {
	t.Helper()
	near, far := net.Pipe()
	behind, server := net.Pipe()
	t.Cleanup(func() { near.Close(); behind.Close() })
	var out sync.Mutex
	go func() { // to the server goes what is none of ours
		for {
			packet, err := packetOf(far)
			if err != nil {
				server.Close()
				return
			}
			if packet[4] != packetExtended || binary.BigEndian.Uint32(packet[5:]) < ownFrom {
				behind.Write(packet)
				continue
			}
			request, data, _ := CutText(packet[headBytes:])
			answer := append([]byte{packetExtendedReply}, packet[5:9]...)
			switch request {
			case "shout":
				answer = append(answer, strings.ToUpper(string(data))...)
			case "lost":
				answer = AppendText(binary.BigEndian.AppendUint32(append([]byte{packetStatus}, packet[5:9]...), 2), "no\x1b[1m such file")
			case "long":
				answer = append(answer, make([]byte, maxReply)...)
			default:
				answer = AppendText(binary.BigEndian.AppendUint32(append([]byte{packetStatus}, packet[5:9]...), 8), "no\x1b[1m such thing")
			}
			out.Lock()
			far.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(answer))), answer...))
			out.Unlock()
		}
	}()
	go func() {
		for {
			packet, err := packetOf(behind)
			if err != nil {
				far.Close()
				return
			}
			out.Lock()
			far.Write(packet)
			out.Unlock()
		}
	}()
	handlers := sftp.InMemHandler()
	go sftp.NewRequestServer(server, handlers).Serve()
	var in io.Reader = near
	if slowly {
		in = iotest.OneByteReader(near)
	}
	e := extend(in, near)
	client, err := sftp.NewClientPipe(e, e)
	if err != nil {
		t.Fatal(err)
	}
	return client, e
}

// packetOf reads one packet with its length.
func packetOf(r io.Reader) ([]byte, error) {
	length := make([]byte, 4)
	if _, err := io.ReadFull(r, length); err != nil {
		return nil, err
	}
	packet := append(length, make([]byte, binary.BigEndian.Uint32(length))...)
	_, err := io.ReadFull(r, packet[4:])
	return packet, err
}

// Requests of ours and the library's own go over one channel at once, and each gets its answer.
func TestOwnRequestsGoBetweenTheLibrarys(t *testing.T) {
	for _, slowly := range []bool{false, true} {
		client, e := served(t, slowly)
		content := bytes.Repeat([]byte("level "), 20_000)
		var group sync.WaitGroup
		for i := range 8 {
			name := string(rune('a' + i))
			group.Go(func() {
				f, err := client.Create(name)
				if err != nil {
					t.Error(err)
					return
				}
				f.Write(content)
				f.Close()
				if f, err = client.Open(name); err != nil {
					t.Error(err)
					return
				}
				if got, err := io.ReadAll(f); err != nil || !bytes.Equal(got, content) {
					t.Errorf("%s has %d bytes, %v", name, len(got), err)
				}
			})
			group.Go(func() {
				for range 50 {
					if got, err := e.Ask(t.Context(), "shout", []byte(name)); string(got) != strings.ToUpper(name) || err != nil {
						t.Errorf("%s: %q, %v", name, got, err)
					}
				}
			})
		}
		group.Wait()
		if _, err := e.Ask(t.Context(), "lost", nil); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("it says %v", err)
		}
		var refused *Refused
		if _, err := e.Ask(t.Context(), "other", nil); !errors.As(err, &refused) || refused.Code != 8 || strings.Contains(err.Error(), "\x1b") {
			t.Errorf("it says %v", err)
		}
		if _, err := e.Ask(t.Context(), "long", nil); err == nil {
			t.Error("an answer that is too long was taken")
		}
		if _, err := e.Ask(t.Context(), "shout", nil); err == nil {
			t.Error("a channel that has ended still answers")
		}
	}
}

// However a far side's bytes are cut and wrong, reading them ends.
func FuzzExtendedRead(f *testing.F) {
	f.Add([]byte{0, 0, 0, 5, packetVersion, 0, 0, 0, 3, 0, 0, 0, 9, packetStatus, 0x80, 0, 0, 0, 0, 0, 0, 2})
	f.Add([]byte{0xff, 0xff, 0xff, 0xff, packetExtendedReply, 0x80, 0, 0, 0})
	f.Fuzz(func(t *testing.T, said []byte) {
		e := extend(bytes.NewReader(said), nopWriter{io.Discard})
		if got, _ := io.ReadAll(e); len(got) > len(said) {
			t.Errorf("%d bytes became %d", len(said), len(got))
		}
		CutText(said)
	})
}

type nopWriter struct{ io.Writer }

func (nopWriter) Close() error { return nil }

// The channel's end and a request of ours do not meet in what they write to.
func TestAnEndAndARequestDoNotMeet(t *testing.T) {
	for range 50 {
		out := &careful{}
		e := extend(bytes.NewReader(nil), out)
		var group sync.WaitGroup
		group.Go(func() { e.Ask(t.Context(), "shout", []byte("x")) })
		group.Go(func() { io.ReadAll(e); e.Close() })
		group.Wait()
	}
}

// careful is a writer that nothing else may use at once; the race detector sees it where something does.
type careful struct{ closed bool }

func (c *careful) Write(p []byte) (int, error) {
	if c.closed {
		return 0, io.ErrClosedPipe
	}
	return len(p), nil
}

func (c *careful) Close() error {
	c.closed = true
	return nil
}
