//go:build linux || darwin

package apply

import (
	"errors"
	"os"
	"path"

	"golang.org/x/sys/unix"
)

func (d system) Exchange(a, b string) error { return d.rename("exchange", a, b, exchange) }

func (d system) MoveNew(from, to string) error {
	err := d.rename("rename", from, to, renameNew)
	if errors.Is(err, errNoExchange) {
		return d.moveByLink(from, to)
	}
	return err
}

// rename calls the system with the open folders of both names, so that no link
// can lead it elsewhere.
func (d system) rename(op, from, to string, call func(fromFolder int, from string, toFolder int, to string) error) error {
	a, b := d.below(from), d.below(to)
	fromFolder, err := d.folder.OpenFile(path.Dir(a), os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer fromFolder.Close()
	toFolder, err := d.folder.OpenFile(path.Dir(b), os.O_RDONLY, 0)
	if err != nil {
		return err
	}
	defer toFolder.Close()
	return known(op, from, to, call(int(fromFolder.Fd()), path.Base(a), int(toFolder.Fd()), path.Base(b)))
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
