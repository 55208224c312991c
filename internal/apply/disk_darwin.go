package apply

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func exchange(a, b string) error {
	return known("exchange", a, b, unix.RenamexNp(a, b, unix.RENAME_SWAP))
}

func moveNew(from, to string) error {
	err := known("rename", from, to, unix.RenamexNp(from, to, unix.RENAME_EXCL))
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
