package workspace

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/user"
)

// Catalogue is the person's own list of descriptions, shared by all
// workspaces. It is kept as a workspace is: a settings file, and a snapshot of
// each description, so that it can be searched without any network.
type Catalogue struct{ w *Workspace }

// OpenCatalogue opens the catalogue in the person's configuration folder; it is
// empty where there is none yet.
func OpenCatalogue(home *user.Home) (*Catalogue, error) {
	dir := filepath.Join(home.Config, "catalogue")
	w, err := Open(dir, home)
	if errors.Is(err, ErrNone) {
		w, err = New("catalogue", home), nil
	}
	return &Catalogue{w}, err
}

// Names are the names of the descriptions, in the order in which they came.
func (c *Catalogue) Names() []string {
	var out []string
	for _, k := range c.w.Config().Contracts {
		if k.Source != "" {
			out = append(out, k.Name)
		}
	}
	return out
}

// Entry is a description of the catalogue: where it came from, and as it was
// kept.
func (c *Catalogue) Entry(name string) (*Contract, *contract.Contract, error) {
	k := c.w.ContractNamed(name)
	if k == nil || k.Source == "" {
		err := fmt.Errorf("the catalogue has no %s", name)
		if m := near.Miss(name, c.Names()); m != "" {
			err = fmt.Errorf("%w; %s is in it", err, m)
		}
		return nil, nil, err
	}
	con, err := c.w.Contract(name)
	return k, con, err
}

// Add keeps a description under a name ("" its own); one of the same source is
// replaced.
func (c *Catalogue) Add(con *contract.Contract, served, name string) (string, error) {
	if c.w.Dir() == "" {
		if err := c.w.SaveTo(filepath.Join(c.w.Home.Config, "catalogue")); err != nil {
			return "", err
		}
	}
	same := func(k *Contract) bool {
		return k.Source == con.Source && (name == "" || k.Name == safe.FileName(name))
	}
	if i := slices.IndexFunc(c.w.Config().Contracts, same); i >= 0 {
		name = c.w.Config().Contracts[i].Name
	} else {
		if name == "" {
			name = con.ShortName()
		}
		name = c.w.freeName(safe.FileName(name), func(n string) bool { return slices.Contains(c.Names(), n) })
	}
	return name, c.w.keep(name, con, served)
}

// Remove takes a description out.
func (c *Catalogue) Remove(name string) error {
	if _, _, err := c.Entry(name); err != nil {
		return err
	}
	if err := c.w.set(set{[]string{"contract", name, "source"}, nil}, set{[]string{"contract", name, "served"},
		nil}); err != nil {
		return err
	}
	files, err := c.w.store().list(contractDir(name))
	for _, f := range files {
		err = errors.Join(err, c.w.store().remove(f))
	}
	return err
}

// Hit is an operation that a search found, and the fields that did.
type Hit struct {
	Name      string              // of the description
	Operation *contract.Operation // that was found
	Fields    []string            // paths; none where the operation itself has the words
}

// Search finds operations by name, documentation or field, without regard to
// case; "" finds them all. What cannot be read is passed over.
func (c *Catalogue) Search(text string) []Hit {
	text = strings.ToLower(strings.TrimSpace(text))
	var out []Hit
	for _, name := range c.Names() {
		con, err := c.w.Contract(name)
		if err != nil {
			continue
		}
		for _, op := range con.OperationNames() {
			o := con.PortsWith(op)[0].Operation(op)
			h := Hit{Name: name, Operation: o}
			if !strings.Contains(strings.ToLower(op+" "+o.Documentation), text) {
				for _, p := range append(o.Input.Paths(), o.Output.Paths()...) {
					if strings.Contains(strings.ToLower(p), text) {
						h.Fields = append(h.Fields, p)
					}
				}
				if h.Fields == nil {
					continue
				}
			}
			out = append(out, h)
		}
	}
	return out
}
