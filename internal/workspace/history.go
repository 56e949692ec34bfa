package workspace

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"reflect"
	"slices"
	"strings"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/exchange"
	"orenda/internal/user"
)

// What a person does can be taken back, whatever it was: all that they make is files, of the
// workspace or of their own, and a step remembers how the files were that it wrote.

// Step is a change that can be taken back, or made again.
type Step struct {
	What    string            // in words
	Changes []exchange.Change // of settings, as it made them

	files []touched
}

// touched is a file that a step wrote. nil bytes: it was not there.
type touched struct {
	name          string // in the workspace, or an absolute path
	own           bool   // it is one of the person's own files, not the workspace's
	before, after []byte
}

// How many steps are remembered, and how many bytes at most.
const (
	maxSteps     = 200
	maxStepBytes = 64 << 20
)

// history are the steps of one sitting.
type history struct {
	mu      sync.Mutex
	on      bool
	still   bool // what is written now is no step of its own
	pending []touched
	done    []*Step
	undone  []*Step
}

// ErrNoStep means that there is no change to be taken back, or none to be made again.
var ErrNoStep = errors.New("there is no change to take back")

// Remember has changes remembered from now on, so that they can be taken back.
func (w *Workspace) Remember() {
	w.history.mu.Lock()
	w.history.on = true
	w.history.mu.Unlock()
	if w.Home != nil {
		w.Home.Wrote = func(path string, before, after []byte) {
			w.history.wrote(touched{path, true, before, after})
		}
	}
}

func (h *history) wrote(t touched) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.on && !h.still {
		h.pending = append(h.pending, t)
	}
}

// Settle makes a step of what was written since the last time; nil where nothing was.
func (w *Workspace) Settle() *Step {
	h := &w.history
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.pending) == 0 {
		return nil
	}
	s := &Step{}
	for _, t := range h.pending {
		if i := slices.IndexFunc(s.files, func(o touched) bool { return o.name == t.name }); i >= 0 {
			s.files[i].after = t.after
			continue
		}
		s.files = append(s.files, t)
	}
	h.pending = nil
	s.files = slices.DeleteFunc(s.files, func(t touched) bool {
		return bytes.Equal(t.before, t.after) && (t.before == nil) == (t.after == nil)
	})
	if len(s.files) == 0 {
		return nil
	}
	s.describe()
	h.undone = nil
	h.done = append(h.done, s)
	h.done = h.done[max(0, len(h.done)-maxSteps):]
	h.bound()
	return s
}

// bound lets go of the oldest steps where all together hold too much.
func (h *history) bound() {
	size := 0
	for i, s := range slices.Backward(h.done) {
		for _, t := range s.files {
			size += len(t.before) + len(t.after)
		}
		if size > maxStepBytes && i < len(h.done)-1 {
			h.done = h.done[i+1:]
			return
		}
	}
}

// TakeBack undoes the last step. It is refused where a file was changed in between.
func (w *Workspace) TakeBack() (*Step, error) {
	return w.step(&w.history.done, &w.history.undone, func(t touched) (now, then []byte) { return t.after, t.before })
}

// DoAgain makes the step again that was taken back last.
func (w *Workspace) DoAgain() (*Step, error) {
	return w.step(&w.history.undone, &w.history.done, func(t touched) (now, then []byte) { return t.before, t.after })
}

func (w *Workspace) step(from, to *[]*Step, sides func(touched) (now, then []byte)) (*Step, error) {
	h := &w.history
	h.mu.Lock()
	if len(*from) == 0 {
		h.mu.Unlock()
		return nil, ErrNoStep
	}
	s := (*from)[len(*from)-1]
	h.still = true
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		h.still = false
		h.mu.Unlock()
	}()
	for _, t := range s.files {
		is, err := w.readTouched(t)
		if err != nil {
			return nil, err
		}
		if now, _ := sides(t); !bytes.Equal(is, now) || (is == nil) != (now == nil) {
			return nil, fmt.Errorf("%s was changed since by another program; “%s” is left as it is", t.name, s.What)
		}
	}
	var errs []error
	for _, t := range s.files {
		_, then := sides(t)
		errs = append(errs, w.writeTouched(t, then))
	}
	h.mu.Lock()
	*from = (*from)[:len(*from)-1]
	*to = append(*to, s)
	h.mu.Unlock()
	w.mu.Lock()
	clear(w.loaded)
	clear(w.drafts)
	w.mu.Unlock()
	w.Relist()
	return s, errors.Join(append(errs, w.Reload())...)
}

func (w *Workspace) readTouched(t touched) (b []byte, err error) {
	if t.own {
		b, err = os.ReadFile(t.name)
	} else {
		b, err = w.store().read(t.name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

func (w *Workspace) writeTouched(t touched, b []byte) error {
	switch {
	case t.own && b == nil:
		return os.Remove(t.name)
	case t.own:
		return user.WriteFile(t.name, b)
	case b == nil:
		return w.store().remove(t.name)
	}
	return w.store().write(t.name, b)
}

// describe says in words what a step did, and which settings it changed.
func (s *Step) describe() {
	var parts []string
	add := func(part string) {
		if !slices.Contains(parts, part) {
			parts = append(parts, part)
		}
	}
	verb := func(t touched) string {
		switch {
		case t.before == nil:
			return "made"
		case t.after == nil:
			return "removed"
		}
		return "changed"
	}
	for _, t := range s.files {
		switch name := t.name; {
		case name == File:
			s.Changes = changesOf(t.before, t.after)
			for i, c := range s.Changes {
				if i == 2 {
					add(fmt.Sprintf("%d more settings", len(s.Changes)-2))
					break
				}
				add(strings.TrimPrefix(c.Key, "endpoint."))
			}
		case strings.HasPrefix(name, "drafts/"):
			parts := strings.Split(strings.TrimSuffix(name, ".xml"), "/")
			add(fmt.Sprintf("draft %s %s", strings.Join(parts[max(len(parts)-2, 1):], "/"), verb(t)))
		case strings.HasPrefix(name, "contracts/"):
			add("contract " + strings.Split(name, "/")[1] + " " + verb(t))
		case strings.HasPrefix(name, removedDir):
		case name == NotesFile:
			add("notes")
		case t.own:
			add("your " + strings.TrimSuffix(name[strings.LastIndexByte(name, '/')+1:], ".toml"))
		default:
			add(name + " " + verb(t))
		}
	}
	if len(parts) > 3 {
		parts = append(parts[:3], fmt.Sprintf("%d more", len(parts)-3))
	}
	s.What = strings.Join(parts, ", ")
}

// changesOf are the settings in which two states of the settings file differ.
func changesOf(before, after []byte) (out []exchange.Change) {
	read := func(src []byte) map[string]any {
		var all map[string]any
		_ = toml.Unmarshal(src, &all) // what cannot be read has no settings
		flat := map[string]any{}
		for _, v := range leaves(all, nil) {
			flat[strings.Join(v.Path, ".")] = v.Value
		}
		delete(flat, "")
		return flat
	}
	a, b := read(before), read(after)
	keys := map[string]bool{}
	for k := range a {
		keys[k] = true
	}
	for k := range b {
		keys[k] = true
	}
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		if !reflect.DeepEqual(a[k], b[k]) {
			out = append(out, exchange.Change{Where: "workspace", Key: k, From: a[k], To: b[k]})
		}
	}
	return out
}

// recording is a store whose writes are remembered.
type recording struct {
	store
	h *history
}

func (r recording) write(name string, b []byte) error {
	return r.around(name, bytes.Clone(b), func() error { return r.store.write(name, b) })
}

func (r recording) remove(name string) error {
	return r.around(name, nil, func() error { return r.store.remove(name) })
}

func (r recording) writeAll(files []content) error {
	before := make([][]byte, len(files))
	for i, f := range files {
		before[i], _ = r.read(f.name)
	}
	if err := r.store.writeAll(files); err != nil {
		return err
	}
	for i, f := range files {
		r.h.wrote(touched{f.name, false, before[i], f.bytes})
	}
	return nil
}

func (r recording) around(name string, after []byte, write func() error) error {
	before, err := r.read(name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		before = nil
	}
	if err := write(); err != nil {
		return err
	}
	r.h.wrote(touched{name, false, before, after})
	return nil
}
