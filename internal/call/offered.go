package call

import (
	"context"
	"net/url"
	"slices"
	"strings"
	"time"

	"orenda/internal/contract"
)

// offerTime is how long a host is asked for what it offers, and offerLimit how much of a page is read.
const (
	offerTime  = 3 * time.Second
	offerLimit = "1 MiB"
)

// Offered asks the host of an address that is being typed for its descriptions: what is typed,
// the folder of it and the root of the host are read, and the links in their pages. None of it
// is kept, and no more than three seconds are spent. The addresses come in the order of the pages.
func Offered(ctx context.Context, typed string, p Plan) (out []string) {
	ctx, cancel := context.WithTimeout(ctx, offerTime)
	defer cancel()
	u := hosted(typed)
	if u == nil {
		return nil
	}
	typed = u.String()
	f := &Fetched{began: func(string) {}, meant: place(typed)}
	defer func() {
		for _, x := range f.Exchanges {
			x.Close()
		}
	}()
	if !p.Settings.Get("receive-limit").IsSet() {
		p.Settings.Set("receive-limit", offerLimit)
	}
	for _, at := range placesOf(u) {
		_, page, err := f.one(ctx, at, p)
		if err == nil {
			out = append(out, at)
		}
		for _, link := range contract.Linked(page, at) {
			if !slices.Contains(out, link) {
				out = append(out, link)
			}
		}
	}
	return out
}

// HostOf is the host of an address that is being typed; "" it has none.
func HostOf(typed string) string {
	if u := hosted(typed); u != nil {
		return u.Host
	}
	return ""
}

func hosted(typed string) *url.URL {
	typed = contract.Spelled(typed)
	u, err := url.Parse(typed)
	if err != nil || u.Host == "" || !contract.IsRemote(typed) {
		return nil
	}
	return u
}

// placesOf are the places of a host that may tell what it offers.
func placesOf(u *url.URL) (out []string) {
	folder := u.Path[:strings.LastIndex(u.Path, "/")+1]
	for _, path := range []string{u.Path, folder, "/"} {
		v := *u
		v.Path, v.RawPath, v.Fragment = path, "", ""
		if path != u.Path {
			v.RawQuery = ""
		}
		if v.Path == "" {
			v.Path = "/"
		}
		if s := v.String(); !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}
