//go:build !windows

package editor

import (
	"os"
	"syscall"
)

// signalled reports whether a process can be sent a signal: it runs then.
func signalled(p *os.Process) bool { return p.Signal(syscall.Signal(0)) == nil }
