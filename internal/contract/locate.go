package contract

import (
	"net/url"
	"slices"
	"strings"

	"orenda/internal/pattern"
)

var links = pattern.New(`(?i)(?:href|src|location)\s*=\s*["']([^"'<>]+)["']`)

// spoken are addresses in plain words.
var spoken = pattern.New(`https?://[^\s"'<>]+`)

// Candidates are the places at which a description may stand when an address
// answered with a page: links in the page, then the usual queries.
func Candidates(page []byte, base string) []string {
	u, err := url.Parse(base)
	if err != nil {
		return nil
	}
	out := linked(page, u)
	for _, q := range []string{"wsdl", "WSDL", "singleWsdl"} {
		v := *u
		v.RawQuery, v.Fragment = q, ""
		if s := v.String(); s != base && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out[:min(len(out), 8)]
}

// Linked are the descriptions that a page leads to, one for each service: links of one
// path are other forms of the same.
func Linked(page []byte, base string) (out []string) {
	u, err := url.Parse(base)
	if err != nil {
		return nil
	}
	seen := map[string]bool{}
	for _, link := range linked(page, u) {
		r, err := url.Parse(link)
		if err != nil || seen[r.Path] || !strings.Contains(strings.ToLower(r.RawQuery+r.Path), "wsdl") {
			continue
		}
		seen[r.Path] = true
		out = append(out, link)
	}
	return out
}

// linked are the addresses on the same host in a page that speak of a description.
func linked(page []byte, base *url.URL) (out []string) {
	add := func(link string) {
		r, err := base.Parse(link)
		if err != nil || r.Host != base.Host || !strings.Contains(strings.ToLower(link), "wsdl") {
			return
		}
		if s := r.String(); s != base.String() && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	for _, m := range links.FindAllSubmatch(page, 400) {
		add(strings.ReplaceAll(string(m[1]), "&amp;", "&"))
	}
	for _, m := range spoken.FindAll(page, 400) {
		add(strings.TrimRight(strings.ReplaceAll(string(m), "&amp;", "&"), ".,;:)"))
	}
	return out
}
