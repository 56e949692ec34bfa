package cli

import (
	"fmt"
	"strings"

	"orenda/internal/pac"
	"orenda/internal/safe"
)

// explainPAC tells which proxy a proxy auto-configuration file would choose for an address, or for that
// of an endpoint. Nothing of the file is run.
func (t *commandLine) explainPAC(file, of string) error {
	endpointName := ""
	if !strings.Contains(of, "://") {
		w, err := t.workspace()
		if err != nil {
			return err
		}
		if w.Endpoint(of) == nil {
			return fmt.Errorf("%s is no address, and no endpoint of the workspace", of)
		}
		endpointName = of
		if of, err = w.Resolved(of, w.Config().Environment); err != nil {
			return unread{err}
		}
	}
	r, err := pac.ReadFile(file, of)
	if err != nil {
		return unread{err}
	}
	if t.asJSON {
		return t.printJSON(r)
	}
	for _, rule := range r.Rules {
		fmt.Fprintf(t.out, "line %-4d %-8s %s\n", rule.Line, rule.Holds, safe.Line(cutTo(rule.Condition, 100)))
		if rule.Why != "" {
			fmt.Fprintf(t.out, "                   %s\n", safe.Line(rule.Why))
		}
		if rule.Holds == pac.Unknown && rule.Choice != "" {
			fmt.Fprintf(t.out, "                   if it holds: %s\n", safe.Line(rule.Choice))
		}
	}
	fmt.Fprintf(t.out, "\n%s\n", safe.Line(r.Says(of)))
	if proxy := r.Proxy(); proxy != "" && endpointName != "" {
		fmt.Fprintf(t.out, "orenda endpoint set %s 'proxy=%s'\n", endpointName, safe.Line(proxy))
	}
	return nil
}
