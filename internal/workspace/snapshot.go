package workspace

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/soap"
)

// snapshot is the index of a kept description.
type snapshot struct {
	Fetched time.Time      `toml:"fetched"`
	Files   []snapshotFile `toml:"files"`
}

type snapshotFile struct {
	File     string `toml:"file"`
	Location string `toml:"location"`
	SHA256   string `toml:"sha256"`
	Policy   bool   `toml:"policy,omitempty"` // it is attached to the description from outside
}

func contractDir(name string) string { return "contracts/" + safe.FileName(name) }

// writeSnapshot keeps every file of a description, and then the index that
// names them: until it is written, the one before holds.
func (w *Workspace) writeSnapshot(name string, c *contract.Contract) error {
	dir := contractDir(name)
	s := snapshot{Fetched: time.Now().UTC().Truncate(time.Second)}
	for i, f := range c.Files {
		base := f.Location
		if j := strings.IndexAny(base, "?#"); j >= 0 {
			base = base[:j]
		}
		sum := sha256.Sum256(f.Bytes)
		hash := hex.EncodeToString(sum[:])
		file := fmt.Sprintf("%02d-%s", i, safe.FileName(path.Base(filepath.ToSlash(base))))
		if old, err := w.store().read(dir + "/" + file); err == nil && !bytes.Equal(old, f.Bytes) {
			file = fmt.Sprintf("%02d-%s-%s", i, hash[:8], safe.FileName(path.Base(filepath.ToSlash(base))))
		}
		if err := w.store().write(dir+"/"+file, f.Bytes); err != nil {
			return err
		}
		s.Files = append(s.Files, snapshotFile{file, f.Location, hash, slices.Contains(c.Policies, f.Location)})
	}
	index, err := toml.Marshal(s)
	if err != nil {
		return err
	}
	if err := w.store().write(dir+"/sources.toml", index); err != nil {
		return err
	}
	kept, err := w.store().list(dir)
	if err != nil {
		return err
	}
	for _, k := range kept { // what no index names any more
		base := path.Base(k)
		if base != "sources.toml" &&
			!slices.ContainsFunc(s.Files, func(f snapshotFile) bool { return f.File == base }) {
			if err := w.store().remove(dir + "/" + base); err != nil {
				return err
			}
		}
	}
	return nil
}

// AddContract keeps a description with every file it needs, makes an endpoint
// for each of its ports and a draft for each operation, or for those of only, where any
// are named.
func (w *Workspace) AddContract(c *contract.Contract, served string, only ...string) (name string, err error) {
	for _, o := range only {
		if names := c.OperationNames(); !slices.Contains(names, o) {
			return "", &endpoint.OperationError{Name: o, Near: near.Miss(o, names), Others: names}
		}
	}
	name = w.freeName(safe.FileName(c.ShortName()), func(n string) bool { return w.ContractNamed(n) != nil })
	return name, w.take(name, c, served, nil, only)
}

// AddSample makes the first draft of an operation of a contract.
func (w *Workspace) AddSample(name, operation string) (DraftRef, error) {
	c, err := w.Contract(name)
	if err != nil {
		return DraftRef{}, err
	}
	for _, p := range c.PortsWith(operation) {
		o := p.Operation(operation)
		if o.Input == nil || o.Input.Element == nil {
			continue
		}
		ref := w.FreeDraft(DraftRef{name, p.PortType.Local, operation, "first"}, "first")
		return ref, w.WriteDraft(
			ref,
			message.Sample(c.Schemas, o.Input.Element, message.Want{Encoded: o.Use == "encoded"}),
		)
	}
	return DraftRef{}, fmt.Errorf("%s has no message that could be filled in", operation)
}

// Kept finds the contract as which a description is kept already: one from the same place,
// or else one of the same service, by its namespace, its ports and their operations. ""
// where there is none.
func (w *Workspace) Kept(c *contract.Contract) (name string, samePlace bool) {
	for _, k := range w.Config().Contracts {
		if k.Source == c.Source {
			return k.Name, true
		}
	}
	for _, k := range w.Config().Contracts {
		old, err := w.Contract(k.Name)
		if err == nil && old.Target == c.Target && slices.Equal(old.OperationNames(), c.OperationNames()) &&
			slices.EqualFunc(old.Ports(), c.Ports(), func(a, b *contract.Port) bool { return a.Name == b.Name }) {
			return k.Name, false
		}
	}
	return "", false
}

// AddPlaces makes endpoints of a kept contract for the addresses that another description
// of the same service has, and gives their names.
func (w *Workspace) AddPlaces(name string, c *contract.Contract) (made []string, err error) {
	var sets []set
	for _, p := range c.Ports() {
		there := slices.ContainsFunc(w.Config().Endpoints, func(e *Endpoint) bool {
			at := w.Settings(e.Name)
			return e.Contract == name && e.Port == p.Name && at.Text("address") == p.Address
		})
		if p.Version == soap.Unset || there {
			continue
		}
		u, _ := url.Parse(p.Address)
		end := safe.FileName(p.Name)
		if u != nil && u.Host != "" {
			end = safe.FileName(p.Name + "-" + strings.ReplaceAll(u.Host, ":", "-"))
		}
		end = w.freeName(end, func(n string) bool { return w.Endpoint(n) != nil || slices.Contains(made, n) })
		made = append(made, end)
		sets = append(
			sets,
			set{[]string{"endpoint", end, "contract"}, name},
			set{[]string{"endpoint", end, "port"}, p.Name},
			set{[]string{"endpoint", end, "address"}, p.Address},
		)
	}
	if len(sets) == 0 {
		return nil, nil
	}
	return made, w.set(sets...)
}

// TakeOver puts a newer state of a description in the place of the one that is
// kept. Endpoints and drafts stay as they are; new ports and operations get
// theirs.
func (w *Workspace) TakeOver(name string, c *contract.Contract, served string) error {
	old, err := w.Contract(name)
	if _, damaged := errors.AsType[*SnapshotError](err); err != nil && !damaged {
		return err
	}
	return w.take(name, w.WithPolicies(name, c), served, old, nil)
}

// AttachPolicy attaches the policies in a file to a kept description. It gives how many demands that adds, and what
// of the file could not be used.
func (w *Workspace) AttachPolicy(name, file string) (demands int, unread []contract.Unread, err error) {
	c, err := w.Contract(name)
	if err != nil {
		return 0, nil, err
	}
	f, err := contract.PolicyFile(file)
	if err != nil {
		return 0, nil, err
	}
	with, err := c.WithPolicies(context.Background(), f)
	if err != nil {
		return 0, nil, err
	}
	for _, u := range with.Unread {
		if !slices.Contains(c.Unread, u) {
			unread = append(unread, u)
		}
	}
	return len(with.Demands) - len(c.Demands), unread, w.keep(name, with, "")
}

// WithPolicies is a newer state of a kept description, with the policies that are attached to the one that is
// kept.
func (w *Workspace) WithPolicies(name string, c *contract.Contract) *contract.Contract {
	old, err := w.Contract(name)
	if err != nil || len(old.Policies) == 0 || len(c.Policies) > 0 {
		return c
	}
	var files []contract.File
	for _, at := range old.Policies {
		files = append(files, contract.File{Location: at, Bytes: old.Text(at)})
	}
	with, err := c.WithPolicies(context.Background(), files...)
	if err != nil {
		return c
	}
	return with
}

// keep writes a snapshot and where it came from, with other settings.
func (w *Workspace) keep(name string, c *contract.Contract, served string, sets ...set) error {
	if err := w.writeSnapshot(name, c); err != nil {
		return err
	}
	sets = append(sets, set{[]string{"contract", name, "source"}, c.Source})
	if served != "" {
		sets = append(sets, set{[]string{"contract", name, "served"}, served})
	}
	w.mu.Lock()
	delete(w.loaded, name)
	w.mu.Unlock()
	return w.set(sets...)
}

func (w *Workspace) take(
	name string,
	c *contract.Contract,
	served string,
	old *contract.Contract,
	only []string,
) error {
	if m, ok := w.place.Load().store.(*memory); ok { // it can be loaded again
		defer m.loading()()
	}
	var sets []set
	for _, p := range c.Ports() {
		made := slices.ContainsFunc(
			w.Config().Endpoints,
			func(e *Endpoint) bool { return e.Contract == name && e.Port == p.Name },
		)
		if p.Version == soap.Unset || made || old != nil && old.Port(p.Name) != nil {
			continue
		}
		end := w.freeName(safe.FileName(p.Name), func(n string) bool { return w.Endpoint(n) != nil })
		sets = append(
			sets,
			set{[]string{"endpoint", end, "contract"}, name},
			set{[]string{"endpoint", end, "port"}, p.Name},
		)
	}
	if err := w.keep(name, c, served, sets...); err != nil {
		return err
	}
	defer w.Relist()
	seen := map[string]bool{}
	for _, d := range w.Drafts() { // what the person made is never written over
		if d.Contract == name {
			seen[d.PortType+"/"+d.Operation] = true
		}
	}
	return w.store().writeAll(samplesOf(name, c, old, only, seen))
}

// samplesOf are first drafts of the operations of a contract that are new in it and have
// none yet; of those that are named, where any are.
func samplesOf(name string, c, old *contract.Contract, only []string, seen map[string]bool) []content {
	var samples []content
	for _, p := range c.Ports() {
		for _, o := range p.Operations {
			key := p.PortType.Local + "/" + o.Name
			if p.Version == soap.Unset || seen[key] || len(only) > 0 && !slices.Contains(only, o.Name) ||
				o.Input == nil ||
				o.Input.Element == nil ||
				old != nil && len(old.PortsWith(o.Name)) > 0 {
				continue
			}
			seen[key] = true
			ref := DraftRef{name, p.PortType.Local, o.Name, "first"}
			samples = append(samples, content{ref.file(),
				message.Sample(c.Schemas, o.Input.Element, message.Want{Encoded: o.Use == "encoded"})})
		}
	}
	return samples
}
