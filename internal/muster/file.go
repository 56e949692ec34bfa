// Package muster runs many cases: drafts with values and with what they must come back
// with. A muster is a file of a workspace, musters/NAME.toml; its format is in
// docs/musters.md.
package muster

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
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
	Cases Cases  // a row of a table is a case
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
			m.Cases.add(c, nil)
			continue
		}
		b, err := file(w.Table)
		if err != nil {
			return nil, fmt.Errorf("the table %s: %w", w.Table, err)
		}
		t, err := readTable(w.Table, b)
		if err != nil {
			return nil, fmt.Errorf("the table %s: %w", w.Table, err)
		}
		m.Cases.add(c, t)
	}
	return m, m.check()
}

// check names apart what has the same name, and finds what cannot be.
func (m *Muster) check() error {
	seen := map[string]int{}
	for i, c := range m.Cases.All() {
		seen[c.Name]++
		if n := seen[c.Name]; n > 1 {
			c.Name = fmt.Sprintf("%s #%d", c.Name, n)
			if m.Cases.renamed == nil {
				m.Cases.renamed = map[int]string{}
			}
			m.Cases.renamed[i] = c.Name
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

// ofJSON is a row of JSON lines.
func ofJSON(line []byte) (cells row, err error) {
	d := json.NewDecoder(bytes.NewReader(line))
	d.UseNumber()
	var o map[string]any
	if err := d.Decode(&o); err != nil {
		return nil, err
	}
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
	return cells, nil
}
