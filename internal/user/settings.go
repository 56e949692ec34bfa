package user

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/tomledit"
)

// Settings are what holds for the person in every workspace: settings.toml in their folder.
type Settings struct {
	Ground       string `toml:"ground"`        // of the terminal: dark, light, or ask
	Journal      string `toml:"journal"`       // of exchanges: a folder, or postgres://…; "" the person's folder
	PasswordFrom string `toml:"password-from"` // where the password of the journal is, as of an identity
	OTLP         string `toml:"otlp"`          // where spans are sent, http or https; "" nowhere
}

// Grounds are the values of Settings.Ground: "ask" takes what the terminal says, and dark
// where it says nothing.
//
//nolint:gochecknoglobals // a table: it is never written to
var Grounds = []string{"ask", "dark", "light"}

// SettingsFile is where the person's settings are.
func (h *Home) SettingsFile() string { return filepath.Join(h.Config, "settings.toml") }

// Settings reads the person's settings; what is not set there has its usual value.
func (h *Home) Settings() (Settings, error) {
	s := Settings{Ground: Grounds[0]}
	b, err := os.ReadFile(h.SettingsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err == nil {
		err = tomledit.Decode(h.SettingsFile(), b, &s)
	}
	if err != nil {
		return Settings{Ground: Grounds[0]}, err
	}
	if !slices.Contains(Grounds, s.Ground) {
		err = fmt.Errorf("%s: ground = %q; it is one of %s", h.SettingsFile(), s.Ground,
			strings.Join(Grounds, ", "))
		s.Ground = Grounds[0]
	}
	return s, err
}

// SetGround keeps which ground the person's terminal has.
func (h *Home) SetGround(ground string) error {
	b, err := os.ReadFile(h.SettingsFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if b, err = tomledit.Set(b, []string{"ground"}, ground); err != nil {
		return err
	}
	return WriteFile(h.SettingsFile(), b)
}
