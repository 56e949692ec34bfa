package schema

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
)

// Pattern is a regular expression of part 2 appendix F, compiled to Go's
// linear-time matcher. XSD patterns match the whole value.
type Pattern struct {
	Source string // as written
	re     *regexp.Regexp
}

// Match tells whether the whole of v matches.
func (p *Pattern) Match(v string) bool { return p.re == nil || p.re.MatchString(v) }

// CompilePattern translates a pattern. What the syntax does not allow is an error.
func CompilePattern(src string) (*Pattern, error) {
	t := &translator{in: []rune(src)}
	if err := t.regexp(0); err != nil {
		return nil, fmt.Errorf("pattern %q: %w", src, err)
	}
	if t.pos < len(t.in) {
		return nil, fmt.Errorf("pattern %q: %q closes nothing", src, t.in[t.pos])
	}
	re, err := regexp.Compile(`^(?:` + t.out.String() + `)$`)
	if err != nil {
		return nil, fmt.Errorf("pattern %q: %w", src, err)
	}
	return &Pattern{src, re}, nil
}

// set is a sorted list of ranges of runes.
type set [][2]rune

func inSet(s set, r rune) bool {
	_, ok := slices.BinarySearchFunc(s, r, func(x [2]rune, r rune) int {
		if x[1] < r {
			return -1
		}
		if x[0] > r {
			return 1
		}
		return 0
	})
	return ok
}

func (s set) normal() set {
	slices.SortFunc(s, func(a, b [2]rune) int { return int(a[0] - b[0]) })
	out := set{}
	for _, r := range s {
		if n := len(out); n > 0 && r[0] <= out[n-1][1]+1 {
			out[n-1][1] = max(out[n-1][1], r[1])
			continue
		}
		out = append(out, r)
	}
	return out
}

func (s set) not() set {
	out, next := set{}, rune(0)
	for _, r := range s.normal() {
		if r[0] > next {
			out = append(out, [2]rune{next, r[0] - 1})
		}
		next = r[1] + 1
	}
	if next <= unicode.MaxRune {
		out = append(out, [2]rune{next, unicode.MaxRune})
	}
	return out
}

// below is what s holds of the runes under limit.
func (s set) below(limit rune) set {
	out := set{}
	for _, r := range s.normal() {
		if r[0] < limit {
			out = append(out, [2]rune{r[0], min(r[1], limit-1)})
		}
	}
	return out
}

func (s set) minus(o set) set {
	both := append(slices.Clone(s.not()), o...)
	return both.normal().not()
}

func tableSet(t *unicode.RangeTable) set {
	var s set
	add := func(lo, hi, stride rune) {
		if stride == 1 {
			s = append(s, [2]rune{lo, hi})
			return
		}
		for r := lo; r <= hi; r += stride {
			s = append(s, [2]rune{r, r})
		}
	}
	for _, r := range t.R16 {
		add(rune(r.Lo), rune(r.Hi), rune(r.Stride))
	}
	for _, r := range t.R32 {
		add(rune(r.Lo), rune(r.Hi), rune(r.Stride))
	}
	return s.normal()
}

// Appendix F's \i and \c are the name characters of XML 1.0 second edition:
// letters and, for \c, digits, marks and a few signs, all of the first plane.
var (
	//nolint:gochecknoglobals // made once, when it is first asked for
	letterSet = sync.OnceValue(func() set {
		return append(
			append(set{{':', ':'}, {'_', '_'}}, tableSet(unicode.L)...),
			tableSet(unicode.Nl)...).normal().
			below(0x10000)
	})
	//nolint:gochecknoglobals // made once, when it is first asked for
	letterOrDigitSet = sync.OnceValue(func() set {
		s := append(set{{'-', '.'}, {0xB7, 0xB7}}, letterSet()...)
		return append(append(s, tableSet(unicode.M)...), tableSet(unicode.Nd)...).normal().below(0x10000)
	})
)

// The name characters of XML 1.0 fifth edition, which names themselves follow.
//
//nolint:gochecknoglobals // made once, when it is first asked for
var nameStartSet = sync.OnceValue(func() set {
	return set{
		{':', ':'},
		{'A', 'Z'},
		{'_', '_'},
		{'a', 'z'},
		{0xC0, 0xD6},
		{0xD8, 0xF6},
		{0xF8, 0x2FF},
		{0x370, 0x37D},
		{0x37F, 0x1FFF},
		{
			0x200C,
			0x200D,
		},
		{0x2070, 0x218F},
		{0x2C00, 0x2FEF},
		{0x3001, 0xD7FF},
		{0xF900, 0xFDCF},
		{0xFDF0, 0xFFFD},
		{0x10000, 0xEFFFF},
	}
})

//nolint:gochecknoglobals // made once, when it is first asked for
var nameCharSet = sync.OnceValue(func() set {
	return append(
		set{{'-', '.'}, {'0', '9'}, {0xB7, 0xB7}, {0x300, 0x36F}, {0x203F, 0x2040}},
		nameStartSet()...).normal()
})

//nolint:gochecknoglobals // made once, when it is first asked for
var wordSet = sync.OnceValue(func() set {
	s := append(slices.Clone(tableSet(unicode.P)), tableSet(unicode.Z)...)
	s = append(s, tableSet(unicode.C)...)
	return s.normal().not()
})

// Common Unicode blocks of appendix F.1.1 that patterns name.
//
//nolint:gochecknoglobals // a table: it is never written to
var blocks = map[string][2]rune{
	"BasicLatin": {
		0,
		0x7F,
	}, "Latin-1Supplement": {0x80, 0xFF}, "LatinExtended-A": {0x100, 0x17F}, "LatinExtended-B": {0x180, 0x24F},
	"IPAExtensions": {
		0x250,
		0x2AF,
	}, "SpacingModifierLetters": {0x2B0, 0x2FF}, "CombiningDiacriticalMarks": {0x300, 0x36F},
	"Greek": {
		0x370,
		0x3FF,
	}, "Cyrillic": {0x400, 0x4FF}, "Armenian": {0x530, 0x58F}, "Hebrew": {0x590, 0x5FF}, "Arabic": {0x600, 0x6FF},
	"Syriac": {
		0x700,
		0x74F,
	}, "Thaana": {0x780, 0x7BF}, "Devanagari": {0x900, 0x97F}, "Bengali": {0x980, 0x9FF}, "Gurmukhi": {0xA00, 0xA7F},
	"Gujarati": {
		0xA80,
		0xAFF,
	}, "Oriya": {0xB00, 0xB7F}, "Tamil": {0xB80, 0xBFF}, "Telugu": {0xC00, 0xC7F}, "Kannada": {0xC80, 0xCFF},
	"Malayalam": {
		0xD00,
		0xD7F,
	}, "Sinhala": {0xD80, 0xDFF}, "Thai": {0xE00, 0xE7F}, "Lao": {0xE80, 0xEFF}, "Tibetan": {0xF00, 0xFFF},
	"Myanmar": {
		0x1000,
		0x109F,
	}, "Georgian": {0x10A0, 0x10FF}, "HangulJamo": {0x1100, 0x11FF}, "Ethiopic": {0x1200, 0x137F},
	"Cherokee": {
		0x13A0,
		0x13FF,
	}, "Khmer": {0x1780, 0x17FF}, "Mongolian": {0x1800, 0x18AF}, "LatinExtendedAdditional": {0x1E00, 0x1EFF},
	"GreekExtended": {
		0x1F00,
		0x1FFF,
	}, "GeneralPunctuation": {0x2000, 0x206F}, "SuperscriptsandSubscripts": {0x2070, 0x209F},
	"CurrencySymbols": {
		0x20A0,
		0x20CF,
	}, "LetterlikeSymbols": {0x2100, 0x214F}, "NumberForms": {0x2150, 0x218F}, "Arrows": {0x2190, 0x21FF},
	"MathematicalOperators": {
		0x2200,
		0x22FF,
	}, "BoxDrawing": {0x2500, 0x257F}, "BlockElements": {0x2580, 0x259F}, "Dingbats": {0x2700, 0x27BF},
	"CJKSymbolsandPunctuation": {
		0x3000,
		0x303F,
	}, "Hiragana": {0x3040, 0x309F}, "Katakana": {0x30A0, 0x30FF}, "Bopomofo": {0x3100, 0x312F},
	"CJKUnifiedIdeographs": {
		0x4E00,
		0x9FFF,
	}, "HangulSyllables": {0xAC00, 0xD7A3}, "PrivateUse": {0xE000, 0xF8FF}, "HalfwidthandFullwidthForms": {0xFF00,
		0xFFEF},
}

type translator struct {
	in  []rune
	pos int
	out strings.Builder
}

func (t *translator) peek() rune {
	if t.pos < len(t.in) {
		return t.in[t.pos]
	}
	return -1
}

// regexp is branch ('|' branch)*.
func (t *translator) regexp(depth int) error {
	if depth > 200 {
		return fmt.Errorf("it is nested too deeply")
	}
	for t.pos < len(t.in) {
		switch c := t.in[t.pos]; c {
		case '|':
			t.pos++
			t.out.WriteByte('|')
			continue
		case ')':
			return nil
		case '(':
			t.pos++
			t.out.WriteString("(?:")
			if err := t.regexp(depth + 1); err != nil {
				return err
			}
			if t.peek() != ')' {
				return fmt.Errorf("a ( is not closed")
			}
			t.pos++
			t.out.WriteByte(')')
		case '?', '*', '+', '{':
			return fmt.Errorf("%q repeats nothing", c)
		case ']', '}':
			return fmt.Errorf("%q must be written \\%c here", c, c)
		default:
			s, err := t.atom()
			if err != nil {
				return err
			}
			t.class(s)
		}
		if err := t.quantifier(); err != nil {
			return err
		}
	}
	return nil
}

func (t *translator) class(s set) {
	if len(s) == 0 {
		t.out.WriteString(`[^\x00-\x{10FFFF}]`)
		return
	}
	t.out.WriteByte('[')
	for _, r := range s {
		fmt.Fprintf(&t.out, `\x{%X}`, r[0])
		if r[1] > r[0] {
			fmt.Fprintf(&t.out, `-\x{%X}`, r[1])
		}
	}
	t.out.WriteByte(']')
}

func (t *translator) quantifier() error {
	switch t.peek() {
	case '?', '*', '+':
		t.out.WriteRune(t.peek())
		t.pos++
	case '{':
		end := slices.Index(t.in[t.pos:], '}')
		if end < 0 {
			return fmt.Errorf("a { is not closed")
		}
		q := string(t.in[t.pos+1 : t.pos+end])
		t.pos += end + 1
		lo, hi, ranged := strings.Cut(q, ",")
		a, err := strconv.Atoi(lo)
		b := a
		if err == nil && ranged && hi != "" {
			b, err = strconv.Atoi(hi)
		}
		if err != nil || b < a {
			return fmt.Errorf("{%s} is no number of repeats", q)
		}
		// Go's matcher repeats up to 1000 times; beyond that, any number is taken.
		switch {
		case a > 1000:
			t.out.WriteString("{1000,}")
		case ranged && (hi == "" || b > 1000):
			fmt.Fprintf(&t.out, "{%d,}", a)
		default:
			t.out.WriteString("{" + q + "}")
		}
	}
	return nil
}

// atom is a character, an escape or a class.
func (t *translator) atom() (set, error) {
	switch c := t.in[t.pos]; c {
	case '.':
		t.pos++
		return set{{'\n', '\n'}, {'\r', '\r'}}.not(), nil
	case '\\':
		s, _, err := t.escape()
		return s, err
	case '[':
		return t.charClass(0)
	default:
		t.pos++
		return set{{c, c}}, nil
	}
}

// escape reads \x; single is the character where it is one.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (t *translator) escape() (s set, single rune, err error) {
	t.pos++
	c := t.peek()
	t.pos++
	one := func(r rune) (set, rune, error) { return set{{r, r}}, r, nil }
	var cls set
	switch c {
	case -1:
		return nil, 0, fmt.Errorf("it ends with \\")
	case 'n':
		return one('\n')
	case 'r':
		return one('\r')
	case 't':
		return one('\t')
	case '\\', '|', '.', '-', '^', '?', '*', '+', '{', '}', '(', ')', '[', ']':
		return one(c)
	case 's', 'S':
		cls = set{{'\t', '\n'}, {'\r', '\r'}, {' ', ' '}}
	case 'i', 'I':
		cls = letterSet()
	case 'c', 'C':
		cls = letterOrDigitSet()
	case 'd', 'D':
		cls = tableSet(unicode.Nd)
	case 'w', 'W':
		cls = wordSet()
	case 'p', 'P':
		if t.peek() != '{' {
			return nil, 0, fmt.Errorf("\\%c must be followed by {", c)
		}
		end := slices.Index(t.in[t.pos:], '}')
		if end < 0 {
			return nil, 0, fmt.Errorf("a { is not closed")
		}
		name := string(t.in[t.pos+1 : t.pos+end])
		t.pos += end + 1
		if block, ok := strings.CutPrefix(name, "Is"); ok {
			r, ok := blocks[block]
			if !ok {
				return nil, 0, fmt.Errorf("the block %s is not known", name)
			}
			cls = set{r}
		} else if table, ok := unicode.Categories[name]; ok {
			cls = tableSet(table)
		} else if name == "Cn" {
			assigned := set{}
			for _, g := range []string{"L", "M", "N", "P", "S", "Z", "C"} {
				assigned = append(assigned, tableSet(unicode.Categories[g])...)
			}
			cls = assigned.normal().not()
		} else {
			return nil, 0, fmt.Errorf("the category %s is not known", name)
		}
	default:
		return nil, 0, fmt.Errorf("\\%c is not known", c)
	}
	if strings.ContainsRune("SICDWP", c) {
		cls = cls.not()
	}
	return cls, -1, nil
}

// charClass is [ ^? (char | range | escape)+ (- charClass)? ].
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (t *translator) charClass(depth int) (set, error) {
	if depth > 50 {
		return nil, fmt.Errorf("it is nested too deeply")
	}
	t.pos++
	negate := t.peek() == '^'
	if negate {
		t.pos++
	}
	var s set
	for first := true; ; first = false {
		c := t.peek()
		switch {
		case c == -1:
			return nil, fmt.Errorf("a [ is not closed")
		case c == ']' && !first:
			t.pos++
			s = s.normal()
			if negate {
				s = s.not()
			}
			return s, nil
		case c == ']':
			return nil, fmt.Errorf("[] is empty")
		case c == '-' && t.pos+1 < len(t.in) && t.in[t.pos+1] == '[' && !first:
			t.pos++
			minus, err := t.charClass(depth + 1)
			if err != nil {
				return nil, err
			}
			if t.peek() != ']' {
				return nil, fmt.Errorf("a subtraction must end its class")
			}
			t.pos++
			s = s.normal()
			if negate {
				s = s.not()
			}
			return s.minus(minus), nil
		case c == '[':
			return nil, fmt.Errorf("[ must be written \\[ within a class")
		}
		part, lo, err := t.classChar()
		if err != nil {
			return nil, err
		}
		if lo >= 0 && t.peek() == '-' && t.pos+1 < len(t.in) && t.in[t.pos+1] != ']' && t.in[t.pos+1] != '[' {
			t.pos++
			_, hi, err := t.classChar()
			if err != nil {
				return nil, err
			}
			if hi < lo {
				return nil, fmt.Errorf("the range %c-%c is empty", lo, hi)
			}
			part = set{{lo, hi}}
		}
		s = append(s, part...)
	}
}

func (t *translator) classChar() (set, rune, error) {
	c := t.peek()
	if c == '\\' {
		return t.escape()
	}
	t.pos++
	return set{{c, c}}, c, nil
}
