// Package workspace keeps settings, contracts and drafts in a folder that
// belongs in version control: one hand-editable file, orenda.toml, and the
// files beside it. It holds no secret and runs nothing.
package workspace

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/message"
	"orenda/internal/near"
	"orenda/internal/safe"
	"orenda/internal/tomledit"
	"orenda/internal/user"
)

// File is the name of the settings file.
const File = "orenda.toml"

// Workspace is a workspace, on disk or in memory. It may be used by several
// goroutines: what its settings file says is an immutable Config, which a change
// of the file swaps for another.
type Workspace struct {
	Home *user.Home // the person's folders; nil where there is none

	config   atomic.Pointer[Config]
	place    atomic.Pointer[place]
	profiles atomic.Pointer[profiles]

	history history // of the person's changes

	mu     sync.Mutex // guards what follows
	loaded map[string]*contract.Contract
	listed []DraftRef                  // nil: to be listed again
	drafts map[DraftRef]*message.Draft // as they were last planned, parsed
	notes  struct {                    // as they were last read
		src  []byte
		read notes
	}
}

// place is where a workspace is kept.
type place struct {
	dir   string // absolute; "" while it was not saved
	store store
}

// Config is what the settings file says now. It never changes.
func (w *Workspace) Config() *Config { return w.config.Load() }

// Dir is the workspace's folder, an absolute path; "" while it was not saved.
func (w *Workspace) Dir() string { return w.place.Load().dir }

func (w *Workspace) store() store { return recording{w.place.Load().store, &w.history} }

// FileError is a workspace file that cannot be used, with the place.
type FileError = tomledit.FileError

// ErrNone means that a folder holds no workspace.
var ErrNone = errors.New("there is no " + File)

// Open reads the workspace in a folder.
func Open(dir string, home *user.Home) (*Workspace, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	w := newWorkspace(home, place{abs, folder{abs}})
	return w, w.Reload()
}

// New makes a workspace in memory.
func New(name string, home *user.Home) *Workspace {
	m := &memory{files: map[string][]byte{}}
	w := newWorkspace(home, place{"", m})
	defer m.loading()()
	src, _ := tomledit.Set(nil, []string{"name"}, name)
	_ = m.write(File, src)
	_ = w.Reload()
	return w
}

func newWorkspace(home *user.Home, at place) *Workspace {
	w := &Workspace{Home: home, loaded: map[string]*contract.Contract{}, drafts: map[DraftRef]*message.Draft{}}
	w.config.Store(&Config{})
	w.place.Store(&at)
	return w
}

// SaveTo writes a workspace that was in memory into a folder, which must not
// hold one.
func (w *Workspace) SaveTo(dir string) error {
	m, ok := w.place.Load().store.(*memory)
	if !ok {
		return errors.New("the workspace is on disk already")
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	f := folder{abs}
	if _, err := f.read(File); err == nil {
		return fmt.Errorf("%s holds a workspace already", abs)
	}
	all := m.all()
	files := make([]content, 0, len(all))
	for name, b := range all {
		files = append(files, content{name, b})
	}
	if err := f.writeAll(files); err != nil {
		return err
	}
	w.place.Store(&place{abs, f})
	return nil
}

// Rescue writes a workspace that the person worked in, and did not save, into a
// folder of their state: Home.State/unsaved. It gives "" where there is nothing
// to lose: a workspace on disk, or one with nothing but loaded descriptions.
func (w *Workspace) Rescue(now time.Time) (dir string, err error) {
	m, ok := w.place.Load().store.(*memory)
	if !ok || !m.changed() {
		return "", nil
	}
	base := filepath.Join(
		w.Home.State,
		"unsaved",
		now.Format("2006-01-02-150405-")+strings.ReplaceAll(safe.FileName(w.Config().Name), " ", "-"),
	)
	dir = w.freeName(base, func(n string) bool { _, err := os.Stat(n); return err == nil })
	return dir, w.SaveTo(dir)
}

// Where names the settings file for messages.
func (w *Workspace) Where() string {
	if w.Dir() == "" {
		return File + " (in memory)"
	}
	return filepath.Join(w.Dir(), File)
}

// ID is what exchanges and approvals know the workspace by.
func (w *Workspace) ID() string {
	if w.Dir() == "" {
		return "(in memory)"
	}
	return w.Dir()
}

// Reload reads the settings file again. On an error what was there stays.
func (w *Workspace) Reload() error {
	src, err := w.store().read(File)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w in %s", ErrNone, w.Dir())
	}
	if err != nil {
		return &FileError{Path: w.Where(), Why: err.Error()}
	}
	return w.parse(src)
}

// parse takes what the settings file holds; on an error what was there stays.
func (w *Workspace) parse(src []byte) error {
	next, err := parse(w.Where(), src)
	if err != nil {
		return err
	}
	if err := w.readPersonal().err; err != nil {
		next.Warnings = append(next.Warnings, err.Error())
	}
	w.config.Store(next)
	w.Relist()
	return nil
}

// Endpoint is the endpoint of that name, or nil.
func (w *Workspace) Endpoint(name string) *Endpoint { return w.Config().Endpoint(name) }

// ContractNamed is the kept description of that name, or nil.
func (w *Workspace) ContractNamed(name string) *Contract { return w.Config().Contract(name) }

// Variables are those of an environment, and whether it exists.
func (w *Workspace) Variables(environment string) (map[string]string, bool) {
	return w.Config().Variables(environment)
}

// SnapshotError is a kept description that cannot be read.
type SnapshotError struct {
	Contract string // name of the contract
	File     string // in the workspace's folder
	Err      error  // why
}

func (e *SnapshotError) Error() string {
	return fmt.Sprintf(
		"the kept description of %s cannot be read, and is to be fetched again (refresh): %s: %v",
		e.Contract,
		e.File,
		e.Err,
	)
}

func (e *SnapshotError) Unwrap() error { return e.Err }

// Contract loads a kept description from its snapshot; it needs no network. An
// error is a *SnapshotError where the workspace has the contract.
func (w *Workspace) Contract(name string) (*contract.Contract, error) {
	if w.ContractNamed(name) == nil { // it may be gone since
		return nil, fmt.Errorf("the workspace has no contract %s", name)
	}
	w.mu.Lock()
	c := w.loaded[name]
	w.mu.Unlock()
	if c != nil {
		return c, nil
	}
	dir := contractDir(name)
	index, err := w.store().read(dir + "/sources.toml")
	if err != nil {
		return nil, &SnapshotError{name, dir + "/sources.toml", err}
	}
	var s snapshot
	if err := toml.Unmarshal(index, &s); err != nil {
		return nil, &SnapshotError{name, dir + "/sources.toml", err}
	}
	if len(s.Files) == 0 {
		return nil, &SnapshotError{name, dir + "/sources.toml", errors.New("it names no file")}
	}
	files := map[string]string{}
	var policies []string
	for _, f := range s.Files {
		if files[f.Location] = f.File; f.Policy {
			policies = append(policies, f.Location)
		}
	}
	read := func(_ context.Context, location string) ([]byte, error) {
		file, ok := files[location]
		if !ok {
			return nil, errors.New("it is not in the snapshot")
		}
		return w.store().read(dir + "/" + path.Base(file))
	}
	src, err := read(context.Background(), s.Files[0].Location)
	if err == nil {
		c, err = contract.Load(context.Background(), s.Files[0].Location, src, read, policies...)
	}
	if err != nil {
		return nil, &SnapshotError{name, dir + "/" + s.Files[0].File, err}
	}
	w.mu.Lock()
	w.loaded[name] = c
	w.mu.Unlock()
	return c, nil
}

func (w *Workspace) freeName(base string, taken func(string) bool) string {
	name := base
	for i := 2; taken(name); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}

// DraftRef names a draft.
// Contract: name of the contract; local name; name of the operation; of the draft.
type DraftRef struct{ Contract, PortType, Operation, Name string }

func (r DraftRef) file() string {
	return path.Join(
		"drafts",
		safe.FileName(r.Contract),
		safe.FileName(r.PortType),
		safe.FileName(r.Operation),
		safe.FileName(r.Name)+".xml",
	)
}

// ID names a draft in the settings file: contract/port type/operation/name.
func (r DraftRef) ID() string {
	return strings.Join([]string{r.Contract, r.PortType, r.Operation, r.Name}, "/")
}

// DraftSettings are what the settings file says of one draft.
type DraftSettings struct {
	Variables bool // variables of the environment stand in its values
	Changes   bool // it changes things at the service: sending many, or again, asks first

	// Own are the settings that belong to the draft rather than to its endpoint, whose
	// values they take the place of: see DraftKeys.
	Own map[string][]string
}

// DraftKeys are the settings that a draft can have of its own.
//
//nolint:gochecknoglobals // a table: it is never written to
var DraftKeys = []string{"expect", "header", "attach", "secret"}

// SetDraftOwn gives a draft a setting of its own; without values it has none any more.
func (w *Workspace) SetDraftOwn(r DraftRef, key string, values []string) error {
	if !slices.Contains(DraftKeys, key) {
		return fmt.Errorf("a draft has no setting %s of its own; it can have %s", key, strings.Join(DraftKeys, ", "))
	}
	var to any
	if len(values) > 0 {
		to = values
	}
	return w.set(set{[]string{"draft", r.ID(), key}, to})
}

// SetDraftSettings keeps what is said of a draft.
func (w *Workspace) SetDraftSettings(r DraftRef, s DraftSettings) error {
	on := func(b bool) any {
		if b {
			return true
		}
		return nil
	}
	sets := []set{
		{[]string{"draft", r.ID(), "variables"}, on(s.Variables)},
		{[]string{"draft", r.ID(), "changes"}, on(s.Changes)},
	}
	for _, key := range DraftKeys {
		var to any
		if v := s.Own[key]; len(v) > 0 {
			to = v
		}
		sets = append(sets, set{[]string{"draft", r.ID(), key}, to})
	}
	return w.set(sets...)
}

// String is the draft as people name it: YearTable/Skerry 2027.
func (r DraftRef) String() string { return r.Operation + "/" + r.Name }

// Drafts lists all drafts, in the order of the contracts and their operations.
// The list is kept until a draft comes or goes here, or Relist is called.
func (w *Workspace) Drafts() []DraftRef {
	w.mu.Lock()
	out := w.listed
	w.mu.Unlock()
	if out != nil {
		return out
	}
	out = []DraftRef{}
	for _, c := range w.Config().Contracts {
		files, _ := w.store().list("drafts/" + safe.FileName(c.Name))
		var refs []DraftRef
		for _, f := range files {
			parts := strings.Split(f, "/")
			if len(parts) == 5 && strings.HasSuffix(f, ".xml") && !strings.HasSuffix(f, ".header.xml") {
				refs = append(refs, DraftRef{c.Name, parts[2], parts[3], strings.TrimSuffix(parts[4], ".xml")})
			}
		}
		place := map[string]int{}
		if con, err := w.Contract(c.Name); err == nil {
			for i, name := range con.OperationNames() {
				place[name] = i + 1
			}
		}
		slices.SortStableFunc(refs, func(a, b DraftRef) int { return place[a.Operation] - place[b.Operation] })
		out = append(out, refs...)
	}
	w.mu.Lock()
	w.listed = out
	w.mu.Unlock()
	return out
}

// Relist has Drafts look at the files again: other programs may have changed
// them.
func (w *Workspace) Relist() {
	w.mu.Lock()
	w.listed = nil
	w.mu.Unlock()
}

func (r DraftRef) headerFile() string { return strings.TrimSuffix(r.file(), ".xml") + ".header.xml" }

// ReadHeader are the bytes of a draft's header blocks (message.NewHeader); nil
// where it has none.
func (w *Workspace) ReadHeader(r DraftRef) ([]byte, error) {
	b, err := w.store().read(r.headerFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

// WriteHeader keeps the header blocks of a draft; a file with none goes.
func (w *Workspace) WriteHeader(r DraftRef, b []byte) error {
	if len(b) > 0 && string(b) != message.NoHeader {
		return w.store().write(r.headerFile(), b)
	}
	if old, err := w.ReadHeader(r); err != nil || old == nil {
		return err
	}
	return w.store().remove(r.headerFile())
}

// ReadDraft is a draft's bytes.
func (w *Workspace) ReadDraft(r DraftRef) ([]byte, error) { return w.store().read(r.file()) }

// WriteDraft keeps a draft.
func (w *Workspace) WriteDraft(r DraftRef, b []byte) error {
	if !slices.Contains(w.Drafts(), r) {
		defer w.Relist()
	}
	return w.store().write(r.file(), b)
}

// CopyDraft writes a draft under another name, header blocks and all.
func (w *Workspace) CopyDraft(from, to DraftRef) error {
	body, err := w.ReadDraft(from)
	if err != nil {
		return err
	}
	header, err := w.ReadHeader(from)
	if err == nil {
		err = w.WriteHeader(to, header)
	}
	if s := w.Config().DraftSettings[from.ID()]; err == nil &&
		!reflect.DeepEqual(s, w.Config().DraftSettings[to.ID()]) {
		err = w.SetDraftSettings(to, s)
	}
	if err != nil {
		return err
	}
	return w.WriteDraft(to, body)
}

// FindDraft finds a draft by what a person typed: OPERATION, OPERATION/NAME or
// NAME.
func (w *Workspace) FindDraft(text string) (DraftRef, error) {
	var hits []DraftRef
	var ops, all []string
	for _, r := range w.Drafts() {
		all = append(all, r.String())
		if !slices.Contains(ops, r.Operation) {
			ops = append(ops, r.Operation)
		}
		if text == r.String() || text == r.Operation || text == r.Name {
			hits = append(hits, r)
		}
	}
	if len(hits) > 0 {
		return hits[0], nil
	}
	op, _, _ := strings.Cut(text, "/")
	if slices.Contains(ops, op) {
		return DraftRef{}, fmt.Errorf("there is no draft %s; there are %s", text, strings.Join(all, ", "))
	}
	return DraftRef{}, &endpoint.OperationError{Name: op, Near: near.Miss(op, ops), Others: ops}
}
