package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"orenda/internal/endpoint"
	"orenda/internal/tomledit"
)

// Everywhere is the profile of the person's own that serves every endpoint of
// every workspace: their proxy, their trust list, the limits of their program.
const Everywhere = "everywhere"

// personalFile is the file of the person's own profiles: a table for each, with
// settings as in a workspace file.
func (w *Workspace) personalFile() string { return filepath.Join(w.Home.Config, "profiles.toml") }

// profiles are the person's own as they were read last.
type profiles struct {
	stamp  string // size and time of the file, as it was read
	byName map[string]map[string][]string
	err    error
}

// Personal are the profiles of the person's own, by name. They must not be changed.
// The file is read again where it was written since.
func (w *Workspace) Personal() (map[string]map[string][]string, error) {
	p := w.profiles.Load()
	if p == nil || p.stamp != w.personalStamp() {
		p = w.readPersonal()
	}
	return p.byName, p.err
}

// personalStamp tells one state of the file from another.
func (w *Workspace) personalStamp() string {
	if w.Home == nil {
		return ""
	}
	st, err := os.Stat(w.personalFile())
	if err != nil {
		return ""
	}
	return fmt.Sprint(st.Size(), st.ModTime().UnixNano())
}

// readPersonal reads the person's own profiles again.
func (w *Workspace) readPersonal() *profiles {
	p := &profiles{byName: map[string]map[string][]string{}, stamp: w.personalStamp()}
	if w.Home != nil {
		src, err := os.ReadFile(w.personalFile())
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			p.err = err
		default:
			p.err = w.parsePersonal(p, src)
		}
	}
	w.profiles.Store(p)
	return p
}

func (w *Workspace) parsePersonal(p *profiles, src []byte) error {
	var tree map[string]map[string]any
	if err := tomledit.Decode(w.personalFile(), src, &tree); err != nil {
		return err
	}
	for name, values := range tree {
		p.byName[name] = map[string][]string{}
		for key, v := range values {
			if endpoint.KeyOf(key) == nil {
				return &FileError{
					Path: w.personalFile(),
					Why:  fmt.Sprintf("%s: the setting %s is not known", name, key),
				}
			}
			items, err := texts(v)
			if err != nil {
				return &FileError{Path: w.personalFile(), Why: fmt.Sprintf("%s.%s: %v", name, key, err)}
			}
			p.byName[name][key] = items
		}
	}
	return nil
}

// personal is Personal as far as it can be read; Reload warns of the rest.
func (w *Workspace) personal() map[string]map[string][]string {
	out, _ := w.Personal()
	return out
}

// SetPersonal sets one value in a profile of the person's own; nil or "" takes
// it out. Files that it names are absolute paths.
func (w *Workspace) SetPersonal(profile, key string, to any) error {
	if w.Home == nil {
		return errors.New("there is no place for a person's own profiles")
	}
	value, err := fileValue(key, to)
	if err != nil {
		return err
	}
	unlock, err := w.Home.Lock(w.personalFile())
	if err != nil {
		return err
	}
	defer unlock()
	src, err := os.ReadFile(w.personalFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if src, err = tomledit.Set(src, []string{profile, key}, value); err != nil {
		return &FileError{Path: w.personalFile(), Why: err.Error()}
	}
	if err := w.Home.Write(w.personalFile(), src); err != nil {
		return err
	}
	return w.readPersonal().err
}
