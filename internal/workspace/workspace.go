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
	"slices"
	"strconv"
	"strings"
	"sync"
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

// Workspace is a workspace, on disk or in memory.
type Workspace struct {
	Dir  string // absolute; "" while it was not saved
	Home *user.Home

	Name         string
	Environment  string // the default one
	Endpoints    []*Endpoint
	Contracts    []*Contract
	Environments []Environment
	Profiles     map[string]map[string][]string
	Settled      map[string]DraftSettings     // by DraftRef.ID; only those that differ from none
	Aside        map[string]map[string]string // findings that were set aside: reasons, by endpoint and id
	Warnings     []string                     // unknown keys and the like

	store  store
	read   []byte // the settings file as it was last read
	mu     sync.Mutex
	loaded map[string]*contract.Contract
	listed []DraftRef                  // nil: to be listed again
	drafts map[DraftRef]*message.Draft // as they were last planned, parsed
	notes  struct {                    // as they were last read
		src  []byte
		read notes
	}
}

// Endpoint is a named way to reach a port.
type Endpoint struct {
	Name, Contract, Port, Profile string
	Default, Off                  bool
	Values                        map[string][]string
}

// Contract is a description that the workspace keeps.
type Contract struct {
	Name   string
	Source string // where it came from
	Served string // host and port that served it
}

// Environment is a named set of variables.
type Environment struct {
	Name      string
	Variables map[string]string
}

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
	w := &Workspace{Dir: abs, Home: home, store: folder{abs}, loaded: map[string]*contract.Contract{}, drafts: map[DraftRef]*message.Draft{}}
	return w, w.Reload()
}

// New makes a workspace in memory.
func New(name string, home *user.Home) *Workspace {
	m := &memory{files: map[string][]byte{}}
	w := &Workspace{Home: home, store: m, loaded: map[string]*contract.Contract{}, drafts: map[DraftRef]*message.Draft{}}
	defer m.loading()()
	src, _ := tomledit.Set(nil, []string{"name"}, name)
	_ = w.store.write(File, src)
	_ = w.Reload()
	return w
}

// SaveTo writes a workspace that was in memory into a folder, which must not
// hold one.
func (w *Workspace) SaveTo(dir string) error {
	m, ok := w.store.(*memory)
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
	for name, b := range m.files {
		if err := f.write(name, b); err != nil {
			return err
		}
	}
	w.Dir, w.store = abs, f
	return nil
}

// Rescue writes a workspace that the person worked in, and did not save, into a
// folder of their state: Home.State/unsaved. It gives "" where there is nothing
// to lose: a workspace on disk, or one with nothing but loaded descriptions.
func (w *Workspace) Rescue(now time.Time) (dir string, err error) {
	m, ok := w.store.(*memory)
	if !ok || !m.touched {
		return "", nil
	}
	base := filepath.Join(w.Home.State, "unsaved", now.Format("2006-01-02-150405-")+strings.ReplaceAll(safe.FileName(w.Name), " ", "-"))
	dir = w.freeName(base, func(n string) bool { _, err := os.Stat(n); return err == nil })
	return dir, w.SaveTo(dir)
}

// Where names the settings file for messages.
func (w *Workspace) Where() string {
	if w.Dir == "" {
		return File + " (in memory)"
	}
	return filepath.Join(w.Dir, File)
}

// ID is what exchanges and approvals know the workspace by.
func (w *Workspace) ID() string {
	if w.Dir == "" {
		return "(in memory)"
	}
	return w.Dir
}

// Reload reads the settings file again. On an error what was there stays.
func (w *Workspace) Reload() error {
	src, err := w.store.read(File)
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%w in %s", ErrNone, w.Dir)
	}
	if err != nil {
		return &FileError{Path: w.Where(), Why: err.Error()}
	}
	return w.parse(src)
}

func (w *Workspace) parse(src []byte) error {
	w.mu.Lock()
	w.read = src
	w.mu.Unlock()
	fail := func(at int, format string, args ...any) error {
		line, col := position(src, at)
		return &FileError{Path: w.Where(), Line: line, Column: col, Why: fmt.Sprintf(format, args...)}
	}
	var tree map[string]any
	if err := tomledit.Decode(w.Where(), src, &tree); err != nil {
		return err
	}
	entries, err := tomledit.Scan(src)
	if err != nil {
		return &FileError{Path: w.Where(), Why: err.Error()}
	}
	next := &Workspace{Profiles: map[string]map[string][]string{}, Settled: map[string]DraftSettings{}, Aside: map[string]map[string]string{}}
	ends, conts, envs := map[string]*Endpoint{}, map[string]*Contract{}, map[string]*Environment{}
	get := func(path []string) any {
		var v any = tree
		for _, p := range path {
			m, _ := v.(map[string]any)
			v = m[p]
		}
		return v
	}
	text := func(e tomledit.Entry) (string, error) {
		v, err := texts(get(e.Path))
		if err != nil || len(v) != 1 {
			return "", fail(e.From, "%s must be a text", strings.Join(e.Path, "."))
		}
		return v[0], nil
	}
	for _, e := range entries {
		kind, depth := e.Path[0], len(e.Path)
		named := ""
		if depth > 1 {
			named = e.Path[1]
		}
		switch {
		case kind == "endpoint" && depth > 1:
			if ends[named] == nil {
				ends[named] = &Endpoint{Name: named, Values: map[string][]string{}}
				next.Endpoints = append(next.Endpoints, ends[named])
			}
		case kind == "contract" && depth > 1:
			if conts[named] == nil {
				conts[named] = &Contract{Name: named}
				next.Contracts = append(next.Contracts, conts[named])
			}
		case kind == "environment" && depth > 1:
			if envs[named] == nil {
				envs[named] = &Environment{named, map[string]string{}}
			}
		case kind == "profile" && depth > 1:
			if next.Profiles[named] == nil {
				next.Profiles[named] = map[string][]string{}
			}
		}
		if e.Header {
			continue
		}
		key := e.Path[depth-1]
		var err error
		switch {
		case depth == 1 && key == "name":
			next.Name, err = text(e)
		case depth == 1 && key == "default-environment":
			next.Environment, err = text(e)
		case depth == 3 && kind == "environment":
			envs[named].Variables[key], err = text(e)
		case depth == 3 && kind == "contract" && (key == "source" || key == "served"):
			var v string
			if v, err = text(e); key == "source" {
				conts[named].Source = v
			} else {
				conts[named].Served = v
			}
		case depth == 3 && kind == "set-aside":
			var why string
			if why, err = text(e); err == nil {
				if next.Aside[named] == nil {
					next.Aside[named] = map[string]string{}
				}
				next.Aside[named][key] = why
			}
		case depth == 3 && kind == "endpoint" && slices.Contains([]string{"contract", "port", "profile"}, key):
			var v string
			v, err = text(e)
			switch key {
			case "contract":
				ends[named].Contract = v
			case "port":
				ends[named].Port = v
			case "profile":
				ends[named].Profile = v
			}
		case depth == 3 && kind == "draft" && (key == "variables" || key == "changes"):
			b, ok := get(e.Path).(bool)
			if !ok {
				return fail(e.From, "%s must be true or false", key)
			}
			s := next.Settled[named]
			if key == "variables" {
				s.Variables = b
			} else {
				s.Changes = b
			}
			next.Settled[named] = s
		case depth == 3 && kind == "endpoint" && (key == "default" || key == "off"):
			b, ok := get(e.Path).(bool)
			if !ok {
				return fail(e.From, "%s must be true or false", key)
			}
			if key == "off" {
				ends[named].Off = b
			} else {
				ends[named].Default = b
			}
		case depth == 3 && (kind == "endpoint" || kind == "profile"):
			v, terr := texts(get(e.Path))
			if terr != nil {
				return fail(e.From, "%s: %v", key, terr)
			}
			k := endpoint.KeyOf(key)
			if k == nil {
				line, _ := position(src, e.KeyAt)
				warn := fmt.Sprintf("line %d: the setting %s is not known", line, key)
				if m := near.Miss(key, append(endpoint.Names(), "contract", "port", "profile", "default", "off")); m != "" {
					warn += "; " + m + " is meant, perhaps"
				}
				next.Warnings = append(next.Warnings, warn)
				continue
			}
			if kind == "endpoint" {
				ends[named].Values[key] = v
			} else {
				next.Profiles[named][key] = v
			}
		default:
			line, _ := position(src, e.KeyAt)
			next.Warnings = append(next.Warnings, fmt.Sprintf("line %d: %s is not known", line, strings.Join(e.Path, ".")))
		}
		if err != nil {
			return err
		}
	}
	if _, err := w.Personal(); err != nil {
		next.Warnings = append(next.Warnings, err.Error())
	}
	for _, e := range envs {
		next.Environments = append(next.Environments, *e)
	}
	slices.SortFunc(next.Environments, func(a, b Environment) int { return strings.Compare(a.Name, b.Name) })
	w.mu.Lock()
	defer w.mu.Unlock()
	w.Name, w.Environment, w.Endpoints, w.Contracts, w.Environments = next.Name, next.Environment, next.Endpoints, next.Contracts, next.Environments
	w.Profiles, w.Settled, w.Aside, w.Warnings = next.Profiles, next.Settled, next.Aside, next.Warnings
	w.listed = nil
	return nil
}

func position(src []byte, at int) (line, col int) {
	at = min(max(at, 0), len(src))
	line = 1 + strings.Count(string(src[:at]), "\n")
	return line, at - strings.LastIndexByte(string(src[:at]), '\n')
}

// texts are the texts of a decoded value.
func texts(v any) ([]string, error) {
	switch v := v.(type) {
	case string:
		return []string{v}, nil
	case bool:
		return []string{strconv.FormatBool(v)}, nil
	case int64:
		return []string{strconv.FormatInt(v, 10)}, nil
	case float64:
		return []string{strconv.FormatFloat(v, 'f', -1, 64)}, nil
	case []any:
		out := []string{}
		for _, x := range v {
			t, err := texts(x)
			if err != nil || len(t) != 1 {
				return nil, errors.New("it must be a list of texts")
			}
			out = append(out, t[0])
		}
		return out, nil
	}
	return nil, errors.New("a text, number, true or false is due here")
}

// Endpoint is the endpoint of that name, or nil.
func (w *Workspace) Endpoint(name string) *Endpoint {
	for _, e := range w.Endpoints {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// ContractNamed is the kept description of that name, or nil.
func (w *Workspace) ContractNamed(name string) *Contract {
	for _, c := range w.Contracts {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Variables are those of an environment, and whether it exists.
func (w *Workspace) Variables(environment string) (map[string]string, bool) {
	for _, e := range w.Environments {
		if e.Name == environment {
			return e.Variables, true
		}
	}
	return map[string]string{}, environment == ""
}

// SnapshotError is a kept description that cannot be read.
type SnapshotError struct {
	Contract string
	File     string // in the workspace's folder
	Err      error
}

func (e *SnapshotError) Error() string {
	return fmt.Sprintf("the kept description of %s cannot be read, and is to be fetched again (refresh): %s: %v", e.Contract, e.File, e.Err)
}

func (e *SnapshotError) Unwrap() error { return e.Err }

// Contract loads a kept description from its snapshot; it needs no network. An
// error is a *SnapshotError where the workspace has the contract.
func (w *Workspace) Contract(name string) (*contract.Contract, error) {
	w.mu.Lock()
	c := w.loaded[name]
	w.mu.Unlock()
	if c != nil {
		return c, nil
	}
	if w.ContractNamed(name) == nil {
		return nil, fmt.Errorf("the workspace has no contract %s", name)
	}
	dir := contractDir(name)
	index, err := w.store.read(dir + "/sources.toml")
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
	for _, f := range s.Files {
		files[f.Location] = f.File
	}
	read := func(_ context.Context, location string) ([]byte, error) {
		file, ok := files[location]
		if !ok {
			return nil, errors.New("it is not in the snapshot")
		}
		return w.store.read(dir + "/" + path.Base(file))
	}
	src, err := read(context.Background(), s.Files[0].Location)
	if err == nil {
		c, err = contract.Load(context.Background(), s.Files[0].Location, src, read)
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
type DraftRef struct{ Contract, PortType, Operation, Name string }

func (r DraftRef) file() string {
	return path.Join("drafts", safe.FileName(r.Contract), safe.FileName(r.PortType), safe.FileName(r.Operation), safe.FileName(r.Name)+".xml")
}

// ID names a draft in the settings file: contract/port type/operation/name.
func (r DraftRef) ID() string {
	return strings.Join([]string{r.Contract, r.PortType, r.Operation, r.Name}, "/")
}

// DraftSettings are what the settings file says of one draft.
type DraftSettings struct {
	Variables bool // variables of the environment stand in its values
	Changes   bool // it changes things at the service: sending many, or again, asks first
}

// SetDraftSettings keeps what is said of a draft.
func (w *Workspace) SetDraftSettings(r DraftRef, s DraftSettings) error {
	on := func(b bool) any {
		if b {
			return true
		}
		return nil
	}
	return w.set(set{[]string{"draft", r.ID(), "variables"}, on(s.Variables)}, set{[]string{"draft", r.ID(), "changes"}, on(s.Changes)})
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
	for _, c := range w.Contracts {
		files, _ := w.store.list("drafts/" + safe.FileName(c.Name))
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
	b, err := w.store.read(r.headerFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return b, err
}

// WriteHeader keeps the header blocks of a draft; a file with none goes.
func (w *Workspace) WriteHeader(r DraftRef, b []byte) error {
	if len(b) > 0 && string(b) != message.NoHeader {
		return w.store.write(r.headerFile(), b)
	}
	if old, err := w.ReadHeader(r); err != nil || old == nil {
		return err
	}
	return w.store.remove(r.headerFile())
}

// ReadDraft is a draft's bytes.
func (w *Workspace) ReadDraft(r DraftRef) ([]byte, error) { return w.store.read(r.file()) }

// WriteDraft keeps a draft.
func (w *Workspace) WriteDraft(r DraftRef, b []byte) error {
	if !slices.Contains(w.Drafts(), r) {
		defer w.Relist()
	}
	return w.store.write(r.file(), b)
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
	if s := w.Settled[from.ID()]; err == nil && s != w.Settled[to.ID()] {
		err = w.SetDraftSettings(to, s)
	}
	if err != nil {
		return err
	}
	return w.WriteDraft(to, body)
}

// RemoveDraft takes a draft away, with its header blocks.
func (w *Workspace) RemoveDraft(r DraftRef) error {
	defer w.Relist()
	if err := w.store.remove(r.file()); err != nil {
		return err
	}
	return w.WriteHeader(r, nil)
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

// ReadFile reads a file that a setting names. It lies in the workspace, unless
// the person's own profiles name it by its absolute path.
func (w *Workspace) ReadFile(name string) ([]byte, error) {
	if filepath.IsAbs(name) {
		for _, p := range w.personal() {
			for _, v := range p {
				if slices.Contains(v, name) {
					return os.ReadFile(name)
				}
			}
		}
	}
	return w.store.read(name)
}
