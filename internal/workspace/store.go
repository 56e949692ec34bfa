package workspace

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// store keeps the files of a workspace, by slash-separated relative paths.
type store interface {
	read(name string) ([]byte, error)
	write(name string, b []byte) error
	list(dir string) ([]string, error) // all files below, sorted; none where there is no such folder
	remove(name string) error
	// writeAll writes many files, each whole or not at all, and waits for the disk once.
	writeAll(files []content) error
}

// content is a file of a workspace with its bytes.
type content struct {
	name  string
	bytes []byte
}

// memory is a workspace that was not saved yet.
type memory struct {
	mu      sync.Mutex
	files   map[string][]byte
	touched bool // written to since what it holds was loaded
}

func (m *memory) read(name string) ([]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	b, ok := m.files[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return b, nil
}

func (m *memory) write(name string, b []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.files[name] = slices.Clone(b)
	m.touched = true
	return nil
}

func (m *memory) writeAll(files []content) error {
	for _, f := range files {
		_ = m.write(f.name, f.bytes) // memory takes all
	}
	return nil
}

func (m *memory) remove(name string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.files, name)
	m.touched = true
	return nil
}

// all are the files, by name.
func (m *memory) all() map[string][]byte {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.files)
}

// changed tells whether anything was written since what it holds was loaded.
func (m *memory) changed() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.touched
}

// loading keeps what is written until done is called from counting as touched.
func (m *memory) loading() (done func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	was := m.touched
	return func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.touched = was
	}
}

func (m *memory) list(dir string) (out []string, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for name := range m.files {
		if strings.HasPrefix(name, dir+"/") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// folder is a workspace on disk. Files are opened through os.Root, so that no
// name and no link leads out of it.
type folder struct{ dir string }

func (f folder) root(create bool) (*os.Root, error) {
	if create {
		if err := os.MkdirAll(f.dir, 0o700); err != nil {
			return nil, err
		}
	}
	return os.OpenRoot(f.dir)
}

func (f folder) read(name string) ([]byte, error) {
	if _, err := os.Lstat(filepath.Join(f.dir, filepath.FromSlash(name))); errors.Is(err, fs.ErrNotExist) {
		return nil, err // most workspaces have no notes, and each case of a muster looks for them
	}
	r, err := f.root(false)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	file, err := r.Open(filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return io.ReadAll(file)
}

// write is atomic: a temporary file beside it, synced, then renamed.
func (f folder) write(name string, b []byte) error {
	r, err := f.root(true)
	if err != nil {
		return err
	}
	defer r.Close()
	return put(r, name, b, true)
}

func (f folder) writeAll(files []content) error {
	r, err := f.root(true)
	if err != nil {
		return err
	}
	defer r.Close()
	var next atomic.Int64
	var wait sync.WaitGroup
	errs := make([]error, 2*runtime.GOMAXPROCS(0))
	for w := range errs {
		wait.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(files)) && errs[w] == nil; i = next.Add(1) - 1 {
				errs[w] = put(r, files[i].name, files[i].bytes, !flushes)
			}
		})
	}
	wait.Wait()
	return errors.Join(append(errs, flush(f.dir))...)
}

// put writes a file below a root: a temporary one beside it, which is renamed. synced
// tells whether it is waited until all of it is on disk.
func put(top *os.Root, name string, b []byte, synced bool) error {
	dir := filepath.FromSlash(path.Dir(name))
	r := top
	if dir != "." {
		if err := top.MkdirAll(dir, 0o700); err != nil {
			return err
		}
		below, err := top.OpenRoot(dir)
		if err != nil {
			return err
		}
		defer below.Close()
		r = below
	}
	base := path.Base(name)
	tmp := ".orenda-" + base + ".tmp"
	file, err := r.OpenFile(tmp, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err = file.Write(b); err == nil && synced {
		err = file.Sync()
	}
	if cerr := file.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = r.Rename(tmp, base)
	}
	if err != nil {
		_ = r.Remove(tmp)
		return err
	}
	if !synced {
		return nil
	}
	if d, err := r.Open("."); err == nil {
		_ = d.Sync()
		d.Close()
	}
	return nil
}

func (f folder) remove(name string) error {
	r, err := f.root(false)
	if err != nil {
		return err
	}
	defer r.Close()
	return r.Remove(filepath.FromSlash(name))
}

func (f folder) list(dir string) (out []string, err error) {
	r, err := f.root(false)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	err = fs.WalkDir(r.FS(), dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.Type().IsRegular() && !strings.HasPrefix(d.Name(), ".") {
			out = append(out, p)
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	slices.Sort(out)
	return out, err
}
