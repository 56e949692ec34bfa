package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/journal"
	"orenda/internal/safe"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/user"
	"orenda/internal/xmltree"
)

// ---- trust

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

func (t *tool) trustCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "trust", Short: "Certificates: show, fetch, add to what an endpoint trusts"}
	show := &cobra.Command{Use: "show URL|FILE|ENDPOINT", Short: "The chain and the verdict on it", Args: cobra.ExactArgs(1)}
	t.jsonFlag(show)
	set := settingFlags(show, "address", "expect")
	bundle := show.Flags().String("bundle", "", "judge the chain as a program would that trusts this file and nothing else")
	show.RunE = func(cmd *cobra.Command, args []string) error {
		return t.trustShow(cmd.Context(), args[0], *bundle, set())
	}

	fetch := &cobra.Command{Use: "fetch URL|ENDPOINT", Short: "Save the chain that a server sends", Args: cobra.ExactArgs(1)}
	out := fetch.Flags().String("out", "", "file to write (PEM); standard output where it is not given")
	set2 := settingFlags(fetch, "address", "expect")
	fetch.RunE = func(cmd *cobra.Command, args []string) error {
		chain, _, err := t.chain(cmd.Context(), args[0], set2())
		if err != nil {
			return err
		}
		if *out == "" {
			_, err = t.out.Write(trust.PEM(chain...))
			return err
		}
		if err := user.WriteFile(*out, trust.PEM(chain...)); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.err, "%d certificates written to %s\n", len(chain), safe.Line(*out))
		return nil
	}

	add := &cobra.Command{Use: "add ENDPOINT FILE|URL", Short: "Trust a certificate for one endpoint", Args: cobra.ExactArgs(2),
		Long: "Puts the first certificate of a file, or of the chain that a server sends, on the\nendpoint's trust list. The fingerprint must be given, and is compared."}
	fp := add.Flags().String("fingerprint", "", "SHA-256 of the certificate, however it is written")
	add.RunE = func(cmd *cobra.Command, args []string) error {
		chain, _, err := t.chain(cmd.Context(), args[1], nil)
		if err != nil {
			return err
		}
		if err := t.compare(*fp, chain[0]); err != nil {
			return err
		}
		w, err := t.space()
		if err != nil {
			return err
		}
		if err := w.Apply(exchange.Change{Where: "workspace", Key: "endpoint." + args[0] + ".trust", To: string(trust.PEM(chain[0]))}); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "%s trusts %s\n", safe.Line(args[0]), safe.Line(chain[0].Subject.String()))
		return nil
	}
	cmd.AddCommand(show, fetch, add, t.trustConvertCommand(), t.trustAppendCommand(), t.trustRequestCommand(), t.trustAuthorityCommand(), t.trustExpiringCommand(), t.trustVersionsCommand())
	return cmd
}

// chain gets certificates from a file, an address or an endpoint; the exchange
// comes with those of a server.
func (t *tool) chain(ctx context.Context, source string, set map[string][]string) ([]*x509.Certificate, *exchange.Exchange, error) {
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
func (t *tool) handshake(ctx context.Context, source string, set map[string][]string) (*exchange.Exchange, error) {
	p := call.Plan{Agent: call.Agent, Operation: "trust", Endpoint: "address", ReadFile: os.ReadFile, Until: exchange.TLS}
	if contract.IsRemote(source) {
		p.Settings.Set("address", strings.ReplaceAll(source, "$", "$$"))
	} else {
		w, err := t.space()
		if err != nil {
			return nil, err
		}
		if w.Endpoint(source) == nil {
			return nil, unread{fmt.Errorf("%s is no file, no URL and no endpoint", source)}
		}
		p.Endpoint, p.Settings, p.ReadFile = source, w.Settings(source), w.ReadFile
		p.Environment = w.Environment
		p.Variables, _ = w.Variables(w.Environment)
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

func (t *tool) trustShow(ctx context.Context, source, bundle string, set map[string][]string) error {
	chain, x, err := t.chain(ctx, source, set)
	if err != nil {
		return err
	}
	if bundle != "" {
		return t.trustAgainst(chain, x, bundle)
	}
	out := struct {
		Chain   []certificate      `json:"chain"`
		Verdict []exchange.Finding `json:"verdict"`
	}{Verdict: []exchange.Finding{}}
	for _, c := range chain {
		out.Chain = append(out.Chain, certificate{c.Subject.String(), c.Issuer.String(), trust.Names(c), c.SerialNumber.Text(16), c.NotBefore.UTC(), c.NotAfter.UTC(), trust.KeyWords(c), c.SignatureAlgorithm.String(), c.IsCA, trust.Fingerprint(c), trust.FingerprintSHA1(c)})
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
			fmt.Fprintf(t.out, "%d  %s\n   issued by  %s\n   for        %s\n   valid      %s to %s\n   key        %s, signed with %s\n   SHA-256    %s\n   SHA-1      %s\n\n", i+1, safe.Line(c.Subject), safe.Line(c.Issuer), safe.Line(strings.Join(c.Names, ", ")),
				c.NotBefore.Format("2006-01-02"), c.NotAfter.Format("2006-01-02"), c.Key, c.Signature, trust.Grouped(c.SHA256), trust.Grouped(c.SHA1))
		}
		if x != nil && len(out.Verdict) == 0 {
			fmt.Fprintf(t.out, "trusted: %s\n", safe.Line(x.Leg().Conn.TLS.Trusted))
		}
		for _, f := range out.Verdict {
			fmt.Fprintf(t.out, "%s: %s\n  %s\n", f.ID, safe.Line(f.Title), safe.Line(f.Why))
		}
	}
	if x != nil && x.Outcome == exchange.OutcomeStopped {
		return exitOf(x)
	}
	return nil
}

// ---- journal

func (t *tool) journalCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "journal", Short: "Exchanges that were kept"}
	var q journal.Query
	list := &cobra.Command{Use: "list", Short: "Kept exchanges, newest first", Args: cobra.NoArgs}
	t.jsonFlag(list)
	list.Flags().IntVar(&q.Most, "most", 50, "how many at most")
	list.Flags().StringVar(&q.Operation, "operation", "", "of this operation only")
	list.Flags().StringVar(&q.Endpoint, "endpoint", "", "over this endpoint only")
	list.RunE = func(*cobra.Command, []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		if t.dir != "" {
			w, err := t.space()
			if err != nil {
				return err
			}
			q.Workspace = w.ID()
		}
		all, err := j.List(q)
		if err != nil {
			return unread{err}
		}
		if t.asJSON {
			out := []exchange.Report{}
			for _, x := range all {
				out = append(out, x.Report(false))
			}
			return t.printJSON(out)
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		for _, x := range all {
			where := ""
			if x.Outcome == exchange.OutcomeStopped {
				where = x.StoppedAt.String()
			}
			fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\t%s\n", x.ID, exchange.Age(x.Started, time.Now()), ticks(x), where, safe.Line(cutTo(heading(x), 50)), safe.Line(cutTo(x.Result, 60)))
		}
		return tw.Flush()
	}
	show := &cobra.Command{Use: "show EXCHANGE", Short: "One kept exchange: its path, or with --json all of it", Args: cobra.ExactArgs(1)}
	t.jsonFlag(show)
	bytesToo := show.Flags().Bool("bytes", false, "the bytes that left and came, as they crossed")
	show.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		if t.asJSON {
			return t.printJSON(x.Report(true))
		}
		t.printPath(x)
		if *bytesToo {
			for _, l := range x.Legs {
				fmt.Fprintf(t.out, "%s\n\n%s\n", safe.Block(strings.ReplaceAll(string(l.Out), "\r\n", "\n")), safe.Block(strings.ReplaceAll(string(l.In), "\r\n", "\n")))
			}
		}
		return nil
	}
	export := &cobra.Command{Use: "export EXCHANGE", Short: "One kept exchange as JSON, into a file", Args: cobra.ExactArgs(1)}
	out := export.Flags().String("out", "", "file to write")
	_ = export.MarkFlagRequired("out")
	export.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		b, err := safe.JSON(x.Report(true))
		if err != nil {
			return err
		}
		if err := user.WriteFile(*out, b); err != nil {
			return unread{err}
		}
		return nil
	}
	cmd.AddCommand(list, show, export, t.partsCommand())
	return cmd
}

func (t *tool) partsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "parts EXCHANGE", Short: "The parts of a reply beside its envelope; with --out they are saved", Args: cobra.ExactArgs(1)}
	dir := cmd.Flags().String("out", "", "folder to save them in, under safe names; nothing is overwritten")
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		l := x.Leg()
		if l == nil || len(l.Parts) == 0 {
			fmt.Fprintln(t.err, "orenda: the reply has no parts")
			return status(exitNo)
		}
		if t.asJSON {
			if err := t.printJSON(l.Parts); err != nil {
				return err
			}
		}
		if *dir != "" {
			saved, err := handover.SaveParts(l, *dir)
			for _, name := range saved {
				fmt.Fprintln(t.err, safe.Line(filepath.Join(*dir, name)))
			}
			if err != nil {
				return unread{err}
			}
			return nil
		}
		if t.asJSON {
			return nil
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		for i, p := range l.Parts {
			what := handover.PartName(&p, i)
			if p.Root {
				what = "the envelope"
			}
			fmt.Fprintf(tw, "%d\t%s\t%s\t%d bytes\t%s\n", i+1, safe.Line(what), safe.Line(p.Type), p.End-p.Start, safe.Line(p.ID))
		}
		return tw.Flush()
	}
	return cmd
}

func (t *tool) keptExchange(id string) (*exchange.Exchange, error) {
	j, err := t.journal()
	if err != nil {
		return nil, err
	}
	x, err := j.Get(id)
	if err != nil {
		return nil, unread{fmt.Errorf("%s: %w", id, err)}
	}
	return x, nil
}

// ---- draw

// keepDrawing writes a drawing into a file, .svg or .pdf.
func keepDrawing(d *draw.Drawing, path string) error {
	b, err := d.Write(path)
	if err != nil {
		return err
	}
	if err := user.WriteFile(path, b); err != nil {
		return unread{err}
	}
	return nil
}

func (t *tool) drawCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "draw", Short: "Drawings of exchanges, as SVG or PDF"}
	path := &cobra.Command{Use: "path EXCHANGE", Short: "The path of an exchange: stages, times, where it stopped and why", Args: cobra.ExactArgs(1), Example: "  orenda draw path last --out stopped.svg"}
	out := path.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = path.MarkFlagRequired("out")
	path.RunE = func(_ *cobra.Command, args []string) error {
		x, err := t.keptExchange(args[0])
		if err != nil {
			return err
		}
		return keepDrawing(draw.Path(x), *out)
	}
	cmd.AddCommand(path, t.drawLimitsCommand(), t.drawChainCommand())
	return cmd
}

// ---- xml

func (t *tool) xmlCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "xml", Short: "XML itself: well-formedness and the canonical form"}
	check := &cobra.Command{Use: "check FILE...", Short: "Well-formedness, with the position", Args: cobra.MinimumNArgs(1)}
	check.RunE = func(_ *cobra.Command, args []string) error {
		bad := false
		for _, name := range args {
			src, err := os.ReadFile(name)
			if err != nil {
				return unread{err}
			}
			_, err = xmltree.Parse(src, xmltree.Limits{})
			var e *xmltree.SyntaxError
			if errors.As(err, &e) {
				bad = true
				fmt.Fprintf(t.out, "%s:%d:%d: %s\n", safe.Line(name), e.Line, e.Column, safe.Line(e.Msg))
				continue
			}
			fmt.Fprintf(t.out, "%s: well-formed\n", safe.Line(name))
		}
		if bad {
			return status(exitNo)
		}
		return nil
	}
	canon := &cobra.Command{Use: "canon FILE", Short: "Exclusive canonical form (Exclusive XML Canonicalization 1.0)", Args: cobra.ExactArgs(1)}
	comments := canon.Flags().Bool("with-comments", false, "keep comments")
	canon.RunE = func(_ *cobra.Command, args []string) error {
		src, err := os.ReadFile(args[0])
		if err != nil {
			return unread{err}
		}
		d, err := xmltree.Parse(src, xmltree.Limits{})
		if err != nil {
			t.complain(fmt.Errorf("%s: %w", args[0], err))
			return status(exitNo)
		}
		_, err = t.out.Write(xmltree.Canonical(d.Document(), *comments))
		return err
	}
	cmd.AddCommand(check, canon)
	return cmd
}

// ---- stand-ins

func (t *tool) standinCommand() *cobra.Command {
	var o standin.Options
	var list bool
	cmd := &cobra.Command{Use: "standin", Short: "Run the simulated services of the Skerry Harbour Trust", Args: cobra.NoArgs,
		Long: "Starts the stand-ins on free loopback ports, prints the table of their addresses,\nand runs until interrupted. A path that ends in /~ID misbehaves in that way."}
	cmd.Flags().StringVar(&o.Plain, "listen", "", "loopback address for http (default: a free port)")
	cmd.Flags().StringVar(&o.TLS, "listen-tls", "", "loopback address for https (default: a free port)")
	cmd.Flags().StringVar(&o.Misbehave, "misbehave", "", "misbehave in this way at every call")
	cmd.Flags().DurationVar(&o.Slow, "slow", 0, "wait before every answer")
	cmd.Flags().BoolVar(&list, "list", false, "list the ways to misbehave")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		if list {
			tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
			for _, m := range standin.Misbehaviours() {
				fmt.Fprintf(tw, "%s\t%s\n", m.ID, m.What)
			}
			return tw.Flush()
		}
		h, err := standin.Start(o)
		if err != nil {
			return unread{err}
		}
		defer h.Close()
		if t.asJSON {
			if err := t.printJSON(h.Table()); err != nil {
				return err
			}
		} else {
			tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
			fmt.Fprintln(tw, "SERVICE\tPORT\tSOAP\tADDRESS\tDESCRIPTION\tASKS FOR")
			for _, r := range h.Table() {
				fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\t%s\n", r.Service, r.Port, r.SOAP, r.Address, r.WSDL, r.Asks)
			}
			if err := tw.Flush(); err != nil {
				return err
			}
			fmt.Fprintf(t.out, "\nuser %s, password “%s”; certificate SHA-256 %s\n", standin.User, standin.Password, trust.Grouped(trust.Fingerprint(h.Cert.Cert)))
		}
		<-cmd.Context().Done()
		return nil
	}
	return cmd
}
