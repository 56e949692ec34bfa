package relay

import (
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"

	"orenda/internal/call"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Answers that come later (WS-Addressing 1.0 §3.1: ReplyTo and FaultTo) go past a relay, unless it
// puts its own address in their place: then they come here, are kept, and are passed on to where
// the program wants them.

// answersPath begins the path of answers; a part that nobody guesses follows it.
const answersPath = "/~answers/"

// maxAnswers is how many places of answers are remembered; the oldest is forgotten.
const maxAnswers = 10_000

// answers are the places to which answers go, by the part of the path that stands for them.
type answers struct {
	mu      sync.Mutex
	places  map[string]*url.URL
	secrets map[string]string // the parts, by place
	order   []string
}

// of gives the part of the path that stands for a place.
func (a *answers) of(place *url.URL) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	if secret, known := a.secrets[place.String()]; known {
		return secret
	}
	if len(a.order) == maxAnswers {
		oldest := a.order[0]
		delete(a.secrets, a.places[oldest].String())
		delete(a.places, oldest)
		a.order = a.order[1:]
	}
	if a.places == nil {
		a.places, a.secrets = map[string]*url.URL{}, map[string]string{}
	}
	secret := NewSecret()
	a.places[secret], a.secrets[place.String()], a.order = place, secret, append(a.order, secret)
	return secret
}

// place is where a request with that target goes, nil: it is no answer.
func (a *answers) place(target string) *url.URL {
	secret, is := strings.CutPrefix(target, answersPath)
	if !is {
		return nil
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.places[secret]
}

// throughHere puts the relay's address in the place of those to which the answer, or the fault,
// is to come. What is signed stays: the service would refuse it.
func (r *Relay) throughHere(w *call.Imported) {
	e := w.Envelope()
	if e == nil || e.Header.IsZero() || !w.Rest.IsZero() || !plainUTF8(e.Doc) {
		return
	}
	type place struct {
		at  xmltree.Span
		was *url.URL
	}
	var found []place
	for _, space := range soap.AddressingNS {
		for _, name := range []string{"ReplyTo", "FaultTo"} {
			n := e.Header.Child(space, name).Child(space, "Address")
			if n.IsZero() {
				continue
			}
			u, err := url.Parse(strings.TrimSpace(n.Text()))
			if err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && !ofTheStandard(u.String()) {
				found = append(found, place{n.Inner(), u})
			}
		}
	}
	if len(found) == 0 {
		return
	}
	if signed(e) {
		w.Answers = "they do not come through here: the message is signed"
		return
	}
	slices.SortFunc(found, func(a, b place) int { return b.at.Start - a.at.Start }) // from the end: places stay
	b := slices.Clone(w.Readable())
	var to []string
	for _, p := range found {
		at := r.base() + answersPath + r.answers.of(p.was)
		b = slices.Concat(b[:p.at.Start], []byte(at), b[p.at.End:])
		to = append(to, p.was.String())
	}
	slices.Reverse(to)
	w.SetMessage(b)
	w.Answers = "they come through here, and go on to " + strings.Join(slices.Compact(to), " and ")
}

// ofTheStandard tells an address that is a word: anonymous, none.
func ofTheStandard(address string) bool {
	for _, space := range soap.AddressingNS {
		if strings.HasPrefix(address, space+"/") {
			return true
		}
	}
	return false
}

// base is the relay's own address, without a path.
func (r *Relay) base() string {
	u := url.URL{Scheme: "http", Host: r.l.Addr().String()}
	o := r.o.Load()
	host, port, err := net.SplitHostPort(u.Host)
	if ip := net.ParseIP(host); err == nil && ip != nil && ip.IsUnspecified() && len(o.Names) > 0 {
		u.Host = net.JoinHostPort(o.Names[0], port)
	}
	return u.String()
}

// signed tells whether a message has a signature in its header.
func signed(e *soap.Envelope) bool {
	for n := range e.Header.Children() {
		for c := range n.Children() {
			if c.Name().Local == "Signature" {
				return true
			}
		}
	}
	return false
}

func plainUTF8(d *xmltree.Document) bool {
	return d.Encoding == "" || strings.HasPrefix(strings.ToLower(d.Encoding), "utf-8")
}
