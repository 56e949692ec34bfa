package cli

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/safe"
	"orenda/internal/trust"
	"orenda/internal/user"
)

// secret reads a password from where a flag says that it is.
func secret(ctx context.Context, source string) (string, error) {
	if source == "" {
		return "", nil
	}
	id := identity.Identity{Name: "the password", Secret: source}
	p, err := id.Reveal(ctx)
	if err != nil {
		return "", unread{err}
	}
	return p, nil
}

func (t *commandLine) trustConvertCommand() *cobra.Command {
	var from, to string
	cmd := &cobra.Command{
		Use:   "convert IN OUT",
		Short: "Certificates and keys from one format into another",
		Args:  cobra.ExactArgs(2),
		Long: "Reads PEM, DER, PKCS#7, PKCS#8, PKCS#12 and JKS, and writes what the name of OUT\nstands for: " +
			".pem, .der, .cer, .p7b, .p12. A key goes into PEM and PKCS#12 only.",
		Example: "  orenda trust convert old.jks trusted.pem --secret-from env:STORE_WORD\n  orenda trust convert " +
			"desk.pem desk.p12 --out-secret-from file:word",
	}
	cmd.Flags().StringVar(&from, "secret-from", "", "where the password of IN is: env:VAR, file:PATH or command:CMD")
	cmd.Flags().StringVar(&to, "out-secret-from", "", "where the password for OUT is (default: that of IN)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		password, err := secret(cmd.Context(), from)
		if err != nil {
			return err
		}
		next := password
		if to != "" {
			if next, err = secret(cmd.Context(), to); err != nil {
				return err
			}
		}
		b, err := os.ReadFile(args[0])
		if err != nil {
			return unread{err}
		}
		m, err := trust.ReadMaterial(b, password)
		if err != nil {
			return unread{fmt.Errorf("%s: %w", args[0], err)}
		}
		f := trust.FormatOf(args[1])
		if m.Key != nil && f != trust.PEMFile && f != trust.PKCS12 {
			m.Notes = append(m.Notes, fmt.Sprintf("the private key is left out: %s holds none", f))
			m.Key = nil
		}
		if f == trust.PEMFile && to == "" {
			next = "" // PEM is written plain unless a password is asked for
		}
		out, err := m.Write(f, next)
		if err != nil {
			return err
		}
		if err := user.WriteNew(args[1], out); err != nil {
			return unread{err}
		}
		for _, n := range m.Notes {
			fmt.Fprintln(t.aside(), safe.Line(n))
		}
		what := fmt.Sprintf("%d certificates", len(m.Certs))
		if m.Key != nil {
			what += " and a private key"
		}
		fmt.Fprintf(t.aside(), "%s from %s to %s: %s\n", what, m.Format, f, safe.Line(args[1]))
		return nil
	}
	return cmd
}

func (t *commandLine) trustAppendCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "append BUNDLE FILE|URL|ENDPOINT",
		Example: "  orenda trust append bundle.pem new.pem --fingerprint 94:CF:92",
		Short:   "Add a certificate to a bundle file, and change nothing else in it",
		Args:    cobra.ExactArgs(2),
	}
	fp := cmd.Flags().String("fingerprint", "", "SHA-256 of the certificate, however it is written")
	all := cmd.Flags().Bool("chain", false, "the whole chain, not its first certificate alone")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		chain, _, err := t.chain(cmd.Context(), args[1], nil)
		if err != nil {
			return err
		}
		if err := t.compare(*fp, chain[0]); err != nil {
			return err
		}
		if !*all {
			chain = chain[:1]
		}
		bundle, err := os.ReadFile(args[0])
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return unread{err}
		}
		out, added, err := trust.AppendBundle(bundle, chain...)
		if err != nil {
			return unread{fmt.Errorf("%s: %w", args[0], err)}
		}
		if added > 0 {
			if err := user.WriteFile(args[0], out); err != nil {
				return unread{err}
			}
		}
		fmt.Fprintf(t.aside(), "%d certificates added to %s\n", added, safe.Line(args[0]))
		return nil
	}
	return cmd
}

// compare refuses a certificate whose fingerprint was not given, or differs.
func (t *commandLine) compare(given string, c *x509.Certificate) error {
	got := trust.Fingerprint(c)
	if given == "" {
		return fmt.Errorf(
			"give --fingerprint: compare it with one that the service's people give you; this certificate's is %s",
			trust.Grouped(got),
		)
	}
	if !trust.SameFingerprint(given, got) {
		fmt.Fprintf(t.err, "orenda: the fingerprint differs: this certificate's is %s\n", trust.Grouped(got))
		return status(exitNo)
	}
	return nil
}

func (t *commandLine) trustRequestCommand() *cobra.Command {
	var names []string
	cmd := &cobra.Command{
		Use:     "request NAME",
		Example: "  orenda trust request quay-clerk",
		Short:   "A private key and a certificate signing request (PKCS#10)",
		Args:    cobra.ExactArgs(1),
	}
	cmd.Flags().StringArrayVar(&names, "for", nil, "name or address that the certificate is to be for; repeatable")
	out := cmd.Flags().String("out", "", "beginning of the files' names: OUT.key.pem and OUT.csr.pem")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return err
		}
		req := &x509.CertificateRequest{Subject: pkix.Name{CommonName: args[0]}}
		for _, n := range names {
			if ip := net.ParseIP(n); ip != nil {
				req.IPAddresses = append(req.IPAddresses, ip)
			} else {
				req.DNSNames = append(req.DNSNames, n)
			}
		}
		der, err := x509.CreateCertificateRequest(rand.Reader, req, key)
		if err != nil {
			return err
		}
		keyPEM, err := (&trust.Material{Key: key}).Write(trust.PEMFile, "")
		if err != nil {
			return err
		}
		err = allNew(
			map[string][]byte{
				*out + ".key.pem": keyPEM,
				*out + ".csr.pem": pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: der}),
			},
		)
		if err != nil {
			return err
		}
		fmt.Fprintf(
			t.err,
			"written: %s.key.pem (private, keep it), %s.csr.pem (for the authority)\n",
			safe.Line(*out),
			safe.Line(*out),
		)
		return nil
	}
	return cmd
}

// allNew writes files that belong together, all of them or, where one is there
// already, none.
func allNew(files map[string][]byte) error {
	for _, path := range slices.Sorted(maps.Keys(files)) {
		if _, err := os.Lstat(path); err == nil {
			return unread{fmt.Errorf("%s: %w; nothing was written", path, user.ErrThere)}
		}
	}
	for path, b := range files {
		if err := user.WriteNew(path, b); err != nil {
			return unread{err}
		}
	}
	return nil
}

func (t *commandLine) trustAuthorityCommand() *cobra.Command {
	var hosts []string
	cmd := &cobra.Command{
		Use:     "authority DIR",
		Example: "  orenda trust authority test-authority --for localhost",
		Short:   "A test authority with a server's and a client's certificate, for local work",
		Args:    cobra.ExactArgs(1),
	}
	cmd.Flags().
		StringArrayVar(&hosts, "for", []string{"localhost", "127.0.0.1", "::1"}, "name or address that the server's "+
			"certificate is for; repeatable")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		root, err := trust.Issue(trust.Wish{Name: "test authority", Authority: true})
		if err != nil {
			return err
		}
		server, err := trust.Issue(trust.Wish{Name: "test server", Hosts: hosts, By: root})
		if err != nil {
			return err
		}
		client, err := trust.Issue(trust.Wish{Name: "test client", Client: true, By: root})
		if err != nil {
			return err
		}
		files := map[string][]byte{}
		for name, p := range map[string]*trust.Pair{"authority": root, "server": server, "client": client} {
			key, err := (&trust.Material{Key: p.Key}).Write(trust.PEMFile, "")
			if err != nil {
				return err
			}
			files[filepath.Join(args[0], name+".pem")], files[filepath.Join(args[0], name+".key.pem")] = trust.PEM(
				p.Cert,
			), key
		}
		if err := allNew(files); err != nil {
			return err
		}
		fmt.Fprintf(
			t.err,
			"written to %s: authority.pem, server.pem, client.pem, and a .key.pem of each\n",
			safe.Line(args[0]),
		)
		return nil
	}
	return cmd
}

// soon is how long before its end a certificate is warned of.
const soon = 30 * 24 * time.Hour

func (t *commandLine) trustExpiringCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "expiring",
		Example: "  orenda trust expiring",
		Short:   "Everything that the workspace depends on, soonest end first; 1 where something ends within 30 days",
		Args:    cobra.NoArgs,
	}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		all := w.Expiring()
		if t.asJSON {
			type row struct {
				What     string    `json:"what"`
				Subject  string    `json:"subject"`
				NotAfter time.Time `json:"notAfter"`
				UsedBy   []string  `json:"usedBy"`
				SHA256   string    `json:"sha256"`
			}
			out := []row{}
			for _, e := range all {
				out = append(
					out,
					row{e.What, e.Cert.Subject.String(), e.Cert.NotAfter.UTC(), e.UsedBy, trust.Fingerprint(e.Cert)},
				)
			}
			if err := t.printJSON(out); err != nil {
				return err
			}
		} else {
			tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
			for _, e := range all {
				fmt.Fprintf(tw, "%s\t%s\t%s\t%s\t%s\n", e.Cert.NotAfter.UTC().Format("2006-01-02"), trust.Left(e.Cert,
					time.Now()), e.What, safe.Line(cutTo(e.Cert.Subject.String(), 60)), safe.Line(strings.Join(e.UsedBy,
					", ")))
			}
			if err := tw.Flush(); err != nil {
				return err
			}
		}
		if len(all) > 0 && time.Until(all[0].Cert.NotAfter) < soon {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) drawChainCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "chain URL|FILE|ENDPOINT",
		Short:   "The chain that a server sends, as it was sent and as it was completed, with the verdict",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda draw chain tides-tls --out chain.pdf",
	}
	set := t.settingFlags(cmd, "address", "expect")
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		chain, x, err := t.chain(cmd.Context(), args[0], set())
		if err != nil {
			return err
		}
		var findings []exchange.Finding
		if x != nil {
			findings = x.Findings
			if l := x.Leg(); l != nil && l.Conn.TLS != nil && len(l.Conn.TLS.Completed) > len(chain) {
				for _, raw := range l.Conn.TLS.Completed[len(chain):] {
					if c, err := x509.ParseCertificate(raw); err == nil {
						chain = append(chain, c)
					}
				}
			}
		}
		sent := len(chain)
		if x != nil && x.Leg() != nil {
			sent = len(x.Leg().Conn.TLS.Chain)
		}
		return keepDrawing(draw.Chain("The chain of "+args[0], chain, sent, findings, time.Now()), *out)
	}
	return cmd
}

// trustAgainst says what a program would say of a chain that trusts a bundle file
// and nothing else.
func (t *commandLine) trustAgainst(chain []*x509.Certificate, x *exchange.Exchange, bundle string) error {
	b, err := os.ReadFile(bundle)
	if err != nil {
		return unread{err}
	}
	trusted, err := trust.Read(b)
	if err != nil {
		return unread{fmt.Errorf("%s: %w", bundle, err)}
	}
	host, usage := "", x509.ExtKeyUsageAny
	if x != nil && x.Leg() != nil && x.Leg().Conn.TLS != nil {
		host, usage = x.Leg().Conn.TLS.ServerName, x509.ExtKeyUsageServerAuth
	} else if names := trust.Names(chain[0]); len(names) > 0 {
		host = names[0]
	}
	v := trust.Judge(chain, trust.Policy{Trusted: trusted, Host: host, Now: time.Now(),
		Usage: usage})
	if t.asJSON {
		faults := []string{}
		for _, f := range v.Faults {
			faults = append(faults, "tls."+f.Reason.String())
		}
		if err := t.printJSON(map[string]any{"trusted": len(v.Faults) == 0, "by": v.By, "faults": faults}); err != nil {
			return err
		}
	} else if len(v.Faults) == 0 {
		fmt.Fprintf(t.out, "a program that trusts %s would take it: %s\n", safe.Line(bundle), v.By)
	} else {
		fmt.Fprintf(t.out, "a program that trusts %s would refuse it\n", safe.Line(bundle))
		for _, f := range v.Faults {
			fmt.Fprintf(t.out, "  tls.%s  %s  %s\n", f.Reason, safe.Line(cutTo(f.Cert.Subject.String(), 60)),
				safe.Line(cutTo(f.Detail, 100)))
		}
	}
	if len(v.Faults) > 0 {
		return status(exitNo)
	}
	return nil
}

func (t *commandLine) trustVersionsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "versions URL|ENDPOINT",
		Example: "  orenda trust versions https://host/",
		Short:   "Which TLS versions a server speaks, asked one by one",
		Args:    cobra.ExactArgs(1),
	}
	set := t.settingFlags(cmd, "address", "expect", "tls-min", "tls-max")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		type row struct {
			Version string `json:"version"`
			Spoken  bool   `json:"spoken"`
			Cipher  string `json:"cipher,omitempty"`
			Why     string `json:"why,omitempty"`
		}
		rows := []row{}
		for _, v := range []string{"1.0", "1.1", "1.2", "1.3"} {
			values := set()
			values["tls-min"], values["tls-max"] = []string{v}, []string{v}
			x, err := t.handshake(cmd.Context(), args[0], values)
			if err != nil {
				return err
			}
			r := row{Version: "TLS " + v}
			if l := x.Leg(); l != nil && l.Conn.TLS != nil && l.Conn.TLS.Version != "" {
				r.Spoken, r.Cipher = true, l.Conn.TLS.Cipher
			} else if c := x.Cause(); c != nil {
				r.Why = c.Title
			}
			rows = append(rows, r)
		}
		if t.asJSON {
			return t.printJSON(rows)
		}
		tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
		for _, r := range rows {
			said := "no   " + r.Why
			if r.Spoken {
				said = "yes  " + r.Cipher
			}
			fmt.Fprintf(tw, "%s\t%s\n", r.Version, safe.Line(said))
		}
		return tw.Flush()
	}
	return cmd
}
