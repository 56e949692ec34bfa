package workspace

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/call"
	"orenda/internal/diagnose"
	"orenda/internal/exchange"
	"orenda/internal/muster"
	"orenda/internal/safe"
	"orenda/internal/user"
)

// Musters are the names of those in the workspace's folder.
func (w *Workspace) Musters() (names []string) {
	files, _ := filepath.Glob(filepath.Join(w.Dir(), muster.Folder, "*.toml"))
	for _, file := range files {
		names = append(names, strings.TrimSuffix(filepath.Base(file), ".toml"))
	}
	return names
}

// Muster finds a muster by its name in the workspace, or by its file.
func (w *Workspace) Muster(name string) (*muster.Muster, error) {
	file := name
	if _, err := os.Stat(file); err != nil || !strings.HasSuffix(file, ".toml") {
		file = filepath.Join(w.Dir(), muster.Folder, safe.FileName(name)+".toml")
	}
	src, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no muster %s; muster list names those that there are", name)
	}
	if err != nil {
		return nil, err
	}
	return MusterOf(file, src)
}

// MusterOf is the muster that a file holds, or would hold.
func MusterOf(file string, src []byte) (*muster.Muster, error) {
	m, err := muster.Read(strings.TrimSuffix(filepath.Base(file), ".toml"), src, func(beside string) ([]byte, error) {
		if !filepath.IsLocal(beside) {
			return nil, errors.New("a table lies beside its muster's file, or below it")
		}
		return os.ReadFile(filepath.Join(filepath.Dir(file), beside))
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return m, nil
}

// AddedCase is a case as it is added to a muster.
type AddedCase struct {
	Name     string            `toml:"name,omitempty"`          // "" made of the draft and the row
	Draft    string            `toml:"draft"`                   // OPERATION/NAME, or a pattern
	Endpoint string            `toml:"endpoint,omitempty"`      // "" the default one
	Table    string            `toml:"table,omitempty"`         // file of rows beside the muster
	Values   map[string]string `toml:"values,omitempty,inline"` // by the field's path
	Expect   []string          `toml:"expect,omitempty"`        // what must come back
}

// CaseOf is the case of a kept exchange: its draft with the values that it was sent with. What
// was masked is not among them.
func CaseOf(x *exchange.Exchange) AddedCase {
	c := AddedCase{
		Name:     x.Operation + " " + x.ID[max(len(x.ID)-exchange.MinIDPart, 0):],
		Draft:    x.Operation + "/" + x.Draft,
		Endpoint: x.Endpoint,
	}
	for _, in := range x.Inputs {
		if strings.HasPrefix(in.Path, "header") || strings.Contains(in.Value, string(exchange.Masked)) {
			continue
		}
		if c.Values == nil {
			c.Values = map[string]string{}
		}
		c.Values[in.Path] = in.Value
	}
	return c
}

// AddCases adds cases to a muster of the workspace, which is made where it is not there; what
// stands in its file stays. What could not be read again is not written.
func (w *Workspace) AddCases(name string, cases ...AddedCase) (*muster.Muster, error) {
	if w.Dir() == "" {
		return nil, errors.New("save the workspace first: musters are kept in its folder")
	}
	added, err := toml.Marshal(map[string][]AddedCase{"case": cases})
	if err != nil {
		return nil, err
	}
	file := filepath.Join(muster.Folder, safe.FileName(name)+".toml")
	src, err := os.ReadFile(filepath.Join(w.Dir(), file))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if len(src) > 0 && src[len(src)-1] != '\n' {
		src = append(src, '\n')
	}
	src = append(append(src, '\n'), added...)
	m, err := MusterOf(filepath.Join(w.Dir(), file), src)
	if err != nil {
		return nil, err
	}
	return m, w.store().write(file, src)
}

// RunFile is where the outcomes of the last run of a muster are kept.
func (w *Workspace) RunFile(h *user.Home, name string) string {
	sum := sha256.Sum256([]byte(w.ID() + "\x00" + name))
	return filepath.Join(h.State, "musters", hex.EncodeToString(sum[:12])+".json")
}

// LastRun are the results that a file keeps; none where it keeps none that can be read.
func LastRun(file string) *muster.Last {
	f, err := os.Open(file)
	if err != nil {
		return nil
	}
	defer f.Close()
	last, err := muster.ReadLast(bufio.NewReader(f))
	if err != nil {
		return nil
	}
	return last
}

// KeepRun keeps the outcomes: of cases that were not asked for, those of before.
func KeepRun(file string, run *muster.Run, last *muster.Last) error {
	out := func(yield func(muster.Result) bool) {
		for r := range run.Cases.All() {
			if was, known := last.Get(r.Name); known && r.LeftOut {
				r = was
			}
			if !yield(r) {
				return
			}
		}
	}
	return user.WriteFileFrom(file, func(w io.Writer) error {
		b := bufio.NewWriter(w)
		if err := muster.EachResult(b, out, ""); err != nil {
			return err
		}
		return b.Flush()
	})
}

// MusterOptions sets how cases are planned: over an endpoint, where one is named, in an
// environment, and held back where they change things and are not to be sent again.
func (w *Workspace) MusterOptions(o *muster.Options, j diagnose.History, end, environment string, again bool) {
	type planned struct {
		plan call.Plan
		err  error
	}
	var mu sync.Mutex
	plans := map[[2]string]planned{} // by draft and endpoint: a run sends what was there when it began
	o.Plan = func(c *muster.Case) (call.Plan, error) {
		key := [2]string{c.Draft, cmp.Or(end, c.Endpoint)}
		mu.Lock()
		defer mu.Unlock()
		if p, known := plans[key]; known {
			return p.plan, p.err
		}
		var p planned
		var ref DraftRef
		if ref, p.err = w.FindDraft(c.Draft); p.err == nil {
			p.plan, p.err = w.Plan(ref, key[1], environment)
			p.plan.History = j
		}
		plans[key] = p
		return p.plan, p.err
	}
	o.Refuses = func(c *muster.Case) string {
		ref, err := w.FindDraft(c.Draft)
		if err == nil && w.Config().DraftSettings[ref.ID()].Changes && !again {
			return "it changes things at the service; --again sends it"
		}
		return ""
	}
}
