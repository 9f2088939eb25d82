// Package testserver gives tests a real database server: the one that the
// environment names, else one of their own, started from the installed binaries in
// a temporary folder and gone when the tests are over. Tests never go without: where
// no server can be had, they fail with what to do.
package testserver

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

// PostgresVariable names the URL of a server for tests, whose user may create
// databases.
const PostgresVariable = "ERBARIO_TEST_POSTGRES"

var (
	postgresOnce sync.Once
	postgresURL  string
	postgresErr  error
	stops        []func()
	databases    atomic.Int64
)

// Stop stops the servers that were started.
func Stop() {
	for _, f := range stops {
		f()
	}
	stops = nil
}

// Postgres is the URL of a new empty database, dropped when the test is over.
func Postgres(t testing.TB) string {
	t.Helper()
	base := PostgresServer(t)
	name := fmt.Sprintf("erbario_test_%d_%d", os.Getpid(), databases.Add(1))
	admin(t, base, "CREATE DATABASE "+name)
	t.Cleanup(func() { admin(t, base, "DROP DATABASE IF EXISTS "+name+" WITH (FORCE)") })
	return In(base, name)
}

// In is the URL of a database of a server.
func In(base, database string) string {
	u, err := url.Parse(base)
	if err != nil {
		panic(err)
	}
	u.Path = "/" + database
	return u.String()
}

// PostgresServer is the URL of a server.
func PostgresServer(t testing.TB) string {
	t.Helper()
	postgresOnce.Do(func() {
		if postgresURL = os.Getenv(PostgresVariable); postgresURL == "" {
			var s *Server
			if s, postgresErr = StartPostgres("-c", "fsync=off", "-c", "full_page_writes=off"); postgresErr == nil {
				postgresURL = s.URL
				stops = append(stops, s.Stop)
			}
		}
	})
	if postgresErr != nil {
		t.Fatalf("no PostgreSQL server for the tests: %v\nset %s to the URL of one whose user may create databases, or install Debian's postgresql", postgresErr, PostgresVariable)
	}
	return postgresURL
}

// admin runs a statement on the server.
func admin(t testing.TB, base, sql string) {
	t.Helper()
	ctx := context.Background()
	c, err := pgx.Connect(ctx, base)
	if err != nil {
		t.Fatalf("the server for the tests: %v", err)
	}
	defer c.Close(ctx)
	if _, err := c.Exec(ctx, sql); err != nil {
		t.Fatalf("the server for the tests: %v", err)
	}
}

// Server is a server of its own.
type Server struct {
	URL     string
	dir     string
	binary  string
	args    []string
	account *syscall.Credential
	mu      sync.Mutex
	process *os.Process
	ended   chan struct{}
}

// binaryFolder is where PostgreSQL's programs are, installed first if need be.
func binaryFolder() (string, error) {
	find := func() string {
		if path, err := exec.LookPath("initdb"); err == nil {
			if path, err = filepath.EvalSymlinks(path); err == nil {
				return filepath.Dir(path)
			}
		}
		list, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
		slices.SortFunc(list, func(a, b string) int { return version(b) - version(a) })
		if len(list) > 0 {
			return filepath.Dir(list[0])
		}
		return ""
	}
	if dir := find(); dir != "" {
		return dir, nil
	}
	if os.Getuid() != 0 {
		return "", errors.New("initdb is not there")
	}
	for _, args := range [][]string{{"update", "-qq"}, {"install", "-y", "-qq", "postgresql"}} {
		c := exec.Command("apt-get", args...)
		c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		if out, err := c.CombinedOutput(); err != nil {
			return "", fmt.Errorf("apt-get %s: %w\n%s", strings.Join(args, " "), err, out)
		}
	}
	if dir := find(); dir != "" {
		return dir, nil
	}
	return "", errors.New("initdb is not there, though postgresql was installed")
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

// StartPostgres starts a server of its own, with settings added.
func StartPostgres(settings ...string) (*Server, error) {
	binaries, err := binaryFolder()
	if err != nil {
		return nil, err
	}
	s := &Server{binary: filepath.Join(binaries, "postgres")}
	if s.dir, err = os.MkdirTemp("", "erbario-postgres-"); err != nil {
		return nil, err
	}
	if s.account, err = serverAccount(s.dir); err != nil {
		return nil, err
	}
	c := exec.Command(filepath.Join(binaries, "initdb"), "-D", filepath.Join(s.dir, "data"), "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	c.Dir, c.SysProcAttr = s.dir, &syscall.SysProcAttr{Credential: s.account}
	if out, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("initdb: %w\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	s.URL = fmt.Sprintf("postgres://postgres@127.0.0.1:%d/postgres?sslmode=disable", port)
	s.args = append([]string{"-D", filepath.Join(s.dir, "data"), "-p", strconv.Itoa(port), "-k", s.dir, "-c", "listen_addresses=127.0.0.1", "-c", "max_connections=200"}, settings...)
	return s, s.Start()
}

// serverAccount is the user as whom a server runs, which refuses to be root; the folder
// becomes theirs. nil: as whom the tests run.
func serverAccount(dir string) (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, err
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, os.Chown(dir, uid, gid)
}

// Start starts the server, again after Kill, and waits until it answers.
func (s *Server) Start() error {
	var err error
	for range 50 {
		// A process of the one that was killed may be about to notice.
		if err = s.start(); err == nil || !strings.Contains(err.Error(), "still in use") && !strings.Contains(err.Error(), "lock file") {
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
		c, err := pgx.Connect(ctx, s.URL)
		stop()
		if err == nil {
			return c.Close(context.Background())
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
		_ = s.process.Signal(syscall.SIGINT)
	}
	s.mu.Unlock()
	select {
	case <-s.ended:
	case <-time.After(10 * time.Second):
		s.Kill()
	}
	_ = os.RemoveAll(s.dir)
}
