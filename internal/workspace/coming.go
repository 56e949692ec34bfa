package workspace

import (
	"bytes"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Coming are the endpoints of a contract as they come from another workspace.
type Coming struct {
	Changes []exchange.Change // what is made, and what differs and is changed
	Left    []string          // what cannot come, or stays as it is here, and why
}

// Coming is what changes where all endpoints of a contract come from another workspace, with the values
// of the variables that they use. What is here and not there stays. Nothing is changed yet: Bring does
// that.
func (w *Workspace) Coming(of *Workspace, contractName string) (*Coming, error) {
	if w.ContractNamed(contractName) == nil {
		return nil, fmt.Errorf("the contract %s is not here; add its description first", contractName)
	}
	out, used, found := &Coming{}, map[string]bool{}, false
	for _, e := range of.Config().Endpoints {
		if e.Contract != contractName {
			continue
		}
		found = true
		if err := w.takeOne(of, e, out, used); err != nil {
			return nil, err
		}
	}
	if !found {
		return nil, fmt.Errorf("the other workspace has no endpoint of %s", contractName)
	}
	w.takeVariables(of, used, out)
	return out, nil
}

// takeOne takes one endpoint.
func (w *Workspace) takeOne(of *Workspace, e *Endpoint, out *Coming, used map[string]bool) error {
	here := w.Endpoint(e.Name)
	change := func(key string, from, to any) {
		out.Changes = append(out.Changes, exchange.Change{
			Where: "workspace", Key: "endpoint." + e.Name + "." + key, From: from, To: to,
		})
	}
	switch {
	case here == nil:
		change("contract", nil, e.Contract)
		change("port", nil, e.Port)
		here = &Endpoint{Name: e.Name, Contract: e.Contract, Port: e.Port}
	case here.Contract != e.Contract || here.Port != e.Port:
		out.Left = append(out.Left, fmt.Sprintf("%s: an endpoint of that name is here, for another port", e.Name))
		return nil
	}
	values := of.own(e.Name)
	for i := range endpoint.Keys {
		k := &endpoint.Keys[i]
		want, have := values[k.Name], here.Values[k.Name]
		for _, v := range want {
			for _, name := range endpoint.Variables(v) {
				used[name] = true
			}
		}
		if want == nil || slices.Equal(want, have) {
			continue
		}
		var from any
		if have != nil {
			from = strings.Join(have, ", ")
		}
		switch {
		case k.Name == "trust" || k.Name == "intermediates" || k.Name == "reply-trust":
			theirs, err := of.certificatesOf(want)
			if err != nil {
				return err
			}
			if ours, err := w.certificatesOf(have); err != nil || ours != theirs {
				change(k.Name, from, theirs)
			}
		case k.Files:
			out.Left = append(
				out.Left,
				fmt.Sprintf("%s of %s: its file belongs to the other workspace", k.Name, e.Name),
			)
		case k.Kind == endpoint.List:
			change(k.Name, from, want)
		default:
			change(k.Name, from, strings.Join(want, ", "))
		}
		if k.OfPerson {
			out.Left = append(out.Left, w.notYet(e.Name, k.Name, want[0]))
		}
	}
	return nil
}

// certificatesOf are those of some files, as PEM.
func (w *Workspace) certificatesOf(files []string) (string, error) {
	var all []byte
	for _, f := range files {
		pem, err := w.ReadFile(f)
		if err != nil {
			return "", err
		}
		all = append(append(all, bytes.TrimSpace(pem)...), '\n')
	}
	return string(all), nil
}

// notYet says that an identity does not come, and that its use is not approved yet.
func (w *Workspace) notYet(end, key, name string) string {
	if w.Home != nil {
		if id, err := w.Home.Identity(name); err == nil && id != nil {
			return fmt.Sprintf("%s of %s: %s is asked for before it first goes out from here", key, end, name)
		}
	}
	return fmt.Sprintf("%s of %s: you have no identity %s; orenda identity set %s makes it", key, end, name, name)
}

// own are the settings that an endpoint has of its own or of a profile of its workspace.
func (w *Workspace) own(name string) map[string][]string {
	out := map[string][]string{}
	s := w.Settings(name)
	for i := range endpoint.Keys {
		k := &endpoint.Keys[i]
		v := s.Of(k)
		ofProfile := strings.HasPrefix(v.Source, "profile ") && !strings.HasSuffix(v.Source, endpoint.Yours)
		if v.Source == "endpoint" || ofProfile {
			out[k.Name] = v.Items
		}
	}
	return out
}

// takeVariables takes the values of variables in each environment. One that has another value here
// keeps it: others may use it.
func (w *Workspace) takeVariables(of *Workspace, used map[string]bool, out *Coming) {
	for _, env := range of.Config().Environments {
		here, _ := w.Variables(env.Name)
		for _, name := range slices.Sorted(maps.Keys(env.Variables)) {
			value, known := here[name], false
			if _, known = here[name]; !used[name] || known && value == env.Variables[name] {
				continue
			}
			if known {
				out.Left = append(out.Left, fmt.Sprintf("%s of %s stays %s; there it is %s", name, env.Name, value,
					env.Variables[name]))
				continue
			}
			out.Changes = append(out.Changes, exchange.Change{
				Where: "workspace", Key: "environment." + env.Name + "." + name, To: env.Variables[name],
			})
		}
	}
}

// Bring makes the changes of Coming: endpoints first, then what they are set to.
func (w *Workspace) Bring(t *Coming) error {
	makes := func(c exchange.Change) bool {
		return strings.HasPrefix(c.Key, "endpoint.") && (path.Ext(c.Key) == ".contract" || path.Ext(c.Key) == ".port")
	}
	var first, then []exchange.Change
	for _, c := range t.Changes {
		if makes(c) {
			first = append(first, c)
		} else {
			then = append(then, c)
		}
	}
	if err := w.Apply(first...); err != nil {
		return err
	}
	return w.Apply(then...)
}

// template are the parts of a workspace that another one is made from.
//
//nolint:gochecknoglobals // a table: it is never written to
var template = []string{"contracts", "drafts", "musters", "trust", "certificates"}

// MakeLike makes a workspace in a folder from this one: its endpoints, environments, profiles,
// contracts, drafts, musters and notes. What was kept, removed and approved does not come: left says
// what that is.
func (w *Workspace) MakeLike(dir string) (made *Workspace, left []string, err error) {
	next := New(path.Base(dir), w.Home)
	src, err := w.store().read(File)
	if err != nil {
		return nil, nil, err
	}
	to := next.place.Load().store
	if err := to.write(File, src); err != nil {
		return nil, nil, err
	}
	if b, err := w.store().read(NotesFile); err == nil {
		if err := to.write(NotesFile, b); err != nil {
			return nil, nil, err
		}
	}
	for _, part := range template {
		files, err := w.store().list(part)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range files {
			b, err := w.store().read(f)
			if err != nil {
				return nil, nil, err
			}
			if err := to.write(f, b); err != nil {
				return nil, nil, err
			}
		}
	}
	if err := next.SaveTo(dir); err != nil {
		return nil, nil, err
	}
	if err := next.Reload(); err != nil {
		return nil, nil, err
	}
	return next, next.unapproved(), next.Apply(exchange.Change{
		Where: "workspace", Key: "name", To: path.Base(next.Dir()),
	})
}

// unapproved says what of a workspace that was made from another has to be given, or allowed.
func (w *Workspace) unapproved() (out []string) {
	for _, e := range w.Config().Endpoints {
		values := w.own(e.Name)
		for i := range endpoint.Keys {
			k := &endpoint.Keys[i]
			if v := values[k.Name]; len(v) > 0 && k.OfPerson {
				out = append(out, w.notYet(e.Name, k.Name, v[0]))
			}
		}
	}
	return out
}
