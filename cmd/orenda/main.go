// Orenda finds why a SOAP call fails, and shows the bytes that prove it.
package main

import (
	"context"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"syscall"

	"orenda/internal/cli"
)

// untilFirst lets the heap grow to 32 MiB before it is looked through for the first time, and is
// as usual from then on: most commands have ended before. `describe` of 3,000 types runs without a
// collection.
func untilFirst() {
	const before = 800 // of 4 MiB, in per cent
	usual := debug.SetGCPercent(before)
	runtime.AddCleanup(new([16]byte), func(int) {
		if now := debug.SetGCPercent(usual); now != before { // a command has set it meanwhile
			debug.SetGCPercent(now)
		}
	}, 0)
}

func main() {
	untilFirst()
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
