package exchange

import (
	"net/url"
	"slices"
	"strings"
)

// secretEnds are the ends of names whose values are secrets, in lower case and without
// the marks between words.
//
//nolint:gochecknoglobals // a table: it is never written to
var secretEnds = []string{
	"authorization", "cookie", "token", "password", "passwd", "passphrase", "pwd", "secret", "apikey", "accesskey",
	"privatekey", "secretkey", "subscriptionkey", "credential", "credentials", "sessionid",
}

// SecretNames are what a person said is secret, besides what is so by its name: names of
// header fields, parameters and fields of messages; and, with a slash or an @, paths of
// single fields below the body element, as the outline writes them: vessel/pin, ./@sign.
type SecretNames []string

// Name tells whether what has that name is a secret wherever it stands.
func (s SecretNames) Name(name string) bool {
	return SecretName(name) || slices.ContainsFunc(s, func(own string) bool {
		return !isPath(own) && strings.EqualFold(own, name)
	})
}

// MayBe tells whether what has that name is a secret here or there.
func (s SecretNames) MayBe(name string) bool {
	return SecretName(name) || slices.ContainsFunc(s, func(own string) bool {
		return strings.EqualFold(strings.TrimPrefix(own[strings.LastIndexByte(own, '/')+1:], "@"), name)
	})
}

// Has tells whether a field of a message is a secret: by its name, or by its path.
func (s SecretNames) Has(name string, path func() string) bool {
	if s.Name(name) {
		return true
	}
	return slices.ContainsFunc(s, func(own string) bool {
		return isPath(own) && strings.EqualFold(strings.TrimPrefix(own, "./"), path())
	})
}

// Path is Has for a path as the outline writes it, with numbers: berth[2]/@sign.
func (s SecretNames) Path(path string) bool {
	plain := WithoutNumbers(path)
	name := strings.TrimPrefix(plain[strings.LastIndexByte(plain, '/')+1:], "@")
	return s.Has(name, func() string { return plain })
}

// Below are the names as they are below a path: of paths, what comes after it.
func (s SecretNames) Below(path string) (out SecretNames) {
	for _, own := range s {
		if !isPath(own) {
			out = append(out, own)
		} else if rest, ok := strings.CutPrefix(strings.TrimPrefix(own, "./"), path+"/"); ok {
			out = append(out, "./"+rest)
		}
	}
	return out
}

// WithoutNumbers is a path of the outline without the numbers of repeats.
func WithoutNumbers(path string) string {
	if strings.IndexByte(path, '[') < 0 {
		return path
	}
	out := make([]byte, 0, len(path))
	for i := 0; i < len(path); i++ {
		end := i + 1
		for path[i] == '[' && end < len(path) && path[end] >= '0' && path[end] <= '9' {
			end++
		}
		if end > i+1 && end < len(path) && path[end] == ']' {
			i = end
			continue
		}
		out = append(out, path[i])
	}
	return string(out)
}

func isPath(own string) bool { return strings.ContainsAny(own, "/@") }

// SecretName tells whether a header field, a parameter of an address or a field of a
// message is a secret by its name: "X-API-Key", "api_key", "clientSecret".
func SecretName(name string) bool {
	for _, end := range secretEnds {
		if endsIn(name, end) {
			return true
		}
	}
	return false
}

// endsIn tells whether a name ends so, whatever its case and the marks in it.
func endsIn(name, end string) bool {
	for len(end) > 0 {
		if name == "" {
			return false
		}
		c := name[len(name)-1]
		name = name[:len(name)-1]
		if strings.IndexByte("-_. ", c) >= 0 {
			continue
		}
		if c|0x20 != end[len(end)-1] {
			return false
		}
		end = end[:len(end)-1]
	}
	return true
}

// AddressSecrets are the secrets in an address or in the target of a request: the
// password before its host, and parameters whose names say so; each as it is written
// and as it is meant.
func AddressSecrets(address string, names SecretNames) (out []string) {
	add := func(written string) {
		if written == "" {
			return
		}
		out = append(out, written)
		for _, unescape := range []func(string) (string, error){url.QueryUnescape, url.PathUnescape} {
			if meant, err := unescape(written); err == nil && !slices.Contains(out, meant) {
				out = append(out, meant)
			}
		}
	}
	rest := address
	if _, after, ok := strings.Cut(rest, "://"); ok {
		place, _, _ := strings.Cut(after, "/")
		if i := strings.LastIndexByte(place, '@'); i >= 0 {
			if _, password, ok := strings.Cut(place[:i], ":"); ok {
				add(password)
			}
		}
	}
	_, query, _ := strings.Cut(rest, "?")
	query, _, _ = strings.Cut(query, "#")
	for _, p := range strings.FieldsFunc(query, func(r rune) bool { return r == '&' || r == ';' }) {
		name, value, _ := strings.Cut(p, "=")
		if meant, err := url.QueryUnescape(name); err == nil {
			name = meant
		}
		if names.Name(name) {
			add(value)
		}
	}
	return out
}
