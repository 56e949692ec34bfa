package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/call"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/handover"
	"orenda/internal/journal"
	"orenda/internal/safe"
	"orenda/internal/user"
)

// keeper is the journal, where it can be searched and pruned.
func (t *commandLine) keeper() (journal.Keeper, error) {
	j, err := t.journal()
	if err != nil {
		return nil, err
	}
	k, ok := j.(journal.Keeper)
	if !ok {
		return nil, errors.New("this journal is in memory: it is neither searched nor pruned")
	}
	return k, nil
}

// keepingCommands are those that look after what is kept.
func (t *commandLine) keepingCommands() []*cobra.Command {
	return []*cobra.Command{t.searchCommand(), t.pinCommand("pin", "Keep an exchange, whatever is pruned", true),
		t.pinCommand("unpin", "Let an exchange be pruned", false), t.noteCommand(), t.pruneCommand(), t.sizeCommand(),
		t.importCommand()}
}

func (t *commandLine) searchCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "search WORD…", Short: "Kept exchanges whose messages hold these words, newest first",
		Long: "All words must be there, in the request, the answer, or what lists show; a word may be the\n" +
			"beginning of one. The first search reads what was kept since the last. Exit status 1\n" +
			"where there is none.",
		Example: "  orenda journal search SKAL4\n  orenda journal search disk full --most 5",
		Args:    cobra.MinimumNArgs(1),
	}
	most := cmd.Flags().Int("most", 50, "how many at most")
	t.jsonFlag(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		j, err := t.keeper()
		if err != nil {
			return err
		}
		all, err := j.Search(cmd.Context(), strings.Join(args, " "), *most)
		if err != nil {
			return unread{err}
		}
		if err := t.printKept(j, all); err != nil {
			return err
		}
		if len(all) == 0 {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) pinCommand(name, short string, pinned bool) *cobra.Command {
	cmd := &cobra.Command{Use: name + " EXCHANGE", Short: short, Example: "  orenda journal " + name + " last",
		Args: cobra.ExactArgs(1)}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.setMark(args[0], func(m *journal.Mark) { m.Pinned = pinned })
	}
	return cmd
}

func (t *commandLine) noteCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "note EXCHANGE [TEXT]", Short: "Write a note on an exchange; without a text it is taken away",
		Example: "  orenda journal note last 'the first since the new version'", Args: cobra.MinimumNArgs(1),
	}
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		return t.setMark(args[0], func(m *journal.Mark) { m.Note = strings.Join(args[1:], " ") })
	}
	return cmd
}

func (t *commandLine) setMark(name string, set func(*journal.Mark)) error {
	j, err := t.keeper()
	if err != nil {
		return err
	}
	x, err := j.Get(name)
	if err != nil {
		return unread{fmt.Errorf("%s: %w", name, err)}
	}
	all, err := j.Marks()
	if err != nil {
		return unread{err}
	}
	m := all[x.ID]
	set(&m)
	return j.Mark(x.ID, m)
}

func (t *commandLine) pruneCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "prune", Short: "Take away what is old, or too much",
		Long: "Takes away what is older than --older, and of the rest the oldest until no more than --most\n" +
			"is kept. What is pinned or noted stays, and so does the newest.",
		Example: "  orenda journal prune --older 720h\n  orenda journal prune --most 1GiB --show", Args: cobra.NoArgs,
	}
	older := cmd.Flags().String("older", "", "age: 24h, 720h")
	most := cmd.Flags().String("most", "", "bytes on disk: 500MB, 1GiB")
	show := cmd.Flags().Bool("show", false, "only tell how many that would be")
	cmd.RunE = func(*cobra.Command, []string) error {
		if *older == "" && *most == "" {
			return errors.New("say what is to go: --older AGE or --most SIZE")
		}
		before, limit := time.Time{}, int64(0)
		if *older != "" {
			age, err := endpoint.ParseDuration(*older)
			if err != nil {
				return fmt.Errorf("--older: %w", err)
			}
			before = time.Now().Add(-age)
		}
		if *most != "" {
			var err error
			if limit, err = endpoint.ParseSize(*most); err != nil {
				return fmt.Errorf("--most: %w", err)
			}
		}
		j, err := t.keeper()
		if err != nil {
			return err
		}
		n, err := j.Prune(before, limit, *show)
		if err != nil {
			return unread{err}
		}
		verb := "taken away"
		if *show {
			verb = "would be taken away"
		}
		fmt.Fprintf(t.out, "%d exchanges %s\n", n, verb)
		return nil
	}
	return cmd
}

func (t *commandLine) sizeCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "size", Short: "How much is kept", Example: "  orenda journal size --json",
		Args: cobra.NoArgs}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		j, err := t.keeper()
		if err != nil {
			return err
		}
		s, err := j.Size()
		if err != nil {
			return unread{err}
		}
		if t.asJSON {
			return t.printJSON(s)
		}
		fmt.Fprintf(t.out, "%s exchanges, %s B", endpoint.Bytes(int64(s.Count)), endpoint.Bytes(s.Bytes))
		if !s.Oldest.IsZero() {
			fmt.Fprintf(t.out, ", the oldest of %s", s.Oldest.Local().Format("2006-01-02 15:04"))
		}
		fmt.Fprintln(t.out)
		return nil
	}
	return cmd
}

func (t *commandLine) exportCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "export EXCHANGE…",
		Short: "Kept exchanges as JSON, as an HTTP archive, or as plain files",
		Long: "--out FILE writes one exchange as JSON; a FILE that ends in .har is an HTTP archive (HAR 1.2)\n" +
			"of all that are named. --folder DIR writes each into a folder of its own: the messages as they\n" +
			"crossed, and the record. Nothing of it is a secret.",
		Example: "  orenda journal export last --out last.json\n  orenda journal export 7k2m last --out calls.har\n" +
			"  orenda journal export last --folder calls",
		Args: cobra.MinimumNArgs(1),
	}
	out := cmd.Flags().String("out", "", "file to write: .json or .har")
	folder := cmd.Flags().String("folder", "", "folder to write into")
	cmd.MarkFlagsOneRequired("out", "folder")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		var all []*exchange.Exchange
		for _, a := range args {
			x, err := t.keptExchange(a)
			if err != nil {
				return err
			}
			all = append(all, x)
		}
		if *folder != "" {
			for _, x := range all {
				if err := exportFolder(x, filepath.Join(*folder, safe.FileName(x.ID))); err != nil {
					return unread{err}
				}
			}
		}
		if *out == "" {
			return nil
		}
		var b []byte
		var err error
		switch {
		case strings.EqualFold(filepath.Ext(*out), ".har"):
			b, err = handover.HAR(all, Version)
		case len(all) > 1:
			return errors.New("several exchanges go into an archive (--out FILE.har) or a folder (--folder DIR)")
		default:
			b, err = safe.JSON(all[0].Report(true))
		}
		if err != nil {
			return err
		}
		if err := user.WriteFile(*out, b); err != nil {
			return unread{err}
		}
		return nil
	}
	return cmd
}

// exportFolder writes an exchange as plain files.
func exportFolder(x *exchange.Exchange, dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	record, err := safe.JSON(x.Report(true))
	if err != nil {
		return err
	}
	files := map[string][]byte{"exchange.json": record}
	if l := x.Leg(); l != nil {
		files["request.http"] = l.Out
		files["response.http"] = l.In.Bytes()
		files["request.xml"], files["response.xml"] = l.Sent(), l.Readable()
	}
	for name, b := range files {
		if len(b) == 0 {
			continue
		}
		if err := user.WriteFile(filepath.Join(dir, name), b); err != nil {
			return err
		}
	}
	return nil
}

func (t *commandLine) importCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "import FILE", Short: "Keep the exchanges of an HTTP archive or a capture, each explained",
		Long: "FILE is an HTTP archive (HAR 1.2), or packets that were captured (pcap, pcapng). Exchanges that\n" +
			"carry XML are held against the workspace's contracts, and kept like any other.",
		Example: "  orenda journal import theirs.har\n  orenda journal import harbour.pcapng --keys " +
			"keys.log", Args: cobra.ExactArgs(1),
	}
	keys := cmd.Flags().String("keys", "", "log of TLS keys that opens a capture")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		list, err := t.toImport(args[0], *keys)
		if err != nil {
			return unread{err}
		}
		w, err := t.workspace()
		if err != nil {
			w = nil
		}
		j, err := t.journal()
		if err != nil {
			return err
		}
		for _, e := range list {
			traced, err := w.Traced("http://imported.invalid/", "")
			if err != nil {
				return err
			}
			x := call.Explain(cmd.Context(), traced.Plan(e.Imported), e.Imported)
			x.ID, x.Kind = exchange.NewID(time.Now()), "imported"
			keep := j.Add
			if e.Keep != nil {
				keep = e.Keep
			}
			if err := keep(x); err != nil {
				return unread{err}
			}
			fmt.Fprintf(t.aside(), "%s  %s  %s\n", x.ID, safe.Line(x.Operation), safe.Line(x.Result))
		}
		fmt.Fprintf(t.out, "%d exchanges kept\n", len(list))
		return nil
	}
	return cmd
}

// toImport are the exchanges of an archive or a capture.
func (t *commandLine) toImport(file, keys string) ([]call.Entry, error) {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".pcap", ".pcapng", ".cap":
		return t.captured(&explaining{capture: file, keys: keys})
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	list, err := call.FromHAR(b)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return list, nil
}

func (t *commandLine) handoverReportCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "report EXCHANGE…",
		Short: "Chosen exchanges for the service's people: causes, evidence, differences, drawings",
		Long: "Writes Markdown with SVG files beside it (--out FILE.md), or one PDF of the drawings\n" +
			"(--out FILE.pdf). Notes on the exchanges are in it; nothing of it is a secret.",
		Example: "  orenda handover report 7k2m last --out report.md", Args: cobra.MinimumNArgs(1),
	}
	out := cmd.Flags().String("out", "", "file to write: .md or .pdf")
	_ = cmd.MarkFlagRequired("out")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		marks := map[string]journal.Mark{}
		if j, err := t.keeper(); err == nil {
			if marks, err = j.Marks(); err != nil {
				return unread{err}
			}
		}
		var all []handover.Chosen
		for _, a := range args {
			x, err := t.keptExchange(a)
			if err != nil {
				return err
			}
			all = append(all, handover.Chosen{Exchange: x, Note: marks[x.ID].Note})
		}
		base := strings.TrimSuffix(filepath.Base(*out), filepath.Ext(*out))
		r := handover.NewReport(all, base)
		if strings.EqualFold(filepath.Ext(*out), ".pdf") {
			b, err := r.PDF()
			if err == nil {
				err = user.WriteFile(*out, b)
			}
			if err != nil {
				return unread{err}
			}
			return nil
		}
		for name, d := range r.Drawings {
			if err := user.WriteFile(filepath.Join(filepath.Dir(*out), name), d.SVG()); err != nil {
				return unread{err}
			}
		}
		if err := user.WriteFile(*out, []byte(r.Markdown)); err != nil {
			return unread{err}
		}
		return nil
	}
	return cmd
}
