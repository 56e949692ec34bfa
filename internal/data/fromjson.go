package data

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// MappingError is JSON that does not fit the schema.
type MappingError struct {
	Path string // in the JSON: vessel/name
	Why  string // in words
}

func (e *MappingError) Error() string {
	if e.Path == "" {
		return e.Why
	}
	return e.Path + ": " + e.Why
}

// XML makes the element of a declaration from a JSON value, by the mapping of JSON: the
// other way round. What the schema does not have is a *MappingError; whether values are
// valid is for the schema to say.
func XML(set *schema.Set, decl *schema.Element, src []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(src))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, &MappingError{Why: "it is no JSON: " + err.Error()}
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, &MappingError{Why: "more follows the JSON value"}
	}
	w := &xmlWriter{all: &shapes{set: set, known: map[schema.Type]*shape{}}}
	if err := w.element(decl, v, "", ""); err != nil {
		return nil, err
	}
	return w.b.Bytes(), nil
}

type xmlWriter struct {
	b   bytes.Buffer
	all *shapes
}

// maxNesting bounds how deeply JSON may nest.
const maxNesting = 200

// element writes an element of a declaration; inherit is the default namespace in force.
func (w *xmlWriter) element(e *schema.Element, v any, inherit, path string) error {
	if strings.Count(path, "/") > maxNesting {
		return &MappingError{path, "it nests too deeply"}
	}
	name, attrs := e.Name.Local, ""
	if e.Name.Space != inherit {
		attrs = ` xmlns="` + xmltree.EscapeAttr(e.Name.Space) + `"`
		inherit = e.Name.Space
	}
	if v == nil {
		w.b.WriteString("<" + name + attrs + ` xmlns:xsi="` + schema.XSI + `" xsi:nil="true"/>`)
		return nil
	}
	s := w.all.of(e.TypeOf(), xmltree.Node{})
	if s == nil {
		s = &shape{all: w.all, set: w.all.set}
	}
	if c, ok := s.t.(*schema.Complex); ok && c.Mixed {
		if text, is := v.(string); is {
			if _, err := xmltree.Parse([]byte("<x>"+text+"</x>"), xmltree.Limits{}); err != nil {
				return &MappingError{path, "it is no XML: " + err.Error()}
			}
			w.b.WriteString("<" + name + attrs + ">" + text + "</" + name + ">")
			return nil
		}
	}
	switch v := v.(type) {
	case map[string]any:
		if _, simple := s.t.(*schema.Simple); simple && v["#text"] == nil {
			return &MappingError{path, "a single value is due here, and an object was given"}
		}
		return w.object(e, s, v, name, attrs, inherit, path)
	case []any:
		if a := s.array(); a != nil {
			return w.items(a, v, name, attrs, inherit, path)
		}
	}
	st := s.simple()
	if st == nil && s.t != nil {
		return &MappingError{path, "an object is due here"}
	}
	text, err := scalarText(v, st, path)
	if err != nil {
		return err
	}
	w.b.WriteString("<" + name + attrs + ">" + xmltree.EscapeText(text) + "</" + name + ">")
	return nil
}

// items writes an encoded array.
func (w *xmlWriter) items(of schema.Type, all []any, name, attrs, inherit, path string) error {
	w.b.WriteString("<" + name + attrs + ">")
	item := &schema.Element{Name: schema.QName{Local: "item"}, Type: of}
	for i, v := range all {
		if err := w.element(item, v, "", fmt.Sprintf("%s[%d]", path, i)); err != nil {
			return err
		}
	}
	_ = inherit
	w.b.WriteString("</" + name + ">")
	return nil
}

func (w *xmlWriter) object(
	e *schema.Element, s *shape, v map[string]any, name, attrs, inherit, path string,
) error {
	known := map[string]bool{}
	w.b.WriteString("<" + name + attrs)
	c, _ := s.t.(*schema.Complex)
	if c != nil {
		for _, a := range c.Attrs {
			key := "@" + a.Name.Local
			known[key] = true
			value, there := v[key]
			if !there || value == nil {
				continue
			}
			text, err := scalarText(value, a.Type, joined(path, key))
			if err != nil {
				return err
			}
			if a.Name.Space != "" {
				w.b.WriteString(` xmlns:a="` + xmltree.EscapeAttr(a.Name.Space) + `" a:` + a.Name.Local)
			} else {
				w.b.WriteString(" " + a.Name.Local)
			}
			w.b.WriteString(`="` + xmltree.EscapeAttr(text) + `"`)
		}
	}
	w.b.WriteByte('>')
	if st := s.simple(); st != nil {
		known["#text"] = true
		if value, there := v["#text"]; there {
			text, err := scalarText(value, st, joined(path, "#text"))
			if err != nil {
				return err
			}
			w.b.WriteString(xmltree.EscapeText(text))
		}
	}
	for i := range s.kids {
		if err := w.kid(&s.kids[i], v, known, inherit, path); err != nil {
			return err
		}
	}
	for key := range v {
		if !known[key] {
			return &MappingError{joined(path, key), "the schema has no such field in " + e.Name.Local}
		}
	}
	w.b.WriteString("</" + name + ">")
	return nil
}

// kid writes what an object has for a child, or for one that stands in its place.
func (w *xmlWriter) kid(k *kid, v map[string]any, known map[string]bool, inherit, path string) error {
	decls := []*schema.Element{k.decl}
	if w.all.set != nil {
		decls = append(decls, w.all.set.Substitutes(k.decl)...)
	}
	for _, d := range decls {
		key := d.Name.Local
		value, there := v[key]
		if known[key] {
			continue
		}
		known[key] = true
		if !there {
			continue
		}
		p := joined(path, key)
		list, isList := value.([]any)
		arrays := false
		if c, ok := d.TypeOf().(*schema.Complex); ok {
			arrays = c.ArrayOf != nil
		}
		switch {
		case isList && k.repeats:
			for i, one := range list {
				if err := w.element(d, one, inherit, fmt.Sprintf("%s[%d]", p, i)); err != nil {
					return err
				}
			}
			continue
		case isList && !arrays && schema.SimpleOf(d.TypeOf()) == nil:
			return &MappingError{p, "it stands once only, and a list was given"}
		}
		if err := w.element(d, value, inherit, p); err != nil {
			return err
		}
	}
	return nil
}

// scalarText is the text of a JSON value of a simple type.
func scalarText(v any, t *schema.Simple, path string) (string, error) {
	switch v := v.(type) {
	case string:
		return v, nil
	case json.Number:
		return v.String(), nil
	case bool:
		return map[bool]string{true: "true", false: "false"}[v], nil
	case []any:
		if t != nil && t.Variety == schema.List {
			var items []string
			for i, x := range v {
				text, err := scalarText(x, t.Item, fmt.Sprintf("%s[%d]", path, i))
				if err != nil {
					return "", err
				}
				items = append(items, text)
			}
			return strings.Join(items, " "), nil
		}
		return "", &MappingError{path, "a single value is due here, and a list was given"}
	case nil:
		return "", &MappingError{path, "null is only for an element that may be nil"}
	}
	return "", &MappingError{path, "a single value is due here, and an object was given"}
}
