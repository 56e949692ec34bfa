// Package muster runs many cases: drafts with values and with what they must come back
// with. A muster is a file of a workspace, musters/NAME.toml; its format is in
// docs/musters.md.
package muster

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"sort"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"orenda/internal/expect"
)

// Folder is where the musters of a workspace are.
const Folder = "musters"

// Value is what a field is set to: a text, or a value of an earlier case's reply.
type Value struct {
	Path  string // of the field
	Text  string // what it is set to
	From  string // name of the earlier case, "" none
	Field string // of that case's reply
}

// Case is one case, ready to be run.
type Case struct {
	Name     string   // unique within the muster
	Draft    string   // OPERATION/NAME
	Endpoint string   // "" the default one
	Values   []Value  // in their order
	Expect   []string // what the answer must be; none: what the draft expects
}

// Muster is a file of cases.
type Muster struct {
	Name  string // of the file, without its ending
	Cases []Case // tables are rows already
}

// written is a case as it stands in the file.
type written struct {
	Name     string         `toml:"name"`
	Draft    string         `toml:"draft"`
	Endpoint string         `toml:"endpoint"`
	Values   map[string]any `toml:"values"`
	Expect   []string       `toml:"expect"`
	Table    string         `toml:"table"`
}

// Read reads a muster. file gives what is named beside it.
func Read(name string, src []byte, file func(name string) ([]byte, error)) (*Muster, error) {
	var doc struct {
		Case []written `toml:"case"`
	}
	d := toml.NewDecoder(bytes.NewReader(src)).DisallowUnknownFields()
	if err := d.Decode(&doc); err != nil {
		var strict *toml.StrictMissingError
		if errors.As(err, &strict) && len(strict.Errors) > 0 {
			line, _ := strict.Errors[0].Position()
			return nil, fmt.Errorf("line %d: %s is not known", line, strings.Join(strict.Errors[0].Key(), "."))
		}
		return nil, err
	}
	if len(doc.Case) == 0 {
		return nil, errors.New("it holds no [[case]]")
	}
	m := &Muster{Name: name}
	for i, w := range doc.Case {
		if w.Draft == "" {
			return nil, fmt.Errorf("case %d names no draft", i+1)
		}
		c := Case{Name: w.Name, Draft: w.Draft, Endpoint: w.Endpoint, Expect: w.Expect}
		var err error
		if c.Values, err = valuesOf(w.Values); err != nil {
			return nil, fmt.Errorf("case %d: %w", i+1, err)
		}
		if w.Table == "" {
			m.Cases = append(m.Cases, c)
			continue
		}
		b, err := file(w.Table)
		if err != nil {
			return nil, fmt.Errorf("the table %s: %w", w.Table, err)
		}
		n := 0
		if err := table(w.Table, b, func(r row) {
			n++
			m.Cases = append(m.Cases, r.onto(c, w.Table, n))
		}); err != nil {
			return nil, fmt.Errorf("the table %s: %w", w.Table, err)
		}
	}
	return m, m.check()
}

// check names what has no name, and finds what cannot be.
func (m *Muster) check() error {
	seen := map[string]int{}
	for i := range m.Cases {
		c := &m.Cases[i]
		if c.Name == "" {
			c.Name = c.Draft
		}
		seen[c.Name]++
		if n := seen[c.Name]; n > 1 {
			c.Name = fmt.Sprintf("%s #%d", c.Name, n)
		}
		for _, e := range c.Expect {
			if _, err := expect.Parse(e); err != nil {
				return fmt.Errorf("%s: %w", c.Name, err)
			}
		}
		for _, v := range c.Values {
			if v.From != "" && seen[v.From] == 0 {
				return fmt.Errorf("%s: there is no case %q before it", c.Name, v.From)
			}
		}
	}
	return nil
}

func valuesOf(all map[string]any) (out []Value, err error) {
	for field, v := range all {
		one := Value{Path: field}
		switch v := v.(type) {
		case map[string]any:
			one.From, _ = v["from"].(string)
			one.Field, _ = v["field"].(string)
			if one.From == "" || one.Field == "" {
				return nil, fmt.Errorf("%s: write { from = \"CASE\", field = \"FIELD\" }", field)
			}
		case string:
			one.Text = v
		default:
			one.Text = fmt.Sprint(v)
		}
		out = append(out, one)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out, nil
}

// cell is one of a table's: what a row says in a column.
type cell struct{ column, text string }

type row []cell

// table reads CSV (the first line names the columns) or JSON lines. each is given a row that lasts
// until the next one.
func table(name string, b []byte, each func(row)) error {
	b = bytes.TrimPrefix(b, []byte("\xef\xbb\xbf"))
	switch strings.ToLower(filepath.Ext(name)) {
	case ".jsonl", ".ndjson", ".json":
		return jsonLines(b, each)
	}
	r := csv.NewReader(bytes.NewReader(b))
	r.FieldsPerRecord = -1
	first, _, _ := bytes.Cut(b, []byte("\n"))
	switch {
	case bytes.Count(first, []byte{';'}) > bytes.Count(first, []byte{','}): // of spreadsheets
		r.Comma = ';'
	case bytes.Count(first, []byte{'\t'}) > bytes.Count(first, []byte{','}):
		r.Comma = '\t'
	}
	head, err := r.Read()
	if err != nil {
		return err
	}
	for i, name := range head {
		head[i] = strings.TrimSpace(name)
	}
	lines := lineStarts(b)
	var cells row
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if len(record) > len(head) {
			line, _ := r.FieldPos(0)
			return fmt.Errorf("line %d has %d cells, and there are %d columns", line, len(record), len(head))
		}
		cells = cells[:0]
		for i, text := range record {
			if text == "" && !isQuoted(b, lines, r, i) {
				continue // an empty cell says nothing
			}
			if text == `""` {
				text = ""
			}
			cells = append(cells, cell{head[i], text})
		}
		each(cells)
	}
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

func jsonLines(b []byte, each func(row)) error {
	s := bufio.NewScanner(bytes.NewReader(b))
	s.Buffer(nil, 16<<20)
	for n := 1; s.Scan(); n++ {
		if len(bytes.TrimSpace(s.Bytes())) == 0 {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(s.Bytes()))
		d.UseNumber()
		var o map[string]any
		if err := d.Decode(&o); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		var cells row
		for k, v := range o {
			switch v := v.(type) {
			case nil:
			case string:
				cells = append(cells, cell{k, v})
			case []any:
				var parts []string
				for _, p := range v {
					parts = append(parts, fmt.Sprint(p))
				}
				cells = append(cells, cell{k, strings.Join(parts, " ; ")})
			default:
				cells = append(cells, cell{k, fmt.Sprint(v)})
			}
		}
		sort.Slice(cells, func(i, j int) bool { return cells[i].column < cells[j].column })
		each(cells)
	}
	return s.Err()
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
