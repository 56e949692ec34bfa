package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/journal"
	"orenda/internal/safe"
	"orenda/internal/workspace"
)

// What a shell completes is read from the words of a command's usage: DRAFT, ENDPOINT,
// FIELD=VALUE. A word that is not known here is a file, as shells complete it.

// completes sets the completion of a command and of those below it.
func (t *commandLine) completes(cmd *cobra.Command) {
	for _, sub := range cmd.Commands() {
		t.completes(sub)
	}
	_, usage, _ := strings.Cut(cmd.Use, " ")
	words := strings.Fields(strings.Map(func(r rune) rune {
		if r == '[' || r == ']' || r == '…' {
			return -1
		}
		return r
	}, usage))
	if len(words) > 0 && cmd.ValidArgsFunction == nil && cmd.Runnable() {
		cmd.ValidArgsFunction = func(
			cmd *cobra.Command, args []string, begun string,
		) ([]string, cobra.ShellCompDirective) {
			word := strings.TrimSuffix(words[min(len(args), len(words)-1)], "...")
			return t.words(word, cmd, args, begun)
		}
	}
	for name, word := range map[string]string{"endpoint": "ENDPOINT", "environment": "ENVIRONMENT", "of": "ENDPOINT",
		"contract": "CONTRACT|FILE", "as": "IDENTITY", "identity": "IDENTITY"} {
		if cmd.Flags().Lookup(name) == nil {
			continue
		}
		_ = cmd.RegisterFlagCompletionFunc(name, // the flag is there
			func(cmd *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
				return t.words(word, cmd, args, begun)
			})
	}
}

// words are those that may stand where a usage has kinds of words, with what each is.
func (t *commandLine) words(
	kinds string, cmd *cobra.Command, args []string, begun string,
) ([]string, cobra.ShellCompDirective) {
	how := cobra.ShellCompDirectiveNoFileComp
	var out []string
	for _, kind := range strings.Split(kinds, "|") {
		switch kind {
		case "FINDING":
			for _, e := range diagnose.Catalogue() {
				out = append(out, e.ID+"\t"+e.Means)
			}
		case "EXCHANGE":
			out = append(out, t.exchanges()...)
		case "KEY=VALUE":
			out = append(out, keyWords(cmd)...)
			how |= cobra.ShellCompDirectiveNoSpace
		case "FILE", "URL", "MESSAGE.xml", "FILE.csv", "BUNDLE", "OUT", "IN", "DIR", "A", "B":
			how &^= cobra.ShellCompDirectiveNoFileComp
		default:
			w, err := t.workspace()
			if err != nil {
				continue
			}
			names := t.named(w, kind, args)
			if strings.HasPrefix(kind, "FIELD") {
				how |= cobra.ShellCompDirectiveNoSpace
			}
			if kind == "NAME" {
				names = t.namesFor(w, cmd)
			}
			out = append(out, names...)
		}
	}
	out = slices.DeleteFunc(out, func(s string) bool { return !strings.HasPrefix(s, begun) })
	for i, s := range out { // a shell shows what descriptions and services wrote
		word, about, _ := strings.Cut(s, "\t")
		out[i] = safe.Line(word)
		if about != "" {
			out[i] += "\t" + safe.Line(about)
		}
	}
	return out, how
}

// named are the things of a workspace that a word may name.
func (t *commandLine) named(w *workspace.Workspace, kind string, args []string) (out []string) {
	cfg := w.Config()
	switch kind {
	case "DRAFT":
		for _, d := range w.Drafts() {
			out = append(out, d.String()+"\t"+d.Contract)
		}
	case "OPERATION":
		for _, c := range cfg.Contracts {
			if con, err := w.Contract(c.Name); err == nil {
				for _, name := range con.OperationNames() {
					out = append(out, name+"\t"+c.Name)
				}
			}
		}
	case "ENDPOINT", "FROM", "TO":
		for _, e := range cfg.Endpoints {
			out = append(out, e.Name+"\t"+e.Contract+" "+e.Port)
		}
	case "CONTRACT":
		for _, c := range cfg.Contracts {
			out = append(out, c.Name+"\t"+c.Source)
		}
	case "ENVIRONMENT":
		for _, e := range cfg.Environments {
			out = append(out, e.Name)
		}
	case "IDENTITY":
		all, _ := w.Home.Identities()
		for name, id := range all {
			out = append(out, name+"\t"+id.User)
		}
		slices.Sort(out)
	case "FIELD", "FIELD=VALUE":
		if len(args) > 0 {
			out = fieldWords(w, args[0], strings.HasSuffix(kind, "VALUE"))
		}
	}
	return out
}

// namesFor are those of the things that a group of commands is about.
func (t *commandLine) namesFor(w *workspace.Workspace, cmd *cobra.Command) []string {
	if cmd.Parent() != nil && cmd.Parent().Name() == "identity" {
		return t.named(w, "IDENTITY", nil)
	}
	return nil
}

// fieldWords are the fields of a draft with their types; of an operation that has none, those
// of its sample.
func fieldWords(w *workspace.Workspace, text string, value bool) (out []string) {
	ref, err := w.FindDraft(text)
	if err != nil {
		return nil
	}
	o, err := w.OpenDraft(ref)
	if err != nil || o.Body.Err() != nil {
		return nil
	}
	after := ""
	if value {
		after = "="
	}
	for _, it := range o.Body.Items() {
		if it.Path != "" && it.Type != "" {
			out = append(out, it.Path+after+"\t"+it.Type)
		}
	}
	return out
}

// keyWords are the settings, or what an identity has.
func keyWords(cmd *cobra.Command) (out []string) {
	if cmd.Parent() != nil && cmd.Parent().Name() == "identity" {
		return []string{"user=", "secret=", "certificate=", "key="}
	}
	for i := range endpoint.Keys {
		out = append(out, endpoint.Keys[i].Name+"=\t"+endpoint.Keys[i].Doc)
	}
	return out
}

// exchanges are the latest, the last by its word.
func (t *commandLine) exchanges() []string {
	out := []string{"last\tthe newest"}
	j, err := t.journal()
	if err != nil {
		return out
	}
	const few = 20
	list, _ := j.List(journal.Query{Max: few})
	for _, x := range list {
		out = append(out, x.ID+"\t"+exchange.Age(x.Started, time.Now())+" "+heading(x)+": "+x.Ending())
	}
	return out
}
