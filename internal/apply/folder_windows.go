package apply

import (
	"path/filepath"
	"strings"
)

// SyncFolder does nothing: the system keeps names in a journal of its own.
func (system) SyncFolder(string) error { return nil }

func (system) SameDevice(a, b string) bool {
	return strings.EqualFold(filepath.VolumeName(a), filepath.VolumeName(b))
}
