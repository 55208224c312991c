package testdb

import "syscall"

// endWithParent has the system end a server when the thread that started it
// ends.
func endWithParent(attr *syscall.SysProcAttr) { attr.Pdeathsig = syscall.SIGKILL }
