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

// records is the folder, below that of a program, in which stands what was generated: a folder for
// each program, so that one knows nothing of the files of another that lies beside it.
const records = ".orenda/generated"

// Kept tells what became of each file of a program.
type Kept struct {
	Files     []string `json:"files"`     // that are as they were generated, or put together with edits
	Conflicts []string `json:"conflicts"` // that were left as they are; the new text stands beside, with .new
	Removed   []string `json:"removed"`   // that are not generated any more, and were not edited
	Left      []string `json:"left"`      // that are not generated any more, and stay, for they were edited
	Diff      string   `json:"-"`         // what changes, as a unified diff

	Program *Result `json:"-"` // that was kept
}

// index is what was generated last: each file with the hash of its text. Where a text was only
// offered, as FILE.new, that is the one before it, until the person has taken FILE.new away.
type index struct {
	Files   map[string]string `json:"files"`
	Offered map[string]string `json:"offered,omitempty"`
}

// offered is what a text that was only offered is kept as, beside what was generated.
const offered = ".offered"

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
// generated no longer is removed where it was not edited. name tells the program from others in
// the same folder. With show nothing is written.
func Keep(dir, name string, files []File, show bool) (*Kept, error) {
	record := filepath.Join(dir, records, name)
	was, err := readIndex(record)
	if err != nil {
		return nil, err
	}
	out := &Kept{Files: []string{}, Conflicts: []string{}, Removed: []string{}, Left: []string{}}
	var changes []change
	for _, f := range files {
		if !filepath.IsLocal(filepath.FromSlash(f.Name)) {
			return nil, fmt.Errorf("%s is no name of a file below the folder", f.Name)
		}
		c, err := settle(dir, record, f, was)
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
			out.Left = append(out.Left, name)
		}
	}
	slices.Sort(out.Removed)
	slices.Sort(out.Left)
	if out.Diff, err = differs(dir, changes); err != nil || show {
		return out, err
	}
	return out, write(dir, record, changes, files, was)
}

// settle says what becomes of one file.
func settle(dir, record string, f File, was *index) (change, error) {
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
	kept := filepath.Join(record, filepath.FromSlash(f.Name))
	if o, ok := was.Offered[f.Name]; ok {
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(f.Name)+".new")); errors.Is(err, fs.ErrNotExist) {
			known, kept = o, kept+offered // the person has dealt with it
		}
	}
	base, err := os.ReadFile(kept)
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

func write(dir, record string, changes []change, files []File, was *index) error {
	now := &index{Files: map[string]string{}, Offered: map[string]string{}}
	aside := map[string]bool{}
	for _, c := range changes {
		if c.side {
			aside[strings.TrimSuffix(c.name, ".new")] = true
		}
	}
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
		kept, sum := filepath.Join(record, filepath.FromSlash(f.Name)), hash([]byte(f.Text))
		if aside[f.Name] {
			now.Offered[f.Name] = sum
			if before, generated := was.Files[f.Name]; generated {
				now.Files[f.Name] = before
			}
			kept += offered
		} else {
			now.Files[f.Name] = sum
		}
		if err := user.WriteFile(kept, []byte(f.Text)); err != nil {
			return err
		}
	}
	b, err := json.MarshalIndent(now, "", "  ")
	if err != nil {
		return err
	}
	return user.WriteFile(filepath.Join(record, "index.json"), append(b, '\n'))
}

func readIndex(record string) (*index, error) {
	i := &index{Files: map[string]string{}}
	b, err := os.ReadFile(filepath.Join(record, "index.json"))
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
