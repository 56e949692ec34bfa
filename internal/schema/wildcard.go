package schema

import (
	"slices"
)

// same tells whether two wildcards allow the same namespaces.
func (w *Wildcard) same(o *Wildcard) bool {
	return w.Any == o.Any && w.Not == o.Not && slices.Equal(w.Spaces, o.Spaces)
}

// allowed is a wildcard that allows some namespaces, with the processing of w.
func (w *Wildcard) allowed(like *Wildcard, spaces ...string) *Wildcard {
	out := *like
	out.Process, out.Namespace = w.Process, w.Namespace
	if spaces != nil {
		out.Any, out.Not, out.Spaces = false, false, spaces
	}
	return &out
}

// intersect is the wildcard that allows what both do, with the processing of w (part 1 §3.10.6
// cos-aw-intersect). Two different negations have no intersection that can be written: ok is false.
func (w *Wildcard) intersect(o *Wildcard) (out *Wildcard, ok bool) {
	none := func(x *Wildcard) bool { return x.Not && x.Spaces[0] == "" }
	switch {
	case w.same(o), o.Any:
		return w, true
	case w.Any:
		return w.allowed(o), true
	case w.Not && o.Not:
		switch {
		case none(w):
			return w.allowed(o), true
		case none(o):
			return w, true
		}
		return w, false
	}
	set, other := w, o
	if w.Not {
		set, other = o, w
	}
	both := []string{}
	for _, s := range set.Spaces {
		if other.Allows(s) {
			both = append(both, s)
		}
	}
	return w.allowed(set, both...), true
}

// union is the wildcard that allows what either does, with the processing of w (part 1 §3.10.6
// cos-aw-union). ok is false where it cannot be written.
func (w *Wildcard) union(o *Wildcard) (out *Wildcard, ok bool) {
	switch {
	case w.same(o), w.Any:
		return w, true
	case o.Any:
		return w.allowed(o), true
	case !w.Not && !o.Not:
		all := slices.Clone(w.Spaces)
		for _, s := range o.Spaces {
			if !slices.Contains(all, s) {
				all = append(all, s)
			}
		}
		return w.allowed(w, all...), true
	}
	notNone := &Wildcard{Not: true, Spaces: []string{""}}
	if w.Not && o.Not {
		return w.allowed(notNone), true
	}
	not, set := w, o
	if o.Not {
		not, set = o, w
	}
	space, none := slices.Contains(set.Spaces, not.Spaces[0]), slices.Contains(set.Spaces, "")
	switch {
	case not.Spaces[0] == "" && none, not.Spaces[0] != "" && space && none:
		return w.allowed(&Wildcard{Any: true}), true
	case not.Spaces[0] == "":
		return w.allowed(not), true
	case space:
		return w.allowed(notNone), true
	case none:
		return w.allowed(&Wildcard{Any: true}), false
	}
	return w.allowed(not), true
}
