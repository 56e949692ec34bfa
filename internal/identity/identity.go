// Package identity keeps who the person is towards services. Identities live
// in the user's configuration folder, never in a workspace, and hold no secret:
// each says where its secret comes from.
package identity

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"
)

// Identity is a user name and the source of its secret.
type Identity struct {
	Name   string `toml:"-"`
	User   string `toml:"user"`
	Secret string `toml:"secret"` // env:VAR, file:PATH or command:CMD
	Note   string `toml:"note,omitempty"`

	Certificate string `toml:"certificate,omitempty"` // file with a client certificate; its secret opens the key
	Key         string `toml:"key,omitempty"`         // file with the key, where it is in another
}

// UnavailableError is a secret that cannot be read.
type UnavailableError struct {
	Identity string
	Source   string // the source, without the secret
	Why      string
}

func (e *UnavailableError) Error() string {
	return fmt.Sprintf("the secret of %s cannot be read from %s: %s", e.Identity, e.Source, e.Why)
}

// commandTime bounds a command that prints a secret.
const commandTime = 20 * time.Second

// Reveal reads the secret from its source. Line ends at its end are dropped,
// as editors and commands add them.
func (id *Identity) Reveal(ctx context.Context) (string, error) {
	fail := func(why string) (string, error) { return "", &UnavailableError{id.Name, id.Secret, why} }
	kind, rest, ok := strings.Cut(id.Secret, ":")
	if !ok {
		return fail("its source must be env:VAR, file:PATH or command:CMD")
	}
	switch kind {
	case "env":
		v, ok := os.LookupEnv(rest)
		if !ok {
			return fail("the environment variable is not set")
		}
		return v, nil
	case "file":
		b, err := os.ReadFile(rest)
		if err != nil {
			var pe *os.PathError
			if errors.As(err, &pe) {
				return fail(pe.Err.Error())
			}
			return fail(err.Error())
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	case "command":
		ctx, cancel := context.WithTimeout(ctx, commandTime)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", rest)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
		cmd.WaitDelay = time.Second
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Run(); err != nil {
			return fail(err.Error())
		}
		return strings.TrimRight(out.String(), "\r\n"), nil
	}
	return fail("its source must be env:VAR, file:PATH or command:CMD")
}
