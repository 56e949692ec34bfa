package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/expect"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/soap"
	"orenda/internal/workspace"
	"orenda/internal/xmltree"
)

func (t *commandLine) draftCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "draft", Short: "The filled-in messages of the workspace"}
	remove := &cobra.Command{Use: "remove DRAFT…",
		Example: "  orenda draft remove \"FindBerths/small craft\"",
		Short:   "Take drafts away; orenda restore brings them back",
		Args:    cobra.MinimumNArgs(1)}
	remove.RunE = func(_ *cobra.Command, args []string) error {
		return t.in(func(w *workspace.Workspace) error {
			for _, a := range args {
				ref, err := w.FindDraft(a)
				if err == nil {
					err = w.RemoveDraft(ref)
				}
				if err != nil {
					return unread{err}
				}
				fmt.Fprintf(t.aside(), "removed: %s\n", safe.Line(ref.String()))
			}
			return nil
		})
	}
	cmd.AddCommand(t.draftListCommand(), remove, t.draftImportCommand(), t.draftDiffersCommand(),
		t.draftOwnCommand("expect", "EXPECTATION",
			"What the answer must be: FIELD=VALUE, FIELD~PATTERN, count(FIELD)>=1, valid, within=2s, fault=CODE, …",
			"  orenda draft expect 'FindBerths/small craft' 'count(berth)>=1' valid within=2s\n"+
				"  orenda draft expect LookUp/nobody 'fault*=not known'"),
		t.draftOwnCommand("header", "NAME:VALUE", "HTTP fields that go with it",
			"  orenda draft header FindBerths/first 'X-Desk: north'"),
		t.draftOwnCommand("secret", "FIELD", "Fields of it that are secret: masked wherever they are shown or kept",
			"  orenda draft secret LogIn/first pin vessel/code"),
		t.draftOwnCommand("attach", "FILE", "Files that go with it", "  orenda draft attach File/first plan.pdf"))
	return cmd
}

// draftOwnCommand shows, or sets, what belongs to a draft rather than to its endpoint.
func (t *commandLine) draftOwnCommand(key, what, short, example string) *cobra.Command {
	cmd := &cobra.Command{
		Use: key + " DRAFT [" + what + "…]", Short: short, Args: cobra.MinimumNArgs(1), Example: example,
		Long: short + ".\nWithout any, those that are set are printed; what is given takes their place.",
	}
	none := cmd.Flags().Bool("none", false, "take them away: the endpoint's hold again")
	var as []string
	var endpointName string
	asCame := false
	if key == "expect" {
		cmd.Flags().StringSliceVar(&as, "as", nil, "what was the same in these kept exchanges of it: id,id")
		cmd.Flags().BoolVar(&asCame, "as-came", false,
			"send it twice, and expect what came back both times; what changes from call to call is left out")
		cmd.Flags().StringVar(&endpointName, "endpoint", "", "with --as-came: over this endpoint")
	}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		ref, err := w.FindDraft(args[0])
		if err != nil {
			return unread{err}
		}
		values := args[1:]
		if asCame || len(as) > 0 {
			if values, err = t.asCame(cmd.Context(), w, ref, endpointName, as); err != nil {
				return err
			}
			for _, v := range values {
				fmt.Fprintln(t.out, safe.Line(v))
			}
		}
		if len(values) == 0 && !*none {
			for _, v := range w.Config().DraftSettings[ref.ID()].Own[key] {
				fmt.Fprintln(t.out, safe.Line(v))
			}
			return nil
		}
		for i, v := range values {
			if err := endpoint.KeyOf(key).Check(v); err != nil {
				return err
			}
			if values[i], err = w.TypedFile(endpoint.KeyOf(key), v); err != nil {
				return unread{err}
			}
			if key != "expect" {
				continue
			}
			if _, err := expect.Parse(v); err != nil {
				return err
			}
		}
		if err := w.SetDraftOwn(ref, key, values); err != nil {
			return unread{err}
		}
		return nil
	}
	return cmd
}

// asCame are expectations from replies that came: of kept exchanges, or of two calls that are made.
func (t *commandLine) asCame(
	ctx context.Context, w *workspace.Workspace, ref workspace.DraftRef, endpointName string, ids []string,
) ([]string, error) {
	var replies []*soap.Envelope
	take := func(x *exchange.Exchange) {
		if l := x.Leg(); l != nil {
			if d, err := xmltree.ParseEncoded(l.Readable(), "", xmltree.Limits{}); err == nil {
				if e := soap.Read(d); e != nil {
					replies = append(replies, e)
				}
			}
		}
	}
	for _, id := range ids {
		x, err := t.keptExchange(id)
		if err != nil {
			return nil, err
		}
		take(x)
	}
	const twice = 2
	if len(ids) == 0 {
		if w.Config().DraftSettings[ref.ID()].Changes {
			return nil, fmt.Errorf("%s changes things at the service, and is not sent twice; --as takes kept exchanges",
				ref)
		}
		plan, err := w.Plan(ref, endpointName, "")
		if err != nil {
			return nil, err
		}
		if plan.NoEndpoint != nil {
			return nil, plan.NoEndpoint
		}
		plan.Settings.Set("expect")
		j := t.keeping()
		for range twice {
			x := call.New(plan, nil).Run(ctx)
			if err := t.add(j, x); err != nil {
				t.complain(fmt.Errorf("the exchange was not kept: %w", err))
			}
			take(x)
		}
	}
	out := expect.AsCame(replies)
	if len(out) == 0 {
		return nil, unread{errors.New("the replies have nothing in common that could be expected")}
	}
	return out, nil
}

type draftRow struct {
	Contract  string `json:"contract"`
	PortType  string `json:"portType"`
	Operation string `json:"operation"`
	Name      string `json:"name"`
	Bytes     int    `json:"bytes"`
	Unfilled  int    `json:"unfilled"`
	Valid     bool   `json:"valid"`
	Header    bool   `json:"header"`
}

func (t *commandLine) draftListCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "list",
		Example: "  orenda draft list", Short: "All drafts, by operation", Args: cobra.NoArgs}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		out := []draftRow{}
		for _, r := range w.Drafts() {
			o, err := w.OpenDraft(r)
			d, h := o.Body, o.Header
			if err != nil {
				return unread{err}
			}
			row := draftRow{
				r.Contract,
				r.PortType,
				r.Operation,
				r.Name,
				len(d.Bytes()),
				len(d.Unfilled()) + len(h.Unfilled()),
				d.Err() == nil && len(d.Validate()) == 0,
				len(h.Blocks()) > 0,
			}
			out = append(out, row)
			if t.asJSON {
				continue
			}
			state := "valid"
			switch {
			case d.Err() != nil:
				state = "not well-formed"
			case row.Unfilled > 0:
				state = fmt.Sprintf("%d to fill in", row.Unfilled)
			case !row.Valid:
				state = "breaks its schema"
			}
			fmt.Fprintf(
				t.out,
				"%-50s %8d B  %-18s %s\n",
				safe.Line(r.String()),
				row.Bytes,
				state,
				safe.Line(r.Contract),
			)
		}
		if t.asJSON {
			return t.printJSON(out)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) draftImportCommand() *cobra.Command {
	var name, id string
	cmd := &cobra.Command{
		Use:     "import [FILE|-]",
		Example: "  orenda draft import sent.xml", Short: "Make a draft of a message that came from elsewhere",
		Args: cobra.MaximumNArgs(1),
		Long: "Takes a raw envelope, a body element, or the command line of an HTTP client with\nits body or body " +
			"file; or, with --exchange, the request of a kept exchange. The\noperation is recognised by the body " +
			"element. An envelope is kept byte for byte.",
	}
	cmd.Flags().StringVar(&name, "name", "imported", "name of the draft")
	cmd.Flags().StringVar(&id, "exchange", "", "take the request of this kept exchange")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		if (id == "") == (len(args) == 0) {
			return errors.New("name a file, - for standard input, or --exchange ID")
		}
		if id != "" {
			j, err := t.journal()
			if err != nil {
				return unread{err}
			}
			x, err := j.Get(id)
			if err != nil {
				return unread{err}
			}
			l := x.Leg()
			if l == nil {
				return unread{fmt.Errorf("nothing was sent in %s", id)}
			}
			r, err := w.ImportSent(l.Sent(), name)
			if err != nil {
				return unread{err}
			}
			fmt.Fprintln(t.out, safe.Line(r.String()))
			return nil
		}
		src, err := os.ReadFile(args[0])
		if args[0] == "-" {
			src, err = io.ReadAll(io.LimitReader(os.Stdin, 64<<20))
		}
		if err != nil {
			return unread{err}
		}
		beside := filepath.Dir(args[0])
		h, err := message.Take(string(src), func(file string) ([]byte, error) {
			if !filepath.IsAbs(file) {
				file = filepath.Join(beside, file)
			}
			return os.ReadFile(file)
		})
		if err != nil {
			return unread{err}
		}
		r, left, err := w.TakeIn(h, name)
		if err != nil {
			return unread{err}
		}
		fmt.Fprintln(t.out, safe.Line(r.String()))
		for _, l := range left {
			fmt.Fprintln(t.out, "  not in the draft: "+safe.Line(l))
		}
		return nil
	}
	return cmd
}

type draftDifference struct {
	Path string  `json:"path"`
	A    *string `json:"a"`
	B    *string `json:"b"`
}

func (t *commandLine) draftDiffersCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "differs DRAFT DRAFT", Short: "The values in which two drafts of an operation differ",
		Args: cobra.ExactArgs(2),
		Long: "Exit status 1 where they differ.", Example: "  orenda draft differs \"FindBerths/small craft\" " +
			"\"FindBerths/deep draught\"",
	}
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		var d [2]workspace.Opened
		var r [2]workspace.DraftRef
		for i, a := range args {
			if r[i], err = w.FindDraft(a); err != nil {
				return unread{err}
			}
			if d[i], err = w.OpenDraft(r[i]); err != nil {
				return unread{err}
			}
		}
		out := []draftDifference{}
		for _, x := range w.Differences(r[0], r[1], d[0], d[1]) {
			row := draftDifference{Path: x.Path}
			if x.HasA {
				row.A = &x.A
			}
			if x.HasB {
				row.B = &x.B
			}
			out = append(out, row)
			if !t.asJSON {
				say := func(v *string) string {
					if v == nil {
						return "(left out)"
					}
					return safe.Line(safe.Visible(*v))
				}
				fmt.Fprintf(t.out, "%-32s %-28s %s\n", safe.Line(x.Path), say(row.A), say(row.B))
			}
		}
		if t.asJSON {
			if err := t.printJSON(out); err != nil {
				return err
			}
		}
		if len(out) > 0 {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}
