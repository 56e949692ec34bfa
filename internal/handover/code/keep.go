package code

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	udiff "github.com/aymanbagabas/go-udiff"

	"orenda/internal/user"
)

// record is the folder, below that of a program, in which stands what was generated.
const record = ".orenda/generated"

// Kept tells what became of each file of a program.
type Kept struct {
	Files     []string `json:"files"`     // that are as they were generated, or put together with edits
	Conflicts []string `json:"conflicts"` // that were left as they are; the new text stands beside, with .new
	Removed   []string `json:"removed"`   // that are not generated any more, and were not edited
	Diff      string   `json:"-"`         // what changes, as a unified diff

	Program *Result `json:"-"` // that was kept
}

// index is what was generated last: each file with the hash of its text.
type index struct {
	Files map[string]string `json:"files"`
}

// change is what is to be done with a file.
type change struct {
	name string
	text string // "" it is removed
	gone bool
	side bool // it is written beside, for the person to look at
}

// Keep writes a program into a folder, never over somebody's edits: a file that was edited keeps
// its edits and gets what is new (three ways, by lines); where both changed the same lines, or
// where a file stands there that was not generated, nothing is written over it. A file that is
// generated no longer is removed where it was not edited. With show nothing is written.
func Keep(dir string, files []File, show bool) (*Kept, error) {
	was, err := readIndex(dir)
	if err != nil {
		return nil, err
	}
	out := &Kept{Files: []string{}, Conflicts: []string{}, Removed: []string{}}
	var changes []change
	for _, f := range files {
		if !filepath.IsLocal(filepath.FromSlash(f.Name)) {
			return nil, fmt.Errorf("%s is no name of a file below the folder", f.Name)
		}
		c, err := settle(dir, f, was)
		if err != nil {
			return nil, err
		}
		if c.side {
			out.Conflicts = append(out.Conflicts, f.Name)
		} else {
			out.Files = append(out.Files, f.Name)
		}
		changes = append(changes, c)
	}
	for name := range was.Files {
		if slices.ContainsFunc(files, func(f File) bool { return f.Name == name }) {
			continue
		}
		now, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(name)))
		switch {
		case errors.Is(err, fs.ErrNotExist):
		case err != nil:
			return nil, err
		case hash(now) == was.Files[name]:
			changes = append(changes, change{name: name, gone: true})
			out.Removed = append(out.Removed, name)
		default:
			out.Conflicts = append(out.Conflicts, name)
		}
	}
	slices.Sort(out.Removed)
	if out.Diff, err = differs(dir, changes); err != nil || show {
		return out, err
	}
	return out, write(dir, changes, files)
}

// settle says what becomes of one file.
func settle(dir string, f File, was *index) (change, error) {
	now, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(f.Name)))
	if errors.Is(err, fs.ErrNotExist) {
		return change{name: f.Name, text: f.Text}, nil
	}
	if err != nil {
		return change{}, err
	}
	known, generated := was.Files[f.Name]
	switch {
	case string(now) == f.Text, generated && hash(now) == known:
		return change{name: f.Name, text: f.Text}, nil
	case !generated:
		return change{name: f.Name + ".new", text: f.Text, side: true}, nil
	}
	base, err := os.ReadFile(filepath.Join(dir, record, filepath.FromSlash(f.Name)))
	if err != nil || hash(base) != known {
		return change{name: f.Name + ".new", text: f.Text, side: true}, nil
	}
	edits, ok := udiff.Merge(udiff.Lines(string(base), string(now)), udiff.Lines(string(base), f.Text))
	if !ok {
		return change{name: f.Name + ".new", text: f.Text, side: true}, nil
	}
	text, err := udiff.Apply(string(base), edits)
	return change{name: f.Name, text: text}, err
}

// differs is what changes, as a unified diff.
func differs(dir string, changes []change) (string, error) {
	var b strings.Builder
	for _, c := range changes {
		now, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(c.name)))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", err
		}
		b.WriteString(udiff.Unified(c.name, c.name, string(now), c.text))
	}
	return b.String(), nil
}

func write(dir string, changes []change, files []File) error {
	now := &index{Files: map[string]string{}}
	for _, c := range changes {
		at := filepath.Join(dir, filepath.FromSlash(c.name))
		if c.gone {
			if err := os.Remove(at); err != nil {
				return err
			}
			continue
		}
		if old, err := os.ReadFile(at); err == nil && bytes.Equal(old, []byte(c.text)) {
			continue
		}
		if err := user.WriteFile(at, []byte(c.text)); err != nil {
			return err
		}
		if strings.HasSuffix(c.name, ".sh") {
			if err := os.Chmod(at, 0o700); err != nil { //nolint:gosec // a program
				return err
			}
		}
	}
	for _, f := range files {
		now.Files[f.Name] = hash([]byte(f.Text))
		if err := user.WriteFile(filepath.Join(dir, record, filepath.FromSlash(f.Name)), []byte(f.Text)); err != nil {
			return err
		}
	}
	b, err := json.MarshalIndent(now, "", "  ")
	if err != nil {
		return err
	}
	return user.WriteFile(filepath.Join(dir, record, "index.json"), append(b, '\n'))
}

func readIndex(dir string) (*index, error) {
	i := &index{Files: map[string]string{}}
	b, err := os.ReadFile(filepath.Join(dir, record, "index.json"))
	if errors.Is(err, fs.ErrNotExist) {
		return i, nil
	}
	if err == nil {
		err = json.Unmarshal(b, i)
	}
	return i, err
}

func hash(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}
