package workspace

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/near"
)

// SetAsideFor are the findings that were set aside for an endpoint: reasons, by id.
func (w *Workspace) SetAsideFor(name string) map[string]string {
	return w.Config().SetAside[name]
}

// SetAside sets a finding aside for an endpoint, with the reason; an empty one
// takes it back.
func (w *Workspace) SetAside(name, id, why string) error {
	var value any
	if why = strings.TrimSpace(why); why != "" {
		value = why
	}
	return w.set(set{[]string{"set-aside", name, id}, value})
}

// UsesOf are the endpoints that name an identity, and as what.
func (w *Workspace) UsesOf(identity string) (out []string) {
	for _, e := range w.Config().Endpoints {
		set := w.Settings(e.Name)
		for key, what := range map[string]string{"identity": "", "client-identity": " (client certificate)",
			"sign-identity": " (signs)", "proxy-identity": " (proxy)", "session": " (session)"} {
			if set.Text(key) == identity {
				out = append(out, e.Name+what)
			}
		}
	}
	slices.Sort(out)
	return out
}

// Survey is the workspace as the rules see it that look at no single call.
func (w *Workspace) Survey() *diagnose.Survey {
	s := &diagnose.Survey{Unread: w.Config().Warnings}
	for _, e := range w.Config().Endpoints {
		se := diagnose.SurveyEndpoint{Name: e.Name, Contract: e.Contract, Port: e.Port, Off: e.Off}
		c, err := w.Contract(e.Contract)
		switch {
		case err != nil:
			se.Gone, se.NotWhole = err.Error(), true
		case c.Port(e.Port) == nil && len(c.NotRead()) > 0:
			se.Gone, se.NotWhole = fmt.Sprintf(
				"the kept description of %s is to be fetched again (refresh); what it leads to could not be read: %s",
				e.Contract,
				strings.Join(c.NotRead(), "; "),
			), true
		case c.Port(e.Port) == nil:
			var ports []string
			for _, p := range c.Ports() {
				ports = append(ports, p.Name)
			}
			se.Gone = fmt.Sprintf(
				"the contract %s has no port %s; it has %s",
				e.Contract,
				e.Port,
				strings.Join(ports, ", "),
			)
			se.Near = near.Miss(e.Port, ports)
		default:
			set := w.settings(w.Config(), e, c.Port(e.Port))
			values := []string{e.Contract, e.Port}
			for i := range endpoint.Keys {
				values = append(values, set.Of(&endpoint.Keys[i]).Text)
			}
			se.Values = strings.Join(values, "\x00")
			for _, env := range w.Config().Environments {
				address, err := w.Resolved(e.Name, env.Name)
				if err == nil {
					_, err = endpoint.ParseAddress(address)
				}
				if err != nil {
					se.Unresolved = append(
						se.Unresolved,
						"in "+env.Name+", "+strings.TrimSuffix(err.Error(), " in the environment "+env.Name),
					)
				}
			}
		}
		s.Endpoints = append(s.Endpoints, se)
	}
	for _, v := range w.AllVariables() {
		sv := diagnose.SurveyVariable{Name: v.Name, UsedBy: v.UsedBy}
		for _, env := range w.Config().Environments {
			if _, ok := v.Values[env.Name]; ok {
				sv.Set = append(sv.Set, env.Name)
			} else {
				sv.Unset = append(sv.Unset, env.Name)
			}
		}
		if len(sv.Set) > 0 || len(sv.UsedBy) > 0 {
			s.Variables = append(s.Variables, sv)
		}
	}
	slices.SortFunc(s.Variables, func(a, b diagnose.SurveyVariable) int { return strings.Compare(a.Name, b.Name) })
	return s
}
