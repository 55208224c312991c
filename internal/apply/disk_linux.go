package apply

import "golang.org/x/sys/unix"

func exchange(fromFolder int, from string, toFolder int, to string) error {
	return unix.Renameat2(fromFolder, from, toFolder, to, unix.RENAME_EXCHANGE)
}

func renameNew(fromFolder int, from string, toFolder int, to string) error {
	return unix.Renameat2(fromFolder, from, toFolder, to, unix.RENAME_NOREPLACE)
}
