package workspace

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/tomledit"
)

// AddEndpoint makes an endpoint for a port, with no settings of its own.
func (w *Workspace) AddEndpoint(name, contractName, port string) error {
	switch c, err := w.Contract(contractName); {
	case err != nil:
		return err
	case c.Port(port) == nil:
		return fmt.Errorf("%s has no port %s", contractName, port)
	case w.Endpoint(name) != nil:
		return fmt.Errorf("there is an endpoint %s already", name)
	}
	return w.set(
		set{[]string{"endpoint", name, "contract"}, contractName},
		set{[]string{"endpoint", name, "port"}, port},
	)
}

// AddEndpoints makes endpoints for the ports of a contract that can be called
// and have none, and gives their names.
func (w *Workspace) AddEndpoints(contractName string) (made []string, err error) {
	c, err := w.Contract(contractName)
	if err != nil {
		return nil, err
	}
	for _, p := range c.Ports() {
		has := slices.ContainsFunc(
			w.Config().Endpoints,
			func(e *Endpoint) bool { return e.Contract == contractName && e.Port == p.Name },
		)
		if has || p.Version == soap.Unset {
			continue
		}
		name := w.freeName(p.Name, func(n string) bool { return w.Endpoint(n) != nil })
		if err := w.AddEndpoint(name, contractName, p.Name); err != nil {
			return made, err
		}
		made = append(made, name)
	}
	return made, nil
}

// DuplicateEndpoint makes an endpoint with all settings of another; it is not
// the default.
func (w *Workspace) DuplicateEndpoint(from, to string) error {
	e := w.Endpoint(from)
	if e == nil {
		return fmt.Errorf("there is no endpoint %s", from)
	}
	if w.Endpoint(to) != nil || to == "" {
		return fmt.Errorf("there is an endpoint %s already", to)
	}
	sets := []set{{[]string{"endpoint", to, "contract"}, e.Contract}, {[]string{"endpoint", to, "port"}, e.Port}}
	if e.Profile != "" {
		sets = append(sets, set{[]string{"endpoint", to, "profile"}, e.Profile})
	}
	for _, k := range endpoint.Keys {
		if v, ok := e.Values[k.Name]; ok {
			sets = append(sets, set{[]string{"endpoint", to, k.Name}, fileForm(&k, v)})
		}
	}
	return w.set(sets...)
}

// fileForm are a setting's items as a value of the file.
func fileForm(k *endpoint.Key, items []string) any {
	switch {
	case k.Kind == endpoint.List:
		return items
	case k.Kind == endpoint.Switch:
		return strings.Join(items, "") == "true"
	}
	return strings.Join(items, ", ")
}

// Rename gives an endpoint, an environment or a profile another name; what
// refers to it follows.
func (w *Workspace) Rename(kind, from, to string) error {
	if to = strings.TrimSpace(to); to == "" || to == from {
		return nil
	}
	return w.edit(func(src []byte) ([]byte, error) {
		src, err := tomledit.Rename(src, []string{kind, from}, to)
		if err != nil {
			return nil, err
		}
		switch {
		case kind == "environment" && w.Config().Environment == from:
			return tomledit.Set(src, []string{"default-environment"}, to)
		case kind == "endpoint" && w.Config().SetAside[from] != nil:
			return tomledit.Rename(src, []string{"set-aside", from}, to)
		case kind == "profile":
			for _, e := range w.Config().Endpoints {
				if e.Profile != from {
					continue
				}
				if src, err = tomledit.Set(src, []string{"endpoint", e.Name, "profile"}, to); err != nil {
					return nil, err
				}
			}
		}
		return src, nil
	})
}

// RenameVariable gives a variable another name in all environments, in every
// setting and in every draft that variables stand in.
//
//revive:disable-next-line:cyclomatic one change of the file, from its values to its lines
func (w *Workspace) RenameVariable(from, to string) error {
	if to = strings.TrimSpace(to); to == "" || to == from {
		return nil
	}
	for _, e := range w.Config().Environments {
		if _, there := e.Variables[to]; there {
			return fmt.Errorf("there is a variable %s already", to)
		}
	}
	for _, r := range w.Drafts() {
		if !w.Config().DraftSettings[r.ID()].Variables {
			continue
		}
		src, err := w.ReadDraft(r)
		if err != nil {
			return err
		}
		if out := endpoint.RenameVariable(string(src), from, to); out != string(src) {
			if err := w.WriteDraft(r, []byte(out)); err != nil {
				return err
			}
		}
		head, err := w.ReadHeader(r)
		if err != nil {
			return err
		}
		if out := endpoint.RenameVariable(string(head), from, to); out != string(head) {
			if err := w.WriteHeader(r, []byte(out)); err != nil {
				return err
			}
		}
	}
	return w.edit(func(src []byte) (_ []byte, err error) {
		for _, e := range w.Config().Environments {
			if _, there := e.Variables[from]; there {
				if src, err = tomledit.Rename(src, []string{"environment", e.Name, from}, to); err != nil {
					return nil, err
				}
			}
		}
		change := func(kind, name string, values map[string][]string) error {
			for _, k := range endpoint.Keys {
				items := slices.Clone(values[k.Name])
				for i, v := range items {
					items[i] = endpoint.RenameVariable(v, from, to)
				}
				if !slices.Equal(items, values[k.Name]) {
					if src, err = tomledit.Set(src, []string{kind, name, k.Name}, fileForm(&k, items)); err != nil {
						return err
					}
				}
			}
			return nil
		}
		for _, e := range w.Config().Endpoints {
			if err := change("endpoint", e.Name, e.Values); err != nil {
				return nil, err
			}
		}
		for name, values := range w.Config().Profiles {
			if err := change("profile", name, values); err != nil {
				return nil, err
			}
		}
		return src, nil
	})
}

// Share is what changes where endpoints are given the settings of another, of
// this workspace or of one beside it: for the stages that are named, or for all
// but the address. skipped says what is not copied, and why.
//
//revive:disable-next-line:cyclomatic one change of the file, from its values to its lines
func (w *Workspace) Share(
	from *Workspace,
	name string,
	to []string,
	stages []exchange.Stage,
) (changes []exchange.Change, skipped []string, err error) {
	e := from.Endpoint(name)
	if e == nil {
		return nil, nil, fmt.Errorf("there is no endpoint %s", name)
	}
	values := e.Values
	if from != w { // its profiles are not known here
		values = from.own(name)
	}
	for _, target := range to {
		t := w.Endpoint(target)
		if t == nil {
			return nil, nil, fmt.Errorf("there is no endpoint %s", target)
		}
		if from == w && t.Name == name {
			continue
		}
		if from == w && len(stages) == 0 && t.Profile != e.Profile {
			changes = append(
				changes,
				exchange.Change{
					Where: "workspace",
					Key:   "endpoint." + target + ".profile",
					From:  blank(t.Profile),
					To:    blank(e.Profile),
				},
			)
		}
		for _, k := range endpoint.Keys {
			if len(stages) == 0 && k.Stage == exchange.Address ||
				len(stages) > 0 && !slices.Contains(stages, k.Stage) {
				continue
			}
			have, want := t.Values[k.Name], values[k.Name]
			if slices.Equal(have, want) {
				continue
			}
			c := exchange.Change{Where: "workspace", Key: "endpoint." + target + "." + k.Name}
			if have != nil {
				c.From = strings.Join(have, ", ")
			}
			switch {
			case want == nil:
			case k.Name == "trust" && from != w:
				pem, err := from.certificatesOf(want)
				if err != nil {
					return nil, nil, err
				}
				if ours, err := w.certificatesOf(have); err == nil && ours == pem {
					continue
				}
				c.To = pem
			case (k.Name == "client-cert" || k.Name == "client-key") && from != w:
				skipped = append(
					skipped,
					fmt.Sprintf("%s of %s: its file belongs to the other workspace", k.Name, name),
				)
				continue
			case k.Kind == endpoint.List:
				c.To = want
			default:
				c.To = strings.Join(want, ", ")
			}
			changes = append(changes, c)
		}
	}
	return changes, skipped, nil
}

func blank(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// Lift is what changes where scheme, host and port of every address that is
// written out become variables, with their values in every environment.
//
//revive:disable-next-line:function-length one change of the file, from its values to its lines
//revive:disable-next-line:cyclomatic one change of the file, from its values to its lines
func (w *Workspace) Lift() ([]exchange.Change, error) {
	type origin struct{ scheme, host, port string }
	origins, hosts := map[origin]string{}, map[string]string{} // prefix of the variables' names
	type place struct {
		end  string
		of   origin
		rest string
		was  string
	}
	var places []place
	for _, e := range w.Config().Endpoints {
		s := w.Settings(e.Name)
		template := s.Text("address")
		if strings.Contains(template, "${") || template == "" {
			continue
		}
		plain, err := endpoint.Expand(template, "", nil)
		if err != nil {
			continue
		}
		u, err := endpoint.ParseAddress(plain)
		if err != nil || u.User != nil {
			continue
		}
		o := origin{strings.ToLower(u.Scheme), u.Hostname(), u.Port()}
		at := strings.Index(template, "://") + 3
		rest := template[at:]
		if i := strings.IndexAny(rest, "/?#"); i >= 0 {
			rest = rest[i:]
		} else {
			rest = ""
		}
		if origins[o] == "" {
			origins[o] = e.Name
		}
		if hosts[o.host] == "" {
			hosts[o.host] = e.Name
		}
		places = append(places, place{e.Name, o, rest, template})
	}
	taken := map[string]bool{}
	for _, e := range w.Config().Environments {
		for name := range e.Variables {
			taken[name] = true
		}
	}
	names := map[string]string{} // by what is named
	name := func(what, prefix, suffix string, alone bool) string {
		if names[what] == "" {
			n := suffix
			if !alone {
				n = camel(prefix) + strings.ToUpper(suffix[:1]) + suffix[1:]
			}
			names[what] = w.freeName(n, func(n string) bool { return taken[n] })
			taken[names[what]] = true
		}
		return names[what]
	}
	environments := w.Config().Environments
	if len(environments) == 0 {
		environments = []Environment{{Name: "first"}}
	}
	var changes []exchange.Change
	var told []string
	variable := func(name, value string) {
		if slices.Contains(told, name) {
			return
		}
		told = append(told, name)
		for _, e := range environments {
			changes = append(
				changes,
				exchange.Change{Where: "workspace", Key: "environment." + e.Name + "." + name, To: value},
			)
		}
	}
	for _, p := range places {
		o := fmt.Sprint(p.of)
		scheme := name("scheme "+o, origins[p.of], "scheme", len(origins) == 1)
		host := name("host "+p.of.host, hosts[p.of.host], "host", len(hosts) == 1)
		variable(scheme, p.of.scheme)
		variable(host, p.of.host)
		to := "${" + scheme + "}://"
		if strings.Contains(p.of.host, ":") {
			to += "[${" + host + "}]"
		} else {
			to += "${" + host + "}"
		}
		if p.of.port != "" {
			port := name("port "+o, origins[p.of], "port", len(origins) == 1)
			variable(port, p.of.port)
			to += ":${" + port + "}"
		}
		changes = append(
			changes,
			exchange.Change{Where: "workspace", Key: "endpoint." + p.end + ".address", From: p.was, To: to + p.rest},
		)
	}
	if len(w.Config().Environments) == 0 && len(changes) > 0 {
		changes = append(changes, exchange.Change{Where: "workspace", Key: "default-environment", To: "first"})
	}
	return changes, nil
}

// camel makes a variable's name of an endpoint's: tides-tls is tidesTls.
func camel(s string) string {
	var b strings.Builder
	up := false
	for _, r := range s {
		switch {
		case r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9':
			if up {
				b.WriteString(strings.ToUpper(string(r)))
			} else if b.Len() == 0 {
				b.WriteString(strings.ToLower(string(r)))
			} else {
				b.WriteRune(r)
			}
			up = false
		default:
			up = b.Len() > 0
		}
	}
	return b.String()
}

// Variable is one variable with its value in each environment that sets it.
type Variable struct {
	Name   string            // of the variable
	Values map[string]string // by environment
	UsedBy []string          // endpoints, profiles and drafts, in words
}

// AllVariables are the variables that any environment sets or that anything uses,
// by name.
func (w *Workspace) AllVariables() []Variable {
	all := map[string]*Variable{}
	of := func(name string) *Variable {
		if all[name] == nil {
			all[name] = &Variable{Name: name, Values: map[string]string{}}
		}
		return all[name]
	}
	for _, e := range w.Config().Environments {
		for name, v := range e.Variables {
			of(name).Values[e.Name] = v
		}
	}
	use := func(text, by string) {
		for _, name := range endpoint.Variables(text) {
			if v := of(name); !slices.Contains(v.UsedBy, by) {
				v.UsedBy = append(v.UsedBy, by)
			}
		}
	}
	for _, e := range w.Config().Endpoints {
		for _, k := range endpoint.Keys {
			for _, v := range e.Values[k.Name] {
				use(v, e.Name)
			}
		}
	}
	for name, values := range w.Config().Profiles {
		for _, items := range values {
			for _, v := range items {
				use(v, "profile "+name)
			}
		}
	}
	for _, r := range w.Drafts() {
		if w.Config().DraftSettings[r.ID()].Variables {
			if src, err := w.ReadDraft(r); err == nil {
				use(string(src), r.String())
			}
			if src, err := w.ReadHeader(r); err == nil {
				use(string(src), r.String())
			}
		}
	}
	out := make([]Variable, 0, len(all))
	for _, v := range all {
		slices.Sort(v.UsedBy)
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b Variable) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// Resolved is what an endpoint's address becomes in an environment.
func (w *Workspace) Resolved(endpointName, environment string) (string, error) {
	vars, _, _, ok := w.resolved(environment)
	if !ok {
		return "", &endpoint.EnvironmentError{Name: environment}
	}
	s := w.Settings(endpointName)
	return endpoint.Expand(s.Text("address"), environment, vars)
}
