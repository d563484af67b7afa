package lab

import (
	"errors"
	"io"
	"sync"
	"time"
)

// FileFaults are what is wrong with a host's files at the moment. The zero value is a host in good
// health.
type FileFaults struct {
	mu        sync.Mutex
	quota     int64         // bytes that all files may have, 0 for any number
	ahead     time.Duration // of the host's clock
	lies      bool          // about sizes
	forget    bool          // what is written is acknowledged, and not written
	cutAfter  int64         // bytes of a channel, 0 for none
	endless   bool          // a folder's listing
	noShell   bool
	noChannel bool
	crowds    bool // several file-transfer channels at once are too many
	open      int  // file-transfer channels
	mute      bool // they have been too many, and none is answered
	silent    bool // none is answered
}

func (f *FileFaults) set(change func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	change()
}

// Quota has all files together have at most so many bytes, 0 for any number.
func (f *FileFaults) Quota(bytes int64) { f.set(func() { f.quota = bytes }) }

// Clock has the host's clock be ahead by so much.
func (f *FileFaults) Clock(ahead time.Duration) { f.set(func() { f.ahead = ahead }) }

// Lie has the host tell sizes that are not so.
func (f *FileFaults) Lie(on bool) { f.set(func() { f.lies = on }) }

// Forget has what is written be acknowledged, and null bytes be kept in its place.
func (f *FileFaults) Forget(on bool) { f.set(func() { f.forget = on }) }

// CutAfter has each file-transfer channel end after so many bytes that it was sent.
func (f *FileFaults) CutAfter(bytes int64) { f.set(func() { f.cutAfter = bytes }) }

// Endless has every folder list one name for ever.
func (f *FileFaults) Endless(on bool) { f.set(func() { f.endless = on }) }

// Crowd has every file-transfer channel fall silent once there are two, until all are closed.
func (f *FileFaults) Crowd(on bool) { f.set(func() { f.crowds = on }) }

// Silent has no file-transfer channel be answered any more, though the line is up.
func (f *FileFaults) Silent(on bool) { f.set(func() { f.silent = on }) }

func (f *FileFaults) neverEnds() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.endless
}

// ShellOnly has the host have no file-transfer channel, FilesOnly have it run no commands of files.
func (f *FileFaults) ShellOnly(on bool) { f.set(func() { f.noChannel = on }) }

// FilesOnly has the host run no commands for files.
func (f *FileFaults) FilesOnly(on bool) { f.set(func() { f.noShell = on }) }

// Heal ends every fault.
func (f *FileFaults) Heal() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.quota, f.ahead, f.lies, f.forget, f.cutAfter, f.noShell, f.noChannel, f.endless, f.crowds, f.silent = 0, 0, false, false, 0, false, false, false, false, false
}

func (f *FileFaults) shellOnly() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.noChannel
}

func (f *FileFaults) filesOnly() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.noShell
}

func (f *FileFaults) forgets() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.forget
}

// now is the host's clock.
func (f *FileFaults) now() time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	return time.Now().Add(f.ahead)
}

// size is a file's size as the host tells it.
func (f *FileFaults) size(real int64) int64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.lies {
		return real*2 + 7
	}
	return real
}

// over is a channel that ends after as many bytes as it is to end after.
func (f *FileFaults) over(stream io.ReadWriteCloser) io.ReadWriteCloser {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.open++
	f.mute = f.mute || f.crowds && f.open > 1
	stream = crowdStream{stream, f}
	if f.cutAfter == 0 {
		return stream
	}
	return &cutStream{stream, f.cutAfter}
}

// left says that a file-transfer channel has ended.
func (f *FileFaults) left() {
	f.set(func() {
		f.open--
		f.mute = f.mute && f.open > 0
	})
}

// crowdStream is a channel whose answers get lost while the host is mute.
type crowdStream struct {
	io.ReadWriteCloser
	faults *FileFaults
}

func (c crowdStream) Write(p []byte) (int, error) {
	c.faults.mu.Lock()
	mute := c.faults.mute || c.faults.silent
	c.faults.mu.Unlock()
	if mute {
		return len(p), nil
	}
	return c.ReadWriteCloser.Write(p)
}

// cutStream is a channel that ends after so many bytes.
type cutStream struct {
	io.ReadWriteCloser
	left int64
}

func (c *cutStream) Read(p []byte) (int, error) {
	if c.left <= 0 {
		c.Close()
		return 0, io.ErrUnexpectedEOF
	}
	n, err := c.ReadWriteCloser.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	return n, err
}

// space is how many bytes a host has room for, where it has no quota.
const space = 40 << 30

var errQuota = errors.New("quota exceeded")

// room is how many bytes may still be written.
func (t transfer) room() int64 {
	t.faults.mu.Lock()
	quota := t.faults.quota
	t.faults.mu.Unlock()
	if quota == 0 {
		quota = space
	}
	t.tree.mu.Lock()
	defer t.tree.mu.Unlock()
	return quota - t.used
}

// full tells whether so many bytes more have no room.
func (t transfer) full(more int64) bool { return t.room() < more }
