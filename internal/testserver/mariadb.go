package testserver

// This file gives tests a MariaDB server, found or started like PostgreSQL's.

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/go-sql-driver/mysql"
)

// MariaDBVariable names the URL of a server for tests, whose user may create
// databases.
const MariaDBVariable = "ERBARIO_TEST_MARIADB"

var (
	mariadbOnce sync.Once
	mariadbURL  string
	mariadbErr  error
)

// MariaDB is the URL of a new empty database, dropped when the test is over.
func MariaDB(t testing.TB) string {
	t.Helper()
	base := MariaDBServer(t)
	name := fmt.Sprintf("erbario_test_%d_%d", os.Getpid(), databases.Add(1))
	mariadbAdmin(t, base, "CREATE DATABASE "+name)
	t.Cleanup(func() { mariadbAdmin(t, base, "DROP DATABASE IF EXISTS "+name) })
	return In(base, name)
}

// MariaDBServer is the URL of a server.
func MariaDBServer(t testing.TB) string {
	t.Helper()
	mariadbOnce.Do(func() {
		if mariadbURL = os.Getenv(MariaDBVariable); mariadbURL == "" {
			var s *Server
			if s, mariadbErr = StartMariaDB("--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--innodb-flush-method=nosync", "--innodb-stats-persistent=0"); mariadbErr == nil {
				mariadbURL = s.URL
				stops = append(stops, s.Stop)
			}
		}
	})
	if mariadbErr != nil {
		t.Fatalf(
			"no MariaDB server for the tests: %v\nset %s to the URL of one whose user may create databases, or install Debian's mariadb-server",
			mariadbErr, MariaDBVariable)
	}
	return mariadbURL
}

// dsn is a URL in the words of the driver.
func dsn(raw string) (string, error) {
	u, err := url.Parse(raw)
	if err != nil {
		return "", err
	}
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName = u.User.Username(), "tcp", u.Host, strings.TrimPrefix(u.Path, "/")
	c.Passwd, _ = u.User.Password()
	return c.FormatDSN(), nil
}

// mariadbAdmin runs a statement on the server.
func mariadbAdmin(t testing.TB, base, statement string) {
	t.Helper()
	if err := mariadbRun(context.Background(), base, statement); err != nil {
		t.Fatalf("the server for the tests: %v", err)
	}
}

func mariadbRun(ctx context.Context, base, statement string) error {
	name, err := dsn(base)
	if err != nil {
		return err
	}
	db, err := sql.Open("mysql", name)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, statement)
	return err
}

// mariadbBinary is MariaDB's server, installed first if need be.
func mariadbBinary() (string, error) {
	find := func() string {
		for _, name := range []string{"mariadbd", "/usr/sbin/mariadbd"} { // which is on nobody's path but root's
			if path, err := exec.LookPath(name); err == nil {
				return path
			}
		}
		return ""
	}
	if path := find(); path != "" {
		return path, nil
	}
	if os.Getuid() != 0 {
		return "", errors.New("mariadbd is not there")
	}
	if err := install("mariadb-server"); err != nil {
		return "", err
	}
	if path := find(); path != "" {
		return path, nil
	}
	return "", errors.New("mariadbd is not there, though mariadb-server was installed")
}

// StartMariaDB starts a server of its own, with settings added.
func StartMariaDB(settings ...string) (*Server, error) {
	binary, err := mariadbBinary()
	if err != nil {
		return nil, err
	}
	s := &Server{binary: binary, end: syscall.SIGTERM}
	if s.dir, err = newDir("mariadb"); err != nil {
		return nil, err
	}
	tmp, data := filepath.Join(s.dir, "tmp"), filepath.Join(s.dir, "data")
	if err := os.Mkdir(tmp, 0o700); err != nil {
		return nil, err
	}
	if _, err := serverAccount("mysql", tmp); err != nil {
		return nil, err
	}
	if s.account, err = serverAccount("mysql", s.dir); err != nil {
		return nil, err
	}
	args := []string{
		"--no-defaults",
		"--datadir=" + data,
		"--auth-root-authentication-method=normal",
		"--skip-test-db",
		"--skip-name-resolve",
	}
	if s.account != nil {
		args = append(args, "--user=mysql")
	}
	c := exec.Command("mariadb-install-db", args...)
	c.Dir = s.dir
	if out, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s.URL = fmt.Sprintf("mariadb://root@127.0.0.1:%d/mysql", port)
	s.args = append(
		[]string{
			"--no-defaults",
			"--datadir=" + data,
			"--tmpdir=" + tmp,
			"--socket=" + filepath.Join(s.dir, "my.sock"),
			"--pid-file=" + filepath.Join(s.dir, "my.pid"),
			"--port=" + strconv.Itoa(port),
			"--bind-address=127.0.0.1",
			"--skip-log-bin",
			"--local-infile=1",
			"--character-set-server=utf8mb4",
			"--performance-schema=0",
			"--max-connections=200",
		},
		settings...)
	s.answers = func(ctx context.Context) error { return mariadbRun(ctx, s.URL, "SELECT 1") }
	return s, s.Start()
}
