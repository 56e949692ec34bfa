package workspace

import (
	"cmp"
	"crypto/tls"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/soap"
	"orenda/internal/trust"
)

// Serving are the endpoints, switched on, that serve an operation.
func (w *Workspace) Serving(contractName, operation string) []*Endpoint {
	var out []*Endpoint
	c, err := w.Contract(contractName)
	if err != nil {
		return nil
	}
	for _, e := range w.Config().Endpoints {
		if e.Contract != contractName || e.Off {
			continue
		}
		if p := c.Port(e.Port); p != nil && p.Operation(operation) != nil {
			out = append(out, e)
		}
	}
	return out
}

// ChooseEndpoint finds the endpoint that a call uses: the one that was named, the
// default, or the only one. Where it cannot be settled the error says why.
func (w *Workspace) ChooseEndpoint(r DraftRef, named string) (*Endpoint, error) {
	serving := w.Serving(r.Contract, r.Operation)
	var names []string
	for _, e := range serving {
		names = append(names, e.Name)
	}
	if named != "" {
		for _, e := range serving {
			if e.Name == named {
				return e, nil
			}
		}
		return nil, &endpoint.MissingError{
			Operation: r.Operation,
			Name:      named,
			Near:      near.Miss(named, names),
			Others:    names,
		}
	}
	switch len(serving) {
	case 0:
		return nil, w.none(r)
	case 1:
		return serving[0], nil
	}
	var byDefault []*Endpoint
	for _, e := range serving {
		if e.Default {
			byDefault = append(byDefault, e)
		}
	}
	if len(byDefault) == 1 {
		return byDefault[0], nil
	}
	amb := &endpoint.AmbiguousError{Operation: r.Operation}
	c, _ := w.Contract(r.Contract)
	for _, e := range serving {
		amb.Endpoints = append(amb.Endpoints, w.alternative(e, c))
	}
	return nil, amb
}

// alternative says what sets an endpoint apart.
func (w *Workspace) alternative(e *Endpoint, c *contract.Contract) endpoint.Alternative {
	s := w.settings(w.Config(), e, c.Port(e.Port))
	scheme, _, _ := strings.Cut(s.Text("address"), "://")
	return endpoint.Alternative{
		Name:    e.Name,
		Port:    e.Port,
		Differs: fmt.Sprintf("SOAP %s · %s · port %s", s.Text("soap"), scheme, e.Port),
	}
}

// none says that no endpoint serves an operation, and which could.
func (w *Workspace) none(r DraftRef) *endpoint.MissingError {
	missing := &endpoint.MissingError{Operation: r.Operation, Contract: r.Contract}
	c, err := w.Contract(r.Contract)
	if err != nil {
		return missing
	}
	for _, p := range c.PortsWith(r.Operation) {
		made := false
		for _, e := range w.Config().Endpoints {
			if e.Contract == r.Contract && e.Port == p.Name {
				made = true
				missing.Off = append(missing.Off, e.Name) // it would serve otherwise
			}
		}
		if !made && p.Version != soap.Unset {
			name := w.freeName(safe.FileName(p.Name), func(n string) bool { return w.Endpoint(n) != nil })
			missing.Unmade = append(
				missing.Unmade,
				w.alternative(&Endpoint{Name: name, Contract: r.Contract, Port: p.Name}, c),
			)
		}
	}
	return missing
}

// settings are the layers of an endpoint.
func (w *Workspace) settings(cfg *Config, e *Endpoint, p *contract.Port) endpoint.Settings {
	var s endpoint.Settings
	yours := w.personal()
	if v := yours[Everywhere]; v != nil {
		s.Layers = append(s.Layers, endpoint.Layer{Source: "profile " + Everywhere + endpoint.Yours, Values: v})
	}
	if e != nil && e.Profile != "" {
		if v := cfg.Profiles[e.Profile]; v != nil {
			s.Layers = append(s.Layers, endpoint.Layer{Source: "profile " + e.Profile, Values: v})
		} else if v := yours[e.Profile]; v != nil {
			s.Layers = append(s.Layers, endpoint.Layer{Source: "profile " + e.Profile + endpoint.Yours, Values: v})
		}
	}
	if p != nil {
		v := map[string][]string{"soap": {p.Version.String()}}
		if p.Address != "" {
			v["address"] = []string{strings.ReplaceAll(p.Address, "$", "$$")}
		}
		s.Layers = append(s.Layers, endpoint.Layer{Source: "contract", Values: v})
	}
	if e != nil {
		s.Layers = append(s.Layers, endpoint.Layer{Source: "endpoint", Values: e.Values})
	}
	return s
}

// addresses gives those of all endpoints in all environments, as far as they can be
// resolved, by the settings as they were when it was made.
func (w *Workspace) addresses(cfg *Config) func() []string {
	return func() (out []string) {
		for _, e := range cfg.Endpoints {
			set := w.settingsOf(cfg, e.Name)
			for _, env := range cfg.Environments {
				if at, err := endpoint.Expand(set.Text("address"), env.Name, env.Variables); err == nil {
					out = append(out, at)
				}
			}
			if at, err := endpoint.Expand(set.Text("address"), "", nil); err == nil {
				out = append(out, at)
			}
		}
		return out
	}
}

// Settings are the settings in force for an endpoint.
func (w *Workspace) Settings(name string) endpoint.Settings { return w.settingsOf(w.Config(), name) }

func (w *Workspace) settingsOf(cfg *Config, name string) endpoint.Settings {
	e := cfg.Endpoint(name)
	if e == nil {
		return endpoint.Settings{}
	}
	c, err := w.Contract(e.Contract)
	if err != nil {
		return w.settings(cfg, e, nil)
	}
	return w.settings(cfg, e, c.Port(e.Port))
}

// Plan makes the plan of a call: a draft over an endpoint ("" the default one)
// in an environment ("" the workspace's).
//
//revive:disable-next-line:function-length one change of the file, from its values to its lines
func (w *Workspace) Plan(r DraftRef, endpointName, environment string) (call.Plan, error) {
	cfg := w.Config()
	p := call.Plan{
		Workspace:    w.ID(),
		ContractName: r.Contract,
		Operation:    r.Operation,
		DraftName:    r.Name,
		Environment:  environment,
		Agent:        call.Agent,
		ReadFile:     w.ReadFile,
		Shares:       cfg.Using,
		Known:        w.addresses(cfg),
	}
	if p.Environment == "" {
		p.Environment = cfg.Environment
	}
	var ok bool
	if p.Variables, p.Withheld, p.Secrets, ok = w.resolved(p.Environment); !ok {
		var names []string
		for _, e := range w.Config().Environments {
			names = append(names, e.Name)
		}
		p.EnvError = &endpoint.EnvironmentError{
			Name:   p.Environment,
			Near:   near.Miss(p.Environment, names),
			Others: names,
		}
	}
	var err error
	if p.Contract, err = w.Contract(r.Contract); err != nil {
		return p, err
	}
	p.Served = w.ContractNamed(r.Contract).Served
	if !p.Contract.Has(r.Operation) {
		names := p.Contract.OperationNames()
		p.NoEndpoint = &endpoint.OperationError{
			Name:   r.Operation,
			Near:   near.Miss(r.Operation, names),
			Others: names,
			Unread: p.Contract.NotRead(),
		}
		return p, nil
	}
	src, err := w.ReadDraft(r)
	if err != nil {
		return p, err
	}
	e, err := w.ChooseEndpoint(r, endpointName)
	if err != nil {
		p.NoEndpoint = err
		p.Endpoint = endpointName
		return p, nil
	}
	p.Endpoint, p.Port = e.Name, p.Contract.Port(e.Port)
	p.Settings = w.settings(cfg, e, p.Port)
	if own := cfg.DraftSettings[r.ID()].Own; len(own) > 0 {
		p.Settings.Layers = append(p.Settings.Layers, endpoint.Layer{Source: "draft", Values: own})
	}
	p.SetAside = w.SetAsideFor(e.Name)
	w.mu.Lock()
	p.Draft = w.drafts[r] // parsed before, if it is still the same
	w.mu.Unlock()
	p.SetDraft(src)
	w.mu.Lock()
	w.drafts[r] = p.Draft
	w.mu.Unlock()
	header, err := w.ReadHeader(r)
	if err != nil {
		return p, err
	}
	p.SetHeader(header)
	p.Expand = cfg.DraftSettings[r.ID()].Variables
	if w.Home != nil {
		w.lend(&p)
		p.Identities = Identities(w)
		p.Candidates = func() []*identity.Identity {
			all, err := w.Home.Identities()
			if err != nil {
				return nil
			}
			return slices.SortedFunc(
				maps.Values(all),
				func(a, b *identity.Identity) int { return cmp.Compare(a.Name, b.Name) },
			)
		}
	}
	return p, nil
}

// lend gives a plan the person's identities, and what they allowed the workspace.
func (w *Workspace) lend(p *call.Plan) {
	p.Identity = w.Home.Identity
	p.Allowed = func(id, scheme, host, port string) bool {
		return w.Home.Allowed(w.ID(), id, scheme+"://"+host+":"+port)
	}
	p.KeyLogOK = func(path string) bool { return w.Home.Allowed(w.ID(), "key-log", path) }
	p.Listening = func(host string) (tls.Certificate, string, error) {
		c, _, file, err := RelayCertificate(w.Home, host)
		return c, file, err
	}
	p.ProxyOK = func(proxy string) bool { return w.Home.Allowed(w.ID(), "proxy", proxy) }
}

// PlanAgain is the plan by which a kept exchange of the workspace is judged again.
func (w *Workspace) PlanAgain(x *exchange.Exchange) (p call.Plan) {
	cfg := w.Config()
	p = call.Plan{Workspace: x.Workspace, ContractName: x.Contract, Agent: call.Agent, ReadFile: w.ReadFile,
		Shares: cfg.Using, SetAside: w.SetAsideFor(x.Endpoint)}
	p.Variables, _ = w.Variables(x.Environment)
	c, err := w.Contract(x.Contract)
	if err != nil {
		return p
	}
	p.Contract, p.Served = c, w.ContractNamed(x.Contract).Served
	if e := w.Endpoint(x.Endpoint); e != nil {
		p.Port = c.Port(e.Port)
	}
	if p.Port == nil {
		for _, port := range c.PortsWith(x.Operation) {
			p.Port = port
			break
		}
	}
	if w.Home != nil {
		p.Identities = Identities(w)
	}
	return p
}

// fromProcess begins the value of a variable that stands in the environment of
// the process.
const fromProcess = "env:"

// resolved are the variables of an environment with their values, and those that
// the process environment would give a value if that were allowed: a workspace
// may come from a stranger. What the process environment gives is a secret.
func (w *Workspace) resolved(environment string) (vars, withheld map[string]string, secrets []string, ok bool) {
	raw, ok := w.Variables(environment)
	vars = make(map[string]string, len(raw))
	for name, v := range raw {
		from, is := strings.CutPrefix(v, fromProcess)
		switch {
		case !is:
			vars[name] = v
		case w.Home == nil || !w.Home.Allowed(w.ID(), fromProcess+from, "value"):
			if withheld == nil {
				withheld = map[string]string{}
			}
			withheld[name] = from
		default:
			if v, set := os.LookupEnv(from); set {
				vars[name] = v
				secrets = append(secrets, v)
			}
		}
	}
	return vars, withheld, secrets, ok
}

// Identities are those that remedies may offer.
func Identities(w *Workspace) []diagnose.Identity {
	all, err := w.Home.Identities()
	if err != nil {
		return nil
	}
	var out []diagnose.Identity
	for _, id := range all {
		d := diagnose.Identity{Name: id.Name, User: id.User}
		if b, err := os.ReadFile(id.Certificate); id.Certificate != "" && err == nil {
			if certs, err := trust.Read(b); err == nil {
				d.Certificate = certs[0]
			}
		}
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b diagnose.Identity) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// adoptable are the settings with which a description was fetched that the
// endpoints of its ports need as well.
//
//nolint:gochecknoglobals // a table: it is never written to
var adoptable = []string{
	"trust",
	"system-trust",
	"server-name",
	"accept-name",
	"accept-expired",
	"tls-min",
	"tls-max",
	"client-cert",
	"client-key",
	"http-auth",
	"identity",
}

// Adopt gives the endpoints of a description the settings with which it was
// fetched: those of TLS to those that are reached over it.
func (w *Workspace) Adopt(contractName string, values map[string][]string) error {
	c, err := w.Contract(contractName)
	if err != nil {
		return err
	}
	var sets []set
	for _, e := range w.Config().Endpoints {
		p := c.Port(e.Port)
		if e.Contract != contractName || p == nil {
			continue
		}
		for _, key := range adoptable {
			v := values[key]
			k := endpoint.KeyOf(key)
			if len(v) == 0 || k.Stage == exchange.TLS && !strings.HasPrefix(p.Address, "https:") {
				continue
			}
			var value any = v[0]
			switch k.Kind {
			case endpoint.List:
				value = v
			case endpoint.Switch:
				value = v[0] == "true"
			}
			sets = append(sets, set{[]string{"endpoint", e.Name, key}, value})
		}
	}
	if len(sets) == 0 {
		return nil
	}
	return w.set(sets...)
}

// FetchSettings are the settings with which a kept description is fetched
// again: those that its endpoints have of what they adopted.
func (w *Workspace) FetchSettings(contractName string) map[string][]string {
	out := map[string][]string{}
	for _, e := range w.Config().Endpoints {
		if e.Contract != contractName {
			continue
		}
		for _, key := range adoptable {
			if v := e.Values[key]; len(v) > 0 && out[key] == nil {
				out[key] = v
			}
		}
	}
	return out
}
