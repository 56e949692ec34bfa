// Orenda finds why a SOAP call fails, and shows the bytes that prove it.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"orenda/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends at once
	code := cli.Run(ctx, os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
