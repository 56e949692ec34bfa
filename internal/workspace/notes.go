package workspace

import (
	"bytes"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/learned"
	"orenda/internal/pattern"
	"orenda/internal/tomledit"

	"github.com/pelletier/go-toml/v2"
)

// NotesFile holds what was learned of how services really behave.
const NotesFile = "notes.toml"

// Note is something that was learned of an operation, or of one of its fields.
type Note struct {
	Contract  string    `toml:"contract"`        // name of the contract
	Operation string    `toml:"operation"`       // name of the operation
	Field     string    `toml:"field,omitempty"` // path without positions; "" for the operation
	Text      string    `toml:"text"`            // in words
	Written   time.Time `toml:"written"`         // when

	Edges        *learned.Edges `toml:"edges,omitempty"`        // that were found by sounding; nil: it was not
	Contradicted string         `toml:"contradicted,omitempty"` // by what exchange, and how; "" by none
}

type notes struct {
	Note []Note `toml:"note"`
}

var positions = pattern.New(`\[[0-9]+\]`)

// FieldOf is the path that a field's note is kept under: without positions.
func FieldOf(path string) string { return positions.ReplaceAllString(path, "") }

func (w *Workspace) readNotes() (notes, error) {
	var n notes
	b, err := w.store().read(NotesFile)
	if errors.Is(err, fs.ErrNotExist) {
		return n, nil
	}
	if err != nil {
		return n, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if bytes.Equal(b, w.notes.src) {
		return w.notes.read, nil
	}
	if err := tomledit.Decode(NotesFile, b, &n); err != nil {
		return n, err
	}
	w.notes.src, w.notes.read = b, n
	return n, nil
}

// String is the note in a line, with what speaks against it first.
func (n Note) String() string {
	if n.Contradicted == "" {
		return n.Text
	}
	return "contradicted: " + n.Contradicted + "; before: " + n.Text
}

// Notes are those of one operation, by field; "" is the operation itself.
func (w *Workspace) Notes(contractName, operation string) (map[string]Note, error) {
	all, err := w.readNotes()
	out := map[string]Note{}
	for _, n := range all.Note {
		if n.Contract == contractName && n.Operation == operation {
			out[n.Field] = n
		}
	}
	return out, err
}

// Contradict marks what was learned and what an exchange with its bytes speaks against; it gives
// what, in words.
func (w *Workspace) Contradict(x *exchange.Exchange) (field, how string, err error) {
	all, err := w.readNotes()
	if err != nil {
		return "", "", err
	}
	for _, n := range all.Note {
		if n.Edges == nil || n.Contradicted != "" || n.Contract != x.Contract || n.Operation != x.Operation {
			continue
		}
		if how = n.Edges.Against(n.Field, x); how != "" {
			n.Contradicted = how + " (" + x.ID + ")"
			return n.Field, how, w.keepNote(n)
		}
	}
	return "", "", nil
}

// SetNote keeps a note of an operation's field ("" the operation); an empty
// text takes it away.
func (w *Workspace) SetNote(contractName, operation, field, text string) error {
	return w.keepNote(Note{Contract: contractName, Operation: operation, Field: field, Text: text})
}

// Learn keeps what a sounding found as the note of a field. edges may be nil.
func (w *Workspace) Learn(contractName, operation, field, text string, edges *learned.Edges) error {
	return w.keepNote(Note{Contract: contractName, Operation: operation, Field: field, Text: text, Edges: edges})
}

func (w *Workspace) keepNote(note Note) error {
	note.Field, note.Text = FieldOf(note.Field), strings.TrimSpace(note.Text)
	note.Written = time.Now().UTC().Truncate(time.Second)
	if w.Dir() != "" && w.Home != nil {
		unlock, err := w.Home.Lock(w.Dir())
		if err != nil {
			return err
		}
		defer unlock()
	}
	all, err := w.readNotes()
	all.Note = slices.Clone(all.Note)
	if err != nil {
		return err // what cannot be read is not overwritten
	}
	at := slices.IndexFunc(all.Note, func(n Note) bool {
		return n.Contract == note.Contract && n.Operation == note.Operation && n.Field == note.Field
	})
	switch {
	case at < 0 && note.Text == "":
		return nil
	case at < 0:
		all.Note = append(all.Note, note)
	case note.Text == "":
		all.Note = slices.Delete(all.Note, at, at+1)
	default:
		all.Note[at] = note
	}
	b, err := toml.Marshal(all)
	if err != nil {
		return err
	}
	return w.store().write(NotesFile, append([]byte("# What was learned of how the services really behave.\n\n"), b...))
}
