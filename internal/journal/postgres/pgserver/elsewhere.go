//go:build !unix

package pgserver

import "testing"

// Server is a server that runs until its test ends; none is started here.
type Server struct {
	Port int // on 127.0.0.1
}

// Start skips the test: PostgreSQL is run for tests on Unix only.
func Start(t testing.TB) *Server {
	t.Helper()
	t.Skip("PostgreSQL is run for tests on Unix only")
	return nil
}

// Run does nothing here.
func (*Server) Run() {}

// Kill does nothing here.
func (*Server) Kill() {}

// Journal is the address of a space.
func (*Server) Journal(string) string { return "" }

// JournalAs is the address of a space, for a role.
func (*Server) JournalAs(string, string) string { return "" }

// Exec does nothing here.
func (*Server) Exec(string, ...string) {}

// Column gives nothing here.
func (*Server) Column(string, string, ...any) ([]string, error) { return nil, nil }
