package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"

	"orenda/internal/contract"
	"orenda/internal/service"
	"orenda/internal/spans"
	"orenda/internal/workspace"
)

// serveRelays runs the relays of a file until the command is told to end.
func (t *commandLine) serveRelays(ctx context.Context, file string, w *workspace.Workspace) error {
	head, _, err := workspace.ReadService(file)
	if err != nil {
		return unread{err}
	}
	h, err := t.home()
	if err != nil {
		return err
	}
	if t.noSpans = true; t.journalAt == "" { // a flag is meant more than a file
		t.journalAt = head.Journal
	}
	t.passwordFrom = head.PasswordFrom
	j, err := t.journal()
	if err != nil {
		return err
	}
	level := slog.LevelInfo
	if t.verbose {
		level = slog.LevelDebug
	} else if t.quiet {
		level = slog.LevelWarn
	}
	o := service.Options{File: file, Workspace: w, Home: h, Journal: j,
		Log: slog.New(slog.NewJSONHandler(t.err, &slog.HandlerOptions{Level: level}))}
	o.Describes = func(ctx context.Context, source string) (*contract.Contract, error) {
		d, err := t.contractFrom(ctx, source, nil)
		if err != nil {
			return nil, err
		}
		return d.Contract, nil
	}
	if head.OTLP != "" {
		if o.Spans, err = spans.New(head.OTLP, Version); err != nil {
			return err
		}
	}
	s, err := service.Start(ctx, o)
	if err != nil {
		return unread{err}
	}
	t.lingers.Add(1)
	b, err := json.Marshal(map[string]any{"listening": s.Addresses()})
	if err != nil {
		return err
	}
	fmt.Fprintf(t.out, "%s\n", b)
	again := againOf(ctx)
	again.on(func() { _ = s.Reload(ctx) }) // it logs why where it could not
	<-ctx.Done()
	again.on(nil)
	s.End(context.Background())
	return nil
}
