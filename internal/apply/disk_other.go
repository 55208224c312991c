//go:build !linux && !darwin

package apply

func exchange(string, string) error { return errNoExchange }

func moveNew(from, to string) error { return moveByLink(from, to) }
