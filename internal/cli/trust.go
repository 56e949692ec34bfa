package cli

import (
	"context"
	"crypto/x509"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/revocation"
	"orenda/internal/safe"
	"orenda/internal/trust"
	"orenda/internal/user"
)

type certificate struct {
	Subject   string    `json:"subject"`
	Issuer    string    `json:"issuer"`
	Names     []string  `json:"names"`
	Serial    string    `json:"serial"`
	NotBefore time.Time `json:"notBefore"`
	NotAfter  time.Time `json:"notAfter"`
	Key       string    `json:"key"`
	Signature string    `json:"signature"`
	Authority bool      `json:"authority"`
	SHA256    string    `json:"sha256"`
	SHA1      string    `json:"sha1"`
}

func (t *commandLine) trustCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "trust", Short: "Certificates: show, fetch, add to what an endpoint trusts"}
	fetch := &cobra.Command{
		Use:     "fetch URL|ENDPOINT",
		Example: "  orenda trust fetch https://host/ --out chain.pem",
		Short:   "Save the chain that a server sends",
		Args:    cobra.ExactArgs(1),
	}
	out := fetch.Flags().String("out", "", "file to write (PEM); standard output where it is not given")
	set2 := t.settingFlags(fetch, "address", "expect")
	fetch.RunE = func(cmd *cobra.Command, args []string) error {
		chain, _, err := t.chain(cmd.Context(), args[0], set2())
		if err != nil {
			return err
		}
		if *out == "" {
			_, err = t.out.Write(trust.PEM(chain...))
			return err
		}
		if err := user.WriteNew(*out, trust.PEM(chain...)); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.aside(), "%d certificates written to %s\n", len(chain), safe.Line(*out))
		return nil
	}

	add := &cobra.Command{
		Use:     "add ENDPOINT FILE|URL",
		Example: "  orenda trust add berths-tls https://host/ --fingerprint 94:CF:92",
		Short:   "Trust a certificate for one endpoint",
		Args:    cobra.ExactArgs(2),
		Long: "Puts the first certificate of a file, or of the chain that a server sends, on the\nendpoint's trust " +
			"list. The fingerprint must be given, and is compared.",
	}
	fp := add.Flags().String("fingerprint", "", "SHA-256 of the certificate, however it is written")
	add.RunE = func(cmd *cobra.Command, args []string) error {
		chain, _, err := t.chain(cmd.Context(), args[1], nil)
		if err != nil {
			return err
		}
		if err := t.compare(*fp, chain[0]); err != nil {
			return err
		}
		w, err := t.workspace()
		if err != nil {
			return err
		}
		if err := w.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + args[0] + ".trust",
			To: string(trust.PEM(chain[0]))}); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s trusts %s\n", safe.Line(args[0]), safe.Line(chain[0].Subject.String()))
		return nil
	}
	cmd.AddCommand(
		t.trustShowCommand(),
		fetch,
		add,
		t.trustConvertCommand(),
		t.trustAppendCommand(),
		t.trustRequestCommand(),
		t.trustAuthorityCommand(),
		t.trustExpiringCommand(),
		t.trustVersionsCommand(),
	)
	return cmd
}

func (t *commandLine) trustShowCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "show URL|FILE|ENDPOINT",
		Example: "  orenda trust show berths-tls\n  orenda trust show https://host/ --checks",
		Short:   "The chain and the verdict on it",
		Args:    cobra.ExactArgs(1),
	}
	t.jsonFlag(cmd)
	set := t.settingFlags(cmd, "address", "expect")
	bundle := cmd.Flags().
		String("bundle", "", "judge the chain as a program would that trusts this file and nothing else")
	checks := cmd.Flags().Bool("checks", false,
		"ask whether the certificates were revoked, of the responders and lists that they name (OCSP, CRL)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return t.trustShow(cmd.Context(), args[0], *bundle, *checks, set())
	}
	return cmd
}

// chain gets certificates from a file, an address or an endpoint; the exchange
// comes with those of a server.
func (t *commandLine) chain(
	ctx context.Context,
	source string,
	set map[string][]string,
) ([]*x509.Certificate, *exchange.Exchange, error) {
	if b, err := os.ReadFile(source); err == nil && !contract.IsRemote(source) {
		certs, err := trust.Read(b)
		if err != nil {
			return nil, nil, unread{fmt.Errorf("%s: %w", source, err)}
		}
		return certs, nil, nil
	}
	if j, err := t.journal(); err == nil && !contract.IsRemote(source) {
		if x, err := j.Get(source); err == nil && x.Leg() != nil && x.Leg().Conn.TLS != nil { // a kept exchange
			certs, err := shown(x)
			return certs, x, err
		}
	}
	x, err := t.handshake(ctx, source, set)
	if err != nil {
		return nil, nil, err
	}
	l := x.Leg()
	if l == nil || l.Conn.TLS == nil || len(l.Conn.TLS.Chain) == 0 {
		t.printPath(x)
		if err := exitOf(x); err != nil {
			return nil, x, err
		}
		return nil, x, unread{fmt.Errorf("%s sends no certificate: it is not called over TLS", source)}
	}
	certs, err := shown(x)
	return certs, x, err
}

// handshake shakes hands with an address or an endpoint, and sends nothing.
func (t *commandLine) handshake(
	ctx context.Context,
	source string,
	set map[string][]string,
) (*exchange.Exchange, error) {
	p := call.Plan{
		Agent:     call.Agent,
		Operation: "trust",
		Endpoint:  "address",
		ReadFile:  os.ReadFile,
		Until:     exchange.TLS,
	}
	if contract.IsRemote(source) {
		p.Settings.Set("address", strings.ReplaceAll(source, "$", "$$"))
	} else {
		w, err := t.workspace()
		if err != nil {
			return nil, err
		}
		if w.Endpoint(source) == nil {
			return nil, unread{fmt.Errorf("%s is no file, no URL and no endpoint", source)}
		}
		p.Endpoint, p.Settings, p.ReadFile = source, w.Settings(source), w.ReadFile
		p.Environment = w.Config().Environment
		p.Variables, _ = w.Variables(w.Config().Environment)
	}
	for name, v := range set {
		p.Settings.Set(name, v...)
	}
	return call.Chain(ctx, p), nil
}

// shown are the certificates that a handshake showed.
func shown(x *exchange.Exchange) (certs []*x509.Certificate, err error) {
	for _, raw := range x.Leg().Conn.TLS.Chain {
		c, err := x509.ParseCertificate(raw)
		if err != nil {
			return nil, unread{err}
		}
		certs = append(certs, c)
	}
	return certs, nil
}

func (t *commandLine) trustShow(
	ctx context.Context, source, bundle string, checks bool, set map[string][]string,
) error {
	if checks && set["revocation"] == nil {
		set["revocation"] = []string{"asked"}
	}
	chain, x, err := t.chain(ctx, source, set)
	if err != nil {
		return err
	}
	if bundle != "" {
		return t.trustAgainst(chain, x, bundle)
	}
	out := struct {
		Chain    []certificate       `json:"chain"`
		Verdict  []exchange.Finding  `json:"verdict"`
		Standing []exchange.Standing `json:"standing,omitempty"` // with --checks
	}{Verdict: []exchange.Finding{}}
	if checks {
		out.Standing = revocation.Of(ctx, chain, x)
	}
	for _, c := range chain {
		out.Chain = append(
			out.Chain,
			certificate{
				c.Subject.String(),
				c.Issuer.String(),
				trust.Names(c),
				c.SerialNumber.Text(16),
				c.NotBefore.UTC(),
				c.NotAfter.UTC(),
				trust.KeyWords(c),
				c.SignatureAlgorithm.String(),
				c.IsCA,
				trust.Fingerprint(c),
				trust.FingerprintSHA1(c),
			},
		)
	}
	if x != nil {
		out.Verdict = append(out.Verdict, x.Findings...)
	}
	if t.asJSON {
		if err := t.printJSON(out); err != nil {
			return err
		}
	} else {
		for i, c := range out.Chain {
			fmt.Fprintf(t.out, "%d  %s\n   issued by  %s\n   for        %s\n   valid      %s to %s\n   key        "+
				"%s, signed with %s\n   SHA-256    %s\n   SHA-1      %s\n\n", i+1, safe.Line(c.Subject),
				safe.Line(c.Issuer), safe.Line(strings.Join(c.Names,
					", ")),
				c.NotBefore.Format("2006-01-02"), c.NotAfter.Format("2006-01-02"), c.Key, c.Signature,
				trust.Grouped(c.SHA256), trust.Grouped(c.SHA1))
		}
		if x != nil && len(out.Verdict) == 0 {
			fmt.Fprintf(t.out, "trusted: %s\n", safe.Line(x.Leg().Conn.TLS.Trusted))
		}
		for _, f := range out.Verdict {
			fmt.Fprintf(t.out, "%s: %s\n  %s\n", f.ID, safe.Line(f.Title), safe.Line(f.Why))
		}
		for i := range out.Standing {
			fmt.Fprintf(t.out, "%s: %s\n", safe.Line(out.Standing[i].Subject), safe.Line(out.Standing[i].String()))
		}
	}
	if x != nil && x.Outcome == exchange.OutcomeStopped {
		return exitOf(x)
	}
	for i := range out.Standing {
		if out.Standing[i].State == exchange.StandingRevoked {
			return status(exitNo)
		}
	}
	return nil
}
