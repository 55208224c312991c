//go:build unix && !linux

package testdb

import "syscall"

// endWithParent does nothing where the system cannot: servers of tests that
// are killed go on.
func endWithParent(*syscall.SysProcAttr) {}
