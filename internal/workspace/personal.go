package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"orenda/internal/endpoint"
	"orenda/internal/tomledit"
	"orenda/internal/user"
)

// Everywhere is the profile of the person's own that serves every endpoint of
// every workspace: their proxy, their trust list, the limits of their program.
const Everywhere = "everywhere"

// personalFile is the file of the person's own profiles: a table for each, with
// settings as in a workspace file.
func (w *Workspace) personalFile() string { return filepath.Join(w.Home.Config, "profiles.toml") }

// Personal are the profiles of the person's own, by name.
func (w *Workspace) Personal() (map[string]map[string][]string, error) {
	out := map[string]map[string][]string{}
	if w.Home == nil {
		return out, nil
	}
	src, err := os.ReadFile(w.personalFile())
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	var tree map[string]map[string]any
	if err := tomledit.Decode(w.personalFile(), src, &tree); err != nil {
		return out, err
	}
	for name, values := range tree {
		out[name] = map[string][]string{}
		for key, v := range values {
			if endpoint.KeyOf(key) == nil {
				return out, &FileError{Path: w.personalFile(), Why: fmt.Sprintf("%s: the setting %s is not known", name, key)}
			}
			if out[name][key], err = texts(v); err != nil {
				return out, &FileError{Path: w.personalFile(), Why: fmt.Sprintf("%s.%s: %v", name, key, err)}
			}
		}
	}
	return out, nil
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
	return user.WriteFile(w.personalFile(), src)
}
