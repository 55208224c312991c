package apply

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func exchange(a, b string) error {
	err := unix.Renameat2(unix.AT_FDCWD, a, unix.AT_FDCWD, b, unix.RENAME_EXCHANGE)
	return known("exchange", a, b, err)
}

func moveNew(from, to string) error {
	err := known("rename", from, to, unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE))
	if errors.Is(err, errNoExchange) {
		return moveByLink(from, to)
	}
	return err
}

// known tells a file system without the call from a failure.
func known(op, from, to string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, unix.ENOSYS), errors.Is(err, unix.EINVAL), errors.Is(err, unix.ENOTSUP):
		return errNoExchange
	}
	return &os.LinkError{Op: op, Old: from, New: to, Err: err}
}
