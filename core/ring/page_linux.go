package ring

import (
	"errors"
	"fmt"

	"golang.org/x/sys/unix"
)

// newPage is memory that is kept out of swap, where the system lets us, and out of
// core files. held tells whether it is kept out of swap.
func newPage(size int) (page []byte, locked bool, err error) {
	if page, err = unix.Mmap(-1, 0, size, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_ANON|unix.MAP_PRIVATE); err != nil {
		return nil, false, err
	}
	unix.Madvise(page, unix.MADV_DONTDUMP)
	return page, unix.Mlock(page) == nil, nil
}

func freePage(page []byte) {
	unix.Munlock(page)
	unix.Munmap(page)
}

// Harden has the system write no core file of this program, and let no other program of
// this account read its memory (prctl(2), PR_SET_DUMPABLE); the superuser still can. It is
// called once, at the start. Where the system does not let us, the error says what.
func Harden() error {
	err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	if err != nil {
		err = fmt.Errorf("core files cannot be forbidden: %w", err)
	}
	if perr := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); perr != nil {
		err = errors.Join(err, fmt.Errorf("other programs of this account can read the keys in memory: %w", perr))
	}
	return err
}
