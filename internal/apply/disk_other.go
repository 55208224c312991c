//go:build !linux && !darwin

package apply

func (d system) Exchange(string, string) error { return errNoExchange }

func (d system) MoveNew(from, to string) error { return d.moveByLink(from, to) }
