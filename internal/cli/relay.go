package cli

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/relay"
	"orenda/internal/safe"
	"orenda/internal/trust"
	"orenda/internal/workspace"
)

//revive:disable-next-line:function-length,cyclomatic a command: its flags, and what it does with them
func (t *commandLine) relayCommand() *cobra.Command {
	var listen, listenTLS, authorityOut, to, source, env string
	var pathSecret, bytesToo bool
	cmd := &cobra.Command{
		Use:   "relay --to URL|ENDPOINT",
		Short: "Pass another program's calls on, and trace each of them",
		Args:  cobra.NoArgs,
		Long: "Listens on loopback until interrupted. Let the program call the address that is\nprinted; each of " +
			"its calls is passed on byte for byte but for the host, kept in the\njournal, and told with its reach " +
			"and why it failed. With an endpoint of the workspace,\nits trust, proxy and limits are used, and its " +
			"contract.",
		Example: "  orenda relay --to https://tides.skerry.example/tides --contract tides.wsdl\n  orenda relay --to " +
			"tides-tls --listen 127.0.0.1:8099",
	}
	cmd.Flags().StringVar(&listen, "listen", "127.0.0.1:0", "where the program calls; loopback only")
	cmd.Flags().StringVar(&to, "to", "", "address of the service, or an endpoint of the workspace")
	cmd.Flags().StringVar(&source, "contract", "", "description to hold the calls against, FILE or URL")
	cmd.Flags().StringVar(&env, "env", "", "environment of the workspace")
	cmd.Flags().StringVar(&listenTLS, "listen-tls", "",
		"where the program calls over TLS; loopback only. A local authority is made for it")
	cmd.Flags().StringVar(&authorityOut, "authority-out", "",
		"write the local authority's certificate there, for the program to trust")
	cmd.Flags().BoolVar(&bytesToo, "bytes", false, "print the envelopes as they pass")
	cmd.Flags().BoolVar(&pathSecret, "path-secret", false,
		"demand a part of the path that nobody guesses; always so with a client certificate")
	_ = cmd.MarkFlagRequired("to")
	set := settingFlags(cmd, "address", "expect", "token", "http-auth", "identity", "session", "action", "soap")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		values := set()
		var contracts []*contract.Contract
		if source != "" {
			f, err := t.contractFrom(cmd.Context(), source, forDescription(values))
			if err != nil {
				return err
			}
			contracts = append(contracts, f.Contract)
		}
		w, err := t.workspace()
		if err != nil {
			w = nil
		}
		traced, err := w.Traced(to, env, contracts...)
		if err != nil {
			return err
		}
		base, u := &traced.Base, traced.To
		for key, v := range values {
			base.Settings.Set(key, v...)
		}
		j, err := t.journal()
		if err != nil {
			return err
		}
		var mu sync.Mutex
		secret := ""
		if pathSecret || base.Settings.Text("client-cert") != "" {
			secret = relay.NewSecret()
		}
		shown, err := t.shownBy(listenTLS, authorityOut, u.Hostname())
		if err != nil {
			return unread{err}
		}
		r, err := relay.Listen(
			relay.Options{
				Listen: listen, ListenTLS: listenTLS, Certificate: shown,
				To:     u,
				Secret: secret,
				Plan:   traced.Plan,
				Keep: func(x *exchange.Exchange) {
					mu.Lock()
					defer mu.Unlock()
					if err := j.Add(x); err != nil {
						t.complain(fmt.Errorf("the exchange was not kept: %w", err))
					}
					masked := x.Redact(nil)
					t.tellRelayed(masked)
					if bytesToo && !t.asJSON {
						t.tellEnvelopes(masked)
					}
				},
			},
		)
		if err != nil {
			return unread{err}
		}
		defer r.Close()
		t.lingers.Store(true)
		fmt.Fprintf(t.aside(), "relay to %s\n  %s\n", safe.Line(u.Redacted()), strings.Join(r.Addresses(), "\n  "))
		if t.asJSON {
			b, _ := json.Marshal(map[string][]string{"listening": r.Addresses()})
			fmt.Fprintf(t.out, "%s\n", b)
		}
		<-cmd.Context().Done()
		return nil
	}
	return cmd
}

// shownBy is what the relay shows to programs that call over TLS: a certificate of the
// local authority, which is made where it is not there. Its file is told.
func (t *commandLine) shownBy(listen, out, upstream string) (*tls.Certificate, error) {
	if listen == "" {
		return nil, nil
	}
	h, err := t.home()
	if err != nil {
		return nil, err
	}
	c, a, file, err := workspace.RelayCertificate(h, upstream)
	if err != nil {
		return nil, err
	}
	if out != "" {
		if err := os.WriteFile(out, trust.PEM(a.Cert), 0o644); err != nil { //nolint:gosec // it is public
			return nil, err
		}
	}
	fmt.Fprintf(t.aside(), "the program has to trust %s\n", safe.Line(file))
	return &c, nil
}

// tellEnvelopes prints what crossed, envelopes alone.
func (t *commandLine) tellEnvelopes(x *exchange.Exchange) {
	for _, l := range x.Legs {
		for _, b := range [][]byte{l.RequestBody, l.Readable()} {
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
