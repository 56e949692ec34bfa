package state

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"strings"

	"orenda/internal/call"
	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/workspace"
)

// fetching is the description that is fetched, with the settings that hold for
// it: it has no endpoint yet.
type fetching struct {
	source string
	values map[string][]string
}

// Fetch loads a description from an address or a path.
func (s *State) Fetch(source string) {
	source = strings.TrimSpace(source)
	if source == "" || s.fromShelf(source) {
		return
	}
	if source != s.fetch.source {
		s.fetch = fetching{source, map[string][]string{}}
	}
	s.FetchAgain()
}

// fromShelf takes a description whose name in the person's catalogue was typed, where no file
// has that name.
func (s *State) fromShelf(name string) bool {
	if strings.ContainsAny(name, "/.:") {
		return false
	}
	if _, err := os.Stat(name); err == nil {
		return false
	}
	c, err := workspace.OpenCatalogue(s.Home)
	if err != nil {
		return false
	}
	_, con, err := c.Entry(name)
	return err == nil && len(con.OperationNames()) > 0 && s.FromCatalogue(c, name, con.OperationNames()[0])
}

// Sources are what an address line can be completed to: what descriptions were loaded from, and
// the names of the catalogue. It can be asked in any goroutine.
func (s *State) Sources() []string {
	out := s.Home.Opened()
	if c, err := workspace.OpenCatalogue(s.Home); err == nil {
		out = append(out, c.Names()...)
	}
	return out
}

// Offering is what an address line can be completed to: Sources, and what the host offers that
// stands in it ("" none does). It asks nothing yet; known can be called in any goroutine.
func (s *State) Offering(text string) (known func() []string, host string) {
	if host = call.HostOf(text); host == "" {
		return s.Sources, ""
	}
	p := s.fetchPlan(s.fetch.values)
	return func() []string { return append(call.Offered(context.Background(), text, p), s.Sources()...) }, host
}

// FetchAgain fetches the description that could not be fetched, with what is set now.
func (s *State) FetchAgain() {
	source, id := s.fetch.source, "fetch "+s.fetch.source
	if s.calls.running[id] != nil {
		return
	}
	s.Say("fetching %s", source)
	p := s.fetchPlan(s.fetch.values)
	r := &running{fetch: true, call: call.New(p, nil)}
	s.calls.running[id] = r
	r.halt = s.run.Go(func(ctx context.Context) {
		f, err := call.Fetch(ctx, source, p, s.sayFetching)
		for _, x := range f.Exchanges {
			_ = s.J.Add(x)
		}
		s.post(func() { s.takeFetched(id, source, f, err) })
	})
}

// sayFetching says which document is asked for, as it is.
func (s *State) sayFetching(address string) {
	s.post(func() { s.Say("fetching %s", address) })
}

func (s *State) fetchPlan(values map[string][]string) call.Plan {
	p := call.Plan{
		Workspace:  s.W.ID(),
		Agent:      call.Agent,
		ReadFile:   s.W.ReadFile,
		Identity:   s.Home.Identity,
		Identities: workspace.Identities(s.W),
		Allowed: func(id, scheme, host, port string) bool {
			return s.Home.Allowed(s.W.ID(), id, scheme+"://"+host+":"+port)
		},
	}
	p.Settings = fetchSettings(maps.Clone(values))
	return p
}

func fetchSettings(values map[string][]string) endpoint.Settings {
	return endpoint.Settings{Layers: []endpoint.Layer{{Source: "description", Values: values}}}
}

// retold shows the settings of the fetch as they are now.
func (s *State) retold() {
	x := *s.Fetching
	set := fetchSettings(s.fetch.values)
	set.Set("address", s.fetch.source)
	x.Settings = set.Record()
	s.Fetching = &x
}

// setFetch gives a setting of the fetch a value; "" takes it out.
func (s *State) setFetch(k *endpoint.Key, value string) error {
	defer s.retold()
	if k.Name == "address" {
		if value != "" {
			s.fetch.source = value
		}
		return nil
	}
	if value == "" {
		delete(s.fetch.values, k.Name)
		return nil
	}
	if k.Kind == endpoint.List {
		var items []string
		for _, p := range strings.Split(value, ",") {
			if p = strings.TrimSpace(p); p != "" {
				items = append(items, p)
			}
		}
		s.fetch.values[k.Name] = items
		return nil
	}
	if err := k.Check(value); err != nil {
		return err
	}
	s.fetch.values[k.Name] = []string{value}
	return nil
}

// repairFetch makes the changes of a remedy to the settings of the fetch.
func (s *State) repairFetch(changes []exchange.Change) error {
	defer s.retold()
	for _, c := range changes {
		key, ok := strings.CutPrefix(c.Key, "endpoint.description.")
		if !ok {
			if err := s.W.Apply(c); err != nil {
				return err
			}
			continue
		}
		to := fmt.Sprint(c.To)
		if key == "trust" && strings.Contains(to, "-----BEGIN") {
			file, err := s.W.KeepCertificates(to)
			if err != nil {
				return err
			}
			s.fetch.values["trust"] = append(s.fetch.values["trust"], file)
			continue
		}
		if err := s.setFetch(endpoint.KeyOf(key), to); err != nil {
			return err
		}
	}
	return nil
}

// Newer is a newer state of a kept description.
type Newer struct {
	Name    string            // of the contract
	Changes []contract.Change // what is new in it
	fetched *call.Fetched
}

// Again fetches a kept description again, to see what changed.
func (s *State) Again(name string) {
	k := s.W.ContractNamed(name)
	id := "fetch " + name
	if k == nil || s.calls.running[id] != nil {
		return
	}
	before, err := s.W.Contract(name)
	if err != nil {
		before = &contract.Contract{} // all of it is new
	}
	s.Say("fetching %s again", k.Source)
	p := s.fetchPlan(s.W.FetchSettings(name))
	r := &running{fetch: true, call: call.New(p, nil)}
	s.calls.running[id] = r
	r.halt = s.run.Go(func(ctx context.Context) {
		f, err := call.Fetch(ctx, k.Source, p, s.sayFetching)
		for _, x := range f.Exchanges {
			_ = s.J.Add(x)
		}
		var changes []contract.Change
		if err == nil {
			f.Contract = s.W.WithPolicies(name, f.Contract)
			changes = contract.Changes(before, f.Contract)
		}
		s.post(func() {
			delete(s.calls.running, id)
			for _, x := range f.Exchanges {
				s.note(x)
			}
			switch {
			case errors.Is(err, call.ErrStopped) && len(f.Exchanges) > 0:
				s.Fetching = f.Exchanges[len(f.Exchanges)-1]
				s.Say("the description could not be fetched: %s", s.Fetching.Result)
			case err != nil:
				s.Say("%s: %v", k.Source, err)
			case len(changes) == 0:
				s.Say("%s: nothing changed for a client", name)
			default:
				s.Newer = &Newer{name, changes, f}
				s.Say("%d changes", len(changes))
			}
		})
	})
}

// TakeOver keeps the newer description in sight.
func (s *State) TakeOver() {
	n := s.Newer
	s.Newer = nil
	if err := s.W.TakeOver(n.Name, n.fetched.Contract, n.fetched.Served); err != nil {
		s.Say("%v", err)
		return
	}
	s.drafts.body = nil
	s.Changed()
	s.Say("%s is the newer one now; endpoints and drafts stayed", n.Name)
}

func (s *State) takeFetched(id, source string, f *call.Fetched, err error) {
	delete(s.calls.running, id)
	for _, x := range f.Exchanges {
		s.note(x)
	}
	if err != nil {
		if errors.Is(err, call.ErrStopped) && len(f.Exchanges) > 0 {
			s.Fetching = f.Exchanges[len(f.Exchanges)-1]
			s.Say("the description could not be fetched: %s", s.Fetching.Result)
			return
		}
		s.Say("%s: %v", source, err)
		return
	}
	if err := s.Home.RememberOpened(source); err != nil {
		s.Say("%v", err)
	}
	before := len(s.W.Config().Contracts)
	if name, samePlace := s.W.Kept(f.Contract); name != "" {
		s.addAgain(name, samePlace, f)
		return
	}
	name, err := s.W.AddContract(f.Contract, f.Served)
	if err == nil {
		err = s.W.Adopt(name, s.fetch.values)
	}
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Fetching = nil
	for _, d := range s.Rows() {
		if d.Contract == name {
			s.Choose(CallKey{d, s.firstEndpoint(d)})
			break
		}
	}
	s.Say(
		"%s: %s, %s",
		name,
		count(len(f.Contract.OperationNames()), "operation"),
		count(len(f.Contract.Ports()), "endpoint"),
	)
	if before == 0 && s.W.Dir() == "" {
		s.Message += " · in memory until saved"
	}
}

// addAgain is a description that is kept already: it is refreshed, or its addresses become
// endpoints.
func (s *State) addAgain(name string, samePlace bool, f *call.Fetched) {
	s.Fetching = nil
	if samePlace {
		if err := s.W.TakeOver(name, f.Contract, f.Served); err != nil {
			s.Say("%v", err)
			return
		}
		s.drafts.body = nil
		s.Changed()
		s.Say("%s was kept already, and is refreshed; endpoints and drafts stayed", name)
		return
	}
	made, err := s.W.AddPlaces(name, f.Contract)
	if err != nil {
		s.Say("%v", err)
		return
	}
	s.Changed()
	s.Say("the service of %s is kept already: %s at the new address", name, count(len(made), "endpoint"))
}

// count is a number of things, in words.
func count(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
