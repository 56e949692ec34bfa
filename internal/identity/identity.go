// Package identity keeps who the person is towards services. Identities live
// in the user's configuration folder, never in a workspace, and hold no secret:
// each says where its secret comes from.
package identity

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/zalando/go-keyring"
)

// Identity is a user name and the source of its secret.
type Identity struct {
	Name   string `toml:"-"`              // its name
	User   string `toml:"user"`           // user name, "" none
	Secret string `toml:"secret"`         // env:VAR, file:PATH, command:CMD, keyring:NAME or age:PATH
	Note   string `toml:"note,omitempty"` // for the person

	Certificate string `toml:"certificate,omitempty"` // file with a client certificate; its secret opens the key
	Key         string `toml:"key,omitempty"`         // file with the key, where it is in another

	// Signer is command:CMD, a program that signs with a key that cannot be read: it belongs to
	// the certificate. The secret is its PIN.
	Signer string `toml:"signer,omitempty"`

	Keytab  string `toml:"keytab,omitempty"`  // file with its keys for Kerberos
	Tickets string `toml:"tickets,omitempty"` // file with its tickets; without keytab and secret the person's own

	LogIn *LogIn `toml:"log-in,omitempty"` // a call that goes before the others; nil: none does

	phrases *Phrases // that were given in this sitting; nil: none
}

// The kinds of log-ins by a standard.
const (
	OAuth2    = "oauth2"
	WSTrust13 = "ws-trust-1.3"
	WSTrust14 = "ws-trust-1.4"
)

// The key types of a WS-Trust log-in.
const (
	KeyBearer    = "bearer"
	KeyPublic    = "public-key"
	KeySymmetric = "symmetric-key"
)

// LogIn is a call by which an identity begins a session: what it gives goes with
// the calls that follow.
type LogIn struct {
	// Kind is the standard by which it asks: "" as Body says, oauth2 (client credentials),
	// ws-trust-1.3 or ws-trust-1.4 (issue).
	Kind string `toml:"kind,omitempty"`
	// Scope is what is asked for with oauth2; For is the service that an assertion is for, the
	// endpoint's address unless it is set (AppliesTo).
	Scope string `toml:"scope,omitempty"`
	For   string `toml:"for,omitempty"` // the service that the assertion is for
	// KeyType is what a ws-trust assertion is confirmed by (WS-Trust 1.3 §4.2): bearer ("" too), public-key
	// (the key of the identity's certificate) or symmetric-key (one that both agree on).
	KeyType string `toml:"key-type,omitempty"`

	Address string `toml:"address"`          // that is called
	Body    string `toml:"body"`             // with ${user} and ${secret}; or file:PATH
	Type    string `toml:"type,omitempty"`   // media type; as the body looks unless set
	Action  string `toml:"action,omitempty"` // SOAPAction
	Gives   string `toml:"gives,omitempty"`  // cookies, "header NAME", "element NAME" or assertion; cookies unless set
	// As is the header field that carries it; Cookie for cookies, else Authorization: Bearer.
	As string `toml:"as,omitempty"`
}

// UnavailableError is a secret that cannot be read.
type UnavailableError struct {
	Identity string // name of the identity
	Source   string // the source, without the secret
	Why      string // in words
}

func (e *UnavailableError) Error() string {
	return fmt.Sprintf("the secret of %s cannot be read from %s: %s", e.Identity, e.Source, e.Why)
}

// commandTime bounds a command that prints a secret, keyringTime the operating
// system's keyring.
const (
	commandTime = 20 * time.Second
	keyringTime = 3 * time.Second
)

// Service is the name under which secrets are kept in the keyring.
const Service = "orenda"

// sources are the ways to say where a secret is.
const sources = "its source must be env:VAR, file:PATH, command:CMD, keyring:NAME or age:PATH"

// Phrases are the pass phrases of this sitting, by file: each is asked for once.
type Phrases struct {
	byFile sync.Map // path to pass phrase
	opened sync.Map // what was read, by its bytes and phrase: opening takes a second
}

// sealed is what an opened secret was read from.
type sealed struct {
	file   [sha256.Size]byte
	phrase string
}

// Give gives the pass phrase of an age file for this sitting.
func (p *Phrases) Give(path, phrase string) { p.byFile.Store(path, phrase) }

// of is the pass phrase of a file, if it was given.
func (p *Phrases) of(path string) (string, bool) {
	if p == nil {
		return "", false
	}
	v, ok := p.byFile.Load(path)
	if !ok {
		return "", false
	}
	return v.(string), true
}

// WithPhrases has the identity open its secrets with pass phrases that were given.
func (id *Identity) WithPhrases(p *Phrases) { id.phrases = p }

// PassphraseVariable is the environment variable that may hold the pass phrase
// where nobody can be asked.
const PassphraseVariable = "ORENDA_PASSPHRASE"

// LockedError is an age file whose pass phrase was not given yet, or is wrong.
type LockedError struct {
	Identity, Path string // name of the identity; of the age file
	Given          bool   // a pass phrase was given, and is wrong
}

func (e *LockedError) Error() string {
	if e.Given {
		return "the pass phrase of " + e.Path + " is wrong"
	}
	return "the pass phrase of " + e.Path + " was not given yet"
}

// fromAge opens a file that is encrypted with a pass phrase (age, scrypt).
func (id *Identity) fromAge(path string) (string, error) {
	phrase := os.Getenv(PassphraseVariable)
	if given, ok := id.phrases.of(path); ok {
		phrase = given
	}
	if phrase == "" {
		return "", &LockedError{id.Name, path, false}
	}
	key, err := age.NewScryptIdentity(phrase)
	if err != nil {
		return "", err
	}
	key.SetMaxWorkFactor(maxWork)
	b, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	at := sealed{sha256.Sum256(b), phrase}
	if id.phrases != nil {
		if secret, ok := id.phrases.opened.Load(at); ok {
			return secret.(string), nil
		}
	}
	var in io.Reader = bytes.NewReader(b)
	if bytes.HasPrefix(bytes.TrimSpace(b), []byte("-----BEGIN AGE")) {
		in = armor.NewReader(in)
	}
	r, err := age.Decrypt(in, key)
	if err != nil {
		if _, no := errors.AsType[*age.NoIdentityMatchError](err); no {
			if id.phrases != nil {
				id.phrases.byFile.Delete(path)
			}
			return "", &LockedError{id.Name, path, true}
		}
		return "", err
	}
	out, err := io.ReadAll(io.LimitReader(r, maxSecret))
	if err == nil && id.phrases != nil {
		id.phrases.opened.Store(at, string(out))
	}
	return string(out), err
}

const (
	maxWork   = 20 // of scrypt, as a power of two: a second or so
	maxSecret = 64 << 10
)

// fromKeyring asks the operating system's keyring, where a session has one.
func fromKeyring(ctx context.Context, name string) (string, error) {
	return atKeyring(ctx, func() (string, error) { return keyring.Get(Service, name) })
}

// Seal writes a secret into a new file that a pass phrase opens (age, scrypt); age:PATH
// takes it from there. The file is for the person alone.
func Seal(path, secret, phrase string) error {
	to, err := age.NewScryptRecipient(phrase)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w, err := age.Encrypt(f, to)
	if err == nil {
		_, err = io.WriteString(w, secret)
		err = errors.Join(err, w.Close())
	}
	if err = errors.Join(err, f.Close()); err != nil {
		_ = os.Remove(path) // half of a secret is none
	}
	return err
}

// MayKeep tells whether this session can have a keyring at all.
func MayKeep() bool { return os.Getenv("DBUS_SESSION_BUS_ADDRESS") != "" || runtime.GOOS != "linux" }

// Keep puts a secret into the system's keyring, from which keyring:NAME takes it.
func Keep(ctx context.Context, name, secret string) error {
	_, err := atKeyring(ctx, func() (string, error) { return "", keyring.Set(Service, name, secret) })
	return err
}

// KeyringThere tells why there is no keyring in this session; nil where there is one.
func KeyringThere(ctx context.Context) error {
	_, err := atKeyring(ctx, func() (string, error) { return keyring.Get(Service, "whether there is one") })
	if errors.Is(err, keyring.ErrNotFound) {
		return nil
	}
	return err
}

// atKeyring asks the system's keyring, for a time that is bounded.
func atKeyring(ctx context.Context, do func() (string, error)) (string, error) {
	if !MayKeep() {
		return "", errors.New("this session has no keyring")
	}
	type answer struct {
		s   string
		err error
	}
	c := make(chan answer, 1)
	go func() {
		s, err := do()
		c <- answer{s, err}
	}()
	ctx, cancel := context.WithTimeout(ctx, keyringTime)
	defer cancel()
	select {
	case a := <-c:
		return a.s, a.err
	case <-ctx.Done():
		return "", errors.New("the keyring did not answer in time")
	}
}

// Reveal reads the secret from its source. Line ends at its end are dropped,
// as editors and commands add them.
func (id *Identity) Reveal(ctx context.Context) (string, error) {
	fail := func(why string) (string, error) { return "", &UnavailableError{id.Name, id.Secret, why} }
	kind, rest, ok := strings.Cut(id.Secret, ":")
	if !ok {
		return fail(sources)
	}
	switch kind {
	case "keyring":
		v, err := fromKeyring(ctx, rest)
		if err != nil {
			return fail(err.Error())
		}
		return v, nil
	case "age":
		v, err := id.fromAge(rest)
		if locked, ok := errors.AsType[*LockedError](err); ok {
			return "", locked
		}
		if err != nil {
			return fail(err.Error())
		}
		return strings.TrimRight(v, "\r\n"), nil
	case "env":
		v, ok := os.LookupEnv(rest)
		if !ok {
			return fail("the environment variable is not set")
		}
		return v, nil
	case "file":
		b, err := os.ReadFile(rest)
		if err != nil {
			var pe *os.PathError
			if errors.As(err, &pe) {
				return fail(pe.Err.Error())
			}
			return fail(err.Error())
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	case "command":
		ctx, cancel := context.WithTimeout(ctx, commandTime)
		defer cancel()
		cmd := shell(ctx, rest)
		cmd.WaitDelay = time.Second
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Run(); err != nil {
			return fail(err.Error())
		}
		return strings.TrimRight(out.String(), "\r\n"), nil
	}
	return fail(sources)
}
