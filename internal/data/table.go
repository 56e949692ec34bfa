package data

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Table is what repeats at one path of a message, one row for each element. Its columns
// are the row's attributes and single-valued fields, by their paths; of a list within
// the row, how many it holds; then the attributes and single-valued fields of what stands
// above the row, by their paths from the message's element.
type Table struct {
	Path    string   `json:"path"`    // below the message's element: year/week
	Rows    int      `json:"rows"`    // how many
	Columns []string `json:"columns"` // their names

	row    []column
	nodes  []xmltree.Node
	shapes []*shape
	root   xmltree.Node
	rootOf *shape
	levels map[int]*level // by the index of the element
}

// column is one of a table.
type column struct {
	name  string // as it is shown
	path  string // relative to the row, or to the message's element
	above bool   // it is of an ancestor
}

// Cell is a value of a table.
type Cell struct {
	Text    string // "" where it is absent, empty or nil
	There   bool   // the field is there
	Number  bool   // it is a number, by its type or how it looks
	Counted bool   // it is the number of a list's items
}

// Tables are all tables of a message, those with most rows first. decl is its
// declaration; nil where none is known, and what was seen decides what repeats.
func Tables(set *schema.Set, decl *schema.Element, n xmltree.Node) []*Table {
	c := &collector{at: map[string]*Table{}}
	s := rootShape(set, decl, n)
	c.root, c.rootOf = n, s
	c.below(n, s, "")
	slices.SortStableFunc(c.all, func(a, b *Table) int { return cmp.Compare(b.Rows, a.Rows) })
	for _, t := range c.all {
		t.columns()
	}
	return c.all
}

type collector struct {
	root   xmltree.Node
	rootOf *shape
	all    []*Table
	at     map[string]*Table
}

func (c *collector) below(n xmltree.Node, s *shape, path string) {
	if s.array() != nil {
		for _, k := range children(n) {
			c.row(path, k, s.child(k))
			c.below(k, s.child(k), path)
		}
		if len(children(n)) == 0 {
			c.table(path)
		}
		return
	}
	for _, m := range members(n, s) {
		p := joined(path, m.key)
		if m.array {
			c.table(p)
		}
		for _, k := range m.nodes {
			ks := s.child(k)
			if m.array {
				c.row(p, k, ks)
			}
			c.below(k, ks, p)
		}
	}
}

func (c *collector) table(path string) *Table {
	t := c.at[path]
	if t == nil {
		t = &Table{Path: path, root: c.root, rootOf: c.rootOf}
		c.at[path], c.all = t, append(c.all, t)
	}
	return t
}

func (c *collector) row(path string, n xmltree.Node, s *shape) {
	t := c.table(path)
	t.Rows++
	t.nodes, t.shapes = append(t.nodes, n), append(t.shapes, s)
}

func joined(path, name string) string {
	if path == "" {
		return name
	}
	return path + "/" + name
}

// field is a value below an element.
type field struct {
	path string
	cell Cell
}

// fields are the attributes and single-valued fields of an element, and how many stand in
// each list within it. self is the name for its own value where it has no elements.
func fields(n xmltree.Node, s *shape, path, self string, out []field) []field {
	if isNil(n) {
		return append(out, field{cmp.Or(path, self), Cell{There: true}})
	}
	for _, a := range attrs(n) {
		out = append(out, field{joined(path, "@"+a.Name.Local), valueCell(a.Value, s.attribute(a.Name))})
	}
	if s.array() != nil {
		return append(out, field{cmp.Or(path, self), counted(len(children(n)))})
	}
	if n.FirstChild().IsZero() || s.mixed(n) {
		if n.FirstChild().IsZero() && !s.isLeaf() {
			if len(s.kids) > 0 {
				return fieldsOfKids(n, s, path, out)
			}
			return out
		}
		text := n.Text()
		if s.mixed(n) && !n.FirstChild().IsZero() {
			text = string(n.Doc().Src[n.Inner().Start:n.Inner().End])
		}
		return append(out, field{cmp.Or(path, self), valueCell(text, s.simple())})
	}
	return fieldsOfKids(n, s, path, out)
}

func fieldsOfKids(n xmltree.Node, s *shape, path string, out []field) []field {
	for _, m := range members(n, s) {
		p := joined(path, m.key)
		if m.array {
			out = append(out, field{p, counted(len(m.nodes))})
			continue
		}
		out = fields(m.nodes[0], s.child(m.nodes[0]), p, p, out)
	}
	return out
}

func counted(n int) Cell {
	return Cell{Text: strconv.Itoa(n), There: true, Number: true, Counted: true}
}

func valueCell(text string, t *schema.Simple) Cell {
	number := IsNumber(t)
	if t == nil {
		_, number = Number(strings.TrimSpace(text))
	}
	if number {
		text = strings.TrimSpace(text)
	}
	return Cell{Text: text, There: true, Number: number && text != ""}
}

// self is the column of a row's own value.
func (t *Table) self() string { return t.Path[strings.LastIndexByte(t.Path, '/')+1:] }

// level is what an element above rows gives to them: its attributes, its single-valued
// children, and by which keys its children stand. It is found once for each.
type level struct {
	attrs   []field
	singles []single
	keys    map[schema.QName]string
}

// single is a child that stands alone, with its fields.
type single struct {
	node   xmltree.Node
	fields []field // paths below the level's element
}

func (t *Table) level(n xmltree.Node, s *shape) *level {
	if l := t.levels[n.Index()]; l != nil {
		return l
	}
	l := &level{keys: map[schema.QName]string{}}
	for _, a := range attrs(n) {
		l.attrs = append(l.attrs, field{"@" + a.Name.Local, valueCell(a.Value, s.attribute(a.Name))})
	}
	if s.array() == nil {
		for _, m := range members(n, s) {
			l.keys[m.name] = m.key
			if m.array || len(m.nodes) != 1 {
				continue
			}
			one := single{node: m.nodes[0]}
			for _, f := range fields(m.nodes[0], s.child(m.nodes[0]), m.key, m.key, nil) {
				if !f.cell.Counted {
					one.fields = append(one.fields, f)
				}
			}
			l.singles = append(l.singles, one)
		}
	}
	if t.levels == nil {
		t.levels = map[int]*level{}
	}
	t.levels[n.Index()] = l
	return l
}

// above are the attributes and single-valued fields of what stands above a row, by their
// paths from the message's element.
func (t *Table) above(row xmltree.Node) (out []field) {
	chain := []xmltree.Node{row}
	for at := row.Parent(); !at.IsZero() && at != t.root; at = at.Parent() {
		chain = append(chain, at)
	}
	chain = append(chain, t.root)
	slices.Reverse(chain)
	path, s := "", t.rootOf
	for i, n := range chain[:len(chain)-1] {
		l, next := t.level(n, s), chain[i+1]
		for _, a := range l.attrs {
			out = append(out, field{joined(path, a.path), a.cell})
		}
		for _, one := range l.singles {
			if one.node == next {
				continue
			}
			for _, f := range one.fields {
				out = append(out, field{joined(path, f.path), f.cell})
			}
		}
		if s.array() == nil {
			path = joined(path, l.keys[schema.NameOf(next.Name())])
		}
		s = s.child(next)
	}
	return out
}

func (t *Table) columns() {
	var order ordering
	for i, n := range t.nodes {
		order.add(fields(n, t.shapes[i], "", t.self(), nil))
	}
	for _, p := range order.paths {
		t.row = append(t.row, column{name: p, path: p})
	}
	var above ordering
	last := xmltree.Node{}
	for _, n := range t.nodes {
		if p := n.Parent(); p != last {
			above.add(t.above(n))
			last = p
		}
	}
	for _, p := range above.paths {
		name := p
		if slices.Contains(order.paths, p) {
			name = "/" + p // a field of the row has the same path
		}
		t.row = append(t.row, column{name: name, path: p, above: true})
	}
	t.Columns = []string{}
	for _, c := range t.row {
		t.Columns = append(t.Columns, c.name)
	}
}

// ordering puts paths in an order that suits all rows: a path that is new stands after
// the one that stood before it.
type ordering struct {
	paths []string
	known map[string]bool
}

func (o *ordering) add(fs []field) {
	if o.known == nil {
		o.known = map[string]bool{}
	}
	before := ""
	for _, f := range fs {
		if !o.known[f.path] {
			o.known[f.path] = true
			at := 0
			if before != "" {
				at = slices.Index(o.paths, before) + 1
			}
			o.paths = slices.Insert(o.paths, at, f.path)
		}
		before = f.path
	}
}

// Each gives the rows one after the other: the element, and a cell for each column.
func (t *Table) Each(yield func(n xmltree.Node, cells []Cell) bool) {
	place, above := map[string]int{}, map[string]int{}
	for i, c := range t.row {
		if c.above {
			above[c.path] = i
		} else {
			place[c.path] = i
		}
	}
	last := xmltree.Node{}
	var shared []field
	for i, n := range t.nodes {
		cells := make([]Cell, len(t.row))
		for _, f := range fields(n, t.shapes[i], "", t.self(), nil) {
			cells[place[f.path]] = f.cell
		}
		if p := n.Parent(); p != last {
			shared, last = t.above(n), p
		}
		for _, f := range shared {
			if at, ok := above[f.path]; ok {
				cells[at] = f.cell
			}
		}
		if !yield(n, cells) {
			return
		}
	}
}

// PathError is a path at which nothing repeats.
type PathError struct {
	Path   string   // that was asked for
	Tables []*Table // that there are
}

func (e *PathError) Error() string {
	if len(e.Tables) == 0 {
		return fmt.Sprintf("nothing repeats at %q, nor anywhere in the reply", e.Path)
	}
	var paths []string
	for _, t := range e.Tables {
		paths = append(paths, t.Path)
	}
	return fmt.Sprintf("nothing repeats at %q; what does: %s", e.Path, strings.Join(paths, ", "))
}

// Pick is the table at a path; the one with most rows where the path is empty, nil where
// nothing repeats.
func Pick(all []*Table, path string) (*Table, error) {
	path = strings.Trim(path, "/")
	if path == "" {
		if len(all) == 0 {
			return nil, nil
		}
		return all[0], nil
	}
	for _, t := range all {
		if t.Path == path {
			return t, nil
		}
	}
	return nil, &PathError{path, all}
}
