package lab

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"

	"golang.org/x/crypto/ssh"
)

// windowRequest is the payload of "x11-req" (RFC 4254 section 6.3.1).
type windowRequest struct {
	Single   bool
	Protocol string
	Cookie   string // in hexadecimal
	Screen   uint32
}

// introduce does what a graphical program does first: it introduces itself to the
// display and reads who made that. With "stranger" it does so with a cookie of its own,
// so many times as is said.
func introduce(_ context.Context, s *shell, a []string) int {
	if s.windows == nil {
		fmt.Fprintln(s.errs, "no display: ask for windows when you come here")
		return 1
	}
	cookie, err := hex.DecodeString(s.windows.Cookie)
	if err != nil {
		fmt.Fprintln(s.errs, "no cookie: "+err.Error())
		return 1
	}
	times := 1
	if len(a) > 0 && a[0] == "stranger" {
		cookie = []byte("sixteen strange.")
		if len(a) > 1 {
			fmt.Sscan(a[1], &times)
		}
	}
	status := 0
	for range min(max(times, 1), 1000) {
		vendor, err := s.knockAtDisplay(cookie)
		if err != nil {
			fmt.Fprintln(s.errs, "turned away: "+err.Error())
			status = 1
			continue
		}
		fmt.Fprintln(s.out, "your display is by "+vendor)
	}
	return status
}

// knockAtDisplay opens a channel to the display and reads its answer (the X Window
// System Protocol, section 8).
func (s *shell) knockAtDisplay(cookie []byte) (vendor string, err error) {
	channel, requests, err := s.conn.OpenChannel("x11", ssh.Marshal(struct {
		From string
		Port uint32
	}{"127.0.0.1", 40000}))
	if err != nil {
		return "", err
	}
	defer channel.Close()
	go ssh.DiscardRequests(requests)
	opening := []byte{'l', 0}
	for _, n := range []uint16{11, 0, uint16(len(s.windows.Protocol)), uint16(len(cookie)), 0} {
		opening = binary.LittleEndian.AppendUint16(opening, n)
	}
	pad := func(b []byte) []byte { return append(b, make([]byte, (4-len(b)%4)%4)...) }
	opening = append(opening, pad([]byte(s.windows.Protocol))...)
	if _, err := channel.Write(append(opening, pad(cookie)...)); err != nil {
		return "", err
	}
	var head [8]byte
	if _, err := io.ReadFull(channel, head[:]); err != nil {
		return "", fmt.Errorf("it was closed")
	}
	rest := make([]byte, 4*int(binary.LittleEndian.Uint16(head[6:])))
	if _, err := io.ReadFull(channel, rest); err != nil {
		return "", err
	}
	if head[0] != 1 || len(rest) < 32 {
		return "", fmt.Errorf("the display says no")
	}
	n := int(binary.LittleEndian.Uint16(rest[16:]))
	if len(rest) < 32+n {
		return "", fmt.Errorf("an answer that is cut")
	}
	return string(rest[32 : 32+n]), nil
}
