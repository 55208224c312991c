package apply

import "golang.org/x/sys/unix"

func exchange(a, b string) error {
	return known("exchange", a, b, unix.RenamexNp(a, b, unix.RENAME_SWAP))
}

func renameNew(from, to string) error { return unix.RenamexNp(from, to, unix.RENAME_EXCL) }
