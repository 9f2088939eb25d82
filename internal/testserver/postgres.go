// Package testserver gives tests a real database server: the one that the
// environment names, else one of their own, started from the installed binaries in
// a temporary folder and gone when the tests are over. Tests never go without: where
// no server can be had, they fail with what to do.
package testserver

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

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
		t.Fatalf(
			"no PostgreSQL server for the tests: %v\nset %s to the URL of one whose user may create databases, or install Debian's postgresql",
			postgresErr, PostgresVariable)
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
	if err := install("postgresql"); err != nil {
		return "", err
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
	return startPostgres(settings, "initdb", "-U", "postgres", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8",
		"--no-sync")
}

// StartStandby starts a server that repeats what another does, and only reads.
func StartStandby(of *Server) (*Server, error) {
	return startPostgres(nil, "pg_basebackup", "-d", of.URL, "-R", "--checkpoint=fast", "--no-sync")
}

// startPostgres starts a server in the folder that a program of PostgreSQL's fills.
func startPostgres(settings []string, fill string, args ...string) (*Server, error) {
	binaries, err := binaryFolder()
	if err != nil {
		return nil, err
	}
	s := &Server{binary: filepath.Join(binaries, "postgres"), end: syscall.SIGINT}
	s.answers = func(ctx context.Context) error {
		c, err := pgx.Connect(ctx, s.URL)
		if err == nil {
			err = c.Close(context.Background())
		}
		return err
	}
	if s.dir, err = newDir("postgres"); err != nil {
		return nil, err
	}
	if s.account, err = serverAccount("postgres", s.dir); err != nil {
		return nil, err
	}
	c := exec.Command(filepath.Join(binaries, fill), append([]string{"-D", filepath.Join(s.dir, "data")}, args...)...)
	c.Dir, c.SysProcAttr = s.dir, &syscall.SysProcAttr{Credential: s.account}
	if out, err := c.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%s: %w\n%s", fill, err, out)
	}
	port, err := freePort()
	if err != nil {
		return nil, err
	}
	s.URL = fmt.Sprintf("postgres://postgres@127.0.0.1:%d/postgres?sslmode=disable", port)
	s.args = append(
		[]string{
			"-D",
			filepath.Join(s.dir, "data"),
			"-p",
			strconv.Itoa(port),
			"-k",
			s.dir,
			"-c",
			"listen_addresses=127.0.0.1",
			"-c",
			"max_connections=200",
		},
		settings...)
	return s, s.Start()
}
