package path

import (
	"fmt"
	"strings"

	"orenda/internal/app/ui"
	"orenda/internal/exchange"
)

// Copies implements ui.Copier: the finding of the stage at the cursor, what was seen there,
// and the whole path.
func (v *View) Copies() (out []ui.Copy) {
	x := v.s.Exchange().Redact(nil)
	if x.Outcome == "" {
		return nil
	}
	for i := range x.Findings {
		if f := &x.Findings[i]; f.Stage == v.stage {
			out = append(out, ui.Text("the finding "+f.ID, findingText(f)))
			break
		}
	}
	if facts := factsText(x, v.stage); facts != "" {
		out = append(out, ui.Text("what was seen at "+v.stage.String(), facts))
	}
	return append(out, ui.Copy{What: "the whole path", Text: func() string { return pathText(x) }})
}

// findingText is a finding as one would tell it to somebody.
func findingText(f *exchange.Finding) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s (%s)\n%s\n", f.Title, f.ID, f.Why)
	for _, e := range f.Evidence {
		fmt.Fprintf(&b, "  %s: %s\n", where(e), e.Excerpt)
	}
	for _, r := range f.Remedies {
		fmt.Fprintf(&b, "repair: %s\n", r.Title)
	}
	if f.Program != "" {
		fmt.Fprintf(&b, "in your program: %s\n", f.Program)
	}
	return b.String()
}

func factsText(x *exchange.Exchange, s exchange.Stage) string {
	var b strings.Builder
	for _, f := range x.Stage(s).Facts {
		fmt.Fprintf(&b, "%s: %s\n", f.Name, f.Value)
	}
	return b.String()
}

func pathText(x *exchange.Exchange) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s · %s → %s   %s   %s\n", x.Operation, x.Draft, x.Endpoint, x.Ending(), x.ID)
	for _, s := range exchange.Stages {
		fmt.Fprintf(&b, "%2d %-9s %-10s %s\n", int(s), s, x.Stage(s).State, x.Stage(s).Note)
	}
	for i := range x.Findings {
		b.WriteString("\n" + findingText(&x.Findings[i]))
	}
	return b.String()
}
