// Package cli is the command line: it parses, calls the core, and prints.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/app"
	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/journal"
	"orenda/internal/safe"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// Exit codes besides those of the stages (docs/cli.md).
const (
	exitNo        = 1
	exitUsage     = 2
	exitUnread    = 3
	exitFault     = 70 // a fault of Orenda's own
	exitCancelled = 130
)

// status is an error that only carries an exit code: all is said already.
type status int

func (s status) Error() string { return fmt.Sprintf("exit status %d", int(s)) }

// unread is an input that could not be read.
type unread struct{ error }

// Version is stamped when the program is built.
//
//nolint:gochecknoglobals // a table: it is never written to
var Version = "dev"

// commandLine is what the commands share.
type commandLine struct {
	out, err io.Writer
	dir      string     // -w
	folders  *user.Home // the person's; nil until they are asked for
	kept     journal.Journal
	asJSON   bool

	journalAt    string             // --journal
	passwordFrom string             // of the journal, where a file of relays says it
	noSpans      bool               // a service sends them itself
	quiet        bool               // standard error says only what went wrong
	verbose      bool               // a path shows its settings and heads too
	as           *identity.Identity // who fetches a description, if anybody in particular
	policies     []string           // files with policies that are attached to a description from outside
	also         []string           // hosts from which parts of a description are fetched besides its own
	keyFrom      string             // where the password of the client's key is, when a description is fetched
	lingers      atomic.Int32       // more than 0: it ends in its own order, as a server does
	later        []later            // flags that a command gets when it is called
	printing     sync.Mutex         // held while several goroutines tell of what happens
}

// endsWithin is how long a command may take to end once it is told to. What waits for
// a file or computes cannot always be told; it is left behind then.
const endsWithin = 800 * time.Millisecond

// lookAgain is how long a command that ends in its own order is left alone before it is looked at again.
const lookAgain = 50 * time.Millisecond

// Run runs the command line and gives the exit code. When ctx ends, so does the
// command, within a second; the application, servers, a muster, and what keeps an
// exchange just then end in their own order.
func Run(ctx context.Context, args []string, out, errOut io.Writer) int {
	t := &commandLine{out: out, err: errOut}
	ended := make(chan int, 1)
	go func() { ended <- t.run(ctx, args) }()
	select {
	case code := <-ended:
		return code
	case <-ctx.Done():
	}
	left := time.NewTimer(endsWithin)
	defer left.Stop()
	for {
		select {
		case code := <-ended:
			return code
		case <-left.C:
			if t.lingers.Load() == 0 {
				return exitCancelled
			}
			left.Reset(lookAgain)
		}
	}
}

func (t *commandLine) run(ctx context.Context, args []string) (code int) {
	defer func() {
		if v := recover(); v != nil {
			t.report(&user.Fault{Value: v, Stack: debug.Stack()})
			code = exitFault
		}
	}()
	root := t.rootFor(args)
	root.SetArgs(args)
	root.SetOut(t.out)
	root.SetErr(t.err)
	err := root.ExecuteContext(ctx)
	if t.kept != nil {
		if news := t.kept.News(); news != "" {
			t.complain(errors.New(news))
		}
		t.kept.Close()
	}
	var s status
	var u unread
	var f *user.Fault
	switch {
	case errors.As(err, &f):
		t.report(f)
		return exitFault
	case err == nil:
		return 0
	case errors.As(err, &s):
		return int(s)
	case errors.As(err, &u):
		t.complain(err)
		return exitUnread
	}
	t.complain(err)
	return exitUsage
}

// report writes a fault of Orenda's own down, and says where.
func (t *commandLine) report(f *user.Fault) {
	t.complain(f)
	file, err := t.folders.Report(f, Version)
	if err != nil {
		t.complain(fmt.Errorf("it could not be written down: %w\n%s", err, f.Stack))
		return
	}
	fmt.Fprintf(t.err, "What was made is kept. The report holds no message and no secret:\n%s\n", safe.Line(file))
}

// aside is where a command tells what it did beside its result.
func (t *commandLine) aside() io.Writer {
	if t.quiet {
		return io.Discard
	}
	return t.err
}

func (t *commandLine) complain(err error) { fmt.Fprintln(t.err, "orenda: "+safe.Line(err.Error())) }

func (t *commandLine) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "orenda [URL|FILE]",
		Short: "Find why a SOAP call fails, and see the bytes that prove it",
		Long: `Orenda sets where a SOAP call goes and by which rules, sends it, and shows
stage by stage what was set and what was seen: the raw bytes, the times, the
cause, and the repair.

Without a command it opens the full-screen application: on the workspace in
this folder (or -w DIR), or on a description given as a URL or a file.`,
		Example: `  orenda demo
  orenda https://host/service?wsdl
  orenda call FindBerths length=12 --contract berths.wsdl --port BerthDesk11`,
		Args: cobra.MaximumNArgs(1), SilenceUsage: true, SilenceErrors: true, Version: built(),
		RunE: func(cmd *cobra.Command, args []string) error { return t.open(cmd.Context(), args) },
	}
	root.PersistentFlags().StringArrayVar(&t.policies, "policy", nil,
		"file with policies that are attached to a description from outside (WS-PolicyAttachment); repeatable")
	root.PersistentFlags().StringSliceVar(&t.also, "also", nil,
		"hosts besides its own from which parts of a description are fetched")
	root.PersistentFlags().StringVarP(&t.dir, "workspace", "w", "", "folder of the workspace (default: this folder)")
	root.PersistentFlags().StringVar(&t.journalAt, "journal", "",
		"journal: a folder, or postgres://USER@HOST:PORT/DATABASE?space=NAME (default: ORENDA_JOURNAL, "+
			"settings.toml, your folder)")
	root.PersistentFlags().BoolVarP(&t.quiet, "quiet", "q", false, "on standard error only what went wrong")
	root.PersistentFlags().BoolVarP(&t.verbose, "verbose", "v", false,
		"with a path also all that was set, and the heads of request and reply")
	root.MarkFlagsMutuallyExclusive("quiet", "verbose")
	root.AddCommand(
		t.demoCommand(),
		t.templateCommand(),
		t.standinCommand(),
		t.addCommand(),
		t.catalogueCommand(),
		t.describeCommand(),
		t.sampleCommand(),
		t.validateCommand(),
		t.refreshCommand(),
		t.contractCommand(),
		t.restoreCommand(),
		t.draftCommand(),
		t.callCommand(),
		t.repairCommand(),
		t.checkCommand(),
		t.replyCommand(),
		t.compareCommand(),
		t.watchCommand(),
		t.musterCommand(),
		t.soundCommand(),
		t.facadeCommand(),
		t.relayCommand(),
		t.handoverCommand(),
		t.endpointCommand(),
		t.environmentCommand(),
		t.identityCommand(),
		t.asideCommand(),
		t.limitsCommand(),
		t.explainCommand(),
		t.trustCommand(),
		t.journalCommand(),
		t.drawCommand(),
		t.xmlCommand(),
		t.doctorCommand(),
		t.manualCommand(),
	)
	return root
}

// later are flags that a command has, and does not have yet: there are some ninety settings, and a
// dozen commands that take them.
type later struct {
	to  *cobra.Command
	add func()
}

// wholeRoot is the command line with all that every command has.
func (t *commandLine) wholeRoot() *cobra.Command {
	root := t.root()
	for _, l := range t.later {
		l.add()
	}
	t.completes(root)
	return root
}

// rootFor is the command line with what the command has that is called.
func (t *commandLine) rootFor(args []string) *cobra.Command {
	of := []string{"help", "completion", "manual", cobra.ShellCompRequestCmd, cobra.ShellCompNoDescRequestCmd}
	if slices.ContainsFunc(args, func(a string) bool { return slices.Contains(of, a) }) {
		return t.wholeRoot()
	}
	root := t.root()
	var last *cobra.Command
	for range 3 { // flags of a command tell which words behind it are their values
		cmd, _, _ := root.Find(args)
		if cmd == last {
			break
		}
		for _, l := range t.later {
			if l.to == cmd {
				l.add()
			}
		}
		last = cmd
	}
	return root
}

func (t *commandLine) jsonFlag(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&t.asJSON, "json", false, "print one JSON document")
}

func (t *commandLine) printJSON(v any) error {
	b, err := safe.JSON(v)
	if err != nil {
		return err
	}
	_, err = t.out.Write(b)
	return err
}

func (t *commandLine) home() (*user.Home, error) {
	if t.folders == nil {
		h, err := user.Find()
		if err != nil {
			return nil, unread{err}
		}
		t.folders = h
	}
	return t.folders, nil
}

func (t *commandLine) journal() (journal.Journal, error) {
	if t.kept == nil {
		h, err := t.home()
		if err != nil {
			return nil, err
		}
		place, from, err := t.journalPlace(h)
		if err != nil {
			t.complain(err)
		}
		j, err := t.openJournal(h, place, from)
		if err != nil {
			return nil, unread{fmt.Errorf("the journal cannot be opened: %w", err)}
		}
		if t.kept, err = t.traced(h, j); err != nil {
			t.complain(err)
			t.kept = j
		}
	}
	return t.kept, nil
}

// keeping is the journal, or one that ends with this command where it cannot be
// opened: nobody is kept from calling.
func (t *commandLine) keeping() journal.Journal {
	j, err := t.journal()
	if err != nil {
		t.complain(fmt.Errorf("%w; what is sent now is not kept", err))
		t.kept = &journal.Memory{}
		return t.kept
	}
	return j
}

// keepCall keeps a call, and marks what was learned that it speaks against.
func (t *commandLine) keepCall(w *workspace.Workspace, j journal.Journal, x *exchange.Exchange) {
	if err := t.add(j, x); err != nil {
		t.complain(fmt.Errorf("the exchange was not kept: %w", err))
	}
	t.contradict(w, x)
}

// add keeps an exchange. A command that is halted meanwhile ends after it.
func (t *commandLine) add(j journal.Journal, x *exchange.Exchange) error {
	t.lingers.Add(1)
	defer t.lingers.Add(-1)
	return j.Add(x)
}

// contradict marks what was learned and what a call speaks against, and says it.
func (t *commandLine) contradict(w *workspace.Workspace, x *exchange.Exchange) {
	if w == nil {
		return
	}
	switch field, how, err := w.Contradict(x); {
	case err != nil:
		t.complain(err)
	case how != "":
		t.complain(fmt.Errorf("what was learned of %s of %s is contradicted: %s", field, x.Operation, how))
	}
}

// workspace opens the workspace of -w or of this folder.
func (t *commandLine) workspace() (*workspace.Workspace, error) {
	h, err := t.home()
	if err != nil {
		return nil, err
	}
	dir := orDot(t.dir)
	w, err := workspace.Open(dir, h)
	if err != nil {
		return nil, unread{fmt.Errorf("%s: %w", dir, err)}
	}
	for _, warn := range w.Config().Warnings {
		fmt.Fprintf(t.err, "%s: %s\n", safe.Line(w.Where()), safe.Line(warn))
	}
	return w, nil
}

// open opens the application.
func (t *commandLine) open(ctx context.Context, args []string) error {
	if len(args) == 1 && isWord(args[0]) {
		if _, err := os.Stat(args[0]); err != nil {
			return fmt.Errorf("there is no command and no file %q; orenda --help lists the commands", args[0])
		}
	}
	if !isTerminal(t.out) {
		return errors.New("the application needs a terminal, and there is none; orenda --help lists the commands")
	}
	h, err := t.home()
	if err != nil {
		return err
	}
	opts := app.Options{Home: h, Version: Version}
	if name, ok := strings.CutPrefix(strings.Join(args, ""), "catalogue:"); ok {
		f, err := t.fromCatalogue(name)
		if err != nil {
			return err
		}
		opts.Workspace = workspace.New(name, h)
		if _, err := opts.Workspace.AddContract(f.Contract, f.Served); err != nil {
			return unread{err}
		}
	} else if len(args) == 1 {
		args[0] = contract.Spelled(args[0])
		if _, err := os.Stat(args[0]); err != nil && !contract.IsRemote(args[0]) {
			return unread{err}
		}
		opts.Source = args[0]
		opts.Workspace = workspace.New(strings.TrimSuffix(filepath.Base(args[0]), ".wsdl"), h)
	} else {
		w, err := t.workspace()
		var u unread
		switch {
		case err == nil:
			opts.Workspace = w
		case errors.As(err, &u) && errors.Is(u.error, workspace.ErrNone) && t.dir == "":
			opts.Workspace = workspace.New("new workspace", h)
		default:
			return err
		}
	}
	opts.Journal, err = t.journal()
	if err != nil {
		opts.Journal, opts.Notice = &journal.Memory{}, "nothing is kept from now on: "+err.Error()
	}
	t.lingers.Add(1)
	kept, err := app.Run(ctx, opts)
	if kept != "" {
		fmt.Fprintf(
			t.err,
			"the workspace was not saved; what you made in it is kept, and opens with -w:\n%s\n",
			safe.Line(kept),
		)
	}
	return err
}

func isWord(s string) bool { return !strings.ContainsAny(s, "./:") }

// settingFlags gives a command a flag for every setting, once it is called; call the result when
// flags are parsed to have them.
func (t *commandLine) settingFlags(cmd *cobra.Command, except ...string) func() map[string][]string {
	var given func() map[string][]string
	t.later = append(t.later, later{cmd, func() { given = addSettings(cmd, except) }})
	return func() map[string][]string { return given() }
}

func addSettings(cmd *cobra.Command, except []string) func() map[string][]string {
	texts, lists, switches := map[string]*string{}, map[string]*[]string{}, map[string]*bool{}
	for _, k := range endpoint.Keys {
		if slices.Contains(except, k.Name) {
			continue
		}
		doc := k.Doc
		if k.Default != "" {
			doc += " (default " + k.Default + ")"
		}
		switch k.Kind {
		case endpoint.List:
			lists[k.Name] = cmd.Flags().StringArray(k.Name, nil, doc+"; repeatable")
		case endpoint.Switch:
			switches[k.Name] = cmd.Flags().Bool(k.Name, false, doc)
		default:
			texts[k.Name] = cmd.Flags().String(k.Name, "", doc)
		}
	}
	return func() map[string][]string {
		out := map[string][]string{}
		for name, v := range texts {
			if cmd.Flags().Changed(name) {
				out[name] = []string{*v}
			}
		}
		for name, v := range lists {
			if cmd.Flags().Changed(name) {
				out[name] = *v
			}
		}
		for name, v := range switches {
			if cmd.Flags().Changed(name) {
				out[name] = []string{fmt.Sprint(*v)}
			}
		}
		return out
	}
}

// forDescription are the settings of a call that serve the fetch of its description
// too: whom to trust, through what to go, how long to wait. What the call sends and
// how much it takes are its own.
func forDescription(set map[string][]string) map[string][]string {
	out := map[string][]string{}
	for _, name := range []string{"trust", "system-trust", "server-name", "accept-name", "accept-expired", "tls-min",
		"tls-max", "client-cert", "client-key", "proxy", "connect-time", "answer-time", "total-time", "http-auth"} {
		if v, ok := set[name]; ok {
			out[name] = v
		}
	}
	return out
}

// contractFrom fetches a description; where that stops, its exchange is
// printed and its exit code given.
func (t *commandLine) contractFrom(
	ctx context.Context,
	source string,
	set map[string][]string,
) (*call.Fetched, error) {
	p := call.Plan{Agent: call.Agent, ReadFile: os.ReadFile, Also: t.also}
	for name, v := range set {
		if k := endpoint.KeyOf(name); !k.OfPerson && slices.Contains([]exchange.Stage{exchange.Connect, exchange.TLS,
			exchange.Send, exchange.Wait, exchange.Receive}, k.Stage) {
			p.Settings.Set(name, v...)
		}
	}
	if v := set["http-auth"]; v != nil && t.as != nil {
		p.Settings.Set("http-auth", v...)
		p.Settings.Set("identity", t.as.Name)
		p.Identity = func(string) (*identity.Identity, error) { return t.as, nil }
	}
	if t.keyFrom != "" && set["client-cert"] != nil {
		opensKey(&p, t.keyFrom)
	}
	if name, ok := strings.CutPrefix(source, "catalogue:"); ok {
		return t.fromCatalogue(name)
	}
	f, err := call.Fetch(ctx, source, p, nil)
	if err == nil {
		f.Contract, err = t.withPolicies(ctx, f.Contract)
		return f, err
	}
	if !errors.Is(err, call.ErrStopped) {
		return nil, unread{fmt.Errorf("%s: %w", source, err)}
	}
	x := f.Exchanges[len(f.Exchanges)-1]
	if j, err := t.journal(); err == nil {
		_ = t.add(j, x)
	}
	x = x.Redact(nil)
	if t.asJSON {
		if err := t.printJSON(x.Report(false)); err != nil {
			return nil, err
		}
	} else {
		t.printPath(x)
	}
	return nil, exitOf(x)
}

// withPolicies attaches the policies that were named on the command line.
func (t *commandLine) withPolicies(ctx context.Context, c *contract.Contract) (*contract.Contract, error) {
	var files []contract.File
	for _, path := range t.policies {
		f, err := contract.PolicyFile(path)
		if err != nil {
			return nil, unread{err}
		}
		files = append(files, f)
	}
	if files == nil {
		return c, nil
	}
	with, err := c.WithPolicies(ctx, files...)
	if err != nil {
		return nil, unread{err}
	}
	return with, nil
}

// exitOf is the exit code of an exchange, or nil where it passed.
func exitOf(x *exchange.Exchange) error {
	if code := exitCode(x); code != 0 {
		return status(code)
	}
	return nil
}

// exitCode is the exit code of a call.
func exitCode(x *exchange.Exchange) int {
	switch x.Outcome {
	case exchange.OutcomePassed:
		return 0
	case exchange.OutcomeCancelled:
		return exitCancelled
	}
	return x.StoppedAt.ExitCode()
}
