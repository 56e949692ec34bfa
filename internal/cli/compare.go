package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/compare"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

func (t *commandLine) compareCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "compare A B",
		Short: "Tell in what two calls differ",
		Long: `Compares settings, how far each came, heads, and messages as trees. A and B are each
an exchange (its id, any unique part of it, or last), a draft (OPERATION/NAME@ENDPOINT),
or a file: an envelope, a body element, an HTTP message, or an HTTP archive with #N.

What differs between any two calls (prefixes, times, ids, nonces, boundaries) is set
aside and counted; --all shows it. The exit code is 0 where they are the same but for
that, 1 where they differ, 3 where one cannot be read or nothing is known of both.`,
		Example: "  orenda compare 7k2m last\n  orenda compare FindBerths/small@berths-11 last --json\n" +
			"  orenda compare theirs.har#3 last",
		Args: cobra.ExactArgs(2),
	}
	all := cmd.Flags().Bool("all", false, "what is set aside too")
	env := cmd.Flags().String("env", "", "environment of the workspace, for drafts")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var sides [2]*compare.Side
		for i, a := range args {
			s, err := t.side(cmd.Context(), a, *env)
			if err != nil {
				return unread{fmt.Errorf("%s: %w", a, err)}
			}
			sides[i] = s
		}
		r := compare.Sides(sides[0], sides[1], *all)
		if r.Nothing {
			return unread{fmt.Errorf("nothing of %s can be held against %s: what is known of one is not known of the "+
				"other", args[0], args[1])}
		}
		if t.asJSON {
			if err := t.printJSON(r); err != nil {
				return err
			}
		} else {
			t.tellDifferences(sides, r)
		}
		if !r.Same {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) tellDifferences(sides [2]*compare.Side, r *compare.Report) {
	if r.Same {
		fmt.Fprintf(t.out, "%s and %s are the same; %s\n",
			safe.Line(sides[0].Name), safe.Line(sides[1].Name), r.Aside())
	} else {
		fmt.Fprintf(t.out, "%s  ·  %s        %s\n", safe.Line(sides[0].Name), safe.Line(sides[1].Name), r.Count())
	}
	value := func(p *compare.Place) string { return safe.Line(cutEnd(p.Said(), 90)) }
	for _, d := range r.Differences {
		lead := ""
		if d.Aside {
			lead = "  (set aside)"
		}
		fmt.Fprintf(t.out, "\n  %-13s  %s  %s%s\n", d.Where, safe.Line(d.Path), d.Kind, lead)
		fmt.Fprintf(t.out, "    a   %s\n    b   %s\n", value(d.A), value(d.B))
		if d.Why != "" {
			fmt.Fprintf(t.out, "        %s\n", safe.Line(d.Why))
		}
	}
}

// side finds what a person named: a file, a draft or an exchange.
func (t *commandLine) side(ctx context.Context, name, env string) (*compare.Side, error) {
	file, number, _ := strings.Cut(name, "#")
	if b, err := os.ReadFile(file); err == nil {
		return sideOfFile(ctx, name, b, number)
	} else if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	if draft, end, is := strings.Cut(name, "@"); is || strings.Contains(name, "/") {
		return t.sideOfDraft(ctx, draft, end, env)
	}
	x, err := t.keptExchange(name)
	if err != nil {
		var u unread
		if errors.As(err, &u) {
			err = u.error
		}
		return nil, err
	}
	s := compare.Exchange(x)
	s.Name = fmt.Sprintf("%s %s %s", x.Operation, x.Started.Local().Format("15:04:05"), x.Outcome)
	return s, nil
}

func sideOfFile(ctx context.Context, name string, b []byte, number string) (*compare.Side, error) {
	var w *call.Imported
	switch start := bytes.TrimSpace(bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))); {
	case len(start) > 0 && start[0] == '{':
		all, err := call.FromHAR(b)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			if number == "" || strconv.Itoa(e.Number) == number {
				w = e.Imported
				break
			}
		}
		if w == nil {
			return nil, fmt.Errorf("the archive has no entry %s that carries XML", number)
		}
	case bytes.HasPrefix(start, []byte("HTTP/")):
		var err error
		if w, err = call.ImportedFrom(nil, b); err != nil {
			return nil, err
		}
	default:
		var err error
		if w, err = call.ImportedFrom(b, nil); err != nil {
			return nil, err
		}
		if len(w.Header) == 0 {
			return sideOfXML(name, w.Body), nil
		}
	}
	s := compare.Exchange(call.Explain(ctx, call.Plan{Agent: call.Agent, Operation: "compared"}, w))
	s.Name, s.Settings, s.Reach, s.Outcome = name, nil, 0, ""
	if w.Body != nil {
		s.Request = w.Body
	}
	s.RequestHead = nil
	if len(w.Header) > 0 {
		s.RequestHead = &exchange.Head{}
		for _, f := range w.Header {
			s.RequestHead.Fields = append(s.RequestHead.Fields, exchange.Header{Name: f[0], Value: f[1]})
		}
	}
	return s, nil
}

// sideOfXML is a message without its head: a reply, if it says so.
func sideOfXML(name string, b []byte) *compare.Side {
	s := &compare.Side{Name: name, Request: b}
	if compare.IsReply(b) {
		s.Request, s.Response = nil, b
	}
	return s
}

func (t *commandLine) sideOfDraft(ctx context.Context, draft, end, env string) (*compare.Side, error) {
	w, err := t.workspace()
	if err != nil {
		return nil, err
	}
	ref, err := w.FindDraft(draft)
	if err != nil {
		return nil, err
	}
	plan, err := w.Plan(ref, end, env)
	if err != nil {
		return nil, err
	}
	x, envelope := call.Compose(ctx, plan)
	if envelope == nil {
		if c := x.Cause(); c != nil {
			return nil, errors.New(c.Title)
		}
		return nil, errors.New("its message cannot be made")
	}
	return &compare.Side{Name: ref.String() + " → " + plan.Endpoint, Settings: x.Settings, Request: envelope}, nil
}
