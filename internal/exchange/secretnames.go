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
func AddressSecrets(address string) (out []string) {
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
		if SecretName(name) {
			add(value)
		}
	}
	return out
}
