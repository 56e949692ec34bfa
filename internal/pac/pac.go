// Package pac reads proxy auto-configuration files as text: which rule would choose which proxy for an
// address. Nothing is run and nothing is looked up: what depends on the network is told as not known.
// The functions are those of the first description of the format, which browsers follow.
package pac

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"

	"orenda/internal/pattern"
)

// Truth is whether a condition holds.
type Truth string

// The truths.
const (
	Yes     Truth = "yes"
	No      Truth = "no"
	Unknown Truth = "unknown"
)

// Rule is a condition that was come to, in the order of the file.
type Rule struct {
	Line      int    `json:"line"`      // in the file, from 1
	Condition string `json:"condition"` // as it is written
	Holds     Truth  `json:"holds"`     // for the address
	Why       string `json:"why"`       // what it depends on, where that is not known
	Choice    string `json:"choice"`    // what it would choose, "" where it chooses nothing itself
}

// Reading is what a file says of an address.
type Reading struct {
	Rules  []Rule   `json:"rules"`  // that were come to
	Choice []string `json:"choice"` // proxies in their order, as http://HOST:PORT or socks5://HOST:PORT; "direct"
	Sure   bool     `json:"sure"`   // nothing that it depends on is unknown
	Line   int      `json:"line"`   // of the return that chooses, 0 where none does
}

// Read reads a file for an address.
func Read(src []byte, address string) (*Reading, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return nil, fmt.Errorf("%s is no address with a host", address)
	}
	p := &parser{tokens: scan(string(src)), src: string(src)}
	body, params, err := p.function("FindProxyForURL")
	if err != nil {
		return nil, err
	}
	e := &evaluation{out: &Reading{Rules: []Rule{}, Choice: []string{}, Sure: true}, names: p.globals(body)}
	given := []value{text(address), text(u.Hostname())}
	for i, name := range params {
		if i < len(given) {
			e.names[name] = given[i]
		}
	}
	chosen, line, ended := e.all(body)
	if !ended {
		return nil, fmt.Errorf("FindProxyForURL chooses nothing for %s", address)
	}
	e.out.Line = line
	if chosen.kind != aText {
		e.out.Sure = false
		return e.out, nil
	}
	e.out.Choice = proxies(chosen.text)
	return e.out, nil
}

// Most is how much of a file is read, in bytes.
const Most = 1 << 20

// ReadFile is Read for a file on disk.
func ReadFile(name, address string) (*Reading, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	src, err := io.ReadAll(io.LimitReader(f, Most+1))
	switch {
	case err != nil:
		return nil, err
	case len(src) > Most:
		return nil, fmt.Errorf("%s: it is larger than %d bytes", name, Most)
	}
	r, err := Read(src, address)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return r, nil
}

// proxies are those of an answer such as "PROXY a:8080; SOCKS b:1080; DIRECT".
func proxies(answer string) []string {
	out := []string{}
	for one := range strings.SplitSeq(answer, ";") {
		words := strings.Fields(one)
		switch {
		case len(words) == 1 && strings.EqualFold(words[0], "DIRECT"):
			out = append(out, "direct")
		case len(words) != 2 || !place.MatchString(words[1]):
		case strings.EqualFold(words[0], "PROXY") || strings.EqualFold(words[0], "HTTP"):
			out = append(out, "http://"+words[1])
		case strings.EqualFold(words[0], "HTTPS"):
			out = append(out, "https://"+words[1])
		case strings.HasPrefix(strings.ToUpper(words[0]), "SOCKS"):
			out = append(out, "socks5://"+words[1])
		}
	}
	return out
}

// place is a host with its port.
var place = pattern.New(`^[\pL\pN._\-]+(:[0-9]+)?$|^\[[0-9a-fA-F:.]+\](:[0-9]+)?$`)

// Says is what was found, in a sentence.
func (r *Reading) Says(address string) string {
	if len(r.Choice) == 0 {
		return fmt.Sprintf("what it chooses for %s cannot be told", address)
	}
	s := fmt.Sprintf("line %d chooses %s for %s", r.Line, strings.Join(r.Choice, ", else "), address)
	if !r.Sure {
		s += ", unless a rule before it holds that could not be decided"
	}
	return s
}

// Proxy is the first choice as the setting proxy has it, none for a direct connection; "" where
// nothing is chosen.
func (r *Reading) Proxy() string {
	switch {
	case len(r.Choice) == 0:
		return ""
	case r.Choice[0] == "direct":
		return "none"
	}
	return r.Choice[0]
}
