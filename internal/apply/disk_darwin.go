package apply

import "golang.org/x/sys/unix"

func exchange(fromFolder int, from string, toFolder int, to string) error {
	return unix.RenameatxNp(fromFolder, from, toFolder, to, unix.RENAME_SWAP)
}

func renameNew(fromFolder int, from string, toFolder int, to string) error {
	return unix.RenameatxNp(fromFolder, from, toFolder, to, unix.RENAME_EXCL)
}
