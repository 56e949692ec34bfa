package endpoint

import (
	"crypto/tls"
	"errors"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/near"
)

// Alternative is an endpoint that could be used, with what sets it apart.
type Alternative struct {
	Name    string // its name
	Port    string // name of its port
	Differs string // "SOAP 1.2 · http · port BerthDesk12"
}

// AmbiguousError is a call that several endpoints could take, none being named.
type AmbiguousError struct {
	Operation string        // name of the operation
	Endpoints []Alternative // that serve it
}

func (e *AmbiguousError) Error() string {
	names := make([]string, len(e.Endpoints))
	for i, a := range e.Endpoints {
		names[i] = a.Name
	}
	return fmt.Sprintf("several endpoints serve %s: %s", e.Operation, strings.Join(names, ", "))
}

// MissingError is an endpoint that does not exist, or an operation that none serves.
type MissingError struct {
	Operation string        // name of the operation
	Name      string        // the endpoint that was named, or ""
	Near      string        // the one that is meant, likely; "" none is near
	Others    []string      // those that there are
	Off       []string      // endpoints that would serve it, and are switched off
	Unmade    []Alternative // that could be made for the contract's ports
	Contract  string        // that they would be of
}

func (e *MissingError) Error() string {
	if e.Name == "" {
		return "no endpoint serves " + e.Operation
	}
	s := "there is no endpoint " + e.Name
	if e.Near != "" {
		s += "; " + e.Near + " is meant, perhaps"
	}
	return s
}

// OperationError is an operation that the contract or port does not have.
type OperationError struct {
	Name   string   // its name
	Near   string   // the one that is meant, likely; "" none is near
	Others []string // those that there are
	Unread []string // documents of the contract that could not be read, with the reason
}

func (e *OperationError) Error() string {
	s := "there is no operation " + e.Name
	if e.Near != "" {
		s += "; " + e.Near + " is"
	}
	return s
}

// EnvironmentError is an environment that does not exist.
type EnvironmentError struct {
	Name   string   // its name
	Near   string   // the one that is meant, likely; "" none is near
	Others []string // those that there are
}

func (e *EnvironmentError) Error() string { return "there is no environment " + e.Name }

// ValueError is a setting whose value cannot be used.
type ValueError struct {
	Key *Key // the setting
	Value
	Err error // what the system or a library said
}

func (e *ValueError) Error() string { return e.Key.Name + ": " + e.Err.Error() }
func (e *ValueError) Unwrap() error { return e.Err }

// IdentityError is an identity that does not exist.
type IdentityError struct {
	Name   string   // its name
	Near   string   // the one that is meant, likely; "" none is near
	Others []string // those that there are
}

func (e *IdentityError) Error() string {
	if e.Name == "" {
		return "no identity is set, and one is needed"
	}
	s := "there is no identity " + e.Name
	if e.Near != "" {
		s += "; " + e.Near + " is"
	}
	return s
}

// HostNewError is an identity that was not allowed for this host yet.
// Identity: name of the identity; http or https; name or address; decimal.
type HostNewError struct{ Identity, Scheme, Host, Port string }

func (e *HostNewError) Error() string {
	return fmt.Sprintf("the identity %s was not allowed for %s://%s:%s yet", e.Identity, e.Scheme, e.Host, e.Port)
}

// ProxyError is a proxy that cannot be used as it is set.
type ProxyError struct{ Value, Why string } // as text; in plain words, without the place

func (e *ProxyError) Error() string { return e.Why }

// ProxyNewError is a proxy that a workspace names and that the person has not
// allowed for it yet.
type ProxyNewError struct{ Proxy string } // address without user and password

func (e *ProxyNewError) Error() string {
	return "the proxy " + e.Proxy + " was not allowed for this workspace yet"
}

// KeyLogNewError is a key log that a workspace names and that the person has not
// allowed yet.
type KeyLogNewError struct{ Path string } // where: its path

func (e *KeyLogNewError) Error() string {
	return "the key log " + e.Path + " was not allowed for this workspace yet"
}

// FileNewError is a file outside the workspace that a setting of it names and that the
// person has not approved.
type FileNewError struct{ Path string } // where: absolute

func (e *FileNewError) Error() string {
	return "the file " + e.Path + " lies outside the workspace, and was not approved for it yet"
}

// CertificateDateError is a client certificate outside its dates.
type CertificateDateError struct {
	Key          *Key   // the setting that names it
	Subject, Why string // whose it is; in plain words, without the place
}

func (e *CertificateDateError) Error() string { return e.Subject + ": " + e.Why }

// ErrSecretUnverified is a secret that would go to a server whose certificate is
// not looked at.
var ErrSecretUnverified = errors.New("no secret is sent to a server whose certificate is not looked at")

// ErrNoSigningKey is a message that is to be signed, and no key to do it with.
var ErrNoSigningKey = errors.New("parts are to be signed, and no key is set")

// Cipher is the number of a cipher suite by its standard name.
func Cipher(name string) (uint16, error) {
	all := slices.Concat(tls.CipherSuites(), tls.InsecureCipherSuites())
	var names []string
	for _, s := range all {
		if s.Name == name {
			return s.ID, nil
		}
		names = append(names, s.Name)
	}
	hint := ""
	if m := near.Miss(name, names); m != "" {
		hint = "; " + m + " is meant, perhaps"
	}
	return 0, fmt.Errorf("%q is no cipher suite that can be offered%s", name, hint)
}

// FileError is a file that a setting names and that cannot be used.
type FileError struct {
	Key  *Key   // the setting that names it
	Path string // of the file
	Err  error  // what the system or a library said
}

func (e *FileError) Error() string { return e.Path + ": " + e.Err.Error() }
func (e *FileError) Unwrap() error { return e.Err }
