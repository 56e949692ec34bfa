package identity

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/near"
)

// key is a value of an identity by the name it has in identities.toml.
type key struct {
	name string
	of   func(*Identity) *string
}

// Those of the log-in are under its table.
//
//nolint:gochecknoglobals // a table: it is never written to
var keys = []key{
	{"user", func(id *Identity) *string { return &id.User }},
	{"secret", func(id *Identity) *string { return &id.Secret }},
	{"certificate", func(id *Identity) *string { return &id.Certificate }},
	{"key", func(id *Identity) *string { return &id.Key }},
	{"signer", func(id *Identity) *string { return &id.Signer }},
	{"note", func(id *Identity) *string { return &id.Note }},
	{"keytab", func(id *Identity) *string { return &id.Keytab }},
	{"tickets", func(id *Identity) *string { return &id.Tickets }},
	{"log-in.address", func(id *Identity) *string { return &id.LogIn.Address }},
	{"log-in.kind", func(id *Identity) *string { return &id.LogIn.Kind }},
	{"log-in.scope", func(id *Identity) *string { return &id.LogIn.Scope }},
	{"log-in.for", func(id *Identity) *string { return &id.LogIn.For }},
	{"log-in.key-type", func(id *Identity) *string { return &id.LogIn.KeyType }},
	{"log-in.body", func(id *Identity) *string { return &id.LogIn.Body }},
	{"log-in.type", func(id *Identity) *string { return &id.LogIn.Type }},
	{"log-in.action", func(id *Identity) *string { return &id.LogIn.Action }},
	{"log-in.gives", func(id *Identity) *string { return &id.LogIn.Gives }},
	{"log-in.as", func(id *Identity) *string { return &id.LogIn.As }},
}

// Keys are the names of the values that an identity has, in their order.
func Keys() []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = k.name
	}
	return out
}

// Get is the value of that name; empty where there is none.
func (id *Identity) Get(name string) string {
	for _, k := range keys {
		if k.name == name && (id.LogIn != nil || !strings.HasPrefix(name, "log-in.")) {
			return *k.of(id)
		}
	}
	return ""
}

// Set sets the value of that name; an empty one takes it out. It refuses what is
// no source of a secret, as people give the secret itself there. Files become
// absolute, as an identity serves every folder; ~/ is the person's own.
func (id *Identity) Set(name, value string) error {
	i := slices.IndexFunc(keys, func(k key) bool { return k.name == name })
	if i < 0 {
		err := fmt.Errorf("an identity has no %s, only %s", name, strings.Join(Keys(), ", "))
		if n := near.Miss(name, Keys()); n != "" {
			err = fmt.Errorf("an identity has no %s; %s is meant", name, n)
		}
		return err
	}
	if kind, rest, _ := strings.Cut(value, ":"); name == "secret" && value != "" &&
		(rest == "" || !slices.Contains([]string{"env", "file", "command", "keyring", "age"}, kind)) {
		return fmt.Errorf(
			"that is no source, and was not kept: a secret itself is never written down here; %s",
			sources,
		)
	}
	if err := kindOf(name, value); err != nil {
		return err
	}
	switch kind, rest, prefixed := strings.Cut(value, ":"); {
	case name == "certificate" || name == "key" || name == "keytab" || name == "tickets":
		value = Absolute(value)
	case prefixed && (name == "secret" && (kind == "file" || kind == "age") || name == "log-in.body" && kind == "file"):
		value = kind + ":" + Absolute(rest)
	}
	in := LogIn{}
	if id.LogIn != nil {
		in = *id.LogIn
	}
	id.LogIn = &in // never the one that another identity has too
	*keys[i].of(id) = value
	if in == (LogIn{}) {
		id.LogIn = nil
	}
	return nil
}

// kindOf refuses a kind of log-in that there is not, and what is no signer.
func kindOf(name, value string) error {
	if command, is := strings.CutPrefix(value, "command:"); name == "signer" && value != "" &&
		(!is || strings.TrimSpace(command) == "") {
		return errors.New("a signer is command:CMD, a program that signs")
	}
	if name == "log-in.kind" && !isKind(value) {
		return fmt.Errorf("log-in.kind is %s, %s or %s, or empty for a body of your own, "+
			"not %q", OAuth2, WSTrust13, WSTrust14, value)
	}
	if name == "log-in.key-type" && !slices.Contains([]string{"", KeyBearer, KeyPublic, KeySymmetric}, value) {
		return fmt.Errorf("log-in.key-type is %s, %s or %s, not %q", KeyBearer, KeyPublic, KeySymmetric, value)
	}
	return nil
}

// isKind tells whether a log-in can be of a kind.
func isKind(kind string) bool {
	return slices.Contains([]string{"", OAuth2, WSTrust13, WSTrust14}, kind)
}

// Absolute is a path that serves every folder; ~/ is the person's own.
func Absolute(path string) string {
	if path == "" {
		return ""
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			path = filepath.Join(home, rest)
		}
	}
	if a, err := filepath.Abs(path); err == nil {
		return a
	}
	return path
}
