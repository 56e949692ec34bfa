//go:build !unix

package identity

import (
	"context"
	"os/exec"
)

// shell runs a command, which ends with ctx; what it started itself does not.
func shell(ctx context.Context, command string) *exec.Cmd {
	return exec.CommandContext(ctx, "cmd", "/C", command)
}
