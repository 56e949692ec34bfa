package muster

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"iter"
	"path"
	"path/filepath"
	"strings"
)

// Cases are those of a muster, in their order. Of a table its text is held, and a row becomes a case
// when it is asked for: so a long table takes little more than its file.
type Cases struct {
	parts   []part
	one     int            // how many there are when each stands once
	times   int            // how often each stands: all of them, and then all again; 0: once
	renamed map[int]string // names of those whose own name stood before
}

// part is one [[case]] of the file.
type part struct {
	from  int // the index of its first case
	base  Case
	table *table // nil: base alone
}

// Len is how many there are.
func (c *Cases) Len() int { return c.one * max(c.times, 1) }

// Repeat has all of them stand so often, one round after the other.
func (c *Cases) Repeat(times int) { c.times = times }

// At is the case of an index from 0.
func (c *Cases) At(i int) Case {
	i %= c.one
	low, high := 0, len(c.parts)
	for high-low > 1 { // the last part that does not begin after it
		if mid := (low + high) / 2; c.parts[mid].from <= i {
			low = mid
		} else {
			high = mid
		}
	}
	p := &c.parts[low]
	out := p.base
	if p.table != nil {
		out = p.table.at(i-p.from).onto(p.base, p.table.name, i-p.from+1)
	}
	if out.Name == "" {
		out.Name = out.Draft
	}
	if name, is := c.renamed[i]; is {
		out.Name = name
	}
	return out
}

// All goes through them.
func (c *Cases) All() iter.Seq2[int, Case] {
	return func(yield func(int, Case) bool) {
		for i := range c.Len() {
			if !yield(i, c.At(i)) {
				return
			}
		}
	}
}

// List is all of them, held at once.
func (c *Cases) List() []Case {
	out := make([]Case, 0, c.Len())
	for _, one := range c.All() {
		out = append(out, one)
	}
	return out
}

func (c *Cases) add(base Case, t *table) {
	c.parts = append(c.parts, part{c.one, base, t})
	if c.one++; t != nil {
		c.one += len(t.ends) - 1
	}
}

// table is a file of rows: CSV, whose first line names the columns, or JSON lines.
type table struct {
	name  string // of the file
	text  []byte
	first int      // where the first row begins
	ends  []int    // where each row ends, in bytes
	head  []string // the names of columns; nil: JSON lines
	comma rune
}

// cell is one of a table's: what a row says in a column.
type cell struct{ column, text string }

type row []cell

// readTable reads a table through, so that each of its rows can be read again.
func readTable(name string, b []byte) (*table, error) {
	t := &table{name: name, text: bytes.TrimPrefix(b, []byte("\xef\xbb\xbf")), comma: ','}
	switch strings.ToLower(filepath.Ext(name)) {
	case ".jsonl", ".ndjson", ".json":
		return t, t.readLines()
	}
	first, _, _ := bytes.Cut(t.text, []byte("\n"))
	switch {
	case bytes.Count(first, []byte{';'}) > bytes.Count(first, []byte{','}): // of spreadsheets
		t.comma = ';'
	case bytes.Count(first, []byte{'\t'}) > bytes.Count(first, []byte{','}):
		t.comma = '\t'
	}
	r := t.reader(t.text)
	head, err := r.Read()
	if err != nil {
		return nil, err
	}
	for _, name := range head {
		t.head = append(t.head, strings.TrimSpace(name))
	}
	t.first = int(r.InputOffset())
	r.ReuseRecord = true
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if err != nil {
			return nil, err
		}
		if len(record) > len(t.head) {
			line, _ := r.FieldPos(0)
			return nil, fmt.Errorf("line %d has %d cells, and there are %d columns", line, len(record), len(t.head))
		}
		t.ends = append(t.ends, int(r.InputOffset()))
	}
}

func (t *table) reader(b []byte) *csv.Reader {
	r := csv.NewReader(bytes.NewReader(b))
	r.Comma, r.FieldsPerRecord = t.comma, -1
	return r
}

// readLines finds the rows of JSON lines.
func (t *table) readLines() error {
	const most = 16 << 20
	for at, n := 0, 1; at < len(t.text); n++ {
		end := len(t.text)
		if i := bytes.IndexByte(t.text[at:], '\n'); i >= 0 {
			end = at + i + 1
		}
		if line := bytes.TrimSpace(t.text[at:end]); len(line) > most {
			return fmt.Errorf("line %d is longer than %d bytes", n, most)
		} else if len(line) > 0 {
			if _, err := ofJSON(line); err != nil {
				return fmt.Errorf("line %d: %w", n, err)
			}
			t.ends = append(t.ends, end)
		}
		at = end
	}
	return nil
}

// at is a row. It was read before, so that nothing can be wrong with it.
func (t *table) at(i int) (out row) {
	from := t.first
	if i > 0 {
		from = t.ends[i-1]
	}
	b := t.text[from:t.ends[i]]
	if t.head == nil {
		out, _ = ofJSON(bytes.TrimSpace(b))
		return out
	}
	if bytes.IndexByte(b, '"') < 0 {
		line := strings.Trim(string(b), "\r\n")
		for k := 0; line != "" || k == 0; k++ {
			text, rest, more := strings.Cut(line, string(t.comma))
			if line = rest; text != "" { // an empty cell says nothing
				out = append(out, cell{t.head[k], text})
			}
			if !more {
				break
			}
		}
		return out
	}
	r := t.reader(b)
	record, err := r.Read()
	if err != nil {
		return nil
	}
	lines := lineStarts(b)
	for k, text := range record {
		if text == "" && !isQuoted(b, lines, r, k) {
			continue
		}
		if text == `""` {
			text = ""
		}
		out = append(out, cell{t.head[k], text})
	}
	return out
}

// lineStarts are the offsets at which lines begin.
func lineStarts(b []byte) []int {
	out := []int{0}
	for i, c := range b {
		if c == '\n' {
			out = append(out, i+1)
		}
	}
	return out
}

// isQuoted tells whether an empty cell was written as "": an empty value.
func isQuoted(b []byte, lines []int, r *csv.Reader, field int) bool {
	line, column := r.FieldPos(field)
	at := lines[line-1] + column - 1
	return at < len(b) && b[at] == '"'
}

// onto is the case that a row makes of the one that names the table.
func (r row) onto(c Case, table string, n int) Case {
	values, expects := 0, 0
	for _, x := range r {
		switch {
		case x.column == "name" || x.column == "endpoint":
		case x.column == "expect" || strings.HasPrefix(x.column, "expect "):
			expects++
		default:
			values++
		}
	}
	c.Values = append(make([]Value, 0, len(c.Values)+values), c.Values...)
	c.Expect = append(make([]string, 0, len(c.Expect)+expects), c.Expect...)
	name := ""
	for _, x := range r {
		switch {
		case x.column == "name":
			name = x.text
		case x.column == "endpoint":
			c.Endpoint = x.text
		case x.column == "expect":
			for e := range strings.SplitSeq(x.text, " ; ") {
				if e = strings.TrimSpace(e); e != "" {
					c.Expect = append(c.Expect, e)
				}
			}
		case strings.HasPrefix(x.column, "expect "):
			field := strings.TrimSpace(strings.TrimPrefix(x.column, "expect "))
			c.Expect = append(c.Expect, field+"="+x.text)
		default:
			c.Values = append(c.Values, Value{Path: strings.TrimPrefix(x.column, "./"), Text: x.text})
		}
	}
	if name == "" {
		base := c.Name
		if base == "" {
			base = c.Draft
		}
		name = fmt.Sprintf("%s · %s %d", base, strings.TrimSuffix(path.Base(table), path.Ext(table)), n)
	}
	c.Name = name
	return c
}
