package user

import (
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// maxOpened is how many sources of descriptions are remembered.
const maxOpened = 100

func (h *Home) openedFile() string { return filepath.Join(h.State, "opened") }

// Opened are the addresses and paths from which descriptions were loaded, the newest first.
func (h *Home) Opened() []string {
	b, err := os.ReadFile(h.openedFile())
	if err != nil {
		return nil
	}
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

// RememberOpened remembers from where a description was loaded. An address with a user in it,
// or with a query that is more than the usual ask for a description, may hold a secret: it is not kept.
func (h *Home) RememberOpened(source string) error {
	if source == "" || strings.ContainsAny(source, "\r\n") {
		return nil
	}
	if u, err := url.Parse(source); err == nil && u.Host != "" {
		if u.User != nil || strings.ContainsAny(u.RawQuery, "=&") {
			return nil
		}
	}
	all := slices.DeleteFunc(h.Opened(), func(o string) bool { return o == source })
	all = append([]string{source}, all...)
	return WriteFile(h.openedFile(), []byte(strings.Join(all[:min(len(all), maxOpened)], "\n")+"\n"))
}
