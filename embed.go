// Package widegate carries the sources of the runtime, which `widegate write`
// copies into projects, and the versions of the drivers that they are tested
// with.
package widegate

import "embed"

// Sources has the runtime below gate/, and this module's go.mod.
//
//go:embed gate go.mod
var Sources embed.FS
