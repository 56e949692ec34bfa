package data

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"orenda/internal/xmltree"
)

// CSV writes a table with a header line (RFC 4180). Text that a spreadsheet would take for
// a formula gets an apostrophe before it; numbers and the header stay as they are.
func (t *Table) CSV(w io.Writer) error {
	c := csv.NewWriter(w)
	if err := c.Write(t.Columns); err != nil {
		return err
	}
	var err error
	line := make([]string, len(t.Columns))
	t.Each(func(_ xmltree.Node, cells []Cell) bool {
		for i, cell := range cells {
			line[i] = cell.guarded()
		}
		err = c.Write(line)
		return err == nil
	})
	c.Flush()
	if err == nil {
		err = c.Error()
	}
	return err
}

// guarded is a cell's text as it may stand in a spreadsheet.
func (c Cell) guarded() string {
	if c.Number || c.Text == "" {
		return c.Text
	}
	if strings.ContainsRune("=+-@\t\r", rune(c.Text[0])) {
		if _, number := Number(strings.TrimSpace(c.Text)); !number {
			return "'" + c.Text
		}
	}
	return c.Text
}

// Lines writes a table as JSON lines: an object a row, absent cells left out.
func (t *Table) Lines(w io.Writer) error {
	b := bufio.NewWriter(w)
	t.Each(func(_ xmltree.Node, cells []Cell) bool {
		b.WriteByte('{')
		first := true
		for i, cell := range cells {
			if !cell.There {
				continue
			}
			if !first {
				b.WriteString(", ")
			}
			first = false
			name, _ := json.Marshal(t.Columns[i])
			b.Write(name)
			b.WriteString(": ")
			if n, ok := Number(cell.Text); ok && cell.Number {
				b.WriteString(n)
				continue
			}
			text, _ := json.Marshal(cell.Text)
			b.Write(text)
		}
		_, err := b.WriteString("}\n")
		return err == nil
	})
	return b.Flush()
}

// Markdown writes a table of Markdown.
func (t *Table) Markdown(w io.Writer) error {
	b := bufio.NewWriter(w)
	line := func(texts []string) {
		for _, s := range texts {
			s = strings.NewReplacer("|", `\|`, "\r", " ", "\n", " ").Replace(s)
			fmt.Fprintf(b, "| %s ", s)
		}
		b.WriteString("|\n")
	}
	line(t.Columns)
	rule := make([]string, len(t.Columns))
	for i := range rule {
		rule[i] = "---"
	}
	line(rule)
	texts := make([]string, len(t.Columns))
	t.Each(func(_ xmltree.Node, cells []Cell) bool {
		for i, c := range cells {
			texts[i] = c.Text
		}
		line(texts)
		return true
	})
	return b.Flush()
}
