//go:build unix

// Package postgrestest gives tests databases of a real PostgreSQL server, which it starts in a temporary folder.
package postgrestest

import (
	"bytes"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// Server is a running server. Its superuser is "owner", whose password is Password.
type Server struct {
	Port int
	dir  string
	bin  string
	as   *syscall.Credential // nil when the tests do not run as root, who may not start a server
	made int
	mu   sync.Mutex
}

// Password is that of the superuser.
const Password = "tarn-4711"

var (
	once   sync.Once
	shared *Server
	failed error
)

// Main runs the tests of a package and stops the server afterwards.
func Main(run func() int) int {
	defer Stop()
	return run()
}

// Stop stops the server of this process, if there is one.
func Stop() {
	if shared != nil {
		shared.Control("stop", "-m", "immediate")
		os.RemoveAll(shared.dir)
	}
}

// Database makes a new database and gives its address.
func Database(t testing.TB) string {
	t.Helper()
	s := Shared(t)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.made++
	name := fmt.Sprintf("book%d", s.made)
	if out, err := s.SQL("postgres", "CREATE DATABASE "+name); err != nil {
		t.Fatalf("making a database: %v: %s", err, out)
	}
	return s.Address(name)
}

// Address is that of a database.
func (s *Server) Address(database string) string {
	return fmt.Sprintf("postgres://owner:%s@127.0.0.1:%d/%s", Password, s.Port, database)
}

// Shared is the server of this process.
func Shared(t testing.TB) *Server {
	t.Helper()
	once.Do(func() { shared, failed = start() })
	if failed != nil {
		t.Fatalf("PostgreSQL cannot be started: %v: run .ci/tools, which installs it", failed)
	}
	return shared
}

// SQL runs a statement with the server's own client.
func (s *Server) SQL(database, statement string) (string, error) {
	out, err := s.command("psql", "-X", "-q", "-At", "-v", "ON_ERROR_STOP=1", "-c", statement, s.Address(database)).CombinedOutput()
	return string(out), err
}

// Control starts or stops the server.
func (s *Server) Control(args ...string) {
	_ = s.command("pg_ctl", append([]string{"-D", filepath.Join(s.dir, "data"), "-s", "-w"}, args...)...).Run()
}

// Start starts the server again.
func (s *Server) Start() error {
	out, err := s.command("pg_ctl", "-D", filepath.Join(s.dir, "data"), "-s", "-w", "-l", filepath.Join(s.dir, "log"),
		"-o", fmt.Sprintf("-p %d -k %s -c listen_addresses=127.0.0.1 -c max_connections=60 -c shared_buffers=64MB", s.Port, s.dir), "start").CombinedOutput()
	if err != nil {
		return fmt.Errorf("%w: %s", err, out)
	}
	return nil
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	c := exec.Command(filepath.Join(s.bin, name), args...)
	c.Dir = s.dir
	c.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Setpgid: true}
	return c
}

func start() (*Server, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	s := &Server{}
	switch {
	case err == nil && len(found) > 0:
		s.bin = filepath.Dir(found[len(found)-1])
	default:
		path, err := exec.LookPath("initdb")
		if err != nil {
			return nil, err
		}
		s.bin = filepath.Dir(path)
	}
	if s.dir, err = os.MkdirTemp("", "verdex-postgres"); err != nil {
		return nil, err
	}
	if os.Getuid() == 0 {
		u, err := user.Lookup("postgres")
		if err != nil {
			return nil, err
		}
		uid, err1 := strconv.Atoi(u.Uid)
		gid, err2 := strconv.Atoi(u.Gid)
		if err1 != nil || err2 != nil {
			return nil, fmt.Errorf("user postgres has no numbers: %v %v", err1, err2)
		}
		s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
		if err := os.Chown(s.dir, uid, gid); err != nil {
			return nil, err
		}
	}
	word := filepath.Join(s.dir, "word")
	if err := os.WriteFile(word, []byte(Password), 0o644); err != nil {
		return nil, err
	}
	out, err := s.command("initdb", "-D", filepath.Join(s.dir, "data"), "-U", "owner", "--pwfile", word, "-A", "scram-sha-256", "-E", "UTF8", "--locale=C", "-N").CombinedOutput()
	if err != nil {
		return nil, fmt.Errorf("initdb: %w: %s", err, bytes.TrimSpace(out))
	}
	for range 5 {
		if s.Port, err = freePort(); err != nil {
			return nil, err
		}
		if err = s.Start(); err == nil || !strings.Contains(err.Error(), "could not") {
			break
		}
		time.Sleep(100 * time.Millisecond)
	}
	return s, err
}

func freePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
