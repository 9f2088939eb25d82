package testserver

// This file runs a server as a process of the tests: started as another user where they
// run as root, gone with them, and killed as a failure of the machine would.

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// Server is a server of its own.
type Server struct {
	URL     string
	dir     string
	binary  string
	args    []string
	account *syscall.Credential
	answers func(ctx context.Context) error // whether it takes connections
	end     syscall.Signal                  // that asks it to end
	mu      sync.Mutex
	process *os.Process
	ended   chan struct{}
}

// serverAccount is the user of that name, as whom a server runs that refuses to be root;
// the folder becomes theirs. nil: as whom the tests run.
func serverAccount(name, dir string) (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, os.Chown(dir, uid, gid)
}

// memory is where files stand that need not outlive the machine.
const memory = "/dev/shm"

// newDir makes the folder of a server: in memory for tests, where there is room, since
// making and dropping databases is mostly waiting for files. What tests that were killed
// left there goes first.
func newDir(name string) (string, error) {
	root := ""
	var room syscall.Statfs_t
	if err := syscall.Statfs(memory, &room); testing.Testing() && err == nil && int64(room.Bavail)*room.Bsize > 4<<30 {
		root = memory
		old, _ := filepath.Glob(filepath.Join(memory, "erbario-*"))
		for _, dir := range old {
			of := strings.Split(filepath.Base(dir), "-")
			if pid, err := strconv.Atoi(of[len(of)-2]); err == nil && errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) {
				_ = os.RemoveAll(dir)
			}
		}
	}
	return os.MkdirTemp(root, fmt.Sprintf("erbario-%s-%d-", name, os.Getpid()))
}

// Start starts the server, again after Kill, and waits until it answers.
func (s *Server) Start() error {
	var err error
	for range 50 {
		// A process of the one that was killed may be about to notice.
		if err = s.start(); err == nil ||
			!strings.Contains(err.Error(), "still in use") && !strings.Contains(err.Error(), "lock file") {
			return err
		}
		_ = os.Truncate(filepath.Join(s.dir, "log"), 0)
		time.Sleep(50 * time.Millisecond)
	}
	return err
}

func (s *Server) start() error {
	failed := make(chan error, 1)
	ended := make(chan struct{})
	log, err := os.OpenFile(filepath.Join(s.dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	go func() {
		// The server goes when the thread goes that started it: it keeps this one.
		runtime.LockOSThread()
		defer close(ended)
		defer log.Close()
		c := exec.Command(s.binary, s.args...)
		c.Dir, c.Stdout, c.Stderr = s.dir, log, log
		c.SysProcAttr = &syscall.SysProcAttr{Credential: s.account, Setpgid: true, Pdeathsig: syscall.SIGKILL}
		if err := c.Start(); err != nil {
			failed <- err
			return
		}
		s.mu.Lock()
		s.process = c.Process
		s.mu.Unlock()
		failed <- nil
		_ = c.Wait()
	}()
	if err := <-failed; err != nil {
		return err
	}
	s.ended = ended
	deadline := time.Now().Add(30 * time.Second)
	for {
		ctx, stop := context.WithTimeout(context.Background(), time.Second)
		err := s.answers(ctx)
		stop()
		if err == nil {
			return nil
		}
		select {
		case <-ended:
			text, _ := os.ReadFile(filepath.Join(s.dir, "log"))
			return fmt.Errorf("the server ended at once:\n%s", text)
		case <-time.After(5 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the server does not answer: %w", err)
		}
	}
}

// Kill ends the server at once, as a failure of the machine would.
func (s *Server) Kill() {
	s.mu.Lock()
	pid := s.process.Pid
	// Its processes have groups of their own.
	children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	_ = syscall.Kill(pid, syscall.SIGSTOP)
	for _, word := range strings.Fields(string(children)) {
		if child, err := strconv.Atoi(word); err == nil {
			_ = syscall.Kill(child, syscall.SIGKILL)
		}
	}
	_ = syscall.Kill(pid, syscall.SIGKILL)
	s.mu.Unlock()
	<-s.ended
}

// Stop ends the server and removes what it had.
func (s *Server) Stop() {
	s.mu.Lock()
	if s.process != nil {
		_ = s.process.Signal(s.end)
	}
	s.mu.Unlock()
	select {
	case <-s.ended:
	case <-time.After(10 * time.Second):
		s.Kill()
	}
	_ = os.RemoveAll(s.dir)
}

// freePort is a port of this machine on which nobody listens.
func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// install installs a package of Debian's.
func install(name string) error {
	for _, args := range [][]string{{"update", "-qq"}, {"install", "-y", "-qq", name}} {
		c := exec.Command("apt-get", args...)
		c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		if out, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("apt-get %s: %w\n%s", strings.Join(args, " "), err, out)
		}
	}
	return nil
}
