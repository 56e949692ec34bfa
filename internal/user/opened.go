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

// The files in which is remembered what was opened, newest first, a line each.
const (
	openedFile     = "opened"
	workspacesFile = "workspaces"
)

func (h *Home) lines(name string) []string {
	b, err := os.ReadFile(filepath.Join(h.State, name))
	if err != nil || len(b) == 0 {
		return nil
	}
	return strings.Split(strings.TrimSuffix(string(b), "\n"), "\n")
}

// first puts a line first in a file of them.
func (h *Home) first(name, line string) error {
	if line == "" || strings.ContainsAny(line, "\r\n") {
		return nil
	}
	was := h.lines(name)
	if len(was) > 0 && was[0] == line {
		return nil
	}
	all := append([]string{line}, slices.DeleteFunc(was, func(o string) bool { return o == line })...)
	return WriteFile(filepath.Join(h.State, name), []byte(strings.Join(all[:min(len(all), maxOpened)], "\n")+"\n"))
}

// Workspaces are the folders of the workspaces that the person opened in the application, the
// newest first.
func (h *Home) Workspaces() []string { return h.lines(workspacesFile) }

// RememberWorkspace remembers that a workspace was opened.
func (h *Home) RememberWorkspace(dir string) error { return h.first(workspacesFile, dir) }

// Opened are the addresses and paths from which descriptions were loaded, the newest first.
func (h *Home) Opened() []string { return h.lines(openedFile) }

// RememberOpened remembers from where a description was loaded. An address with a user in it,
// or with a query that is more than the usual ask for a description, may hold a secret: it is not kept.
func (h *Home) RememberOpened(source string) error {
	if u, err := url.Parse(source); err == nil && u.Host != "" {
		if u.User != nil || strings.ContainsAny(u.RawQuery, "=&") {
			return nil
		}
	}
	return h.first(openedFile, source)
}
