package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// callFlags are the flags of call and check.
type callFlags struct {
	contract, port, endpoint, env, body, user, secretFrom, until string
	keySecretFrom, p12                                           string
	reply                                                        replyFlags
	repair, reveal, again, anything, checks, raw, asItIs         bool
	allow                                                        []string
	settings                                                     func() map[string][]string
}

// source adds the flags that say what is called, and as whom.
func (f *callFlags) source(fl *pflag.FlagSet) {
	fl.StringVar(&f.contract, "contract", "", "description to call by, FILE or URL; needs no workspace")
	fl.StringVar(&f.port, "port", "", "port of the description")
	fl.StringVar(&f.env, "env", "", "environment of the workspace")
	fl.StringVar(&f.user, "user", "", "user name, with --secret-from")
	fl.StringVar(&f.secretFrom, "secret-from", "", "where the user's secret is: env:VAR, file:PATH or command:CMD")
}

func (f *callFlags) add(t *commandLine, cmd *cobra.Command) {
	fl := cmd.Flags()
	f.source(fl)
	fl.StringVar(&f.endpoint, "endpoint", "", "endpoint of the workspace")
	fl.StringVar(&f.body, "body", "", "file with the body element, or with a whole envelope")
	fl.StringVar(
		&f.p12,
		"client-p12",
		"",
		"the client's certificate and key in a PKCS#12 file: another name for --client-cert",
	)
	fl.StringVar(
		&f.keySecretFrom,
		"key-secret-from",
		"",
		"where the password of the client's key is: env:VAR, file:PATH or command:CMD",
	)
	settings := t.settingFlags(cmd)
	f.settings = func() map[string][]string {
		out := settings()
		if f.p12 != "" {
			out["client-cert"] = []string{f.p12}
		}
		return out
	}
}

func (t *commandLine) callCommand() *cobra.Command {
	var f callFlags
	cmd := &cobra.Command{
		Use: "call DRAFT|OPERATION [FIELD=VALUE...]", Short: "Send one call, and show its path",
		Args: cobra.MinimumNArgs(1),
		Long: `In a workspace, sends a draft (OPERATION, OPERATION/NAME or NAME) over an
endpoint. With --contract, calls an operation of a description without any
workspace. FIELD=VALUE sets a field by its path in the message, for this call.

The path goes to standard error, the reply alone to standard output. The exit
status is 0 where the call reached the end of the path, and 10 + the number of
the stage where it stopped (11 address … 21 verify).`,
		Example: `  orenda call YearTable --endpoint tides-tls
  orenda call FindBerths length=12 window/from=2027-05-01 window/until=2027-05-03 \
      --contract http://127.0.0.1:8080/berths?wsdl --port BerthDesk11
  orenda call FindBerths --body find.xml --contract berths.wsdl --until tls`,
	}
	f.add(t, cmd)
	t.jsonFlag(cmd)
	cmd.Flags().StringVar(&f.until, "until", "", "go no further than this stage")
	f.reply.add(cmd.Flags(), "fields")
	cmd.Flags().BoolVar(&f.raw, "raw", false, "with --reply exact: the bytes as they are to a terminal too")
	cmd.Flags().BoolVar(&f.repair, "repair", false,
		"apply remedies that cost nothing and send again, at most eight times")
	cmd.Flags().StringSliceVar(&f.allow, "allow", nil,
		"with --repair: costs that remedies may have: trust, secrecy, log-in, message, repeats")
	cmd.Flags().BoolVar(&f.again, "again", false, "with --repair, send again also what changes things at the service")
	cmd.Flags().
		BoolVar(&f.anything, "accept-anything", false, "accept whatever certificate is shown, for this call only; no "+
			"secret is sent then")
	cmd.Flags().BoolVar(&f.asItIs, "as-it-is", false,
		"send the message also where values are not filled in, or where it breaks its schema")
	cmd.Flags().
		BoolVar(&f.checks, "checks", false, "where it fails, make the cheap checks that tell what is behind it; no "+
			"message and no secret is sent")
	cmd.Flags().BoolVar(&f.reveal, "reveal", false, "do not mask secrets in what is printed")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if err := f.reply.settle(); err != nil {
			return err
		}
		if f.raw && f.reply.how == "exact" {
			f.reply.how = "raw"
		}
		if isPattern(args[0]) {
			return t.callMany(cmd.Context(), &f, args)
		}
		return t.call(cmd.Context(), &f, args)
	}
	return cmd
}

// prepared is a call that can be planned again after each repair.
type prepared struct {
	w     *workspace.Workspace
	ref   workspace.DraftRef
	end   string
	f     *callFlags
	extra map[string][]string
	args  []string // FIELD=VALUE
	bad   error    // why there is no such draft or operation
}

func (t *commandLine) prepare(ctx context.Context, f *callFlags, args []string) (*prepared, error) {
	p := &prepared{f: f, extra: f.settings(), args: args[1:], end: f.endpoint}
	if f.contract == "" {
		w, err := t.workspace()
		if err != nil {
			return nil, err
		}
		p.w = w
		p.ref, err = w.FindDraft(args[0])
		var op *endpoint.OperationError
		if errors.As(err, &op) {
			p.bad = op
			p.ref.Operation = op.Name
			return p, nil
		}
		if err != nil {
			return nil, err
		}
		if f.port != "" {
			for _, e := range w.Serving(p.ref.Contract, p.ref.Operation) {
				if e.Port == f.port {
					p.end = e.Name
				}
			}
		}
		return p, nil
	}
	if f.user != "" {
		t.as = &identity.Identity{Name: f.user, User: f.user, Secret: f.secretFrom}
	}
	t.keyFrom = f.keySecretFrom
	fetched, err := t.contractFrom(ctx, f.contract, forDescription(p.extra))
	if err != nil {
		return nil, err
	}
	h, err := t.home()
	if err != nil {
		return nil, err
	}
	p.w = workspace.New("call", h)
	name, err := p.w.AddContract(fetched.Contract, fetched.Served)
	if err != nil {
		return nil, err
	}
	p.ref = workspace.DraftRef{Contract: name, Operation: args[0], Name: "first"}
	names := fetched.Contract.OperationNames()
	if !slices.Contains(names, args[0]) {
		p.bad = &endpoint.OperationError{
			Name:   args[0],
			Near:   near.Miss(args[0], names),
			Others: names,
			Unread: fetched.Contract.NotRead(),
		}
		return p, nil
	}
	for _, d := range p.w.Drafts() {
		if d.Operation == args[0] {
			p.ref = d
		}
	}
	if f.port != "" {
		p.end = f.port
		for _, e := range p.w.Config().Endpoints {
			if e.Port == f.port {
				p.end = e.Name
			}
		}
	}
	return p, nil
}

// plan plans the call anew.
//
//revive:disable-next-line:function-length a command: its flags, and what it does with them
//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func (p *prepared) plan(t *commandLine) (call.Plan, error) {
	if p.bad != nil {
		return call.Plan{
			Workspace:  p.w.ID(),
			Operation:  p.ref.Operation,
			Endpoint:   p.end,
			NoEndpoint: p.bad,
			Agent:      call.Agent,
		}, nil
	}
	plan, err := p.w.Plan(p.ref, p.end, p.f.env)
	if err != nil {
		return plan, unread{err}
	}
	for name, v := range p.extra {
		plan.Settings.Set(name, v...)
	}
	plan.ReadFile = func(path string) ([]byte, error) {
		// Files named on the command line are read as they are; those that a
		// workspace names lie in it.
		for _, key := range []string{"trust", "intermediates", "reply-trust", "client-cert", "client-key",
			"encrypt-to", "token-file"} {
			if slices.Contains(p.extra[key], path) {
				return os.ReadFile(path)
			}
		}
		for _, a := range p.extra["attach"] {
			if _, file, ok := strings.Cut(a, "="); ok && file == path {
				return os.ReadFile(path)
			}
		}
		return p.w.ReadFile(path)
	}
	if p.f.user != "" {
		_, httpToo := p.extra["http-auth"]
		if _, ok := p.extra["token"]; !ok && !httpToo {
			plan.Settings.Set("token", "text")
		}
		plan.Settings.Set("identity", p.f.user)
		plan.Identity = func(string) (*identity.Identity, error) {
			return &identity.Identity{Name: p.f.user, User: p.f.user, Secret: p.f.secretFrom}, nil
		}
		plan.Allowed = nil // said on the command line, so it is meant
	}
	plan.SkipVerify, plan.AsItIs = p.f.anything, p.f.asItIs
	if p.f.keySecretFrom != "" {
		opensKey(&plan, p.f.keySecretFrom)
	}
	if p.f.until != "" {
		if plan.Until, err = exchange.ParseStage(p.f.until); err != nil {
			return plan, err
		}
	}
	if j, err := t.journal(); err == nil {
		plan.History = j
	}
	if plan.NoEndpoint != nil {
		return plan, nil
	}
	if p.f.body != "" {
		src, err := os.ReadFile(p.f.body)
		if err != nil {
			return plan, unread{err}
		}
		plan.SetDraft(src)
	}
	if len(p.args) == 0 {
		return plan, nil
	}
	h := plan.Header
	d := message.NewDraft(plan.Draft.Schemas, plan.Draft.Decl, plan.Draft.Bytes())
	for _, a := range p.args {
		path, value, ok := strings.Cut(a, "=")
		if !ok {
			return plan, fmt.Errorf("%q is not FIELD=VALUE", a)
		}
		to := d
		if block, ok := strings.CutPrefix(path, "header:"); ok {
			if h == nil {
				return plan, fmt.Errorf("%s: the contract declares no header block for %s", path, plan.Operation)
			}
			path, to = block, h
		}
		if err := to.Set(path, value); err != nil {
			return plan, err
		}
	}
	plan.Draft = d
	return plan, nil
}

// opensKey has the client's key opened with a secret that was named on the command line.
func opensKey(plan *call.Plan, from string) {
	const name = "the key's password"
	plan.Settings.Set("client-identity", name)
	other := plan.Identity
	plan.Identity = func(id string) (*identity.Identity, error) {
		if id == name || other == nil {
			return &identity.Identity{Name: name, Secret: from}, nil
		}
		return other(id)
	}
	allowed := plan.Allowed
	plan.Allowed = func(id, scheme, host, port string) bool {
		return id == name || allowed == nil || allowed(id, scheme, host, port)
	}
}

const maxRepairs = 8

//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func (t *commandLine) call(ctx context.Context, f *callFlags, args []string) error {
	p, err := t.prepare(ctx, f, args)
	if err != nil {
		return err
	}
	j := t.keeping()
	var x *exchange.Exchange
	var changes []exchange.Change
	var sessions call.Sessions
	repairs, err := newRepairing(f.allow)
	if err != nil {
		return err
	}
	for round := 0; ; round++ {
		plan, err := p.plan(t)
		if err != nil {
			return err
		}
		plan.Changes, plan.Sessions, plan.Keep = changes, &sessions, func(x *exchange.Exchange) { _ = t.add(j, x) }
		x = call.New(plan, nil).Run(ctx)
		if plan.Port != nil {
			f.reply.by(plan.Contract, plan.Port.Operation(plan.Operation))
		}
		if f.checks {
			x = call.Check(ctx, plan, x)
		}
		t.keepCall(p.w, j, x)
		if !f.repair || x.Outcome != exchange.OutcomeStopped || round == maxRepairs {
			break
		}
		r, why := repairs.next(x)
		if why != "" {
			t.complain(errors.New(why))
		}
		if r == nil {
			break
		}
		if sent := x.Stage(exchange.Send).State; p.w.Config().DraftSettings[p.ref.ID()].Changes &&
			sent != exchange.Waiting &&
			sent != exchange.Skipped &&
			!f.again && !slices.Contains(repairs.allowed, exchange.CostRepeats) {
			t.complain(fmt.Errorf("%s changes things at the service, and was sent: --again sends it once more", p.ref))
			break
		}
		if !t.asJSON {
			t.printPath(f.shown(x))
		}
		fmt.Fprintf(t.aside(), "repair: %s\n", safe.Line(r.Title))
		if r.Ask != "" {
			fmt.Fprintf(t.aside(), "        %s\n", safe.Line(r.Ask))
		}
		for _, c := range r.All() {
			fmt.Fprintf(t.aside(), "        %s\n", safe.Line(c.String()))
		}
		fmt.Fprintln(t.aside())
		if err := p.repair(r); err != nil {
			t.complain(err)
			break
		}
		changes = r.All()
	}
	shown := f.shown(x)
	if t.asJSON {
		if err := t.printJSON(shown.Report(true)); err != nil {
			return err
		}
		return exitOf(x)
	}
	t.printPath(shown)
	if err := t.printReply(shown, &f.reply); err != nil {
		return err
	}
	return exitOf(x)
}

// shown is what of an exchange is printed: without its secrets, unless they are
// asked for.
func (f *callFlags) shown(x *exchange.Exchange) *exchange.Exchange {
	if f.reveal {
		return x
	}
	return x.Redact(nil)
}
