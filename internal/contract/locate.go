package contract

import (
	"net/url"
	"regexp"
	"strings"
)

var links = regexp.MustCompile(`(?i)(?:href|src|location)\s*=\s*["']([^"'<>]+)["']`)

// spoken are addresses in plain words.
var spoken = regexp.MustCompile(`https?://[^\s"'<>]+`)

// Candidates are the places at which a description may stand when an address
// answered with a page: the usual queries, then links in the page.
func Candidates(page []byte, base string) []string {
	u, err := url.Parse(base)
	if err != nil {
		return nil
	}
	var out []string
	add := func(s string) {
		for _, o := range out {
			if o == s {
				return
			}
		}
		if s != base {
			out = append(out, s)
		}
	}
	for _, m := range links.FindAllSubmatch(page, 400) {
		link := strings.ReplaceAll(string(m[1]), "&amp;", "&")
		if !strings.Contains(strings.ToLower(link), "wsdl") {
			continue
		}
		if r, err := u.Parse(link); err == nil && r.Host == u.Host {
			add(r.String())
		}
	}
	for _, m := range spoken.FindAll(page, 400) {
		link := strings.TrimRight(string(m), ".,;:)")
		if r, err := url.Parse(link); err == nil && r.Host == u.Host &&
			strings.Contains(strings.ToLower(link), "wsdl") {
			add(r.String())
		}
	}
	for _, q := range []string{"wsdl", "WSDL", "singleWsdl"} {
		v := *u
		v.RawQuery, v.Fragment = q, ""
		add(v.String())
	}
	return out[:min(len(out), 8)]
}
