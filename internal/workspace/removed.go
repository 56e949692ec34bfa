package workspace

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/exchange"
	"orenda/internal/safe"
	"orenda/internal/tomledit"
)

// Removed is what was taken away from a workspace and can be brought back: drafts,
// endpoints and contracts, with their files and their settings.
type Removed struct {
	ID   string    `json:"id"`   // sorted by time
	Kind string    `json:"kind"` // draft, endpoint, contract
	Name string    `json:"name"` // as it was called
	At   time.Time `json:"at"`   // when it was removed

	Files  map[string][]byte `json:"files,omitempty"`  // by their names in the workspace
	Values []removedValue    `json:"values,omitempty"` // of the settings file
	Draft  DraftRef          `json:"draft,omitzero"`   // of a draft
}

// removedValue is one value of the settings file.
type removedValue struct {
	Path  []string `json:"path"`
	Value any      `json:"value"`
}

// ErrNothingRemoved means that there is nothing of that name to be brought back.
var ErrNothingRemoved = errors.New("nothing was removed")

// removedDir is where what was removed is kept.
const removedDir = ".orenda/removed"

// DropDraft takes a draft away for good: it was moved elsewhere.
func (w *Workspace) DropDraft(r DraftRef) error {
	defer w.Relist()
	if err := w.store().remove(r.file()); err != nil {
		return err
	}
	return w.WriteHeader(r, nil)
}

// RemoveDraft takes a draft away, with its header blocks; BringBack brings it back.
func (w *Workspace) RemoveDraft(r DraftRef) error {
	defer w.Relist()
	return w.takeAway(&Removed{Kind: "draft", Name: r.String(), Draft: r}, nil, []string{r.file(), r.headerFile()})
}

// RemoveEndpoint takes an endpoint away. What was sent over it stays in the
// journal.
func (w *Workspace) RemoveEndpoint(name string) error {
	if w.Endpoint(name) == nil {
		return fmt.Errorf("there is no endpoint %s", name)
	}
	return w.takeAway(
		&Removed{Kind: "endpoint", Name: name},
		[][]string{{"endpoint", name}, {"set-aside", name}},
		nil,
	)
}

// RemoveContract takes a contract away, with its endpoints and its drafts.
func (w *Workspace) RemoveContract(name string) error {
	if w.ContractNamed(name) == nil {
		return fmt.Errorf("there is no contract %s", name)
	}
	defer w.Relist()
	tables := [][]string{{"contract", name}}
	for _, e := range w.Config().Endpoints {
		if e.Contract == name {
			tables = append(tables, []string{"endpoint", e.Name}, []string{"set-aside", e.Name})
		}
	}
	for id := range w.Config().DraftSettings {
		if strings.HasPrefix(id, name+"/") {
			tables = append(tables, []string{"draft", id})
		}
	}
	var files []string
	for _, dir := range []string{contractDir(name), "drafts/" + safe.FileName(name)} {
		all, err := w.store().list(dir)
		if err != nil {
			return err
		}
		files = append(files, all...)
	}
	w.mu.Lock()
	delete(w.loaded, name)
	w.mu.Unlock()
	return w.takeAway(&Removed{Kind: "contract", Name: name}, tables, files)
}

// takeAway keeps files and tables of the settings, and then removes them.
func (w *Workspace) takeAway(r *Removed, tables [][]string, files []string) error {
	r.At, r.Files = time.Now().UTC(), map[string][]byte{}
	r.ID = exchange.NewID(r.At)
	for _, f := range files {
		if b, err := w.store().read(f); err == nil {
			r.Files[f] = b
		}
	}
	if len(r.Files) == 0 && len(files) > 0 {
		return fmt.Errorf("there is no %s %s", r.Kind, r.Name)
	}
	src, err := w.store().read(File)
	if err != nil {
		return err
	}
	var all map[string]any
	if err := toml.Unmarshal(src, &all); err != nil {
		return err
	}
	for _, t := range tables {
		r.Values = append(r.Values, valuesBelow(all, t)...)
	}
	b, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	if err := w.store().write(path.Join(removedDir, r.ID+".json"), b); err != nil {
		return err
	}
	if len(tables) > 0 {
		err = w.edit(func(src []byte) (_ []byte, err error) {
			for _, t := range tables {
				if len(valuesBelow(all, t)) == 0 {
					continue
				}
				if src, err = tomledit.Remove(src, t); err != nil {
					return nil, err
				}
			}
			return src, nil
		})
	}
	for f := range r.Files {
		if err == nil {
			err = w.store().remove(f)
		}
	}
	return err
}

// valuesBelow are all values at and below a path of decoded settings.
func valuesBelow(v any, at []string) []removedValue {
	for _, key := range at {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		if v, ok = m[key]; !ok {
			return nil
		}
	}
	return leaves(v, at)
}

func leaves(v any, at []string) (out []removedValue) {
	m, ok := v.(map[string]any)
	if !ok {
		return []removedValue{{at, v}}
	}
	for _, key := range slices.Sorted(maps.Keys(m)) {
		out = append(out, leaves(m[key], append(slices.Clip(at), key))...)
	}
	return out
}

// taken tells whether another endpoint or contract has the name by now.
func (w *Workspace) taken(r *Removed) bool {
	return r.Kind == "endpoint" && w.Endpoint(r.Name) != nil || r.Kind == "contract" && w.ContractNamed(r.Name) != nil
}

// settable is a value as it is written into the settings file.
func settable(v any) any {
	switch v := v.(type) {
	case bool, string:
		return v
	case []any:
		out := make([]string, 0, len(v))
		for _, x := range v {
			out = append(out, fmt.Sprint(x))
		}
		return out
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// AllRemoved is what can be brought back, the newest first.
func (w *Workspace) AllRemoved() (out []Removed, err error) {
	files, err := w.store().list(removedDir)
	if err != nil {
		return nil, err
	}
	for _, f := range slices.Backward(files) {
		b, err := w.store().read(f)
		if err != nil {
			return nil, err
		}
		var r Removed
		if err := json.Unmarshal(b, &r); err != nil {
			return nil, &FileError{Path: f, Why: err.Error()}
		}
		out = append(out, r)
	}
	return out, nil
}

// BringBack brings the newest of what was removed back that has that name, or that kind;
// "" is the newest of all.
func (w *Workspace) BringBack(name string) (*Removed, error) {
	all, err := w.AllRemoved()
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(
		all,
		func(r Removed) bool { return name == "" || r.Name == name || r.Kind == name || r.ID == name },
	)
	if i < 0 {
		return nil, ErrNothingRemoved
	}
	r := &all[i]
	defer w.Relist()
	if r.Kind == "draft" {
		to := w.FreeDraft(r.Draft, r.Draft.Name) // another may have its name by now
		r.Files = map[string][]byte{
			to.file():       r.Files[r.Draft.file()],
			to.headerFile(): r.Files[r.Draft.headerFile()],
		}
		r.Draft, r.Name = to, to.String()
	} else if w.taken(r) {
		return nil, fmt.Errorf("there is another %s %s now", r.Kind, r.Name)
	}
	for f, b := range r.Files {
		if b == nil {
			continue
		}
		if err := w.store().write(f, b); err != nil {
			return nil, err
		}
	}
	sets := make([]set, 0, len(r.Values))
	for _, v := range r.Values {
		sets = append(sets, set{v.Path, settable(v.Value)})
	}
	if len(sets) > 0 {
		if err := w.set(sets...); err != nil {
			return nil, err
		}
	}
	return r, w.store().remove(path.Join(removedDir, r.ID+".json"))
}
