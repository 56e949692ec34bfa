package state

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/safe"
	"orenda/internal/trust"
)

// Next is what is done next, once something was done in the background.
type Next func() tea.Cmd

// Identify asks for what a new identity needs, keeps it, and goes on with its name.
func (s *State) Identify(needs exchange.Need, then func(name string) tea.Cmd) tea.Cmd {
	if _, err := s.Home.Identities(); err != nil { // what cannot be read is not overwritten
		s.Say("%v", err)
		return nil
	}
	if needs == exchange.NeedCertificate {
		return s.asksCertificate("", then)
	}
	return AskOn("user", "", false, func(name string) tea.Cmd {
		if name = strings.TrimSpace(name); name == "" {
			return nil
		}
		id := identity.Identity{Name: s.freeIdentity(name), User: name}
		return AskOn("password of "+name+" (it is not shown)", "", true, func(secret string) tea.Cmd {
			return s.KeepSecret(id, secret, then)
		})
	})
}

// asksCertificate asks for the file of a certificate, then for its password and its key
// where these are needed. why says what was wrong with the file that was typed before.
func (s *State) asksCertificate(why string, then func(string) tea.Cmd) tea.Cmd {
	prompt := "file of the client certificate (PEM, PKCS#12 or JKS; tab completes)"
	if why != "" {
		prompt = why + "; another file"
	}
	return AskOn(prompt, "", false, func(path string) tea.Cmd {
		if path = strings.TrimSpace(path); path == "" {
			return nil
		}
		path = identity.Absolute(path)
		base := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path))
		id := identity.Identity{Name: s.freeIdentity(base), Certificate: path}
		return s.opened(id, "", then)
	})
}

// opened goes on with a certificate's file: what it still needs is asked for.
func (s *State) opened(id identity.Identity, secret string, then func(string) tea.Cmd) tea.Cmd {
	again := func(why string) tea.Cmd { return s.asksCertificate(why, then) }
	cert, err := readSmall(id.Certificate)
	if err != nil {
		return again(plainly(err))
	}
	var key []byte
	if id.Key != "" {
		if key, err = readSmall(id.Key); err != nil {
			return again(plainly(err))
		}
	}
	m, err := trust.ReadMaterial(cert, secret)
	sealed, is := errors.AsType[*trust.PasswordError](err)
	if err == nil && key != nil {
		_, err = trust.Client(cert, key, secret)
		sealed, is = errors.AsType[*trust.PasswordError](err)
	}
	switch {
	case is:
		prompt := "its password (it is not shown)"
		if sealed.Given {
			prompt = "that password does not open it; another one"
		}
		return AskOn(prompt, "", true, func(text string) tea.Cmd { return s.opened(id, text, then) })
	case err != nil:
		return again(plainly(err))
	case len(m.Certs) == 0:
		return again("it holds a key, and no certificate")
	case m.Key == nil && key == nil:
		return AskOn("file of its private key", "", false, func(path string) tea.Cmd {
			if path = strings.TrimSpace(path); path == "" {
				return nil
			}
			id.Key = identity.Absolute(path)
			return s.opened(id, secret, then)
		})
	case secret == "":
		return s.keep(id, then)
	}
	return s.KeepSecret(id, secret, then)
}

const maxKeyFile = 4 << 20

func readSmall(path string) ([]byte, error) {
	if info, err := os.Stat(path); err == nil && (info.Size() > maxKeyFile || !info.Mode().IsRegular()) {
		return nil, fmt.Errorf("%s is no file of a key or a certificate", filepath.Base(path))
	}
	return os.ReadFile(path)
}

// plainly is an error without the name of what was tried.
func plainly(err error) string {
	if p, ok := errors.AsType[*os.PathError](err); ok {
		return fmt.Sprintf("%s: %v", filepath.Base(p.Path), p.Err)
	}
	return err.Error()
}

// KeepSecret puts the secret of a new identity into the system's keyring, or where there
// is none into a file that a pass phrase opens; then it keeps the identity.
func (s *State) KeepSecret(id identity.Identity, secret string, then func(string) tea.Cmd) tea.Cmd {
	if secret == "" {
		s.Say("nothing was typed, and nothing is kept")
		return nil
	}
	if !identity.MayKeep() {
		return s.sealSecret("this session has no key ring", id, secret, then)
	}
	return func() tea.Msg {
		err := identity.Keep(context.Background(), id.Name, secret)
		return Next(func() tea.Cmd {
			if err != nil {
				return s.sealSecret("the key ring does not take it", id, secret, then)
			}
			id.Secret = "keyring:" + id.Name
			return s.keep(id, then)
		})
	}
}

func (s *State) sealSecret(why string, id identity.Identity, secret string, then func(string) tea.Cmd) tea.Cmd {
	path := filepath.Join(s.Home.Config, "secrets", safe.FileName(id.Name)+".age")
	for n := 2; ; n++ { // one of an identity that was removed stays
		if _, err := os.Lstat(path); err != nil {
			break
		}
		path = filepath.Join(s.Home.Config, "secrets", fmt.Sprintf("%s-%d.age", safe.FileName(id.Name), n))
	}
	return AskOn(why+"; a pass phrase for a sealed file of your own", "", true, func(phrase string) tea.Cmd {
		if phrase == "" {
			s.Say("without a pass phrase nothing is kept")
			return nil
		}
		return func() tea.Msg {
			err := identity.Seal(path, secret, phrase)
			return Next(func() tea.Cmd {
				if err != nil {
					s.Say("%v", err)
					return nil
				}
				s.Home.Phrases.Give(path, phrase)
				id.Secret = "age:" + path
				return s.keep(id, then)
			})
		}
	})
}

func (s *State) keep(id identity.Identity, then func(string) tea.Cmd) tea.Cmd {
	if err := s.Home.SaveIdentity(id); err != nil {
		s.Say("%v", err)
		return nil
	}
	s.Changed()
	return then(id.Name)
}

// freeIdentity is a name that no identity has.
func (s *State) freeIdentity(name string) string {
	all, _ := s.Home.Identities()
	for n, free := 2, name; ; n++ {
		if _, taken := all[free]; !taken {
			return free
		}
		free = fmt.Sprintf("%s-%d", name, n)
	}
}

// AskOn asks for a line, and goes on with what was typed.
func AskOn(prompt, value string, hidden bool, then func(string) tea.Cmd) tea.Cmd {
	return func() tea.Msg { return Ask{Prompt: prompt, Value: value, Hidden: hidden, Then: then} }
}
