package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"orenda/internal/diagnose"
	"orenda/internal/draw"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// limitFlags say whose limits are meant.
type limitFlags struct {
	endpoint, profile string
	settings          func() map[string][]string
}

func (f *limitFlags) add(t *commandLine, cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.endpoint, "endpoint", "", "the limits of this endpoint")
	cmd.Flags().StringVar(&f.profile, "profile", "", "the limits of this profile, of the workspace or your own")
	f.settings = t.settingFlags(cmd, "address", "expect", "header", "trust")
}

// limits are the settings whose limits are meant: those of a profile, of an
// endpoint, or the defaults; with what flags say on top.
func (t *commandLine) limits(f *limitFlags) (*endpoint.Settings, error) {
	var s endpoint.Settings
	if f.endpoint != "" || f.profile != "" {
		w, err := t.workspace()
		if err != nil {
			return nil, err
		}
		switch {
		case f.endpoint != "" && w.Endpoint(f.endpoint) == nil:
			return nil, fmt.Errorf("there is no endpoint %s", f.endpoint)
		case f.endpoint != "":
			s = w.Settings(f.endpoint)
		default:
			values := w.Config().Profiles[f.profile]
			if values == nil {
				yours, err := w.Personal()
				if err != nil {
					return nil, unread{err}
				}
				values = yours[f.profile]
			}
			if values == nil {
				return nil, fmt.Errorf("there is no profile %s", f.profile)
			}
			s.Layers = []endpoint.Layer{{Source: "profile " + f.profile, Values: values}}
		}
	}
	for name, v := range f.settings() {
		s.Set(name, v...)
	}
	return &s, nil
}

//revive:disable-next-line:function-length a command: its flags, and what it does with them
func (t *commandLine) limitsCommand() *cobra.Command {
	var f limitFlags
	cmd := &cobra.Command{
		Use:   "limits OPERATION|EXCHANGE",
		Short: "Which limit would do, and what a program with other limits would say",
		Args:  cobra.ExactArgs(1),
		Long: `For an operation: the sizes of its kept replies, and the limit that would do.
For a kept exchange: where a program with the limits of a profile, of an
endpoint or of the flags would have refused the reply, without calling again.
Exit status 1 where it would have.`,
		Example: "  orenda limits YearTable\n  orenda limits last --profile harbour-11\n  orenda limits last " +
			"--receive-limit '64 KiB' --depth-limit 32",
	}
	f.add(t, cmd)
	t.jsonFlag(cmd)
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		s, err := t.limits(&f)
		if err != nil {
			return err
		}
		operation := args[0]
		var refusals []diagnose.Refusal
		x, xerr := j.Get(args[0])
		if xerr == nil && x.Leg() != nil {
			operation = x.Operation
			refusals = diagnose.WouldRefuse(x, s)
		} else {
			x = nil
		}
		sizes := diagnose.SizesOf(j.ReplySizes(operation, x))
		if x == nil && sizes.Count == 0 {
			return unread{
				fmt.Errorf("%s is no kept exchange, and no reply to an operation of that name was kept", args[0]),
			}
		}
		would, why := sizes.Proposal()
		if t.asJSON {
			type refusal struct {
				Setting string `json:"setting"`
				Limit   int64  `json:"limit"`
				Actual  int64  `json:"actual"`
				Offset  int64  `json:"offset"`
				Why     string `json:"why"`
			}
			out := struct {
				Operation string    `json:"operation"`
				Replies   int       `json:"replies"`
				Largest   int64     `json:"largest"`
				P99       int64     `json:"p99"`
				Proposed  int64     `json:"proposed"`
				Why       string    `json:"why"`
				Refused   []refusal `json:"refused"`
			}{operation, sizes.Count, sizes.Largest, sizes.P99, would, why, []refusal{}}
			for _, r := range refusals {
				out.Refused = append(out.Refused, refusal{r.Key, r.Limit, r.Actual, r.At, r.Words})
			}
			if err := t.printJSON(out); err != nil {
				return err
			}
		} else {
			fmt.Fprintf(t.out, "%s: %s\n", safe.Line(operation), safe.Line(why))
			if would > 0 {
				fmt.Fprintf(t.out, "proposed: %s\n", endpoint.FormatSize(would))
			}
			for _, key := range []string{"receive-limit", "buffer-limit"} {
				v := s.Get(key)
				if n, err := s.Size(key); err == nil && x == nil {
					fmt.Fprintf(t.out, "%s %s (%s) would refuse %d of them\n", v.Key.Label(), safe.Line(v.Text),
						safe.Line(v.Source), sizes.Over(n))
				}
			}
			for _, r := range refusals {
				fmt.Fprintf(t.out, "would refuse %s: %s\n", x.ID, safe.Line(r.Words))
			}
			if x != nil && len(refusals) == 0 {
				fmt.Fprintf(t.out, "would take %s\n", x.ID)
			}
		}
		if len(refusals) > 0 {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) drawLimitsCommand() *cobra.Command {
	var f limitFlags
	cmd := &cobra.Command{
		Use:     "limits OPERATION",
		Short:   "The sizes of an operation's kept replies against the limits",
		Args:    cobra.ExactArgs(1),
		Example: "  orenda draw limits YearTable --endpoint tides-tls --out limits.svg",
	}
	f.add(t, cmd)
	out := cmd.Flags().String("out", "", "file to write, .svg or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		j, err := t.journal()
		if err != nil {
			return err
		}
		s, err := t.limits(&f)
		if err != nil {
			return err
		}
		sizes := diagnose.SizesOf(j.ReplySizes(args[0], nil))
		title := "Replies to " + args[0]
		if f.endpoint != "" {
			title += " against the limits of " + f.endpoint
		} else if f.profile != "" {
			title += " against the limits of the profile " + f.profile
		}
		return keepDrawing(draw.Limits(title, sizes, draw.MarksOf(s)), *out)
	}
	return cmd
}

// survey prints what is wrong with the workspace as a whole.
func (t *commandLine) survey(w *workspace.Workspace) []exchange.Finding {
	all := w.Survey().Run()
	if t.asJSON {
		return all
	}
	for i, f := range all {
		if i == 0 {
			fmt.Fprintln(t.aside(), "the workspace as a whole")
		}
		t.printFinding(0, f, false)
	}
	return all
}
