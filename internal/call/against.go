package call

import (
	"net/url"
	"slices"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/near"
	"orenda/internal/schema"
	"orenda/internal/soap"
)

// Against says what an exchange of another program is held against: of the contracts that may describe
// it the one that has its operation, with the port that was called. Where none has it, that which has an
// element of nearly its name; or else the first that has a port of that address, or the only one where it was
// said that this one is meant: what was sent is then told by what it should have been.
func (p *Plan) Against(w *Imported, contracts []*contract.Contract, meant bool) {
	e := w.Envelope()
	if e != nil && !e.Payload.IsZero() {
		p.Operation = e.Payload.Name().Local
	}
	for _, c := range contracts {
		if port, o := w.OperationIn(c); port != nil {
			p.Contract, p.Port, p.Operation = c, port, o.Name
			return
		}
	}
	if w.Body == nil || w.unread() != "" {
		return
	}
	body := bodyName(e)
	i := slices.IndexFunc(contracts, func(c *contract.Contract) bool { return nearIn(c, body) })
	if i < 0 {
		i = slices.IndexFunc(contracts, func(c *contract.Contract) bool {
			return slices.ContainsFunc(c.Ports(), func(p *contract.Port) bool { return sameAddress(p.Address, w.URL) })
		})
	}
	if i < 0 && meant && len(contracts) == 1 {
		i = 0
	}
	if i < 0 {
		return
	}
	version := soap.Unset
	if e != nil {
		version = e.Version
	}
	if port := w.portIn(contracts[i].Ports(), version); port != nil {
		p.Contract, p.Port = contracts[i], port
	}
}

// nearIn tells whether a contract has an element of that name but for its namespace, or nearly of that name.
func nearIn(c *contract.Contract, body schema.QName) bool {
	if body.Local == "" {
		return false
	}
	for _, p := range c.Ports() {
		for _, q := range p.Inputs() {
			if q.Local == body.Local || near.Miss(body.Local, []string{q.Local}) != "" {
				return true
			}
		}
	}
	return false
}

// portIn is the port of a service that an exchange went to: that of its address, or else the first of its
// version, or else the first; nil where none is one of SOAP.
func (w *Imported) portIn(ports []*contract.Port, version soap.Version) (best *contract.Port) {
	rank := 0
	for _, p := range ports {
		mine := 1
		switch {
		case p.Version == soap.Unset:
			continue
		case sameAddress(p.Address, w.URL):
			mine = 3
		case p.Version == version:
			mine = 2
		}
		if mine > rank {
			best, rank = p, mine
		}
	}
	return best
}

// sameAddress tells whether two addresses are the same but for what follows the path.
func sameAddress(a, b string) bool {
	u, err1 := url.Parse(a)
	v, err2 := url.Parse(b)
	return err1 == nil && err2 == nil && u.Host != "" && strings.EqualFold(u.Host, v.Host) && u.Path == v.Path
}
