package workspace

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"orenda/internal/compare"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// Taken is the change that gives the second side what the first has: a setting of its
// endpoint, or a value of its draft. Its error says why there is none.
func Taken(d *compare.Difference, end string) (exchange.Change, error) {
	c := exchange.Change{From: valueOf(d.B), To: valueOf(d.A)}
	switch {
	case d.Kind == compare.Setting:
		if end == "" {
			return c, errors.New("the second call has no endpoint here")
		}
		if k := endpoint.KeyOf(d.Path); k == nil {
			return c, fmt.Errorf("there is no setting %s", d.Path)
		}
		c.Where, c.Key = "workspace", "endpoint."+end+"."+d.Path
		return c, nil
	case d.Where != exchange.InRequestBody:
		return c, errors.New("what came, and how far it came, is not yours to set")
	case d.Kind == compare.Namespace:
		c.Where, c.Key = "draft", "namespace"
		return c, nil
	case d.Kind != compare.Value && d.Kind != compare.Missing || d.A == nil:
		return c, errors.New("this is changed in the draft (d)")
	}
	steps := strings.Split(d.Path, "/")
	const below = 2 // Body and the body element
	if steps[0] != "Body" {
		return c, errors.New("header blocks come from the settings of security and addressing (→ on the path)")
	}
	if len(steps) <= below || slices.Contains(steps, "") {
		return c, errors.New("this is changed in the draft (d)")
	}
	c.Where, c.Key = "draft", "value."+strings.Join(steps[below:], "/")
	return c, nil
}

func valueOf(p *compare.Place) any {
	if p == nil {
		return nil
	}
	if p.Template != "" {
		return p.Template
	}
	return p.Value
}
