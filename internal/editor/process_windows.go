package editor

import "os"

// signalled reports whether a process was found: on Windows only one that runs is.
func signalled(*os.Process) bool { return true }
