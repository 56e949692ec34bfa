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
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends at once
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	hangups := make(chan os.Signal, 1)
	signal.Notify(hangups, syscall.SIGHUP)
	again := &cli.Again{}
	go func() { // a service reads its file again; everything else ends
		for range hangups {
			if !again.Ask() {
				cancel()
			}
		}
	}()
	code := cli.Run(cli.WithAgain(ctx, again), os.Args[1:], os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
