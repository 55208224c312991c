//go:build linux || darwin

package apply

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

func moveNew(from, to string) error {
	err := known("rename", from, to, renameNew(from, to))
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
