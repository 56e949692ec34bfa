package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/data"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/facade"
	"orenda/internal/identity"
	"orenda/internal/journal"
	"orenda/internal/soap"
	"orenda/internal/workspace"
)

// drainTime is how long a server waits for what is under way when it is to end.
const drainTime = 10 * time.Second

type facadeFlags struct {
	callFlags
	listen, tokenFrom string
	saved             string
	only, origins     []string
	get               bool
}

func (t *commandLine) facadeCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "facade [ENDPOINT|CONTRACT…]",
		Short: "Give SOAP operations as JSON over HTTP, described by OpenAPI",
		Long: `Each operation is POST /CONTRACT/OPERATION with JSON (with one contract /OPERATION too);
?fields=a,b/c gives only these. GET /openapi.json describes it, GET / is a page to try
it. Failures are problem documents (RFC 9457) that carry the finding. Every call is an
exchange in the journal. It listens on loopback; beyond it an access token is demanded.
At its end it says how many bytes and how much time it saved its callers.`,
		Example: "  orenda facade --contract http://host/berths?wsdl --port BerthDesk11\n" +
			"  orenda facade berths-11 --get",
	}
	var f facadeFlags
	fl := cmd.Flags()
	f.source(fl)
	fl.StringVar(&f.listen, "listen", "127.0.0.1:0", "where it answers")
	fl.StringVar(
		&f.tokenFrom,
		"token-from",
		"",
		"where the access token is that callers must show: env:NAME, file:PATH, …",
	)
	fl.StringSliceVar(&f.only, "only", nil, "only these operations")
	fl.StringSliceVar(&f.origins, "allow-origin", nil,
		"pages of this origin may ask from a browser, scheme://host[:port]; repeatable")
	fl.StringVar(&f.saved, "saved", "", "at the end, draw what was saved into this file (.svg, .pdf)")
	fl.BoolVar(&f.get, "get", false, "operations whose fields are plain are answered to GET too: they must only read")
	t.jsonFlag(cmd)
	f.settings = t.settingFlags(cmd, "expect")
	cmd.RunE = func(cmd *cobra.Command, args []string) error { return t.facade(cmd.Context(), &f, args) }
	return cmd
}

func (t *commandLine) facade(ctx context.Context, f *facadeFlags, args []string) error {
	ops, err := t.offered(ctx, f, args)
	if err != nil {
		return err
	}
	o := facade.Options{Listen: f.listen, Origins: f.origins}
	if f.tokenFrom != "" {
		if o.Token, err = (&identity.Identity{Name: "the access token", Secret: f.tokenFrom}).Reveal(ctx); err != nil {
			return unread{err}
		}
	}
	behind := journal.NewBehind(journal.Adding(t.keeping()), func(_ *exchange.Exchange, err error) {
		if err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
	})
	defer behind.Close()
	o.Keep = behind.Add
	s, err := facade.Listen(o, ops)
	if err != nil {
		return unread{err}
	}
	t.lingers.Add(1)
	fmt.Fprintf(t.out, "{\"listening\": [%q], \"openapi\": %q}\n", s.Address(), s.Address()+"/openapi.json")
	<-ctx.Done()
	end, cancel := context.WithTimeout(context.Background(), drainTime)
	defer cancel()
	s.Close(end)
	saved := s.Saved()
	fmt.Fprintln(t.aside(), saved)
	if f.saved == "" {
		return nil
	}
	return keepDrawing(draw.Overhead(saved.String(), []draw.Weight{
		{Label: "SOAP, both ways", Bytes: saved.SOAP}, {Label: "JSON, both ways", Bytes: saved.JSON},
	}), f.saved)
}

// offered are the operations that a façade gives.
func (t *commandLine) offered(ctx context.Context, f *facadeFlags, args []string) ([]*facade.Operation, error) {
	w, ends, err := t.chosenEndpoints(ctx, f, args)
	if err != nil {
		return nil, err
	}
	var out []*facade.Operation
	contracts := map[string]bool{}
	for _, e := range ends {
		c, err := w.Contract(e.Contract)
		if err != nil {
			return nil, unread{err}
		}
		port := c.Port(e.Port)
		if port == nil || port.Version == soap.Unset || e.Off {
			continue
		}
		for _, op := range port.Operations {
			same := func(o *facade.Operation) bool { return o.Name == e.Contract && o.Operation.Name == op.Name }
			if len(f.only) > 0 && !slices.Contains(f.only, op.Name) || slices.ContainsFunc(out, same) {
				continue
			}
			contracts[e.Contract] = true
			out = append(out, t.offer(f, w, c, e, op))
		}
	}
	for _, o := range out {
		o.Short = len(contracts) == 1
	}
	if len(out) == 0 {
		return nil, unread{
			errors.New("no operation can be offered: name endpoints or contracts of the workspace, or --contract"),
		}
	}
	return out, nil
}

// chosenEndpoints are those whose operations are given.
func (t *commandLine) chosenEndpoints(
	ctx context.Context, f *facadeFlags, args []string,
) (w *workspace.Workspace, ends []*workspace.Endpoint, err error) {
	wanted := func(e *workspace.Endpoint) bool {
		return len(args) == 0 || slices.Contains(args, e.Name) || slices.Contains(args, e.Contract)
	}
	if f.contract == "" {
		if w, err = t.workspace(); err != nil {
			return nil, nil, err
		}
	} else {
		if len(args) > 0 {
			return nil, nil, errors.New("with --contract no endpoint is named")
		}
		p, err := t.prepare(ctx, &f.callFlags, []string{anyOperation})
		if err != nil {
			return nil, nil, err
		}
		w = p.w
		wanted = func(e *workspace.Endpoint) bool { return f.port == "" || e.Port == f.port }
	}
	for _, e := range w.Config().Endpoints {
		if wanted(e) {
			ends = append(ends, e)
		}
	}
	return w, ends, nil
}

// anyOperation stands for an operation where none is called.
const anyOperation = "(any)"

func (t *commandLine) offer(
	f *facadeFlags, w *workspace.Workspace, c *contract.Contract, e *workspace.Endpoint, op *contract.Operation,
) *facade.Operation {
	o := &facade.Operation{Name: e.Contract, Contract: c, Operation: op}
	o.Get = f.get && op.Input != nil && data.Fields(c.Schemas, op.Input.Element) != nil
	extra := f.settings()
	var sessions call.Sessions
	set := w.Settings(e.Name)
	o.Draft, o.Secret = w.Shown(c, e.Contract, op), exchange.SecretNames(set.List("secret"))
	ref := w.DraftOf(e.Contract, op.Name)
	o.Plan = func() (call.Plan, error) {
		plan, err := (&prepared{w: w, ref: ref, end: e.Name, f: &f.callFlags, extra: extra}).plan(t)
		if err != nil {
			return plan, err
		}
		plan.DraftName, plan.Sessions = "", &sessions
		plan.Expand = false // what a caller sends is no template
		return plan, nil
	}
	return o
}
