//go:build unix

// Package pgserver runs Debian's PostgreSQL for tests: on loopback, as a user of its own, ended by
// its id.
package pgserver

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// Server is a server that runs until its test ends.
type Server struct {
	Port int // on 127.0.0.1

	t    testing.TB
	bin  string
	dir  string
	as   *syscall.Credential
	cmd  *exec.Cmd
	said *bytes.Buffer // by the server, read once it is gone
	gone chan struct{} // the process has ended
}

// Start starts a server with the plain role "harbour", which owns the database "harbour".
func Start(t testing.TB) *Server {
	t.Helper()
	s := &Server{t: t, bin: binaries(t)}
	if os.Geteuid() == 0 { // PostgreSQL does not run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			u, err = user.Lookup("nobody")
		}
		require.NoError(t, err)
		uid, _ := strconv.ParseUint(u.Uid, 10, 32)
		gid, _ := strconv.ParseUint(u.Gid, 10, 32)
		s.as = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	dir, err := os.MkdirTemp("", "orenda-pg-")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	s.dir = filepath.Join(dir, "data")
	if s.as != nil {
		require.NoError(t, os.Chown(dir, int(s.as.Uid), int(s.as.Gid)))
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.Port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	out, err := s.command("initdb", "-D", s.dir, "-A", "trust", "-U", "keeper", "-E", "UTF8", "--no-locale", "-N").
		CombinedOutput()
	require.NoError(t, err, string(out))
	s.Run()
	t.Cleanup(s.Kill)
	s.Exec("postgres", "CREATE ROLE harbour LOGIN CREATEROLE", "CREATE DATABASE harbour OWNER harbour")
	return s
}

func binaries(t testing.TB) string {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		t.Skip("PostgreSQL is not installed here (Debian: postgresql)")
	}
	return filepath.Dir(found[len(found)-1])
}

func (s *Server) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(filepath.Join(s.bin, name), args...)
	cmd.Dir = filepath.Dir(s.dir)
	cmd.Env = []string{"PATH=/usr/bin:/bin", "LC_ALL=C", "TZ=UTC"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: s.as, Setpgid: true}
	return cmd
}

// Run starts it again, and waits until it answers. One that ends at once is started anew: what was
// killed may still hold its memory, or a caller its port.
func (s *Server) Run() {
	s.t.Helper()
	s.begin()
	answers := func() bool {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		c, err := pgx.Connect(ctx, s.address("keeper", "postgres"))
		if err == nil {
			_ = c.Close(ctx)
		}
		return err == nil
	}
	for end := time.Now().Add(30 * time.Second); !answers(); time.Sleep(20 * time.Millisecond) {
		select {
		case <-s.gone:
			require.True(s.t, time.Now().Before(end), "it ends at once: "+s.said.String())
			_ = os.Remove(filepath.Join(s.dir, "postmaster.pid"))
			s.begin()
		default:
			require.True(s.t, time.Now().Before(end), "it does not answer")
		}
	}
}

func (s *Server) begin() {
	s.t.Helper()
	s.cmd = s.command("postgres", "-D", s.dir, "-k", filepath.Dir(s.dir), "-h", "127.0.0.1", "-p", strconv.Itoa(s.Port),
		"-c", "fsync=off", "-c", "max_connections=60", "-c", "log_min_messages=fatal")
	s.said = &bytes.Buffer{}
	s.cmd.Stderr = s.said
	require.NoError(s.t, s.cmd.Start())
	s.gone = make(chan struct{})
	go func(cmd *exec.Cmd, gone chan struct{}) { _ = cmd.Wait(); close(gone) }(s.cmd, s.gone)
}

// Kill ends it at once, as a power cut does.
func (s *Server) Kill() {
	if s.cmd == nil {
		return
	}
	_ = syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
	<-s.gone
	s.cmd = nil
	_ = os.Remove(filepath.Join(s.dir, "postmaster.pid"))
}

func (s *Server) address(role, database string) string {
	return fmt.Sprintf("postgres://%s@127.0.0.1:%d/%s?sslmode=disable", role, s.Port, database)
}

// Journal is the address of a space, for the role that owns the database.
func (s *Server) Journal(space string) string { return s.JournalAs("harbour", space) }

// JournalAs is the address of a space, for a role.
func (s *Server) JournalAs(role, space string) string {
	return s.address(role, "harbour") + "&space=" + space
}

// Exec runs statements as the keeper of the server.
func (s *Server) Exec(database string, statements ...string) {
	s.t.Helper()
	c, err := pgx.Connect(context.Background(), s.address("keeper", database))
	require.NoError(s.t, err)
	defer func() { _ = c.Close(context.Background()) }()
	for _, text := range statements {
		_, err := c.Exec(context.Background(), text)
		require.NoError(s.t, err, text)
	}
}

// Column is the one column of a query, by a role, as text.
func (s *Server) Column(role, query string, args ...any) ([]string, error) {
	c, err := pgx.Connect(context.Background(), s.address(role, "harbour"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = c.Close(context.Background()) }()
	rows, err := c.Query(context.Background(), query, args...)
	if err != nil {
		return nil, err
	}
	out, err := pgx.CollectRows(rows, func(r pgx.CollectableRow) (string, error) {
		v, err := r.Values()
		if err != nil {
			return "", err
		}
		return strings.TrimSpace(fmt.Sprint(v[0])), nil
	})
	return out, err
}
