package endpoint

import (
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/near"
)

// UnsetError is a variable without a value in the chosen environment.
type UnsetError struct {
	Name        string
	Environment string
	Near        string // a variable that is set and was perhaps meant
	Key         string // of the setting that it stands in, "" for a draft
	Withheld    string // the environment variable that would give it a value, and that was not allowed
	Template    string
	Offset      int // of ${ in Template
	Length      int
}

func (e *UnsetError) Error() string {
	s := fmt.Sprintf("the variable %s is not set", e.Name)
	if e.Environment != "" {
		s += " in the environment " + e.Environment
	}
	if e.Near != "" {
		s += fmt.Sprintf("; %s is", e.Near)
	}
	return s
}

// TemplateError is a template that is not in order.
type TemplateError struct {
	Key      string // of the setting, "" for a draft
	Template string
	Offset   int
	Why      string
}

func (e *TemplateError) Error() string { return e.Why }

// Expand puts variables in: ${name}, ${name:-default}, and $$ for a dollar.
func Expand(template, environment string, vars map[string]string) (string, error) {
	var out strings.Builder
	for i := 0; i < len(template); i++ {
		c := template[i]
		if c != '$' || i+1 == len(template) {
			out.WriteByte(c)
			continue
		}
		switch template[i+1] {
		case '$':
			out.WriteByte('$')
			i++
		case '{':
			n := strings.IndexByte(template[i:], '}')
			if n < 0 {
				return "", &TemplateError{Template: template, Offset: i, Why: "a ${ is not closed"}
			}
			name, fallback, has := strings.Cut(template[i+2:i+n], ":-")
			v, ok := vars[name]
			if !ok {
				if !has {
					return "", &UnsetError{Name: name, Environment: environment, Near: near.Miss(name, Sorted(vars)), Template: template, Offset: i, Length: n + 1}
				}
				v = fallback
			}
			out.WriteString(v)
			i += n
		default:
			out.WriteByte(c)
		}
	}
	return out.String(), nil
}

// Expand puts variables into every value, save that of the address, whose
// template the path shows beside what comes of it. An error is an *UnsetError
// or a *TemplateError with the key.
func (s *Settings) Expand(environment string, vars map[string]string) (Settings, error) {
	out := Settings{Layers: slices.Clone(s.Layers)}
	for i, l := range out.Layers {
		copied := false
		for name, items := range l.Values {
			k := KeyOf(name)
			if k == nil || name == "address" || !slices.ContainsFunc(items, func(v string) bool { return strings.Contains(v, "$") }) {
				continue
			}
			if s.Of(k).Source != l.Source {
				continue // a stronger layer holds it
			}
			expanded := make([]string, len(items))
			for n, v := range items {
				var err error
				if expanded[n], err = Expand(v, environment, vars); err != nil {
					if e, ok := errors.AsType[*UnsetError](err); ok {
						e.Key = name
					}
					if e, ok := errors.AsType[*TemplateError](err); ok {
						e.Key = name
					}
					return *s, err
				}
			}
			if !copied {
				out.Layers[i].Values, copied = maps.Clone(l.Values), true
			}
			out.Layers[i].Values[name] = expanded
		}
	}
	return out, nil
}

// Variables are the names in a template, in order.
func Variables(template string) []string {
	var out []string
	for i := 0; i+1 < len(template); i++ {
		if template[i] == '$' && template[i+1] == '$' {
			i++
		} else if template[i] == '$' && template[i+1] == '{' {
			if n := strings.IndexByte(template[i:], '}'); n > 0 {
				name, _, _ := strings.Cut(template[i+2:i+n], ":-")
				out = append(out, name)
			}
		}
	}
	return out
}

// RenameVariable gives a variable another name in a template.
func RenameVariable(template, from, to string) string {
	return strings.NewReplacer("$$", "$$", "${"+from+"}", "${"+to+"}", "${"+from+":-", "${"+to+":-").Replace(template)
}

// Sorted are the names of the variables, sorted.
func Sorted(vars map[string]string) []string {
	out := make([]string, 0, len(vars))
	for k := range vars {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// AddressError is an address that is no URL, or not of a kind that can be called.
type AddressError struct {
	Address string
	Offset  int
	Length  int
	Scheme  string // set where only the scheme is wrong
	Why     string
}

func (e *AddressError) Error() string { return e.Why }

// ParseAddress reads a resolved address.
func ParseAddress(s string) (*url.URL, error) {
	bad := func(at, n int, why string) (*url.URL, error) {
		return nil, &AddressError{Address: s, Offset: at, Length: n, Why: why}
	}
	if s == "" {
		return bad(0, 0, "no address is set")
	}
	for i, r := range s {
		if r <= ' ' || r == 0x7f {
			return bad(i, 1, fmt.Sprintf("the character %q at position %d cannot stand in a URL", r, i+1))
		}
	}
	scheme, rest, ok := strings.Cut(s, "://")
	if !ok {
		return bad(0, len(s), "it has no scheme; http:// or https:// must stand in front")
	}
	if l := strings.ToLower(scheme); l != "http" && l != "https" {
		return nil, &AddressError{Address: s, Offset: 0, Length: len(scheme), Scheme: scheme, Why: fmt.Sprintf("%s is not a scheme that can be called; http and https are", scheme)}
	}
	u, err := url.Parse(s)
	if err != nil {
		why := err.Error()
		if ue, ok := err.(*url.Error); ok {
			why = ue.Err.Error()
		}
		return bad(len(scheme)+3, len(rest), why)
	}
	if u.Hostname() == "" {
		return bad(len(scheme)+3, 0, "it has no host")
	}
	return u, nil
}

// HostPort is the host and port that a URL leads to.
func HostPort(u *url.URL) (host, port string) {
	host, port = u.Hostname(), u.Port()
	if port == "" {
		port = "80"
		if strings.EqualFold(u.Scheme, "https") {
			port = "443"
		}
	}
	return host, port
}
