package schema

import (
	"fmt"
	"math/big"
	"regexp/syntax"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// Examples makes values that types accept. The same sequence of questions gives the same
// values.
type Examples struct {
	Day  time.Time // that dates are near to
	Seed int       // other values for another number

	ids int // how many values of the type ID
}

// ExampleDay is the day that examples are near to where they are to be the same each time.
func ExampleDay() time.Time { return time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC) }

// Value is a value that a simple type accepts; where none could be found, the nearest.
// times is how often a value was made for the same place, so that keys differ.
func (e *Examples) Value(t *Simple, times int) string {
	times += e.Seed
	first := ""
	for try := range 64 {
		for _, v := range e.candidates(t, times, try) {
			if first == "" {
				first = v
			}
			if t.Check(v) == nil {
				return v
			}
		}
	}
	return first
}

// ID is the newest value that was made for the type ID; "" none.
func (e *Examples) ID() string {
	if e.ids == 0 {
		return ""
	}
	return fmt.Sprintf("id%d", e.ids)
}

// chain are a type and those that it is derived from, the nearest first.
func chain(t *Simple) (out []*Simple) {
	for s := t; s != nil; s = s.Base {
		out = append(out, s)
	}
	return out
}

// builtin is the built-in type that a type is derived from.
func builtin(t *Simple) string {
	for _, s := range chain(t) {
		if s.Name.Space == XSD {
			return s.Name.Local
		}
	}
	return "string"
}

// candidates are values to be tried, the likeliest first.
func (e *Examples) candidates(t *Simple, times, try int) (out []string) {
	if all := Allowed(t); len(all) > 0 {
		for i := range all {
			out = append(out, all[(i+times)%len(all)])
		}
		return out
	}
	switch t.Variety {
	case List:
		item := t.Item
		n := 1
		for _, s := range chain(t) {
			for _, least := range []*int{s.Facets.Length, s.Facets.MinLength} {
				if least != nil {
					n = max(n, *least)
				}
			}
			if item == nil {
				item = s.Item
			}
		}
		if item == nil {
			return []string{""}
		}
		var items []string
		for i := range min(n, 1000) {
			items = append(items, e.Value(item, times+i))
		}
		return []string{strings.Join(items, " ")}
	case Union:
		for _, s := range chain(t) {
			for _, m := range s.Members {
				out = append(out, e.candidates(m, times, try)...)
			}
		}
		return out
	}
	for _, s := range chain(t) {
		for _, alternatives := range s.Facets.Patterns {
			for _, p := range alternatives {
				out = append(out, p.example(times+try, try%8))
			}
		}
	}
	return append(out, e.plain(t, times+try)...)
}

// plain are values by the built-in type and its bounds.
func (e *Examples) plain(t *Simple, n int) []string {
	day := e.Day.AddDate(0, 0, n)
	kind := builtin(t)
	switch kind {
	case "boolean":
		return []string{[]string{"true", "false"}[n%2]}
	case "dateTime":
		return []string{day.Format("2006-01-02T09:00:00Z"), e.between(t, "2006-01-02T15:04:05Z07:00", n)}
	case "date":
		return []string{day.Format("2006-01-02"), e.between(t, "2006-01-02", n)}
	case "time":
		return []string{fmt.Sprintf("%02d:00:00", 9+n%12)}
	case "gYear":
		return []string{strconv.Itoa(day.Year() + n)}
	case "gYearMonth":
		return []string{day.Format("2006-01")}
	case "gMonth":
		return []string{fmt.Sprintf("--%02d", 1+n%12)}
	case "gDay":
		return []string{fmt.Sprintf("---%02d", 1+n%28)}
	case "gMonthDay":
		return []string{fmt.Sprintf("--%02d-%02d", 1+n%12, 1+n%28)}
	case "duration":
		return []string{fmt.Sprintf("P%dD", n+1)}
	case "base64Binary":
		return []string{"ZXhhbXBsZQ==", sized(t, "AAAA", 3)}
	case "hexBinary":
		return []string{"6578616d706c65", sized(t, "00", 1)}
	case "anyURI":
		return []string{fmt.Sprintf("urn:example:%d", n+1)}
	case "QName", "NOTATION":
		return []string{"example"}
	case "language":
		return []string{"en"}
	case "ID":
		e.ids++
		return []string{fmt.Sprintf("id%d", e.ids)}
	case "IDREF", "ENTITY":
		return []string{e.ID(), "id1"}
	case "float", "double":
		return append(numbers(t, n), fmt.Sprintf("%d.5", n+1))
	}
	if IsNumeric(t) {
		return numbers(t, n)
	}
	return texts(t, n)
}

// IsNumeric tells whether values of a type are decimals or floats.
func IsNumeric(t *Simple) bool {
	return t.Primitive == "decimal" || t.Primitive == "float" || t.Primitive == "double"
}

// sized is a binary value of the least length in bytes that a type has.
func sized(t *Simple, unit string, bytes int) string {
	n := 1
	for _, s := range chain(t) {
		for _, least := range []*int{s.Facets.Length, s.Facets.MinLength} {
			if least != nil {
				n = max(n, *least)
			}
		}
	}
	n = min(n, 1<<16)
	if bytes == 3 { // base64: groups of three
		whole := strings.Repeat(unit, n/3)
		return whole + [...]string{"", "AA==", "AAA="}[n%3]
	}
	return strings.Repeat(unit, n)
}

// between is a moment within the bounds of a type.
func (e *Examples) between(t *Simple, layout string, n int) string {
	for _, s := range chain(t) {
		for _, bound := range []struct {
			text *string
			by   int
		}{
			{s.Facets.MinInclusive, n}, {s.Facets.MinExclusive, n + 1},
			{s.Facets.MaxInclusive, -n}, {s.Facets.MaxExclusive, -n - 1},
		} {
			if bound.text == nil {
				continue
			}
			if at, err := time.Parse(layout, *bound.text); err == nil {
				return at.AddDate(0, 0, bound.by).Format(layout)
			}
		}
	}
	return e.Day.Format(layout)
}

// span are the bounds of a type of numbers.
type span struct {
	least, most *big.Rat // nil: none
	open        [2]bool  // the bound itself is not one of the values
	fraction    int      // digits after the point
}

func spanOf(t *Simple) (b span) {
	for _, s := range chain(t) {
		f := s.Facets
		if f.FractionDigits != nil {
			b.fraction = max(b.fraction, min(*f.FractionDigits, 9))
		}
		b.low(f.MinInclusive, false)
		b.low(f.MinExclusive, true)
		b.high(f.MaxInclusive, false)
		b.high(f.MaxExclusive, true)
	}
	return b
}

func number(text *string) *big.Rat {
	if text == nil {
		return nil
	}
	v, ok := new(big.Rat).SetString(strings.TrimPrefix(strings.TrimSpace(*text), "+"))
	if !ok {
		return nil
	}
	return v
}

func (b *span) low(text *string, open bool) {
	if v := number(text); v != nil && (b.least == nil || v.Cmp(b.least) > 0) {
		b.least, b.open[0] = v, open
	}
}

func (b *span) high(text *string, open bool) {
	if v := number(text); v != nil && (b.most == nil || v.Cmp(b.most) < 0) {
		b.most, b.open[1] = v, open
	}
}

func (b *span) holds(v *big.Rat) bool {
	return (b.least == nil || v.Cmp(b.least) > 0 || v.Cmp(b.least) == 0 && !b.open[0]) &&
		(b.most == nil || v.Cmp(b.most) < 0 || v.Cmp(b.most) == 0 && !b.open[1])
}

// numbers are numbers within the bounds and digits of a type.
func numbers(t *Simple, n int) (out []string) {
	b := spanOf(t)
	add := func(v *big.Rat) {
		digits := b.fraction
		if v.IsInt() {
			digits = 0
		}
		if b.holds(v) {
			out = append(out, v.FloatString(digits))
		}
	}
	by := big.NewRat(int64(n)+1, 1)
	add(by)
	for range b.fraction {
		by = new(big.Rat).Mul(by, big.NewRat(1, 10))
	}
	if b.least != nil {
		add(new(big.Rat).Add(b.least, by))
		add(b.least)
	}
	if b.most != nil {
		add(new(big.Rat).Sub(b.most, by))
		add(b.most)
	}
	if b.least != nil && b.most != nil {
		mid := new(big.Rat).Add(b.least, b.most)
		out = append(out, mid.Mul(mid, big.NewRat(1, 2)).FloatString(max(b.fraction, 9)))
	}
	return append(out, "0", "-1")
}

// texts are texts within the lengths of a type.
func texts(t *Simple, n int) []string {
	text := "example"
	if n > 0 {
		text = fmt.Sprintf("example%d", n+1)
	}
	least, most := 0, -1
	for _, s := range chain(t) {
		f := s.Facets
		if f.Length != nil {
			least, most = max(least, *f.Length), *f.Length
		}
		if f.MinLength != nil {
			least = max(least, *f.MinLength)
		}
		if f.MaxLength != nil && (most < 0 || *f.MaxLength < most) {
			most = *f.MaxLength
		}
	}
	least = min(least, 1<<16)
	for len(text) < least {
		text += "example"[:min(7, least-len(text))]
	}
	if most >= 0 && len(text) > most {
		number := ""
		if n > 0 {
			number = strconv.Itoa(n % 10)
		}
		keep := max(most-len(number), 0)
		text = (text[:min(keep, 7)] + strings.Repeat("e", max(keep-7, 0)) + number)
		text = text[:min(len(text), most)]
	}
	return []string{text, strings.ToUpper(text), strings.Repeat("1", max(least, 1))}
}

// example is a text that the pattern matches. n moves the choices, and repeat lengthens
// what may repeat.
func (p *Pattern) example(n, repeat int) string {
	if p.re == nil {
		return ""
	}
	tree, err := syntax.Parse(p.re.String(), syntax.Perl)
	if err != nil {
		return ""
	}
	var b strings.Builder
	write(&b, tree, &n, repeat)
	return b.String()
}

// maxExample bounds an example in bytes.
const maxExample = 1 << 12

func write(b *strings.Builder, re *syntax.Regexp, n *int, repeat int) {
	if b.Len() > maxExample {
		return
	}
	switch re.Op {
	case syntax.OpLiteral:
		for _, r := range re.Rune {
			b.WriteRune(r)
		}
	case syntax.OpCharClass:
		b.WriteRune(oneOf(re.Rune, n))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('e')
	case syntax.OpCapture, syntax.OpConcat:
		for _, s := range re.Sub {
			write(b, s, n, repeat)
		}
	case syntax.OpAlternate:
		write(b, re.Sub[*n%len(re.Sub)], n, repeat)
	case syntax.OpStar, syntax.OpPlus, syntax.OpQuest, syntax.OpRepeat:
		least, most := re.Min, re.Max
		switch re.Op {
		case syntax.OpStar:
			least, most = 0, -1
		case syntax.OpPlus:
			least, most = 1, -1
		case syntax.OpQuest:
			least, most = 0, 1
		}
		times := least + repeat
		if most >= 0 {
			times = min(times, most)
		}
		for range times {
			write(b, re.Sub[0], n, repeat)
		}
	}
}

// oneOf is a character of a class: a letter or a digit where it has one.
func oneOf(ranges []rune, n *int) rune {
	for i := 0; i+1 < len(ranges); i += 2 {
		for _, want := range [][2]rune{{'A', 'Z'}, {'a', 'z'}, {'1', '9'}, {'0', '0'}} {
			lo, hi := max(ranges[i], want[0]), min(ranges[i+1], want[1])
			if lo <= hi {
				r := lo + rune(*n)%(hi-lo+1)
				*n /= int(hi - lo + 1)
				return r
			}
		}
	}
	for i := 0; i+1 < len(ranges); i += 2 {
		for r := ranges[i]; r <= ranges[i+1] && r < ranges[i]+100; r++ {
			if unicode.IsGraphic(r) {
				return r
			}
		}
	}
	if len(ranges) > 0 {
		return ranges[0]
	}
	return 'e'
}
