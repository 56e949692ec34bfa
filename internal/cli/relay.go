package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/relay"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// relaying is what the flags of the relay command say.
type relaying struct {
	workspace.Route
	env, authorityOut, keepAs, config string
	forward                           bool
	open                              []string
	approve, bytesToo                 bool
	set                               func() map[string][]string
}

func (t *commandLine) relayCommand() *cobra.Command {
	var f relaying
	cmd := &cobra.Command{
		Use:   "relay [NAME]",
		Short: "Pass another program's calls on, and trace each of them",
		Args:  cobra.MaximumNArgs(1),
		Long: "Listens on loopback until interrupted. Let the program call the address that is\nprinted; each of " +
			"its calls is passed on byte for byte but for the host, kept in the\njournal, and told with its reach " +
			"and why it failed. With an endpoint of the workspace,\nits trust, proxy and limits are used, and its " +
			"contract. NAME is a relay that the\nworkspace keeps in " +
			workspace.RelaysFile + "; --keep-as writes it there.",
		Example: "  orenda relay --to https://tides.skerry.example/tides --contract tides.wsdl\n  orenda relay --to " +
			"tides-tls --listen 127.0.0.1:8099 --keep-as tides\n  orenda relay tides",
	}
	flags := cmd.Flags()
	flags.BoolVar(&f.forward, "forward", false,
		"be a forward proxy: for programs with fixed addresses that take a proxy; calls of SOAP are traced, all "+
			"else is counted")
	flags.StringArrayVar(&f.open, "open", nil,
		"with --forward: open TLS to this host with a certificate of the local authority; what goes elsewhere "+
			"passes unread")
	flags.StringVar(&f.config, "config", "",
		"run all relays of this file as a service: read again on SIGHUP, drained on SIGTERM, logs in JSON on "+
			"standard error")
	flags.StringVar(&f.Listen, "listen", "", "where the program calls; loopback only (default: a free port)")
	flags.StringVar(&f.To, "to", "", "address of the service, or an endpoint of the workspace")
	flags.StringVar(&f.Contract, "contract", "", "description to hold the calls against, FILE or URL")
	flags.StringVar(&f.env, "env", "", "environment of the workspace")
	flags.StringVar(&f.ListenTLS, "listen-tls", "",
		"where the program calls over TLS; loopback only. A local authority is made for it")
	flags.StringVar(&f.authorityOut, "authority-out", "",
		"write the local authority's certificate there, for the program to trust")
	flags.BoolVar(&f.bytesToo, "bytes", false, "print the envelopes as they pass")
	flags.BoolVar(&f.PathSecret, "path-secret", false,
		"demand a part of the path that nobody guesses; always so with a client certificate")
	flags.StringArrayVar(&f.Add, "add", nil,
		"header field that each request gets on its way, 'Name: value', in the place of one of that name")
	flags.BoolVar(&f.Secure, "secure", false,
		"give each request the endpoint's security on its way: token, timestamp, signature, HTTP authentication")
	flags.BoolVar(&f.Answers, "answers", false,
		"let answers that come later come through the relay too: its address stands in ReplyTo and FaultTo then")
	flags.StringVar(&f.Identity, "add-identity", "", "give each request the security of this identity of yours")
	flags.StringVar(&f.Bodies, "bodies", "", "what is kept of bodies: whole, none, or a size as 4KiB")
	flags.BoolVar(&f.Describe, "describe", false,
		"answer a GET with the contract, with the relay as the service's address")
	flags.StringVar(&f.Keep, "keep", "",
		"which exchanges are kept: all, failed, or one in so many as 1/100, and all that failed")
	flags.StringVar(&f.keepAs, "keep-as", "", "keep the relay under this name in the workspace")
	flags.BoolVar(&f.approve, "approve", false,
		"let a relay that the workspace keeps listen, and lead where it does now")
	f.set = t.settingFlags(cmd, "address", "expect", "token", "http-auth", "identity", "session", "action", "soap")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			w = nil
		}
		if f.config != "" {
			return t.serveRelays(cmd.Context(), f.config, w)
		}
		if f.forward {
			return t.forward(cmd.Context(), &f, w)
		}
		if err := t.routed(&f, w, args); err != nil {
			return err
		}
		return t.relay(cmd.Context(), &f, w)
	}
	return cmd
}

// routed completes what the flags say with the relay of that name, or keeps it under one.
func (t *commandLine) routed(f *relaying, w *workspace.Workspace, args []string) error {
	if len(args) == 0 && f.To == "" {
		return errors.New("say where the calls go with --to, or name a relay that the workspace keeps")
	}
	if len(args) > 0 {
		if w == nil || f.To != "" {
			return errors.New("a NAME is of a relay that a workspace keeps; --to is for another one")
		}
		r, err := w.Route(args[0])
		if err != nil {
			return err
		}
		if f.approve {
			if err := w.ApproveRoute(r); err != nil {
				return err
			}
		}
		if !w.RouteApproved(r) {
			return fmt.Errorf("the relay %s of %s leads to %s: nobody let it; --approve does", r.Name,
				workspace.RelaysFile, r.Leads())
		}
		f.Route = *r
		return nil
	}
	if f.keepAs == "" {
		return nil
	}
	if w == nil {
		return errors.New("a relay is kept in a workspace, and there is none here")
	}
	keep := f.Route
	keep.Name = f.keepAs
	if w.Endpoint(keep.To) != nil {
		keep.Endpoint, keep.To = keep.To, ""
	}
	if err := w.KeepRoute(&keep); err != nil {
		return err
	}
	return w.ApproveRoute(&keep)
}

// relay passes calls on until the command is interrupted.
func (t *commandLine) relay(ctx context.Context, f *relaying, w *workspace.Workspace) error {
	values := f.set()
	var contracts []*contract.Contract
	if f.Contract != "" {
		d, err := t.contractFrom(ctx, f.Contract, forDescription(values))
		if err != nil {
			return err
		}
		contracts = append(contracts, d.Contract)
	}
	traced, err := w.Traced(f.Leads(), f.env, contracts...)
	if err != nil {
		return err
	}
	for key, v := range values {
		traced.Base.Settings.Set(key, v...)
	}
	j, err := t.journal()
	if err != nil {
		return err
	}
	h, err := t.home()
	if err != nil {
		return err
	}
	o, authority, err := f.Options(h, traced)
	if err != nil {
		return unread{err}
	}
	if authority != "" {
		if err := t.authority(authority, f.authorityOut); err != nil {
			return unread{err}
		}
	}
	behind := journal.NewBehind(journal.Adding(j), func(x *exchange.Exchange, err error) {
		if err != nil {
			t.complain(fmt.Errorf("the exchange was not kept: %w", err))
		}
		t.relayed(x, f.bytesToo)
	})
	defer behind.Close()
	wanted, err := f.Sampling()
	if err != nil {
		return err
	}
	cut, err := f.Trimming()
	if err != nil {
		return err
	}
	o.Keep = func(x *exchange.Exchange) {
		if wanted(x) {
			behind.Add(cut(x))
		} else {
			t.relayed(x, f.bytesToo)
		}
	}
	o.TurnedAway = t.turnedAway()
	r, err := relay.Listen(o)
	if err != nil {
		return unread{err}
	}
	defer r.Close()
	traced.Here(r.Address())
	t.lingers.Add(1)
	fmt.Fprintf(t.aside(), "relay to %s\n  %s\n", safe.Line(traced.To.Redacted()),
		strings.Join(r.Addresses(), "\n  "))
	if a, err := f.Answering(); err == nil && !a.Plain() {
		fmt.Fprintf(t.aside(), "  it %s\n", safe.Line(a.String()))
	}
	if t.asJSON {
		b, _ := json.Marshal(map[string][]string{"listening": r.Addresses()})
		t.printing.Lock()
		fmt.Fprintf(t.out, "%s\n", b)
		t.printing.Unlock()
	}
	<-ctx.Done()
	return nil
}

// turnedAway tells of requests that a relay did not take: the first for each reason, and then each time that
// there are ten times as many.
func (t *commandLine) turnedAway() func(why string) {
	var mu sync.Mutex
	seen := map[string]int{}
	const most = 1000 // reasons that are told apart
	return func(why string) {
		mu.Lock()
		defer mu.Unlock()
		if _, ok := seen[why]; !ok && len(seen) >= most {
			why = "for other reasons"
		}
		seen[why]++
		n := seen[why]
		for m := n; m > 1; m /= 10 {
			if m%10 != 0 {
				return
			}
		}
		if t.asJSON {
			b, _ := json.Marshal(map[string]any{"turnedAway": why, "count": n})
			t.printing.Lock()
			defer t.printing.Unlock()
			fmt.Fprintf(t.out, "%s\n", b)
			return
		}
		fmt.Fprintf(t.aside(), "turned away (%d): %s\n", n, safe.Line(why))
	}
}

// relayed tells of one exchange that passed.
func (t *commandLine) relayed(x *exchange.Exchange, bytesToo bool) {
	masked := x.Redact(nil)
	t.printing.Lock()
	defer t.printing.Unlock()
	t.tellRelayed(masked)
	if bytesToo && !t.asJSON {
		t.tellEnvelopes(masked)
	}
}

// authority tells which file the program has to trust, and writes it elsewhere too.
func (t *commandLine) authority(file, out string) error {
	if out != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		if err := os.WriteFile(out, b, 0o644); err != nil { //nolint:gosec // it is public
			return err
		}
	}
	fmt.Fprintf(t.aside(), "the program has to trust %s\n", safe.Line(file))
	return nil
}

// tellEnvelopes prints what crossed, envelopes alone.
func (t *commandLine) tellEnvelopes(x *exchange.Exchange) {
	for _, l := range x.Legs {
		for _, b := range [][]byte{l.Sent(), l.Readable()} {
			if len(b) > 0 {
				fmt.Fprintf(
					t.out,
					"%s\n\n",
					safe.Block(strings.TrimRight(strings.ReplaceAll(string(b), "\r\n", "\n"), "\n")),
				)
			}
		}
	}
}

// tellRelayed tells of one exchange as it happens.
func (t *commandLine) tellRelayed(x *exchange.Exchange) {
	if t.asJSON {
		b, err := json.Marshal(x.Report(false))
		if err == nil {
			fmt.Fprintf(t.out, "%s\n", b)
		}
		return
	}
	size := int64(0)
	if l := x.Leg(); l != nil {
		size = l.Response.BodySize
	}
	fmt.Fprintf(
		t.out,
		"%s  %s  %-9s %9d B  %s  %s\n",
		x.ID,
		t.letters(x.Ticks()),
		exchange.Took(x.TotalNs),
		size,
		safe.Line(cutTo(x.Operation, 30)),
		safe.Line(cutTo(x.Result, 70)),
	)
	for _, f := range x.Findings {
		if f.Severity != exchange.Note {
			fmt.Fprintf(t.out, "    %s (%s)\n", safe.Line(cutTo(f.Title, 100)), f.ID)
		}
	}
}
