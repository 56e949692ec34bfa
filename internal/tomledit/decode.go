package tomledit

import (
	"errors"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// FileError is a file that cannot be used, with the place; Line and Column count
// from 1, and are 0 where the place is not known.
type FileError struct {
	Path         string // of the file
	Line, Column int    // from 1; in characters, from 1
	Why          string // in plain words, without the place
}

func (e *FileError) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.Path, e.Why)
	}
	return fmt.Sprintf("%s:%d:%d: %s", e.Path, e.Line, e.Column, e.Why)
}

// Decode reads the TOML document of a file into a value. An error is a
// *FileError.
func Decode(path string, src []byte, into any) error {
	err := toml.Unmarshal(src, into)
	if err == nil {
		return nil
	}
	e := &FileError{Path: path, Why: strings.TrimPrefix(err.Error(), "toml: ")}
	if de, ok := errors.AsType[*toml.DecodeError](err); ok {
		e.Line, e.Column = de.Position()
	}
	return e
}
