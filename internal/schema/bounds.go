package schema

import (
	"fmt"
	"strings"
)

// Allowed are the values that a type allows, or nil where it does not list them.
func Allowed(t *Simple) []string {
	for ; t != nil; t = t.Base {
		if len(t.Facets.Enumeration) > 0 {
			return t.Facets.Enumeration
		}
		if t.Variety == Atomic && t.BuiltinName() == "boolean" {
			return []string{"true", "false"}
		}
	}
	return nil
}

// Bounds is a simple type in one line: its built-in type and its facets.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func Bounds(t *Simple) string {
	name := t.BuiltinName()
	var parts []string
	seen := map[string]bool{}
	add := func(kind, format string, args ...any) {
		if !seen[kind] {
			seen[kind] = true
			parts = append(parts, fmt.Sprintf(format, args...))
		}
	}
	for b := t; b != nil && b.Name.Space != XSD; b = b.Base {
		f := &b.Facets
		if n := len(f.Enumeration); n > 0 {
			add("enum", "one of %d", n)
		}
		switch {
		case f.Length != nil:
			add("length", "%d characters", *f.Length)
		case f.MinLength != nil && f.MaxLength != nil:
			add("length", "%d–%d characters", *f.MinLength, *f.MaxLength)
		case f.MinLength != nil:
			add("length", "at least %d characters", *f.MinLength)
		case f.MaxLength != nil:
			add("length", "up to %d characters", *f.MaxLength)
		}
		low, high := "", ""
		if f.MinInclusive != nil {
			low = *f.MinInclusive
		} else if f.MinExclusive != nil {
			low = "over " + *f.MinExclusive
		}
		if f.MaxInclusive != nil {
			high = *f.MaxInclusive
		} else if f.MaxExclusive != nil {
			high = "under " + *f.MaxExclusive
		}
		switch {
		case low != "" && high != "":
			add("range", "%s–%s", low, high)
		case low != "":
			add("range", "from %s", low)
		case high != "":
			add("range", "up to %s", high)
		}
		if f.FractionDigits != nil {
			add("fraction", "%d decimals", *f.FractionDigits)
		}
		if f.TotalDigits != nil {
			add("digits", "%d digits", *f.TotalDigits)
		}
		for _, alt := range f.Patterns {
			add("pattern", "pattern %s", alt[0].Source)
		}
	}
	if len(parts) == 0 {
		return name
	}
	return name + " ‹" + strings.Join(parts, ", ") + "›"
}
