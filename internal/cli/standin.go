package cli

import (
	"fmt"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"orenda/internal/standin"
	"orenda/internal/trust"
)

func (t *commandLine) standinCommand() *cobra.Command {
	var o standin.Options
	var list bool
	cmd := &cobra.Command{
		Use:     "standin",
		Example: "  orenda standin --misbehave wait.timed-out",
		Short:   "Run the simulated services of the Skerry Harbour Trust",
		Args:    cobra.NoArgs,
		Long: "Starts the stand-ins on free loopback ports, prints the table of their addresses,\nand runs until " +
			"interrupted. A path that ends in /~ID misbehaves in that way.",
	}
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
				what := m.What
				if m.Shown[0] != "" {
					what += fmt.Sprintf(" (to a call with %s = %s)", m.Shown[0], m.Shown[1])
				}
				fmt.Fprintf(tw, "%s\t%s\n", m.ID, what)
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
			fmt.Fprintf(t.out, "\nuser %s, password “%s”; certificate SHA-256 %s\n", standin.User, standin.Password,
				trust.Grouped(trust.Fingerprint(h.Cert.Cert)))
		}
		t.lingers.Add(1)
		<-cmd.Context().Done()
		return nil
	}
	return cmd
}
