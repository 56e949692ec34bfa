package reply

import (
	"cmp"
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"

	"orenda/internal/app/ui"
	"orenda/internal/data"
	"orenda/internal/draw"
	"orenda/internal/endpoint"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// grid is what repeats in a reply, as a table: it is made while the reply is read.
type grid struct {
	all    []*data.Table
	at     int           // the table that is shown
	cells  [][]data.Cell // of its rows, in the order of the reply
	order  []int         // of its rows, as they are shown
	column int           // that is chosen
	left   int           // the first column that is shown beside the frozen one
	sorted int           // by which column, counted from 1; below zero: downwards; 0: as it came
	widths []int
	sum    string // totals of one column
	summed int    // which, counted from 1; 0: none yet
	filter string // rows without it in any cell are left out; "" none are
}

// maxColumn is how wide a column is at most.
const maxColumn = 28

func newGrid(set *schema.Set, decl *schema.Element, n xmltree.Node) *grid {
	g := &grid{}
	if !n.IsZero() {
		g.all = data.Tables(set, decl, n)
	}
	g.fill()
	return g
}

// fill takes the rows of the table that is shown.
func (g *grid) fill() {
	g.cells, g.order, g.column, g.left, g.sorted, g.summed, g.widths = nil, nil, 0, 0, 0, 0, nil
	g.filter = ""
	if g.at >= len(g.all) {
		return
	}
	t := g.all[g.at]
	for _, c := range t.Columns {
		g.widths = append(g.widths, min(max(ui.Width(c)+2, 6), maxColumn)) // with room for the arrow
	}
	t.Each(func(_ xmltree.Node, cells []data.Cell) bool {
		if len(g.cells) < 500 {
			for i, c := range cells {
				g.widths[i] = min(max(g.widths[i], ui.Width(c.Text)), maxColumn)
			}
		}
		g.order = append(g.order, len(g.cells))
		g.cells = append(g.cells, cells)
		return true
	})
}

// keep leaves the rows out that have a text in no cell; "" leaves none out.
func (g *grid) keep(text string) {
	g.filter, g.summed, g.order = text, 0, g.order[:0]
	want := strings.ToLower(text)
	for i, row := range g.cells {
		if text == "" || slices.ContainsFunc(row, func(c data.Cell) bool {
			return strings.Contains(strings.ToLower(c.Text), want)
		}) {
			g.order = append(g.order, i)
		}
	}
	g.arrange()
}

// another goes to the next table.
func (g *grid) another() {
	if len(g.all) > 0 {
		g.at = (g.at + 1) % len(g.all)
		g.fill()
	}
}

// move goes to another column.
func (g *grid) move(by int) {
	g.column = min(max(g.column+by, 0), max(len(g.widths)-1, 0))
}

// sort orders the rows by the chosen column; again, downwards; and again as they came.
func (g *grid) sort() {
	switch g.sorted {
	case g.column + 1:
		g.sorted = -(g.column + 1)
	case -(g.column + 1):
		g.sorted = 0
	default:
		g.sorted = g.column + 1
	}
	g.arrange()
}

// arrange puts the rows into their order.
func (g *grid) arrange() {
	slices.Sort(g.order)
	if g.sorted == 0 {
		return
	}
	at := max(g.sorted, -g.sorted) - 1
	numbers := make([]*big.Rat, len(g.cells))
	for i, c := range g.cells {
		if c[at].Number {
			numbers[i], _ = number(c[at].Text)
		}
	}
	slices.SortStableFunc(g.order, func(a, b int) int {
		d := 0
		switch x, y := numbers[a], numbers[b]; {
		case x != nil && y != nil:
			d = x.Cmp(y)
		case x != nil:
			d = -1
		case y != nil:
			d = 1
		default:
			d = cmp.Compare(g.cells[a][at].Text, g.cells[b][at].Text)
		}
		if g.sorted < 0 {
			return -d
		}
		return d
	})
}

func number(text string) (*big.Rat, bool) {
	n, ok := data.Number(text)
	if !ok || len(n) > 60 || strings.ContainsAny(n, "eE") {
		return nil, false
	}
	return new(big.Rat).SetString(n)
}

// drawing is the chosen column as a line.
func (g *grid) drawing(title string) (*draw.Drawing, error) {
	values, known := make([]float64, 0, len(g.order)), make([]bool, 0, len(g.order))
	for _, i := range g.order {
		v, ok := number(g.cells[i][g.column].Text)
		f := 0.0
		if ok {
			f, _ = v.Float64()
		}
		values, known = append(values, f), append(known, ok)
	}
	if !slices.Contains(known, true) {
		return nil, errors.New("the column holds no numbers")
	}
	t := g.all[g.at]
	return draw.Column(title+", "+t.Path, t.Columns[g.column], values, known), nil
}

// totals are the sum, the least and the greatest of the chosen column, where it holds
// numbers.
func (g *grid) totals() string {
	if g.column >= len(g.widths) {
		return ""
	}
	if g.summed != g.column+1 { // once for a column, not for each time that it is drawn
		g.summed, g.sum = g.column+1, g.total()
	}
	return g.sum
}

func (g *grid) total() string {
	var least, most *big.Rat
	sum, n := new(big.Rat), 0
	for _, i := range g.order {
		c := g.cells[i]
		if !c[g.column].Number {
			continue
		}
		v, ok := number(c[g.column].Text)
		if !ok {
			continue
		}
		n++
		sum.Add(sum, v)
		if least == nil || v.Cmp(least) < 0 {
			least = v
		}
		if most == nil || v.Cmp(most) > 0 {
			most = v
		}
	}
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%s numbers · sum %s · least %s · greatest %s",
		endpoint.Bytes(int64(n)), short(sum), short(least), short(most))
}

func short(v *big.Rat) string {
	if v.IsInt() {
		return v.Num().String()
	}
	return strings.TrimRight(strings.TrimRight(v.FloatString(6), "0"), ".")
}

// shown are the columns that have room beside the frozen first one, so that the chosen
// one is among them.
func (g *grid) shown(w int) []int {
	if len(g.widths) == 0 {
		return nil
	}
	room := func(from int) (out []int, fits bool) {
		left := w - g.widths[0] - 2
		for i := from; i < len(g.widths); i++ {
			if left -= g.widths[i] + 2; left < 0 && len(out) > 0 {
				break
			}
			out = append(out, i)
		}
		return out, slices.Contains(out, g.column) || g.column == 0
	}
	g.left = max(g.left, 1)
	if g.column > 0 && g.column < g.left {
		g.left = g.column
	}
	cols, fits := room(g.left)
	for !fits && g.left < len(g.widths)-1 {
		g.left++
		cols, fits = room(g.left)
	}
	return append([]int{0}, cols...)
}

// head is the line with the names of the columns.
func (g *grid) head(w int) string {
	var b strings.Builder
	for _, i := range g.shown(w - 4) {
		name := g.all[g.at].Columns[i]
		switch {
		case g.sorted == i+1:
			name += " ↑"
		case g.sorted == -(i + 1):
			name += " ↓"
		}
		text := ui.Fit(name, g.widths[i])
		if len(g.cells) > 0 && g.cells[0][i].Number { // as its numbers stand
			name = ui.Cut(name, g.widths[i])
			text = strings.Repeat(" ", max(g.widths[i]-ui.Width(name), 0)) + name
		}
		if i == g.column {
			b.WriteString(ui.Accent(text) + "  ")
		} else {
			b.WriteString(ui.Soft(text) + "  ")
		}
	}
	return "   " + b.String()
}

// line is one row. Numbers stand to the right.
func (g *grid) line(i int, chosen bool, w int) string {
	lead := "   "
	if chosen {
		lead = ui.Accent(" ▌ ")
	}
	var b strings.Builder
	for _, col := range g.shown(w - 4) {
		c := g.cells[g.order[i]][col]
		text := c.Text
		if strings.TrimSpace(text) != text {
			text = strings.ReplaceAll(text, " ", "␠")
		}
		if c.Number {
			text = ui.Cut(text, g.widths[col])
			text = strings.Repeat(" ", max(g.widths[col]-ui.Width(text), 0)) + text
		} else {
			text = ui.Fit(text, g.widths[col])
		}
		if chosen {
			text = ui.Strong(text)
		}
		b.WriteString(text + "  ")
	}
	return lead + b.String()
}

// about says which table it is, and which others there are.
func (g *grid) about() string {
	t := g.all[g.at]
	text := fmt.Sprintf("%s rows of %s", endpoint.Bytes(int64(t.Rows)), t.Path)
	if g.filter != "" {
		text = fmt.Sprintf("%s of %s, with %q", endpoint.Bytes(int64(len(g.order))), text, g.filter)
	}
	if len(g.all) > 1 {
		text += fmt.Sprintf(" · table %d of %d", g.at+1, len(g.all))
	}
	return text
}
