package endpoint

import (
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/near"
)

// UnsetError is a variable without a value in the chosen environment.
type UnsetError struct {
	Name        string // of the variable
	Environment string // name of the environment, "" none
	Near        string // a variable that is set and was perhaps meant
	Key         string // of the setting that it stands in, "" for a draft
	Withheld    string // the environment variable that would give it a value, and that was not allowed
	Template    string // as written
	Offset      int    // of ${ in Template
	Length      int    // in bytes
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
	Template string // as written
	Offset   int    // in bytes, from 0
	Why      string // in plain words, without the place
}

func (e *TemplateError) Error() string { return e.Why }

// closing is where the } stands that closes the ${ at the beginning of s, which
// may hold others; -1 where there is none.
func closing(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '$' && i+1 < len(s) && s[i+1] == '{':
			depth++
			i++
		case s[i] == '}':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// CycleError is a variable whose value leads back to itself.
type CycleError struct {
	Key    string   // of the setting, "" for a draft
	Names  []string // from the one that stands in the template on
	Offset int      // of ${ in the template
	Length int      // in bytes
}

func (e *CycleError) Error() string {
	return "the variable " + e.Names[0] + " leads back to itself: " + strings.Join(e.Names, " → ")
}

// Expand puts variables in: ${name}, ${name:-default}, and $$ for a dollar. Values
// and defaults may hold variables themselves.
func Expand(template, environment string, vars map[string]string) (string, error) {
	return expand(template, environment, vars, nil)
}

func expand(template, environment string, vars map[string]string, within []string) (string, error) {
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
			n := closing(template[i:])
			if n < 0 {
				return "", &TemplateError{Template: template, Offset: i, Why: "a ${ is not closed"}
			}
			name, fallback, has := strings.Cut(template[i+2:i+n], ":-")
			v, ok := vars[name]
			if !ok {
				if !has {
					return "", &UnsetError{
						Name:        name,
						Environment: environment,
						Near:        near.Miss(name, Sorted(vars)),
						Template:    template,
						Offset:      i,
						Length:      n + 1,
					}
				}
				v = fallback
			}
			if strings.Contains(v, "$") {
				if slices.Contains(within, name) {
					return "", &CycleError{Names: append(slices.Clone(within), name), Offset: i, Length: n + 1}
				}
				inner, err := expand(v, environment, vars, append(slices.Clone(within), name))
				if err != nil {
					if len(within) == 0 { // the place that counts is the one in the template
						if e, ok := errors.AsType[*UnsetError](err); ok {
							e.Template, e.Offset, e.Length = template, i, n+1
						}
						if e, ok := errors.AsType[*CycleError](err); ok {
							e.Offset, e.Length = i, n+1
						}
					}
					return "", err
				}
				v = inner
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
			if k == nil || name == "address" ||
				!slices.ContainsFunc(items, func(v string) bool { return strings.Contains(v, "$") }) {
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
					if e, ok := errors.AsType[*CycleError](err); ok {
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
			if n := closing(template[i:]); n > 0 {
				name, fallback, _ := strings.Cut(template[i+2:i+n], ":-")
				out = append(append(out, name), Variables(fallback)...)
				i += n
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
	Address string // as it was resolved
	Offset  int    // in bytes, from 0
	Length  int    // in bytes
	Scheme  string // set where only the scheme is wrong
	Why     string // in plain words, without the place
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
		return nil, &AddressError{
			Address: s,
			Offset:  0,
			Length:  len(scheme),
			Scheme:  scheme,
			Why:     fmt.Sprintf("%s is not a scheme that can be called; http and https are", scheme),
		}
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

// IsLoopback tells whether a host, a name or an address without its port, is this machine alone.
func IsLoopback(host string) bool {
	ip := net.ParseIP(strings.Trim(host, "[]"))
	return strings.EqualFold(host, "localhost") || ip != nil && ip.IsLoopback()
}

// IsPrivate tells whether an address is of this machine or of a private network.
func IsPrivate(ip net.IP) bool {
	return ip != nil && (ip.IsLoopback() || ip.IsPrivate() || ip.IsLinkLocalUnicast() || ip.IsUnspecified())
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
