package schema

import (
	"cmp"
	"encoding/base64"
	"fmt"
	"math/big"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode/utf8"

	"orenda/internal/pattern"
)

// builtins is the table of part 2 §3: name, base, white space, lexical rule,
// bounds. Primitive types name themselves.
//
//nolint:gochecknoglobals // made once, when it is first asked for
var builtins = sync.OnceValue(func() map[string]*Simple {
	m := map[string]*Simple{}
	add := func(name, base, ws string, check func(string) string, bounds ...string) {
		s := &Simple{Name: QName{XSD, name}, check: check}
		if b := m[base]; b != nil {
			s.Base, s.Primitive = b, b.Primitive
			if base == "anySimpleType" {
				s.Primitive = name
			}
			if check == nil {
				s.check = b.check
			}
		}
		s.Facets.WhiteSpace = ws
		if len(bounds) == 2 {
			if bounds[0] != "" {
				s.Facets.MinInclusive = &bounds[0]
			}
			if bounds[1] != "" {
				s.Facets.MaxInclusive = &bounds[1]
			}
		}
		m[name] = s
	}
	list := func(name, item string) {
		one := 1
		m[name] = &Simple{
			Name:    QName{XSD, name},
			Base:    m["anySimpleType"],
			Variety: List,
			Item:    m[item],
			Facets:  Facets{WhiteSpace: "collapse", MinLength: &one},
		}
	}
	const c = "collapse"
	add("anySimpleType", "", "preserve", nil)
	add("string", "anySimpleType", "preserve", nil)
	add("normalizedString", "string", "replace", nil)
	add("token", "normalizedString", c, nil)
	add("language", "token", c, match(`[a-zA-Z]{1,8}(-[a-zA-Z0-9]{1,8})*`, "a language tag such as en or en-GB"))
	add("NMTOKEN", "token", c, name(nmtoken, "a name token"))
	add("Name", "token", c, name(xmlName, "a name"))
	add("NCName", "Name", c, name(ncName, "a name without a colon"))
	add("ID", "NCName", c, nil)
	add("IDREF", "NCName", c, nil)
	add("ENTITY", "NCName", c, nil)
	add("boolean", "anySimpleType", c, lexBoolean)
	add("decimal", "anySimpleType", c, lexDecimal)
	integer := lexInteger
	add("integer", "decimal", c, integer)
	add("nonPositiveInteger", "integer", c, integer, "", "0")
	add("negativeInteger", "nonPositiveInteger", c, integer, "", "-1")
	add("long", "integer", c, integer, "-9223372036854775808", "9223372036854775807")
	add("int", "long", c, integer, "-2147483648", "2147483647")
	add("short", "int", c, integer, "-32768", "32767")
	add("byte", "short", c, integer, "-128", "127")
	add("nonNegativeInteger", "integer", c, integer, "0", "")
	digitsOnly := lexDigits // part 2 §3.3.21.1
	add("unsignedLong", "nonNegativeInteger", c, digitsOnly, "0", "18446744073709551615")
	add("unsignedInt", "unsignedLong", c, digitsOnly, "0", "4294967295")
	add("unsignedShort", "unsignedInt", c, digitsOnly, "0", "65535")
	add("unsignedByte", "unsignedShort", c, digitsOnly, "0", "255")
	add("positiveInteger", "nonNegativeInteger", c, integer, "1", "")
	float := lexFloat
	add("float", "anySimpleType", c, float)
	add("double", "anySimpleType", c, float)
	add("duration", "anySimpleType", c, func(s string) string {
		if _, ok := parseDuration(s); !ok {
			return "a duration such as P1DT2H"
		}
		return ""
	})
	for _, d := range []string{"dateTime", "time", "date", "gYearMonth", "gYear", "gMonthDay", "gDay", "gMonth"} {
		add(d, "anySimpleType", c, func(s string) string {
			if (d == "date" || d == "dateTime") && plainDate(s, d == "dateTime") {
				return ""
			}
			if _, ok := parseInstant(d, s); !ok {
				return dateForms[d].example
			}
			return ""
		})
	}
	add("hexBinary", "anySimpleType", c, match(`([0-9a-fA-F]{2})*`, "pairs of hexadecimal digits"))
	add("base64Binary", "anySimpleType", c, func(s string) string {
		if _, err := base64.StdEncoding.Strict().DecodeString(strings.ReplaceAll(s, " ", "")); err != nil {
			return "base64 text"
		}
		return ""
	})
	add("anyURI", "anySimpleType", c, func(s string) string {
		if scheme, _, ok := strings.Cut(s, ":"); ok && !strings.ContainsAny(scheme, "/?#") &&
			!uriScheme.MatchString(scheme) {
			return "a URI: what stands before the colon is no scheme"
		}
		if badEscape.MatchString(s) {
			return "a URI: two hexadecimal digits must follow a % sign"
		}
		return ""
	})
	add("QName", "anySimpleType", c, name(qName, "a qualified name"))
	add("NOTATION", "anySimpleType", c, name(qName, "a qualified name"))
	list("NMTOKENS", "NMTOKEN")
	list("IDREFS", "IDREF")
	list("ENTITIES", "ENTITY")
	return m
})

// Builtin is a built-in simple type by its local name, or nil.
func Builtin(name string) *Simple { return builtins()[name] }

// uriScheme is a scheme of RFC 3986 §3.1.
var uriScheme = pattern.New(`^[A-Za-z][A-Za-z0-9+.-]*$`)

// badEscape is a % that begins no escape (RFC 3986 §2.1).
var badEscape = pattern.New(`%([^0-9A-Fa-f]|.?$|.[^0-9A-Fa-f])`)

// anyType is the ur-type (part 1 §3.4.7).
//
//nolint:gochecknoglobals // made once, when it is first asked for
var anyType = sync.OnceValue(func() *Complex {
	anySimple := &Wildcard{Process: "lax", Any: true}
	return &Complex{Name: QName{XSD, "anyType"}, Mixed: true, AnyAttr: anySimple, Content: &Particle{Min: 1, Max: 1,
		Group: &Group{Particles: []*Particle{{Min: 0, Max: Unbounded, Any: anySimple}}}}}
})

// AnyType is the type that allows everything.
func AnyType() *Complex { return anyType() }

func match(form, expected string) func(string) string {
	re := pattern.New(`^(?:` + form + `)$`)
	return func(s string) string {
		if re.MatchString(s) {
			return ""
		}
		return expected
	}
}

func name(ok func(string) bool, expected string) func(string) string {
	return func(s string) string {
		if ok(s) {
			return ""
		}
		return expected
	}
}

func nmtoken(s string) bool {
	for _, r := range s {
		if !inSet(nameCharSet(), r) {
			return false
		}
	}
	return s != ""
}

func xmlName(s string) bool {
	r, _ := utf8.DecodeRuneInString(s)
	return nmtoken(s) && inSet(nameStartSet(), r)
}

func ncName(s string) bool { return xmlName(s) && !strings.Contains(s, ":") }

func qName(s string) bool {
	prefix, local, ok := strings.Cut(s, ":")
	if !ok {
		return ncName(s)
	}
	return ncName(prefix) && ncName(local)
}

// instant is a date or time as months, seconds and a fraction, so that two of
// the same kind can be compared (part 2 §3.2.7.3).
type instant struct {
	secs  *big.Rat
	zoned bool
}

//nolint:gochecknoglobals // a table: it is never written to
var dateForms = map[string]struct {
	re      *pattern.Pattern
	example string
}{
	"dateTime": {
		pattern.New(
			//revive:disable-next-line:line-length-limit one literal
			`^(-?[0-9]{4,})-([0-9]{2})-([0-9]{2})T([0-9]{2}):([0-9]{2}):([0-9]{2}(?:\.[0-9]+)?)(Z|[+-][0-9]{2}:[0-9]{2})?$`,
		),
		"a date and time such as 2027-03-01T14:30:00Z",
	},
	"time": {
		pattern.New(`^()()()([0-9]{2}):([0-9]{2}):([0-9]{2}(?:\.[0-9]+)?)(Z|[+-][0-9]{2}:[0-9]{2})?$`),
		"a time such as 14:30:00",
	},
	"date": {
		pattern.New(`^(-?[0-9]{4,})-([0-9]{2})-([0-9]{2})()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`),
		"a date such as 2027-03-01",
	},
	"gYearMonth": {
		pattern.New(`^(-?[0-9]{4,})-([0-9]{2})()()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`),
		"a month such as 2027-03",
	},
	"gYear": {pattern.New(`^(-?[0-9]{4,})()()()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`), "a year such as 2027"},
	"gMonthDay": {
		pattern.New(`^()--([0-9]{2})-([0-9]{2})()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`),
		"a day of the year such as --03-01",
	},
	"gDay":   {pattern.New(`^()()---([0-9]{2})()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`), "a day such as ---01"},
	"gMonth": {pattern.New(`^()--([0-9]{2})()()()()(Z|[+-][0-9]{2}:[0-9]{2})?$`), "a month such as --03"},
}

//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func parseInstant(kind, s string) (instant, bool) {
	m := dateForms[kind].re.FindStringSubmatch(s)
	if m == nil {
		return instant{}, false
	}
	num := func(i, unset int) int {
		if m[i] == "" {
			return unset
		}
		n, _ := strconv.Atoi(m[i])
		return n
	}
	digits := strings.TrimPrefix(m[1], "-")
	if len(digits) > 4 && digits[0] == '0' || digits == "0000" || len(digits) > 17 {
		return instant{}, false
	}
	year, month, day := num(1, 2000), num(2, 1), num(3, 1)
	if month < 1 || month > 12 || day < 1 || day > daysIn(year, month, m[1] == "") {
		return instant{}, false
	}
	hour, minute := num(4, 0), num(5, 0)
	sec := new(big.Rat)
	if m[6] != "" {
		sec.SetString(m[6])
	}
	if minute > 59 || sec.Cmp(big.NewRat(60, 1)) >= 0 || hour > 24 || hour == 24 && (minute != 0 || sec.Sign() != 0) {
		return instant{}, false
	}
	total := new(big.Rat).SetInt64((daysBefore(year, month, day)*24+int64(hour))*3600 + int64(minute)*60)
	total.Add(total, sec)
	if z := m[7]; z != "" && z != "Z" {
		h, _ := strconv.Atoi(z[1:3])
		mi, _ := strconv.Atoi(z[4:6])
		if h > 14 || mi > 59 || h == 14 && mi != 0 {
			return instant{}, false
		}
		off := int64(h*3600 + mi*60)
		if z[0] == '+' {
			off = -off
		}
		total.Add(total, new(big.Rat).SetInt64(off))
	}
	return instant{total, m[7] != ""}, true
}

func daysIn(year, month int, anyYear bool) int {
	switch month {
	case 4, 6, 9, 11:
		return 30
	case 2:
		if year < 0 {
			year++ // there is no year 0
		}
		if anyYear || year%4 == 0 && (year%100 != 0 || year%400 == 0) {
			return 29
		}
		return 28
	}
	return 31
}

// daysBefore counts days in the proleptic Gregorian calendar.
func daysBefore(year, month, day int) int64 {
	if year < 0 {
		year++
	}
	if month <= 2 {
		year--
		month += 12
	}
	era := year / 400
	if year < 0 {
		era = (year - 399) / 400
	}
	yoe := year - era*400
	doy := (153*(month-3)+2)/5 + day - 1
	return int64(era)*146097 + int64(yoe*365+yoe/4-yoe/100+doy)
}

type duration struct {
	months int64
	secs   *big.Rat
}

var durationForm = pattern.New(
	`^(-)?P(?:([0-9]+)Y)?(?:([0-9]+)M)?(?:([0-9]+)D)?(?:(T)(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+(?:\.[0-9]+)?)S)?)?$`,
)

func parseDuration(s string) (duration, bool) {
	m := durationForm.FindStringSubmatch(s)
	if m == nil || strings.Join(m[2:5], "")+strings.Join(m[6:9], "") == "" ||
		m[5] == "T" && strings.Join(m[6:9], "") == "" {
		return duration{}, false
	}
	n := func(i int) int64 { v, _ := strconv.ParseInt(m[i], 10, 64); return v }
	d := duration{months: n(2)*12 + n(3), secs: new(big.Rat).SetInt64(n(4)*86400 + n(6)*3600 + n(7)*60)}
	if m[8] != "" {
		sec, _ := new(big.Rat).SetString(m[8])
		d.secs.Add(d.secs, sec)
	}
	if m[1] == "-" {
		d.months = -d.months
		d.secs.Neg(d.secs)
	}
	return d, true
}

// compare orders two values of a primitive type; ok is false where the type
// has no order between them.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func compare(primitive, a, b string) (order int, ok bool) {
	switch primitive {
	case "decimal":
		if x, y, ok := smallInts(a, b); ok {
			return cmp.Compare(x, y), true
		}
		return compareDecimals(a, b)
	case "float", "double":
		bits := 64
		if primitive == "float" {
			bits = 32
		}
		x, e1 := parseFloat(a, bits)
		y, e2 := parseFloat(b, bits)
		switch {
		case e1 || e2:
		case x != x && y != y:
			return 0, true
		case x < y:
			return -1, true
		case x > y:
			return 1, true
		case x == y:
			return 0, true
		}
	case "duration":
		x, ok1 := parseDuration(a)
		y, ok2 := parseDuration(b)
		if !ok1 || !ok2 {
			return 0, false
		}
		// Part 2 §3.2.6.2: ordered where all four reference dates agree.
		var order int
		for i, start := range [][2]int{{1696, 9}, {1697, 2}, {1903, 3}, {1903, 7}} {
			o := x.from(start).Cmp(y.from(start))
			if i > 0 && o != order {
				return 0, false
			}
			order = o
		}
		return order, true
	case "boolean":
		norm := func(s string) string { return map[string]string{"1": "true", "0": "false"}[s] + s }
		if x, y := norm(a), norm(b); strings.HasPrefix(x, y) || strings.HasPrefix(y, x) {
			return 0, true
		}
		return 0, false
	case "hexBinary":
		if strings.EqualFold(a, b) {
			return 0, true
		}
		return 0, false
	default:
		if _, is := dateForms[primitive]; is {
			x, ok1 := parseInstant(primitive, a)
			y, ok2 := parseInstant(primitive, b)
			if !ok1 || !ok2 {
				return 0, false
			}
			if x.zoned != y.zoned { // 14 hours either way (part 2 §3.2.7.3)
				diff := new(big.Rat).Sub(x.secs, y.secs)
				if new(big.Rat).Abs(diff).Cmp(big.NewRat(14*3600, 1)) <= 0 {
					return 0, false
				}
				return diff.Sign(), true
			}
			return x.secs.Cmp(y.secs), true
		}
		if a == b {
			return 0, true
		}
	}
	return 0, false
}

func (d duration) from(start [2]int) *big.Rat {
	m := int64(start[0])*12 + int64(start[1]-1) + d.months
	year, month := m/12, m%12
	if month < 0 {
		year, month = year-1, month+12
	}
	days := daysBefore(int(year), int(month)+1, 1)
	return new(big.Rat).Add(new(big.Rat).SetInt64(days*86400), d.secs)
}

func parseFloat(s string, bits int) (float64, bool) {
	s = strings.Replace(s, "INF", "Inf", 1)
	f, err := strconv.ParseFloat(s, bits)
	if ne, ok := err.(*strconv.NumError); ok && ne.Err == strconv.ErrRange {
		return f, false
	}
	return f, err != nil
}

// Normalize applies the white space facet (part 2 §4.3.6).
func (s *Simple) Normalize(v string) string {
	switch s.rules().space {
	case "replace":
		return strings.NewReplacer("\t", " ", "\n", " ", "\r", " ").Replace(v)
	case "collapse":
		if !hasSpace(v) {
			return v
		}
		return strings.Join(strings.FieldsFunc(v, isSpace), " ")
	}
	return v
}

func hasSpace(v string) bool {
	for i := 0; i < len(v); i++ {
		if c := v[i]; c <= ' ' && (c == ' ' || c == '\t' || c == '\r' || c == '\n') {
			return true
		}
	}
	return false
}

// rules is what checking a value needs to know of a type, gathered from all
// steps of its derivation.
type rules struct {
	space   string              // white space: preserve, replace or collapse
	builtin string              // nearest built-in type
	lexical func(string) string // that of the nearest built-in type
	steps   []facetStep         // those with facets besides white space
	names   bool                // values may be QNames, or hold some
	number  uint32              // by chance: tells types apart, nearly always
}

// facetStep are the facets of one step, with those bounds of numbers that are
// small integers read already.
type facetStep struct {
	*Facets
	bounds  [4]*string // in the order of boundRules
	whole   [4]int64
	small   bool // all bounds that are set are in whole
	exact   [4]decimal
	decimal bool // all bounds that are set are in exact
}

func stepOf(f *Facets, primitive string) facetStep {
	st := facetStep{
		Facets: f,
		bounds: [4]*string{f.MinInclusive, f.MaxInclusive, f.MinExclusive, f.MaxExclusive},
	}
	st.decimal = primitive == "decimal" && st.bounds != ([4]*string{})
	st.small = st.decimal
	for i, b := range st.bounds {
		if b == nil {
			continue
		}
		if st.small {
			st.whole[i], st.small = smallInt(*b)
		}
		if st.decimal {
			st.exact[i], st.decimal = decimalOf(*b)
		}
	}
	return st
}

func (s *Simple) rules() *rules {
	if r := s.known.Load(); r != nil {
		return r
	}
	r := &rules{space: s.whiteSpace(), builtin: s.BuiltinName(), names: s.named(0), number: rand.Uint32()}
	for t := s; t != nil; t = t.Base {
		if r.lexical == nil {
			r.lexical = t.check
		}
		if !t.Facets.none() {
			r.steps = append(r.steps, stepOf(&t.Facets, s.Primitive))
		}
	}
	s.known.Store(r)
	return r
}

func isSpace(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }

func (s *Simple) whiteSpace() string {
	for t := s; t != nil; t = t.Base {
		if t.Variety == List {
			return "collapse"
		}
		if t.Facets.WhiteSpace != "" {
			return t.Facets.WhiteSpace
		}
		if t.Variety == Union {
			return "preserve"
		}
	}
	return "preserve"
}

// ValueError is a value that a simple type refuses.
type ValueError struct {
	Rule     string   // the rule of the standard, e.g. cvc-pattern-valid
	Msg      string   // in plain words
	Expected []string // allowed values, where they can be listed
}

func (e *ValueError) Error() string { return e.Msg }

// Check tests a value, before white space handling, against the type.
func (s *Simple) Check(v string) *ValueError { return s.checkNormal(s.Normalize(v)) }

func (s *Simple) checkNormal(v string) *ValueError {
	switch s.Variety {
	case List:
		items := strings.Fields(v)
		for _, it := range items {
			if e := s.Item.Check(it); e != nil {
				return e
			}
		}
		return s.facets(v, len(items))
	case Union:
		var first *ValueError
		for _, m := range s.Members {
			e := m.Check(v)
			if e == nil {
				return s.facets(v, 0)
			}
			if first == nil {
				first = e
			} else {
				first = &ValueError{first.Rule, fmt.Sprintf("%s is of none of the types that are allowed here",
					quote(v)), append(append([]string(nil), first.Expected...), e.Expected...)}
			}
		}
		if first != nil {
			return first
		}
		return nil
	}
	if r := s.rules(); r.lexical != nil {
		if want := r.lexical(v); want != "" {
			return &ValueError{"cvc-datatype-valid", fmt.Sprintf("%s is not %s", quote(v), want), nil}
		}
	}
	return s.facets(v, -1)
}

func (s *Simple) length(v string) int {
	switch s.Primitive {
	case "hexBinary":
		return len(v) / 2
	case "base64Binary":
		return len(strings.TrimRight(strings.ReplaceAll(v, " ", ""), "=")) * 3 / 4
	}
	return utf8.RuneCountInString(v)
}

func quote(v string) string {
	if utf8.RuneCountInString(v) > 60 {
		v = string([]rune(v)[:57]) + "…"
	}
	return strconv.Quote(v)
}

// facets applies the facets of every step of the derivation. The length is
// that of a list, or below zero where it is still to be measured.
//
//revive:disable-next-line:cyclomatic the cases of the standard, in one place
func (s *Simple) facets(v string, length int) *ValueError {
	for _, f := range s.rules().steps {
		bad := func(rule, format string, args ...any) *ValueError {
			return &ValueError{rule, quote(v) + " " + fmt.Sprintf(format, args...), nil}
		}
		measured := (f.Length != nil || f.MinLength != nil || f.MaxLength != nil) && s.Primitive != "QName" &&
			s.Primitive != "NOTATION"
		if measured && length < 0 {
			length = s.length(v)
		}
		switch {
		case f.Length != nil && measured && length != *f.Length:
			return bad("cvc-length-valid", "has length %d; it must be %d", length, *f.Length)
		case f.MinLength != nil && measured && length < *f.MinLength:
			return bad("cvc-minLength-valid", "has length %d; at least %d is required", length, *f.MinLength)
		case f.MaxLength != nil && measured && length > *f.MaxLength:
			return bad("cvc-maxLength-valid", "has length %d; at most %d is allowed", length, *f.MaxLength)
		}
		n, small := int64(0), f.small
		if small {
			n, small = smallInt(v)
		}
		var d decimal
		is := false
		if !small && f.decimal {
			d, is = decimalOf(v)
		}
		for i, bound := range f.bounds {
			if bound == nil {
				continue
			}
			o, ok := 0, true
			switch {
			case small:
				o = cmp.Compare(n, f.whole[i])
			case is:
				o = d.compare(f.exact[i])
			default:
				o, ok = compare(s.Primitive, v, *bound)
			}
			if !ok || !boundRules[i].ok(o) {
				return bad(boundRules[i].rule, boundRules[i].words, *bound)
			}
		}
		if f.TotalDigits != nil || f.FractionDigits != nil {
			whole, frac := digits(v)
			if f.TotalDigits != nil && whole+frac > *f.TotalDigits {
				return bad("cvc-totalDigits-valid", "has %d digits; at most %d are allowed", whole+frac, *f.TotalDigits)
			}
			if f.FractionDigits != nil && frac > *f.FractionDigits {
				return bad(
					"cvc-fractionDigits-valid",
					"has %d digits after the point; at most %d are allowed",
					frac,
					*f.FractionDigits,
				)
			}
		}
		// What a name means, only the document tells in which it stands: see validator.prefix.
		if len(f.Enumeration) > 0 && !s.qualified() && !s.enumerated(f.Enumeration, v) {
			e := bad("cvc-enumeration-valid", "is not one of %s", listed(f.Enumeration))
			e.Expected = f.Enumeration
			return e
		}
		for _, alternatives := range f.Patterns {
			ok := false
			for _, p := range alternatives {
				ok = ok || p.Match(v)
			}
			if !ok {
				return bad("cvc-pattern-valid", "does not match the pattern %s", alternatives[0].Source)
			}
		}
	}
	return nil
}

// compareDecimals compares two decimals by their digits: no number is made of them.
func compareDecimals(a, b string) (order int, ok bool) {
	x, ok1 := decimalOf(a)
	y, ok2 := decimalOf(b)
	if !ok1 || !ok2 {
		return 0, false
	}
	return x.compare(y), true
}

// compare orders two decimals.
func (d decimal) compare(o decimal) int {
	if d.sign != o.sign {
		return cmp.Compare(d.sign, o.sign)
	}
	order := cmp.Compare(len(d.whole), len(o.whole))
	if order == 0 {
		order = strings.Compare(d.whole, o.whole)
	}
	if order == 0 {
		order = strings.Compare(d.fraction, o.fraction)
	}
	return order * d.sign
}

// decimal is the value of a decimal: its digits without zeros that say nothing.
type decimal struct {
	sign            int // -1, 0 or 1
	whole, fraction string
}

func decimalOf(s string) (d decimal, ok bool) {
	d.sign = 1
	if s != "" && (s[0] == '-' || s[0] == '+') {
		if s[0] == '-' {
			d.sign = -1
		}
		s = s[1:]
	}
	d.whole, d.fraction, _ = strings.Cut(s, ".")
	if d.whole == "" && d.fraction == "" || !onlyDigits(d.whole) || !onlyDigits(d.fraction) {
		return d, false
	}
	d.whole, d.fraction = strings.TrimLeft(d.whole, "0"), strings.TrimRight(d.fraction, "0")
	if d.whole == "" && d.fraction == "" {
		d.sign = 0
	}
	return d, true
}

func onlyDigits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// boundRules are the four bounds in the order in which facets looks at them.
//
//nolint:gochecknoglobals // a table: it is never written to
var boundRules = [4]struct {
	ok          func(order int) bool
	rule, words string
}{
	{func(o int) bool { return o >= 0 }, "cvc-minInclusive-valid", "is less than the smallest value allowed, %s"},
	{func(o int) bool { return o <= 0 }, "cvc-maxInclusive-valid", "is more than the largest value allowed, %s"},
	{func(o int) bool { return o > 0 }, "cvc-minExclusive-valid", "must be more than %s"},
	{func(o int) bool { return o < 0 }, "cvc-maxExclusive-valid", "must be less than %s"},
}

func (s *Simple) enumerated(values []string, v string) bool {
	if slices.Contains(values, v) {
		return true
	}
	if s.Variety == Atomic && s.Primitive == "string" {
		return false
	}
	return slices.ContainsFunc(values, func(e string) bool { return equal(s, v, e) })
}

// none tells whether no facet but white space is set.
func (f *Facets) none() bool {
	return f.Length == nil && f.MinLength == nil && f.MaxLength == nil && f.TotalDigits == nil &&
		f.FractionDigits == nil && f.MinInclusive == nil &&
		f.MaxInclusive == nil && f.MinExclusive == nil &&
		f.MaxExclusive == nil &&
		len(f.Enumeration) == 0 &&
		len(f.Patterns) == 0
}

func listed(values []string) string {
	if len(values) > 12 {
		return strings.Join(values[:12], ", ") + fmt.Sprintf(" and %d more", len(values)-12)
	}
	return strings.Join(values, ", ")
}

// digits counts significant digits before and after the point.
func digits(v string) (whole, frac int) {
	v = strings.TrimLeft(v, "+-")
	w, f, _ := strings.Cut(v, ".")
	return len(strings.TrimLeft(w, "0")), len(strings.TrimRight(f, "0"))
}
