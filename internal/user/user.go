// Package user is what belongs to the person rather than to a workspace: where
// configuration and state live, identities, and what was approved.
package user

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"
	"github.com/pelletier/go-toml/v2"

	"orenda/internal/endpoint"
	"orenda/internal/identity"
	"orenda/internal/near"
	"orenda/internal/tomledit"
)

// Home is the person's folders (XDG base directories).
type Home struct {
	Config string // identities.toml, approvals.toml
	State  string // the journal

	Phrases identity.Phrases // pass phrases that were given in this sitting

	// Wrote is told of each change of a file of the person's; nil: nobody is.
	Wrote func(path string, before, after []byte)
}

// Find finds the folders: $ORENDA_HOME holds both where it is set; else
// $XDG_CONFIG_HOME/orenda and $XDG_STATE_HOME/orenda with their usual defaults.
func Find() (*Home, error) {
	if h := os.Getenv("ORENDA_HOME"); h != "" {
		return &Home{Config: filepath.Join(h, "config"), State: filepath.Join(h, "state")}, nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return nil, err
	}
	pick := func(env, fallback string) string {
		if v := os.Getenv(env); filepath.IsAbs(v) {
			return filepath.Join(v, "orenda")
		}
		return filepath.Join(home, fallback, "orenda")
	}
	return &Home{Config: pick("XDG_CONFIG_HOME", ".config"), State: pick("XDG_STATE_HOME", ".local/state")}, nil
}

func (h *Home) identities() string { return filepath.Join(h.Config, "identities.toml") }

// IdentitiesFile is the path of the file, for an editor; it is made, with what may
// stand in it as comments, where there is none.
func (h *Home) IdentitiesFile() (string, error) {
	path := h.identities()
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return path, err
	}
	return path, WriteFile(path, []byte(begun))
}

const begun = `# Who you are towards services. No secret stands here, only where it is.
#
# [pilot-desk]
# user = "pilot-desk"
# secret = "env:PILOT_WORD"    # or file:PATH, command:CMD, keyring:NAME, age:PATH
# certificate = "/home/me/clerk.p12"
#
# [pilot-desk.log-in]          # a call that begins a session
# address = "https://desk.skerry.test/open"
# body = "name=${user}&word=${secret}"
# gives = "cookies"            # or "header NAME", "element NAME", "assertion"
`

// Identities are those the person has, by name.
func (h *Home) Identities() (map[string]*identity.Identity, error) {
	out := map[string]*identity.Identity{}
	path := h.identities()
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	if err := tomledit.Decode(path, b, &out); err != nil {
		return nil, err
	}
	for name, id := range out {
		id.Name = name
		id.WithPhrases(&h.Phrases)
	}
	return out, nil
}

// Identity is the identity of that name, or an *endpoint.IdentityError.
func (h *Home) Identity(name string) (*identity.Identity, error) {
	all, err := h.Identities()
	if err != nil {
		return nil, err
	}
	if id := all[name]; id != nil {
		return id, nil
	}
	names := make([]string, 0, len(all))
	for n := range all {
		names = append(names, n)
	}
	slices.Sort(names)
	return nil, &endpoint.IdentityError{Name: name, Near: near.Miss(name, names), Others: names}
}

// SaveIdentity adds an identity, or sets what changed of it. What else stands in
// the file, comments too, stays.
func (h *Home) SaveIdentity(id identity.Identity) error {
	return h.editIdentities(func(src []byte, all map[string]*identity.Identity) (_ []byte, err error) {
		before := all[id.Name]
		if before == nil {
			before = &identity.Identity{}
			if src, err = tomledit.Set(src, []string{id.Name, "user"}, id.User); err != nil {
				return nil, err
			}
		}
		for _, k := range identity.Keys() {
			to := id.Get(k)
			if to == before.Get(k) {
				continue
			}
			var value any = to
			if to == "" && k != "user" { // which makes an identity of a table
				value = nil
			}
			if src, err = tomledit.Set(src, append([]string{id.Name}, strings.Split(k, ".")...), value); err != nil {
				return nil, err
			}
		}
		if id.LogIn == nil && before.LogIn != nil {
			return tomledit.Remove(src, []string{id.Name, "log-in"})
		}
		return src, nil
	})
}

// editIdentities changes the file of identities under a lock, on what is in it now.
// What cannot be read is never overwritten.
func (h *Home) editIdentities(change func(src []byte, all map[string]*identity.Identity) ([]byte, error)) error {
	path := h.identities()
	unlock, err := h.Lock(path)
	if err != nil {
		return err
	}
	defer unlock()
	all, err := h.Identities()
	if err != nil {
		return err
	}
	src, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if src, err = change(src, all); err != nil {
		return err
	}
	return h.Write(path, src)
}

// RemoveIdentity takes an identity away. What it was allowed stays known, so that
// one of the same name starts where it ended only if that is wanted: Disallow.
func (h *Home) RemoveIdentity(name string) error {
	return h.editIdentities(func(src []byte, all map[string]*identity.Identity) ([]byte, error) {
		if all[name] == nil {
			return nil, &endpoint.IdentityError{Name: name}
		}
		return tomledit.Remove(src, []string{name})
	})
}

// Places are where an identity may go from a workspace.
func (h *Home) Places(workspace, id string) []string {
	a, err := h.approvals()
	if err != nil {
		return nil
	}
	return a[workspace][id]
}

// Disallow takes back all that an identity was allowed for a workspace.
func (h *Home) Disallow(workspace, id string) error {
	return h.editApprovals(func(a approvals) { delete(a[workspace], id) })
}

// approvals: by workspace, then by identity, the places it may go to.
type approvals map[string]map[string][]string

func (h *Home) approvals() (approvals, error) {
	out, path := approvals{}, filepath.Join(h.Config, "approvals.toml")
	b, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	return out, tomledit.Decode(path, b, &out)
}

// Allowed tells whether an identity may go to a place (scheme://host:port)
// from a workspace.
func (h *Home) Allowed(workspace, id, place string) bool {
	a, err := h.approvals()
	return err == nil && slices.Contains(a[workspace][id], place)
}

// Allow approves that once and for all.
func (h *Home) Allow(workspace, id, place string) error {
	return h.editApprovals(func(a approvals) {
		if a[workspace] == nil {
			a[workspace] = map[string][]string{}
		}
		if !slices.Contains(a[workspace][id], place) {
			a[workspace][id] = append(a[workspace][id], place)
		}
	})
}

// editApprovals changes the approvals in the way of editIdentities.
func (h *Home) editApprovals(change func(approvals)) error {
	path := filepath.Join(h.Config, "approvals.toml")
	unlock, err := h.Lock(path)
	if err != nil {
		return err
	}
	defer unlock()
	a, err := h.approvals()
	if err != nil {
		return err
	}
	change(a)
	b, err := toml.Marshal(a)
	if err != nil {
		return err
	}
	return h.Write(path, b)
}

// Write is WriteFile for a file of the person's that Wrote is to be told of.
func (h *Home) Write(path string, b []byte) error {
	before, _ := os.ReadFile(path)
	if err := WriteFile(path, b); err != nil {
		return err
	}
	if h.Wrote != nil {
		h.Wrote(path, before, b)
	}
	return nil
}

// WriteFile writes a private file so that a reader, or a crash at any point,
// meets the old content or the new.
func WriteFile(path string, b []byte) error {
	return WriteFileFrom(path, func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	})
}

// WriteFileFrom is WriteFile for what write writes.
func WriteFileFrom(path string, write func(io.Writer) error) error {
	dir := filepath.Dir(path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".orenda-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if err = write(f); err == nil {
		err = f.Sync()
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return err
	}
	if err := os.Rename(f.Name(), path); err != nil {
		return err
	}
	if d, err := os.Open(dir); err == nil {
		_ = d.Sync()
		d.Close()
	}
	return nil
}

// WriteNew writes a private file where there is none. What is there is never
// written over: a key whose certificate was issued cannot be made again.
func WriteNew(path string, b []byte) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s: %w; another name is to be given", path, ErrThere)
	}
	if err != nil {
		return err
	}
	if _, err = f.Write(b); err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = os.Remove(path)
	}
	return err
}

// ErrThere is a file that is there already.
var ErrThere = errors.New("a file of that name is there already")

// Lock holds a lock on a workspace against other processes until the returned
// function is called. The lock file is on the person's side.
func (h *Home) Lock(workspace string) (unlock func(), err error) {
	dir := filepath.Join(h.State, "locks")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(workspace))
	name := filepath.Join(dir, hex.EncodeToString(sum[:8]))
	lock := flock.New(name, flock.SetFlag(os.O_CREATE|os.O_RDWR), flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return nil, err
	}
	return func() { _ = lock.Close() }, nil
}
