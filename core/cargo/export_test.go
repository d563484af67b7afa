package cargo

import "io"

// Window has plans carried out so many items at a time, until restore is called.
func Window(items int) (restore func()) {
	was := windowItems
	windowItems = items
	return func() { windowItems = was }
}

// LogTo has a record write its lines to something else.
func (r *Record) LogTo(log interface {
	io.WriteCloser
	Sync() error
}) {
	r.log.Close()
	r.log = log
}

// Die leaves an edit as a program does that is killed.
func (e *Edit) Die() { e.lock.Close() }
