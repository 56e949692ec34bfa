package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/near"
	"orenda/internal/safe"
)

// explaining are the flags of explain.
type explaining struct {
	list, markdown, reveal           bool
	request, response, har, contract string
	capture, keys                    string
	reply                            replyFlags
	text, pac                        string
	entry                            int
}

//revive:disable-next-line:cyclomatic a command: its flags, and what it does with them
func (t *commandLine) explainCommand() *cobra.Command {
	var f explaining
	cmd := &cobra.Command{
		Use:   "explain [FINDING|EXCHANGE|ADDRESS]",
		Short: "What a finding means, or why an exchange failed, also one of another program",
		Args:  cobra.MaximumNArgs(1),
		Long: `FINDING is the id of a finding: what it means, how it is recognised and what
helps. EXCHANGE is the id of a kept exchange, its beginning, or last: why it
failed, with what its findings mean.

With --request and --response, --har, or --capture, the exchange is one that another program
made: it is gone through as if it had been made here, and nothing is sent. Files
hold a message as it crossed, or its body alone. With --text, the findings that an
error text of another program speaks of are named; exit status 1 where there are
none.`,
		Example: `  orenda explain tls.name-differs
  orenda explain --list
  orenda explain --request sent.xml --response came.txt --contract berths.wsdl
  orenda explain --har browser.har --entry 3
  orenda explain --capture harbour.pcapng --keys keys.log
  orenda explain --pac house.pac berths-tls
  orenda explain --text error.log`,
	}
	fl := cmd.Flags()
	fl.BoolVar(&f.list, "list", false, "all findings")
	fl.BoolVar(&f.markdown, "markdown", false, "with --list: as a page in Markdown")
	fl.StringVar(&f.request, "request", "", "file with the request, with or without its HTTP head")
	fl.StringVar(&f.response, "response", "", "file with the reply, with or without its HTTP head")
	fl.StringVar(&f.text, "text", "", "file with an error text or log lines of another program, - for standard input")
	fl.StringVar(&f.har, "har", "", "HTTP archive (HAR 1.2): each of its exchanges that carries XML")
	fl.StringVar(&f.capture, "capture", "",
		"packets that were captured (pcap, pcapng): each exchange of HTTP/1.1 in it that carries XML; they are "+
			"kept in the journal too")
	fl.StringVar(&f.pac, "pac", "", "a proxy auto-configuration file (PAC): which rule would choose which proxy "+
		"for an address or an endpoint; nothing of it is run")
	fl.StringVar(&f.keys, "keys", "", "with --capture: log of TLS keys (as SSLKEYLOGFILE names one), which opens "+
		"TLS 1.2 and 1.3")
	fl.IntVar(&f.entry, "entry", 0, "with --har or --capture: this entry alone, counted from 1")
	fl.StringVar(
		&f.contract,
		"contract",
		"",
		"description to hold it against, FILE or URL; else one of the workspace, if it is there",
	)
	f.reply.add(fl, "none")
	fl.BoolVar(&f.reveal, "reveal", false, "do not mask secrets in what is printed")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		files := f.request != "" || f.response != "" || f.har != "" || f.capture != ""
		switch {
		case f.pac != "" && len(args) == 1 && !files && !f.list && f.text == "":
			return t.explainPAC(f.pac, args[0])
		case f.text != "" && len(args) == 0 && !files && !f.list:
			return t.explainText(&f)
		case f.list && len(args) == 0 && !files:
			return t.explainAll(&f)
		case files && len(args) == 0 && !f.list && f.oneSource():
			return t.explainElsewhere(cmd.Context(), &f)
		case len(args) == 1 && !f.list && !f.markdown && !files:
			if e := diagnose.Explain(args[0]); e != nil {
				return t.explainFinding(e)
			}
			if x, err := t.keptExchange(args[0]); err == nil {
				return t.explainKept(cmd.Context(), &f, x)
			}
			return noFinding(args[0])
		}
		return errors.New("name one finding or exchange, or say --list, --har, or --request and --response")
	}
	return cmd
}

// oneSource tells whether exchanges of other programs are named in one way only.
func (f *explaining) oneSource() bool {
	n := 0
	for _, named := range []bool{f.request+f.response != "", f.har != "", f.capture != ""} {
		if named {
			n++
		}
	}
	return n == 1
}

func (t *commandLine) explainAll(f *explaining) error {
	all := diagnose.Catalogue()
	switch {
	case f.markdown:
		fmt.Fprint(t.out, diagnose.Markdown())
		return nil
	case t.asJSON:
		return t.printJSON(all)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, e := range all {
		fmt.Fprintf(tw, "%s\t%s\n", e.ID, e.Means)
	}
	return tw.Flush()
}

func (t *commandLine) explainFinding(e *diagnose.Explained) error {
	if t.asJSON {
		return t.printJSON(e)
	}
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	fmt.Fprintf(tw, "%s\t%s\n", e.ID, e.Means)
	for _, l := range e.Lines() {
		fmt.Fprintf(tw, "  %s\t%s\n", l[0], l[1])
	}
	return tw.Flush()
}

// judgedAgain is a kept exchange by today's rules; as it was kept, where the record does
// not hold enough. When it was judged is told.
func (t *commandLine) judgedAgain(ctx context.Context, f *explaining, x *exchange.Exchange) *exchange.Exchange {
	var p call.Plan
	if f.contract != "" {
		if fetched, err := t.contractFrom(ctx, f.contract, nil); err == nil {
			p.Contract = fetched.Contract
			for _, port := range p.Contract.PortsWith(x.Operation) {
				p.Port = port
				break
			}
		}
	} else if w, err := t.workspace(); err == nil && w.ID() == x.Workspace {
		p = w.PlanAgain(x)
	}
	if j, err := t.journal(); err == nil {
		p.History = j
	}
	now, ok := call.Again(ctx, p, x)
	if !ok {
		fmt.Fprintln(t.aside(), "orenda: judged when it was made; the record does not hold what judging again needs")
		return x
	}
	if was, is := x.Cause(), now.Cause(); was != nil && (is == nil || is.ID != was.ID) {
		fmt.Fprintf(t.aside(), "orenda: judged again; when it was made the cause was %s\n", was.ID)
	}
	return now
}

// explainKept tells a kept exchange once more, by today's rules, with what its findings
// mean.
func (t *commandLine) explainKept(ctx context.Context, f *explaining, x *exchange.Exchange) error {
	x = t.judgedAgain(ctx, f, x)
	if t.asJSON {
		return t.printJSON(x.Report(true))
	}
	t.printPath(x)
	for _, n := range x.Findings {
		if e := diagnose.Explain(n.ID); e != nil {
			if err := t.explainFinding(e); err != nil {
				return err
			}
		}
	}
	return t.printReply(x, &f.reply)
}

// explainElsewhere goes through exchanges that another program made.
func (t *commandLine) explainElsewhere(ctx context.Context, f *explaining) error {
	entries, err := f.entries()
	if f.capture != "" {
		entries, err = t.captured(f)
	}
	if err != nil {
		return unread{err}
	}
	reports := []exchange.Report{}
	var last error
	for i, e := range entries {
		x, err := t.explainOne(ctx, f, e.Imported)
		if err != nil {
			return err
		}
		if e.Keep != nil {
			if err := e.Keep(x); err != nil {
				return unread{err}
			}
		}
		if !f.reveal {
			x = x.Redact(nil)
		}
		if err := exitOf(x); last == nil {
			last = err
		}
		if t.asJSON {
			reports = append(reports, x.Report(true))
			continue
		}
		if len(entries) > 1 {
			fmt.Fprintf(t.err, "%sentry %d   %s\n", map[bool]string{true: "\n"}[i > 0], e.Number, safe.Line(e.URL))
		}
		t.printPath(x)
		if err := t.printReply(x, &f.reply); err != nil {
			return err
		}
	}
	if !t.asJSON {
		return last
	}
	if f.har+f.capture != "" && f.entry == 0 {
		err = t.printJSON(reports)
	} else {
		err = t.printJSON(reports[0])
	}
	if err != nil {
		return err
	}
	return last
}

// explainText names what an error text of another program speaks of.
func (t *commandLine) explainText(f *explaining) error {
	var b []byte
	var err error
	if f.text == "-" {
		b, err = io.ReadAll(io.LimitReader(os.Stdin, maxText))
	} else {
		b, err = os.ReadFile(f.text)
	}
	if err != nil {
		return unread{err}
	}
	heard := diagnose.InText(string(b))
	if t.asJSON {
		if heard == nil {
			heard = []diagnose.Heard{}
		}
		if err := t.printJSON(heard); err != nil {
			return err
		}
	}
	if len(heard) == 0 {
		fmt.Fprintln(t.err, "orenda: nothing in it speaks of a finding that is known; orenda explain --list tells all")
		return status(exitNo)
	}
	if t.asJSON {
		return nil
	}
	for i, h := range heard {
		fmt.Fprintf(t.out, "%s%s  %s\n", map[bool]string{true: "\n"}[i > 0], h.ID, safe.Line(h.Means))
		for _, l := range h.Lines() {
			for k, w := range wrap(safe.Line(l[1]), 76) {
				fmt.Fprintf(t.out, "  %-13s %s\n", map[bool]string{true: l[0]}[k == 0], w)
			}
		}
	}
	return nil
}

// maxText is how much of an error text is read from standard input.
const maxText = 64 << 20

// entries are the exchanges that the flags name.
func (f *explaining) entries() ([]call.Entry, error) {
	if f.har != "" {
		b, err := os.ReadFile(f.har)
		if err != nil {
			return nil, err
		}
		all, err := call.FromHAR(b)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.har, err)
		}
		if f.entry == 0 && len(all) > 0 {
			return all, nil
		}
		for _, e := range all {
			if e.Number == f.entry {
				return []call.Entry{e}, nil
			}
		}
		if f.entry > 0 {
			return nil, fmt.Errorf("%s: entry %d is not there, or carries no XML", f.har, f.entry)
		}
		return nil, fmt.Errorf("%s: no entry carries XML", f.har)
	}
	var request, reply []byte
	for _, file := range []struct {
		name string
		to   *[]byte
	}{{f.request, &request}, {f.response, &reply}} {
		if file.name == "" {
			continue
		}
		b, err := os.ReadFile(file.name)
		if err != nil {
			return nil, err
		}
		*file.to = b
	}
	w, err := call.ImportedFrom(request, reply)
	if err != nil {
		return nil, err
	}
	return []call.Entry{{Number: 1, Imported: w}}, nil
}

// explainOne holds an exchange against a contract: the one that is named, or one
// of the workspace that has its operation.
func (t *commandLine) explainOne(ctx context.Context, f *explaining, w *call.Imported) (*exchange.Exchange, error) {
	p := call.Plan{Agent: call.Agent, Operation: "made elsewhere"}
	var contracts []*contract.Contract
	names := map[*contract.Contract]string{}
	if f.contract != "" {
		fetched, err := t.contractFrom(ctx, f.contract, nil)
		if err != nil {
			return nil, err
		}
		contracts = append(contracts, fetched.Contract)
	} else if space, err := t.workspace(); err == nil {
		for _, k := range space.Config().Contracts {
			if c, err := space.Contract(k.Name); err == nil {
				contracts, names[c] = append(contracts, c), k.Name
			}
		}
	}
	p.Against(w, contracts, f.contract != "")
	if f.contract != "" {
		p.Contract = contracts[0]
	}
	if p.Contract != nil {
		p.ContractName = names[p.Contract]
		f.reply.by(p.Contract, nil)
	}
	return call.Explain(ctx, p, w), nil
}

// noFinding says that there is no finding of that name, and which is meant.
func noFinding(id string) error {
	var ids []string
	for _, e := range diagnose.Catalogue() {
		ids = append(ids, e.ID)
	}
	if n := near.Miss(id, ids); n != "" {
		return fmt.Errorf("there is no finding %s; perhaps %s is meant", id, n)
	}
	return fmt.Errorf("there is no finding %s; orenda explain --list tells all", id)
}
