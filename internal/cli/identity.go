package cli

import (
	"cmp"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"orenda/internal/identity"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

func (t *commandLine) identityCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "identity",
		Short: "Who you are towards services: list, set, remove, and where each may go",
		Long: "Identities are your own, for all workspaces, and hold no secret: each says where\nits secret comes " +
			"from. Where one may go is said for each workspace.",
	}
	list := &cobra.Command{
		Use:     "list",
		Example: "  orenda identity list",
		Short:   "Your identities, what uses them here and where they may go from here",
		Args:    cobra.NoArgs,
	}
	t.jsonFlag(list)
	list.RunE = func(*cobra.Command, []string) error { return t.listIdentities() }

	set := &cobra.Command{
		Use:   "set NAME KEY=VALUE...",
		Short: "Set values, of a new identity too; an empty one takes it out",
		Args:  cobra.MinimumNArgs(2),
		Long: "Keys: " + strings.Join(
			identity.Keys(),
			", ",
		) + ".\nA secret is never given itself, only where it is: env:VAR, file:PATH,\ncommand:CMD, keyring:NAME or " +
			"age:PATH.",
		Example: "  orenda identity set pilot-desk user=pilot-desk secret=env:PILOT_WORD\n  orenda identity set " +
			"clerk certificate=clerk.p12 secret=keyring:clerk",
	}
	set.RunE = func(_ *cobra.Command, args []string) error { return t.setIdentity(args[0], args[1:]) }

	remove := &cobra.Command{Use: "remove NAME",
		Example: "  orenda identity remove pilot-desk", Short: "Take an identity away", Args: cobra.ExactArgs(1)}
	remove.RunE = func(_ *cobra.Command, args []string) error {
		home, err := t.home()
		if err != nil {
			return err
		}
		if _, err := home.Identity(args[0]); err != nil { // which names a near miss
			return err
		}
		return home.RemoveIdentity(args[0])
	}

	allow := &cobra.Command{
		Use:     "allow NAME URL",
		Short:   "Let an identity go to the host of an address, from this workspace",
		Args:    cobra.ExactArgs(2),
		Example: "  orenda identity allow pilot-desk https://desk.skerry.test:8443/",
	}
	allow.RunE = func(_ *cobra.Command, args []string) error {
		place, err := placeOf(args[1])
		if err != nil {
			return err
		}
		return t.in(func(w *workspace.Workspace) error {
			if _, err := w.Home.Identity(args[0]); err != nil {
				return err
			}
			if err := w.Home.Allow(w.ID(), args[0], place); err != nil {
				return unread{err}
			}
			fmt.Fprintln(t.out, safe.Line(args[0]+" may go to "+place))
			return nil
		})
	}
	disallow := &cobra.Command{
		Use:     "disallow NAME",
		Example: "  orenda identity disallow pilot-desk",
		Short:   "Take back where an identity may go from this workspace",
		Args:    cobra.ExactArgs(1),
	}
	disallow.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			if err := w.Home.Disallow(w.ID(), args[0]); err != nil {
				return unread{err}
			}
			return nil
		})
	}
	cmd.AddCommand(list, set, remove, allow, disallow)
	return cmd
}

func (t *commandLine) setIdentity(name string, args []string) error {
	home, err := t.home()
	if err != nil {
		return err
	}
	all, err := home.Identities()
	if err != nil {
		return unread{err}
	}
	id := identity.Identity{Name: name}
	if all[name] != nil {
		id = *all[name]
	}
	for _, a := range args {
		key, value, ok := strings.Cut(a, "=")
		if !ok {
			return fmt.Errorf("what should be KEY=VALUE has no =") // it may be a secret: not repeated
		}
		if err := id.Set(key, value); err != nil {
			return err
		}
	}
	return home.SaveIdentity(id)
}

func (t *commandLine) listIdentities() error {
	home, err := t.home()
	if err != nil {
		return err
	}
	all, err := home.Identities()
	if err != nil {
		return unread{err}
	}
	type row struct {
		Name        string   `json:"name"`
		User        string   `json:"user"`
		Secret      string   `json:"secret"` // its source
		Certificate string   `json:"certificate,omitempty"`
		LogIn       string   `json:"log-in,omitempty"` // address
		Uses        []string `json:"uses"`             // of this workspace
		MayGoTo     []string `json:"may-go-to"`        // from this workspace
	}
	w, _ := workspace.Open(orDot(t.dir), home) // nil where there is none: the identities are there all the same
	rows := []row{}
	for _, id := range all {
		r := row{id.Name, id.User, id.Secret, id.Certificate, id.Get("log-in.address"), []string{}, []string{}}
		if w != nil {
			r.Uses, r.MayGoTo = append(r.Uses, w.UsesOf(id.Name)...), append(r.MayGoTo, home.Places(w.ID(), id.Name)...)
		}
		rows = append(rows, r)
	}
	slices.SortFunc(rows, func(a, b row) int { return strings.Compare(a.Name, b.Name) })
	if t.asJSON {
		return t.printJSON(rows)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, r := range rows {
		what := cmp.Or(r.Secret, "no secret")
		if r.Certificate != "" {
			what += ", certificate " + r.Certificate
		}
		if r.LogIn != "" {
			what += ", log-in " + r.LogIn
		}
		fmt.Fprintf(
			tw,
			"%s\t%s\t%s\t%s\t%s\n",
			safe.Line(r.Name),
			safe.Line(r.User),
			safe.Line(what),
			safe.Line(strings.Join(r.Uses, ", ")),
			safe.Line(strings.Join(r.MayGoTo, " ")),
		)
	}
	return tw.Flush()
}

// placeOf is scheme://host:port of an address.
func placeOf(address string) (string, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", fmt.Errorf("%q is no address of http or https", address)
	}
	port := map[string]string{"http": "80", "https": "443"}[u.Scheme]
	return u.Scheme + "://" + u.Hostname() + ":" + cmp.Or(u.Port(), port), nil
}
