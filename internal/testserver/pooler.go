package testserver

// This file puts a connection pooler in transaction mode before the server for tests.

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
)

var (
	poolerOnce sync.Once
	poolerPort int
	poolerErr  error
)

// Pooler is a URL by which the same database is reached through a pooler that gives
// each transaction whatever session of the server is free.
func Pooler(t testing.TB, rawURL string) string {
	t.Helper()
	server := PostgresServer(t)
	poolerOnce.Do(func() { poolerErr = startPooler(server) })
	if poolerErr != nil {
		t.Fatalf("no connection pooler for the tests: %v\ninstall Debian's pgbouncer", poolerErr)
	}
	u, err := url.Parse(rawURL)
	if err != nil {
		t.Fatal(err)
	}
	u.Host = fmt.Sprintf("127.0.0.1:%d", poolerPort)
	return u.String()
}

func startPooler(server string) error {
	binary, err := exec.LookPath("pgbouncer")
	if err != nil {
		binary = "/usr/sbin/pgbouncer"
	}
	if _, err := os.Stat(binary); err != nil {
		if os.Getuid() != 0 {
			return err
		}
		for _, args := range [][]string{{"update", "-qq"}, {"install", "-y", "-qq", "pgbouncer"}} {
			c := exec.Command("apt-get", args...)
			c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
			if out, err := c.CombinedOutput(); err != nil {
				return fmt.Errorf("apt-get: %w\n%s", err, out)
			}
		}
	}
	u, err := url.Parse(server)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	poolerPort = l.Addr().(*net.TCPAddr).Port
	l.Close()
	dir, err := os.MkdirTemp("", "erbario-pooler-")
	if err != nil {
		return err
	}
	account, err := serverAccount("postgres", dir)
	if err != nil {
		return err
	}
	settings := fmt.Sprintf(
		"[databases]\n* = host=%s port=%s\n[pgbouncer]\nlisten_addr = 127.0.0.1\nlisten_port = %d\nunix_socket_dir =\nauth_type = trust\nauth_file = %s/users\npool_mode = transaction\ndefault_pool_size = 3\nserver_idle_timeout = 1\nlogfile = %s/log\n",
		u.Hostname(), u.Port(), poolerPort, dir, dir)
	if err := os.WriteFile(filepath.Join(dir, "settings.ini"), []byte(settings), 0o644); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "users"), fmt.Appendf(nil, "%q \"\"\n", u.User.Username()), 0o644); err != nil {
		return err
	}
	failed, ended := make(chan error, 1), make(chan struct{})
	var process *os.Process
	go func() {
		runtime.LockOSThread()
		defer close(ended)
		c := exec.Command(binary, filepath.Join(dir, "settings.ini"))
		c.Dir = dir
		c.SysProcAttr = &syscall.SysProcAttr{Credential: account, Setpgid: true, Pdeathsig: syscall.SIGKILL}
		err := c.Start()
		process = c.Process
		failed <- err
		if err == nil {
			_ = c.Wait()
		}
	}()
	if err := <-failed; err != nil {
		return err
	}
	stops = append([]func(){func() {
		_ = process.Signal(syscall.SIGTERM)
		<-ended
		_ = os.RemoveAll(dir)
	}}, stops...)
	u.Host = net.JoinHostPort("127.0.0.1", strconv.Itoa(poolerPort))
	for range 500 {
		c, err := pgx.Connect(context.Background(), u.String())
		if err == nil {
			return c.Close(context.Background())
		}
		select {
		case <-ended:
			text, _ := os.ReadFile(filepath.Join(dir, "log"))
			return fmt.Errorf("the pooler ended at once:\n%s", text)
		case <-time.After(10 * time.Millisecond):
		}
	}
	return fmt.Errorf("the pooler does not answer")
}
