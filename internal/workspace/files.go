package workspace

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// A workspace may be a stranger's. The files that its settings name lie in its folder; any
// other is read only where the person typed its path, approved it, or has it in a profile
// of their own.

// maxFile is the largest file in bytes that a setting may name.
const maxFile = 1 << 30

// fileApproval is the name under which approvals of files are kept.
const fileApproval = "file"

// ReadFile reads a file that a setting names. The error of one outside the workspace that
// nobody approved is a *endpoint.FileNewError.
func (w *Workspace) ReadFile(name string) ([]byte, error) {
	inside, outside := w.leads(name)
	if outside == "" {
		return w.store().read(inside)
	}
	if !w.isPersonal(name) && (w.Home == nil || !w.Home.Allowed(w.ID(), fileApproval, outside)) {
		return nil, &endpoint.FileNewError{Path: outside}
	}
	f, err := os.Open(outside)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is no ordinary file", outside)
	case info.Size() > maxFile:
		return nil, fmt.Errorf("%s is larger than 1 GiB", outside)
	}
	return io.ReadAll(io.LimitReader(f, maxFile))
}

// leads is where a path leads: a name in the workspace, or an absolute path outside of it.
// Links are followed.
func (w *Workspace) leads(name string) (inside, outside string) {
	dir, err := filepath.EvalSymlinks(w.Dir())
	if w.Dir() == "" || err != nil {
		dir = ""
	}
	at := name
	if rest, ok := strings.CutPrefix(name, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			at = filepath.Join(home, rest)
		}
	}
	if !filepath.IsAbs(at) {
		if dir == "" { // a workspace in memory, or one that is gone
			if filepath.IsLocal(at) {
				return filepath.ToSlash(filepath.Clean(at)), ""
			}
			at, _ = filepath.Abs(at)
			return "", at
		}
		at = filepath.Join(dir, at)
	}
	at = filepath.Clean(at)
	if target, err := filepath.EvalSymlinks(at); err == nil {
		at = target
	}
	if dir != "" {
		if rel, err := filepath.Rel(dir, at); err == nil && filepath.IsLocal(rel) {
			return filepath.ToSlash(rel), ""
		}
	}
	return "", at
}

// isPersonal tells whether a profile of the person's own names a file.
func (w *Workspace) isPersonal(name string) bool {
	if !filepath.IsAbs(name) {
		return false
	}
	for _, p := range w.personal() {
		for _, v := range p {
			if slices.Contains(v, name) {
				return true
			}
		}
	}
	return false
}

// TypedFile is a value that the person typed for a setting: the files outside the workspace
// that it names are approved, their paths made absolute.
func (w *Workspace) TypedFile(k *endpoint.Key, value string) (string, error) {
	if k == nil || !k.Files || value == "" || strings.Contains(value, "${") || strings.Contains(value, "-----BEGIN") {
		return value, nil
	}
	field, path, ok := strings.Cut(value, "=")
	if k.Name != "attach" {
		field, path = "", value
	} else if !ok {
		return value, nil
	}
	inside, outside := w.leads(path)
	if outside == "" {
		if _, err := w.store().read(inside); err == nil {
			return value, nil
		}
		if outside, _ = filepath.Abs(path); !isFile(outside) { // from where the person is
			return value, nil
		}
		if inside, out := w.leads(outside); out == "" {
			outside = inside
		}
	}
	if filepath.IsAbs(outside) && w.Home != nil {
		if err := w.Home.Allow(w.ID(), fileApproval, outside); err != nil {
			return value, err
		}
	}
	if k.Name == "attach" {
		return field + "=" + outside, nil
	}
	return outside, nil
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// Typed are changes of settings that the person typed: see TypedFile.
func (w *Workspace) Typed(changes ...exchange.Change) ([]exchange.Change, error) {
	out := slices.Clone(changes)
	for i, c := range out {
		k := endpoint.KeyOf(c.Key[strings.LastIndexByte(c.Key, '.')+1:])
		switch to := c.To.(type) {
		case string:
			v, err := w.TypedFile(k, to)
			if err != nil {
				return nil, err
			}
			out[i].To = v
		case []string:
			list := slices.Clone(to)
			for n := range list {
				v, err := w.TypedFile(k, list[n])
				if err != nil {
					return nil, err
				}
				list[n] = v
			}
			out[i].To = list
		}
	}
	return out, nil
}
